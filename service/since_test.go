package service_test

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
)

// send changes something as a program that tells how much of the logbook it knows, and tells what came back.
func (h *house) send(method, path string, body any, known string) (status int, detail, line string) {
	h.t.Helper()
	text, err := json.Marshal(body)
	require.NoError(h.t, err)
	r, err := http.NewRequestWithContext(h.t.Context(), method, h.url+"/api/v1"+path, bytes.NewReader(text))
	require.NoError(h.t, err)
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Authorization", "Bearer "+h.token)
	if known != "" {
		r.Header.Set("Unchanged-Since-Line", known)
	}
	resp, err := h.client.HTTP().Do(r)
	require.NoError(h.t, err)
	defer resp.Body.Close()
	answer, err := io.ReadAll(resp.Body)
	require.NoError(h.t, err)
	var p api.Problem
	json.Unmarshal(answer, &p)
	return resp.StatusCode, p.Detail, resp.Header.Get("Logbook-Line")
}

// Two who change the same thing do not undo each other's work without knowing.
func TestTheSecondOfTwoIsToldWhatChanged(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	w := h.called(7, "A310")
	_, err := h.client.Admit(t.Context(), w.Addresses[0], api.Admission{Name: "herb-07"})
	require.NoError(t, err)
	note := func(text, known string) (int, string) {
		status, detail, _ := h.send("PUT", "/workstations/herb-07/note", api.NewNote{Note: text}, known)
		return status, detail
	}
	_, _, both := h.send("GET", "/workstations/herb-07", nil, "")
	n, err := strconv.Atoi(both)
	require.NoError(t, err)
	require.Positive(t, n)

	status, _ := note("its cable is loose", both)
	assert.Equal(t, 200, status, "nobody was faster")
	status, detail := note("moved to the window", both)
	assert.Equal(t, 412, status)
	assert.Contains(t, detail, `note is "its cable is loose", and was "". Look at it again, or change it all the same`)
	kept, err := h.client.Workstation(t.Context(), "herb-07")
	require.NoError(t, err)
	assert.Equal(t, "its cable is loose", kept.Note)

	t.Log("# all the same; and something else is not in the way")
	status, _ = note("moved to the window", "")
	assert.Equal(t, 200, status)
	status, _, _ = h.send("PUT", "/answers", api.NewAnswers{Of: "service", Values: map[string]any{"time_zone": "Europe/Vienna"}}, both)
	assert.Equal(t, 200, status)

	t.Log("# what is named by what is sent")
	status, detail, _ = h.send("PUT", "/answers", api.NewAnswers{Of: "service", Values: map[string]any{"time_zone": "Europe/Lisbon"}}, both)
	assert.Equal(t, 412, status)
	assert.Contains(t, detail, `time_zone is "Europe/Vienna", and was not there`)
	status, _, _ = h.send("PUT", "/answers", api.NewAnswers{Of: "workstation:herb-07", Values: map[string]any{"time_zone": "Europe/Lisbon"}}, both)
	assert.Equal(t, 200, status)

	status, _, _ = h.send("PUT", "/model", api.NewModel{Model: "Alder Works A310", BootKey: "F12"}, both)
	assert.Equal(t, 200, status)
	status, detail, _ = h.send("PUT", "/model", api.NewModel{Model: "alder works a310", BootKey: "F9"}, both)
	assert.Equal(t, 412, status)
	assert.Contains(t, detail, `boot_key is "F12"`)
	status, _, _ = h.send("PUT", "/model", api.NewModel{Model: "Brindle Mini 2", BootKey: "F9"}, both)
	assert.Equal(t, 200, status)

	t.Log("# what is not a number")
	status, detail = note("x", "yesterday")
	assert.Equal(t, 422, status)
	assert.Contains(t, detail, "Unchanged-Since-Line")
}
