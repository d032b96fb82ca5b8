package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
)

// serving refuses what is asked while another machine may be the service.
func (s *Server) serving(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if s.Standby != nil && r.URL.Path != "/healthz" {
			if err := s.Standby.Serving(r.Context()); err != nil {
				writeJSON(w, http.StatusServiceUnavailable, "application/problem+json", huma.Error503ServiceUnavailable(err.Error()))
				return
			}
		}
		next.ServeHTTP(w, r)
	})
}

func (s *Server) backupRoutes(h huma.API) {
	const tag = "backups"
	lists(s, h, op("GET", "/stores/{store}/backups", "list-backups", tag, "List the backups in a store"),
		func(ctx context.Context, in *StoreRef) ([]api.Backup, int, error) {
			return uncut(s.Backups.List(ctx, in.Name))
		})
	answers(s, h, op("POST", "/backups", "make-backup", tag, "Make a backup"),
		func(ctx context.Context, in *struct{ Body api.NewBackup }) (api.Backup, error) {
			return s.Backups.Make(ctx, in.Body)
		})
	answers(s, h, op("POST", "/stores/{store}/backups/{backup}/check", "check-backup", tag, "Read a backup, and see that it is whole"),
		func(ctx context.Context, in *struct {
			StoreRef
			ID string `path:"backup" doc:"Its name, or newest" maxLength:"30" example:"2026-11-29T02-00-00.000Z"`
		}) (api.BackupCheck, error) {
			if in.ID == "newest" {
				in.ID = ""
			}
			return s.Backups.Check(ctx, in.Name, in.ID)
		})
	answers(s, h, op("GET", "/backups/schedule", "get-backup-schedule", tag, "Tell when backups are made by themselves"),
		func(ctx context.Context, _ *Nothing) (api.BackupsDue, error) { return s.Backups.Schedule(ctx) })
	answers(s, h, op("PUT", "/backups/schedule", "set-backup-schedule", tag, "Say when backups are made by themselves"),
		func(ctx context.Context, in *struct{ Body api.BackupSchedule }) (api.BackupsDue, error) {
			return s.Backups.SetSchedule(ctx, in.Body)
		})
	answers(s, h, op("GET", "/standby", "get-standby", tag, "Tell of the copy from which another machine can become the service"),
		func(ctx context.Context, _ *Nothing) (api.Standby, error) { return s.Standby.Show(ctx) })
	answers(s, h, op("PUT", "/standby", "set-standby", tag, "Say in which store a copy of the service is kept as it changes"),
		func(ctx context.Context, in *struct{ Body api.StandbyUse }) (api.Standby, error) {
			return s.Standby.Use(ctx, in.Body.Store)
		})
	huma.Register(h, op("GET", "/backup.tar", "write-backup", tag, "Get a backup as one file"),
		func(ctx context.Context, in *struct {
			Slabs bool `query:"with_slabs" doc:"With the slabs of all versions"`
		}) (*huma.StreamResponse, error) {
			return &huma.StreamResponse{Body: func(c huma.Context) {
				c.SetHeader("Content-Type", "application/x-tar")
				if err := s.Backups.WriteTar(ctx, c.BodyWriter(), in.Slabs); err != nil {
					s.Log.Error("a backup was cut off", "error", err)
					panic(http.ErrAbortHandler) // whoever reads must not take it for whole
				}
			}}, nil
		})
}
