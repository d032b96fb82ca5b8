package oneport

import (
	"bytes"
	"net/http"
	"time"

	"jugate/stream"
)

// Beside sends a reply to one workstation no faster than the delivery may send beside its stream, and counts
// its bytes as the delivery's.
func Beside(w http.ResponseWriter, r *http.Request, run *stream.Runner, workstation int64, send func(w http.ResponseWriter)) {
	to := &besideWriter{ResponseWriter: w, may: func(bytes int) error { return run.MayMend(r.Context(), bytes) }}
	send(to)
	run.Mended(workstation, to.sent)
}

// Content sends a part of a delivery, or ranges of it; sealed if the delivery is.
func Content(w http.ResponseWriter, r *http.Request, run *stream.Runner, kind string, content []byte) {
	if run.Seal != nil {
		w.Header().Set("Content-Type", "application/octet-stream")
		w.Write(run.Sealed(content))
		return
	}
	w.Header().Set("Content-Type", kind)
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(content))
}

// besideWriter lets a reply's body go out no faster than it may, and counts it.
type besideWriter struct {
	http.ResponseWriter
	may  func(bytes int) error // waits; an error says that the caller has gone
	sent int64                 // bytes
}

func (w *besideWriter) Write(b []byte) (int, error) {
	if err := w.may(len(b)); err != nil {
		return 0, err
	}
	n, err := w.ResponseWriter.Write(b)
	w.sent += int64(n)
	return n, err
}
