package web

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
)

// logRoutes are the tree of records, and its witnesses.
func (s *Server) logRoutes(h huma.API) {
	const tag = "log"
	answers(s, h, op("GET", "/log/head", "get-head", tag, "Sign the tree of records as it is now"),
		func(ctx context.Context, _ *Nothing) (api.LogHead, error) { return s.Proofs.Head(ctx) })
	answers(s, h, op("GET", "/log/keys", "get-log-keys", tag, "Show the public keys that heads and countersignatures are checked with"),
		func(_ context.Context, _ *Nothing) (api.LogKeys, error) { return s.Proofs.Keys(), nil })
	answers(s, h, op("GET", "/log/growth", "get-growth", tag, "Prove that the tree of records has grown out of an earlier one"),
		func(ctx context.Context, in *struct {
			Leaves int64 `query:"leaf_count" doc:"Leaves of the earlier one" minimum:"0" required:"true" example:"1200"`
		}) (api.LogGrowth, error) {
			return s.Proofs.Growth(ctx, in.Leaves)
		})
	answers(s, h, op("GET", "/log/check", "check-log", tag, "Go through all records and tell whether one was changed, removed or added"),
		func(ctx context.Context, _ *Nothing) (api.LogCheck, error) { return s.Proofs.Check(ctx) })
	answers(s, h, op("POST", "/log/restored", "restore-log", tag, "Say that the records were restored from a backup"),
		func(ctx context.Context, in *struct{ Body api.Restoring }) (api.LogHead, error) {
			return s.Proofs.Restored(ctx, in.Body.Why)
		})
	answers(s, h, op("GET", "/receipts/{receipt}/proof", "prove-receipt", tag, "Prove a receipt"),
		func(ctx context.Context, in *struct {
			ID int64 `path:"receipt" doc:"Number of a receipt" minimum:"0" example:"56"`
		}) (api.Proof, error) {
			return s.Proofs.Receipt(ctx, in.ID)
		})
	answers(s, h, op("GET", "/logbook/{line}/proof", "prove-line", tag, "Prove a line of the logbook"),
		func(ctx context.Context, in *struct {
			ID int64 `path:"line" doc:"Number of a line" minimum:"0" example:"1044"`
		}) (api.Proof, error) {
			return s.Proofs.Line(ctx, in.ID)
		})

	huma.Register(h, op("GET", "/log/export", "export-log", tag, "Export the receipts of a period, each with its proof"),
		func(ctx context.Context, in *struct {
			Since time.Time `query:"since" doc:"Ended from then on" example:"2026-03-01T00:00:00Z"`
			Until time.Time `query:"until" doc:"Ended before then" example:"2026-04-01T00:00:00Z"`
		}) (*huma.StreamResponse, error) {
			return &huma.StreamResponse{Body: func(c huma.Context) {
				c.SetHeader("Content-Type", "application/jsonl")
				lines := json.NewEncoder(c.BodyWriter())
				if err := s.Proofs.Export(ctx, in.Since, in.Until, func(e api.Exported) error { return lines.Encode(e) }); err != nil {
					s.Log.Error("an export broke off", "error", err)
					panic(http.ErrAbortHandler) // so that nobody takes it for whole
				}
			}}, nil
		})

	lists(s, h, op("GET", "/witnesses", "list-witnesses", tag, "List who countersigns the heads of this service"),
		func(ctx context.Context, _ *Nothing) ([]api.Witness, int, error) {
			return uncut(s.Proofs.Witnesses(ctx))
		})
	answers(s, h, op("POST", "/witnesses", "add-witness", tag, "Have somebody countersign the heads of this service"),
		func(ctx context.Context, in *struct{ Body api.NewWitness }) (api.Witness, error) {
			return s.Proofs.AddWitness(ctx, in.Body)
		})
	does(s, h, op("DELETE", "/witnesses/{witness}", "remove-witness", tag, "Have a witness countersign no more"),
		func(ctx context.Context, in *struct {
			Name string `path:"witness" doc:"Its name" maxLength:"60" example:"alpine-house"`
		}) error {
			return s.Proofs.RemoveWitness(ctx, in.Name)
		})
	lists(s, h, op("POST", "/witnesses/ask", "ask-witnesses", tag, "Have all witnesses countersign now"),
		func(ctx context.Context, _ *Nothing) ([]api.Witness, int, error) {
			return uncut(s.Proofs.AskWitnesses(ctx))
		})
	type watched struct {
		Name string `path:"service" doc:"How it is called here" maxLength:"60" example:"garden"`
	}
	lists(s, h, op("GET", "/watched-services", "list-watched", tag, "List services whose heads are countersigned here"),
		func(ctx context.Context, _ *Nothing) ([]api.Watched, int, error) { return uncut(s.Proofs.Watched(ctx)) })
	does(s, h, op("POST", "/watched-services", "watch-service", tag, "Countersign the heads of a service"),
		func(ctx context.Context, in *struct{ Body api.NewWatched }) error {
			return s.Proofs.Watch(ctx, in.Body)
		})
	does(s, h, op("DELETE", "/watched-services/{service}", "unwatch-service", tag, "Countersign them no more"),
		func(ctx context.Context, in *watched) error { return s.Proofs.Unwatch(ctx, in.Name) })
	does(s, h, op("POST", "/watched-services/{service}/confirm", "confirm-restore", tag, "Confirm that a watched service was restored from a backup"),
		func(ctx context.Context, in *watched) error { return s.Proofs.Confirm(ctx, in.Name) })
}
