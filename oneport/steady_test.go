package oneport

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// timed is a connection of which the deadlines are written down.
type timed struct {
	http.ResponseWriter
	deadlines int
}

func (r *timed) SetWriteDeadline(time.Time) error { r.deadlines++; return nil }
func (r *timed) SetReadDeadline(time.Time) error  { r.deadlines++; return nil }

func TestAnAnswerHasToMove(t *testing.T) {
	now := time.Now()
	c := &timed{ResponseWriter: httptest.NewRecorder()}
	w := &steadyWriter{ResponseWriter: c, control: http.NewResponseController(c), began: now}
	_, err := w.Write(make([]byte, 1<<20))
	require.NoError(t, err)
	assert.Equal(t, 1, c.deadlines, "each write has its own")
	w.began = now.Add(-slowFor)
	_, err = w.Write([]byte("more"))
	require.NoError(t, err, "1 MiB in two minutes is slow, and moves")
	w.began = now.Add(-slowFor - 2*time.Minute)
	_, err = w.Write([]byte("more"))
	assert.ErrorContains(t, err, "too slow")
	w = &steadyWriter{ResponseWriter: c, control: http.NewResponseController(c), began: now.Add(-24 * time.Hour)}
	_, err = w.Write([]byte("event: hello\n\n"))
	assert.NoError(t, err, "events that are rare are not slow")

	t.Log("# a body is read against the clock, and the next request on the connection is not")
	r := httptest.NewRequest(http.MethodPost, "/", strings.NewReader("body"))
	c.deadlines = 0
	Steady(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		_, err := io.ReadAll(r.Body)
		assert.NoError(t, err)
	})).ServeHTTP(c, r)
	assert.Positive(t, c.deadlines)
}
