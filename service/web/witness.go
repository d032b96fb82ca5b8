package web

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"

	"github.com/go-chi/chi/v5"

	"jugate/service/proofs"
)

// witnessAtMost is how long a request to a witness may be, in bytes.
const witnessAtMost = 128 << 10

// witnessRoutes are what other services ask of this one as their witness (C2SP tlog-witness). Who may is told by
// their signatures.
func (s *Server) witnessRoutes(r chi.Router) {
	r.Post("/add-checkpoint", s.asWitness(func(ctx context.Context, body []byte) (int, string, error) {
		line, err := s.Proofs.Countersign(ctx, body)
		return http.StatusOK, line, err
	}))
	r.Post("/seen", s.asWitness(func(ctx context.Context, body []byte) (int, string, error) {
		head, err := s.Proofs.Seen(ctx, string(body))
		return http.StatusOK, head, err
	}))
	r.Post("/restored", s.asWitness(func(ctx context.Context, body []byte) (int, string, error) {
		return http.StatusAccepted, "", s.Proofs.TakeRestored(ctx, string(body))
	}))
	r.NotFound(notFound)
}

func (s *Server) asWitness(do func(ctx context.Context, body []byte) (int, string, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, witnessAtMost))
		if err != nil {
			http.Error(w, "the request is too long", http.StatusRequestEntityTooLarge)
			return
		}
		status, reply, err := do(r.Context(), body)
		var behind *proofs.Behind
		switch {
		case errors.As(err, &behind):
			w.Header().Set("Content-Type", "text/x.tlog.size")
			w.WriteHeader(http.StatusConflict)
			fmt.Fprintln(w, strconv.FormatInt(behind.Size, 10))
		case err != nil:
			s.fail(w, r, err)
		default:
			w.Header().Set("Content-Type", "text/plain; charset=utf-8")
			w.WriteHeader(status)
			io.WriteString(w, reply)
		}
	}
}
