package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/core/check"
	"jugate/records"
)

// checkRoutes are about workstations themselves: whether they are fit, and that nothing is left on their disks.
func (s *Server) checkRoutes(h huma.API) {
	const tag = "checks"
	answers(s, h, op("POST", "/checks", "check", tag, "Have workstations check themselves"),
		func(ctx context.Context, in *struct{ Body api.NewCheck }) ([]api.Errand, error) {
			return s.Orders.OrderCheck(ctx, in.Body)
		})
	lists(s, h, op("GET", "/checks", "list-checks", tag, "List what checks have found out, the newest first; sort by ended, workstation, model or verdict"),
		func(ctx context.Context, in *struct {
			Paging
			Workstation string        `query:"workstation" doc:"Name or hardware address" maxLength:"100" example:"herb-01"`
			Model       string        `query:"model" doc:"Maker and model; wildcards may be used" maxLength:"400" example:"Alder Works A*"`
			Verdict     check.Verdict `query:"verdict" enum:"good,doubtful,bad" doc:"Just those with this verdict"`
			Errand      int64         `query:"errand" minimum:"0" doc:"Just that of this errand" example:"7"`
		}) ([]api.Check, int, error) {
			return s.Orders.Checks(ctx, in.Workstation, records.MachineCheckFilter{Model: in.Model, Verdict: in.Verdict, ErrandID: in.Errand}, in.page())
		})
	answers(s, h, op("GET", "/checks/{check}", "get-check", tag, "Show what a check has found out, with its figures"),
		func(ctx context.Context, in *struct {
			ID int64 `path:"check" doc:"Number of a check" minimum:"0" example:"7"`
		}) (api.Check, error) {
			return s.Orders.CheckNumbered(ctx, in.ID)
		})
	answers(s, h, op("POST", "/wipes", "wipe", tag, "Have the disks of workstations wiped"),
		func(ctx context.Context, in *struct{ Body api.NewWipe }) ([]api.Errand, error) {
			return s.Orders.OrderWipe(ctx, in.Body)
		})
}
