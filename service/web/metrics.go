package web

import (
	"context"
	"log/slog"
	"net/http"

	"github.com/prometheus/client_golang/prometheus/promhttp"

	"jugate/core/rights"
)

// metrics tells whoever may see everything how the service is, as programs that watch want it.
func (s *Server) metrics() http.HandlerFunc {
	told := promhttp.HandlerFor(s.Figures, promhttp.HandlerOpts{EnableOpenMetrics: true, MaxRequestsInFlight: 2, ErrorLog: slog.NewLogLogger(s.Log.Handler(), slog.LevelError)})
	return func(w http.ResponseWriter, r *http.Request) {
		c, err := s.Access.ByToken(r.Context(), peer(r.Context()), bearer(r.Header.Get("Authorization")), "/metrics")
		if err == nil {
			err = rights.CheckEverything(rights.With(r.Context(), c.Holder), rights.See)
		}
		if err != nil {
			w.Header().Set("WWW-Authenticate", "Bearer")
			s.fail(w, r, err)
			return
		}
		told.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), callerOf{}, c)))
	}
}
