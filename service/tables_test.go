package service_test

import (
	"encoding/csv"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
)

// as asks for something of the API in one form, and tells in which one it came.
func (h *house) as(form, path string) (status int, kind, body string) {
	h.t.Helper()
	r, err := http.NewRequestWithContext(h.t.Context(), "GET", h.url+"/api/v1"+path, nil)
	require.NoError(h.t, err)
	r.Header.Set("Accept", form)
	r.Header.Set("Authorization", "Bearer "+h.token)
	resp, err := h.client.HTTP().Do(r)
	require.NoError(h.t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(h.t, err)
	return resp.StatusCode, resp.Header.Get("Content-Type"), string(text)
}

// Every list is a table for who asks for one; nothing else is.
func TestListsAreTablesToo(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	w := h.called(7, `=cmd("x")`)
	_, err := h.client.Admit(t.Context(), w.Addresses[0], api.Admission{Name: "herb-07"})
	require.NoError(t, err)

	status, kind, body := h.as("text/csv", "/workstations?limit=1")
	assert.Equal(t, 200, status)
	assert.Equal(t, "text/csv; charset=utf-8", kind)
	rows, err := csv.NewReader(strings.NewReader(body)).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 2)
	row := map[string]string{}
	for i, name := range rows[0] {
		row[name] = rows[1][i]
	}
	assert.Equal(t, "herb-07", row["name"])
	assert.Equal(t, `'=cmd("x")`, row["model"], "a spreadsheet must not run what a machine says of itself")

	t.Log("# programs and browsers get what they got before")
	for _, form := range []string{"", "*/*", "application/json", "application/json, text/csv;q=0.5", "text/html"} {
		_, kind, body := h.as(form, "/workstations?limit=1")
		assert.Equal(t, "application/json", kind, form)
		assert.True(t, json.Valid([]byte(body)), form)
	}
	t.Log("# single things and errors are not written as tables")
	_, kind, _ = h.as("text/csv", "/workstations/herb-07")
	assert.Equal(t, "application/json", kind)
	status, kind, _ = h.as("text/csv", "/workstations?nothing=1")
	assert.Equal(t, 422, status)
	assert.Equal(t, "application/problem+json", kind)
}
