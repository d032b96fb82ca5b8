package web

import (
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"jugate/console"
	"jugate/oneport"
)

// plain answers those who do not speak TLS: firmware and its loaders get boot files. Browsers are sent to
// where the console is, and programs are told so.
func (s *Server) plain() http.Handler {
	r := chi.NewRouter()
	r.Use(middleware.Recoverer, s.notePeer, oneport.Steady)
	oneport.BootFiles(r, s.Boot)
	r.NotFound(s.sendToTLS)
	r.MethodNotAllowed(s.sendToTLS)
	return r
}

// sendToTLS says where what is asked for is to be had.
func (s *Server) sendToTLS(w http.ResponseWriter, r *http.Request) {
	at := "https://" + r.Host
	if console.IsPage(r) && r.Header.Get("Authorization") == "" {
		http.Redirect(w, r, at+r.URL.EscapedPath(), http.StatusPermanentRedirect)
		return
	}
	detail := "this is answered by TLS alone, at " + at
	if r.Header.Get("Authorization") != "" {
		s.Log.Warn("somebody has sent a token or a pass by plain HTTP, which others can read", "from", peer(r.Context()), "asked", r.URL.Path)
		detail += "; what was sent as authorization could be read on the way, so if it is a token, end it and make another"
	}
	w.Header().Set("Connection", "close")
	writeJSON(w, http.StatusForbidden, "application/problem+json", huma.Error403Forbidden(detail))
}
