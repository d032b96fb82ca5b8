package web

import (
	"io"
	"net/http"
	"strings"

	"github.com/go-chi/chi/v5"
)

// treeRoutes are the tree of records for whoever watches it grow (C2SP tlog-tiles): its heads and its hashes, which tell
// nobody what is in it. Entries are not among them: those are for who may see receipts and the logbook.
func (s *Server) treeRoutes(r chi.Router) {
	r.Get("/checkpoint", func(w http.ResponseWriter, r *http.Request) {
		head, err := s.Proofs.Checkpoint(r.Context())
		if err != nil {
			s.fail(w, r, err)
			return
		}
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		w.Header().Set("Cache-Control", "no-cache")
		io.WriteString(w, head)
	})
	r.Get("/tile/*", func(w http.ResponseWriter, r *http.Request) {
		tile, err := s.Proofs.Tile(r.Context(), chi.URLParam(r, "*"))
		if err != nil {
			s.fail(w, r, err)
			return
		}
		w.Header().Set("Content-Type", "application/octet-stream")
		if !strings.Contains(r.URL.Path, ".p/") { // a whole tile never changes
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		}
		w.Write(tile)
	})
	r.NotFound(notFound)
}
