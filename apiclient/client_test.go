package apiclient_test

import (
	"context"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/apiclient"
)

func serve(t *testing.T, h http.HandlerFunc) *apiclient.Client {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	c, err := apiclient.New(s.URL+"/", "secret")
	require.NoError(t, err)
	return c
}

func TestNewRefusesWhatIsNoAddress(t *testing.T) {
	for _, server := range []string{"", "192.0.2.1", "192.0.2.1:7460", "ftp://192.0.2.1", "http://", "http://a b"} {
		_, err := apiclient.New(server, "")
		assert.ErrorContains(t, err, "https://HOST:PORT", server)
	}
}

func TestProblemsBecomeErrorsInTheServicesWords(t *testing.T) {
	for name, c := range map[string]struct {
		status int
		body   string
		want   string
	}{
		"detail":      {404, `{"title":"Not Found","status":404,"detail":"there is no image x"}`, "there is no image x"},
		"title only":  {409, `{"title":"Conflict","status":409}`, "Conflict"},
		"with fields": {422, `{"title":"Unprocessable Entity","detail":"validation failed","errors":[{"message":"expected length >= 1","location":"body.to"}]}`, "validation failed; to expected length >= 1"},
		"no problem":  {502, `<html>`, "/healthz answered 502 Bad Gateway"},
	} {
		t.Run(name, func(t *testing.T) {
			client := serve(t, func(w http.ResponseWriter, r *http.Request) {
				w.WriteHeader(c.status)
				io.WriteString(w, c.body)
			})
			_, err := client.Health(t.Context())
			var problem *apiclient.Error
			require.ErrorAs(t, err, &problem)
			assert.Equal(t, c.status, problem.Status)
			assert.Equal(t, c.want, problem.Error())
			assert.Equal(t, c.status == 404, apiclient.IsNotFound(err))
			assert.NotErrorIs(t, err, apiclient.ErrAway)
		})
	}
}

func TestNobodyThereIsAnErrorOfItsOwn(t *testing.T) {
	s := httptest.NewServer(http.NotFoundHandler())
	s.Close()
	client, err := apiclient.New(s.URL, "")
	require.NoError(t, err)
	_, err = client.Health(t.Context())
	assert.ErrorIs(t, err, apiclient.ErrAway)
	assert.ErrorContains(t, err, s.URL)

	t.Log("# a service that goes away in the middle of an answer counts as away, too")
	client = serve(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Length", "100")
		io.WriteString(w, "{")
	})
	_, err = client.Health(t.Context())
	assert.ErrorIs(t, err, apiclient.ErrAway)

	t.Log("# but whoever has stopped waiting is not told that")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = client.Health(ctx)
	assert.ErrorIs(t, err, context.Canceled)
	assert.NotErrorIs(t, err, apiclient.ErrAway)
}

func TestListsAskForWhatIsWanted(t *testing.T) {
	client := serve(t, func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "Bearer secret", r.Header.Get("Authorization"))
		assert.Equal(t, "/api/v1/workstations", r.URL.Path)
		assert.Equal(t, "group=a+b&limit=5&offset=10&search=x%26y&sort=-name", r.URL.RawQuery)
		io.WriteString(w, `{"items":[{"name":"herb-01"}],"total":11}`)
	})
	page, err := client.Workstations(t.Context(), apiclient.List{Search: "x&y", Sort: "-name", Offset: 10, Limit: 5, Filter: map[string]string{"group": "a b", "state": ""}})
	require.NoError(t, err)
	assert.Equal(t, 11, page.Total)
	assert.Equal(t, "herb-01", page.Items[0].Name)
}

func TestNamesInPathsAreEscaped(t *testing.T) {
	client := serve(t, func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "/api/v1/workstations/a%2Fb", r.URL.EscapedPath())
		io.WriteString(w, `{}`)
	})
	_, err := client.Workstation(t.Context(), "a/b")
	assert.NoError(t, err)
}

func TestEventsAreReadOneByOne(t *testing.T) {
	client := serve(t, func(w http.ResponseWriter, r *http.Request) {
		io.WriteString(w, "event: hello\ndata: {\"a\":\ndata: 1}\n\n: a remark\n\nid: 7\nevent:delivery\ndata:{}\n\nevent: cut\ndata: {")
	})
	var got []string
	err := client.Events(t.Context(), 0, func(kind string, data []byte) error {
		got = append(got, kind+" "+string(data))
		return nil
	})
	require.NoError(t, err)
	assert.Equal(t, []string{`hello {"a":1}`, "delivery {}"}, got, "an event without its empty line has not come whole")

	enough := errors.New("enough")
	assert.ErrorIs(t, client.Events(t.Context(), 0, func(string, []byte) error { return enough }), enough)
}
