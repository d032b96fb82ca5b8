package apiclient_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/apiclient"
	"jugate/core/slabstore"
	"jugate/core/stream"
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
		assert.ErrorContains(t, err, "http://HOST:PORT", server)
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
	err := client.Events(t.Context(), func(kind string, data []byte) error {
		got = append(got, kind+" "+string(data))
		return nil
	})
	require.NoError(t, err)
	assert.Equal(t, []string{`hello {"a":1}`, "delivery {}"}, got, "an event without its empty line has not come whole")

	enough := errors.New("enough")
	assert.ErrorIs(t, client.Events(t.Context(), func(string, []byte) error { return enough }), enough)
}

// A slab with holes is mended by ranges that Go's own file server answers, in
// one part or several.
func TestMendSlabFetchesJustTheHoles(t *testing.T) {
	frame := make([]byte, 40*stream.PayloadSize+123)
	rand.NewChaCha8([32]byte{}).Read(frame)
	client := serve(t, func(w http.ResponseWriter, r *http.Request) {
		http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(frame))
	})
	for name, lost := range map[string]map[int]bool{
		"one hole":      {7: true},
		"two in a row":  {7: true, 8: true},
		"several":       {0: true, 9: true, 10: true, 40: true},
		"all but one":   allBut(3),
		"the short end": {40: true},
	} {
		t.Run(name, func(t *testing.T) {
			a := stream.NewAssembly(1, 1<<20, func(int) bool { return true })
			n := 0
			for d := range stream.Cut(1, 5, frame) {
				if !lost[n] {
					a.Add(d)
				}
				n++
			}
			p, ok := a.Oldest(0)
			require.True(t, ok)
			missing := int64(len(frame)) - p.Have()
			got, fetched, err := client.MendSlab(t.Context(), 1, slabstore.Digest{}, p)
			require.NoError(t, err)
			assert.True(t, bytes.Equal(frame, got))
			assert.Equal(t, missing, fetched)
		})
	}
	t.Run("whole", func(t *testing.T) {
		got, fetched, err := client.MendSlab(t.Context(), 1, slabstore.Digest{}, nil)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(frame, got))
		assert.EqualValues(t, len(frame), fetched)
	})
	t.Run("of another length", func(t *testing.T) {
		a := stream.NewAssembly(1, 1<<20, func(int) bool { return true })
		for d := range stream.Cut(1, 5, frame[:5000]) {
			if d.Offset > 0 {
				a.Add(d)
			}
		}
		p, _ := a.Oldest(0)
		_, _, err := client.MendSlab(t.Context(), 1, slabstore.Digest{}, p)
		assert.ErrorIs(t, err, apiclient.ErrRange, "the datagrams were somebody else's")
	})
}

func allBut(n int) map[int]bool {
	lost := map[int]bool{}
	for i := range 41 {
		lost[i] = i != n
	}
	return lost
}

func TestMendSlabBelievesNoRangeItDidNotAskFor(t *testing.T) {
	a := stream.NewAssembly(1, 1<<20, func(int) bool { return true })
	for d := range stream.Cut(1, 5, make([]byte, 5000)) {
		if d.Offset > 0 {
			a.Add(d)
		}
	}
	p, _ := a.Oldest(0)
	for _, header := range []string{"", "bytes 0-99", "bytes 0-5000/5000", "bytes -1-5/5000", "bytes 9-5/5000", "bytes 0-9/*", "bytes 0-9/9999999", "lines 0-9/5000"} {
		client := serve(t, func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Range", header)
			w.WriteHeader(http.StatusPartialContent)
			io.WriteString(w, strings.Repeat("x", 100))
		})
		_, _, err := client.MendSlab(t.Context(), 1, slabstore.Digest{}, p)
		assert.ErrorIs(t, err, apiclient.ErrRange, "%q", header)
	}
	// (A reply with too few parts is found out by the digest.)
	for _, body := range []string{"", "--b\r\nContent-Range: bytes 0-99/5000\r\n\r\nshort\r\n--b--", "--b\r\nContent-Range: bytes 0-99999/5000\r\n\r\nshort\r\n--b--"} {
		client := serve(t, func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "multipart/byteranges; boundary=b")
			w.WriteHeader(http.StatusPartialContent)
			io.WriteString(w, body)
		})
		_, _, err := client.MendSlab(t.Context(), 1, slabstore.Digest{}, p)
		assert.Error(t, err, fmt.Sprintf("%q", body))
	}
}
