package oneport

import (
	"fmt"
	"io"
	"net/http"
	"sync"
	"time"
)

// A client that reads or writes too slowly holds a connection, and what belongs to it,
// for as long as it likes. So a request's body and its answer have to move.

const (
	// standStill is how long one read or write may take.
	standStill = 30 * time.Second
	// slowest is how many bytes a second an answer has to move at, after slowFor.
	slowest = 16 << 10
	slowFor = 2 * time.Minute
)

// Steady ends requests that stand still.
func Steady(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		control := http.NewResponseController(w)
		if r.Body != nil && r.Body != http.NoBody {
			body := &steadyBody{ReadCloser: r.Body, control: control}
			defer body.answered()
			r.Body = body
		}
		next.ServeHTTP(&steadyWriter{ResponseWriter: w, control: control, began: time.Now()}, r)
	})
}

// steadyBody may be read still when the answer has gone: whoever passes a request on reads it for himself.
type steadyBody struct {
	io.ReadCloser

	mu      sync.Mutex
	control *http.ResponseController // nil once it is answered
}

func (b *steadyBody) Read(p []byte) (int, error) {
	b.until(time.Now().Add(standStill))
	n, err := b.ReadCloser.Read(p)
	if err != nil {
		b.until(time.Time{})
	}
	return n, err
}

func (b *steadyBody) until(t time.Time) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.control != nil {
		b.control.SetReadDeadline(t) // where that is not possible, it is a test's
	}
}

func (b *steadyBody) answered() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.control = nil
}

type steadyWriter struct {
	http.ResponseWriter
	control *http.ResponseController
	began   time.Time
	written int64
}

// Unwrap is http.ResponseController's.
func (w *steadyWriter) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// Flush is http.Flusher's.
func (w *steadyWriter) Flush() { w.control.Flush() }

func (w *steadyWriter) Write(p []byte) (int, error) {
	now := time.Now()
	if took := now.Sub(w.began); w.written > slowest && took > slowFor+time.Duration(w.written/slowest)*time.Second {
		return 0, fmt.Errorf("the client takes %d bytes in %v, which is too slow", w.written, took)
	}
	w.control.SetWriteDeadline(now.Add(standStill))
	n, err := w.ResponseWriter.Write(p)
	w.written += int64(n)
	return n, err
}
