package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/records"
)

// OrderRef is an order in a path.
type OrderRef struct {
	Name string `path:"order" doc:"Name of an order" maxLength:"63" example:"herbarium-weekly"`
}

// RunRef is a run in a path.
type RunRef struct {
	ID int64 `path:"run" doc:"Number of a run" minimum:"0" example:"7"`
}

func (s *Server) preparedRoutes(h huma.API) {
	const tag = "orders"
	lists(s, h, op("GET", "/orders", "list-orders", tag, "List orders; sort by name, saved or due"),
		func(ctx context.Context, in *Paging) ([]api.KeptOrder, int, error) {
			return s.Orders.Prepared(ctx, in.page())
		})
	answers(s, h, op("GET", "/orders/{order}", "get-order", tag, "Show an order"),
		func(ctx context.Context, in *OrderRef) (api.KeptOrder, error) { return s.Orders.Order(ctx, in.Name) })
	answers(s, h, op("PUT", "/orders", "save-order", tag, "Keep an order"),
		func(ctx context.Context, in *struct{ Body api.Order }) (api.OrderSaved, error) {
			return s.Orders.SaveOrder(ctx, callerIn(ctx).Person, in.Body, false)
		})
	answers(s, h, op("POST", "/orders/try", "try-order", tag, "Say what keeping an order would change"),
		func(ctx context.Context, in *struct{ Body api.Order }) (api.OrderSaved, error) {
			return s.Orders.SaveOrder(ctx, callerIn(ctx).Person, in.Body, true)
		})
	does(s, h, op("DELETE", "/orders/{order}", "remove-order", tag, "Forget an order"),
		func(ctx context.Context, in *OrderRef) error { return s.Orders.RemoveOrder(ctx, in.Name) })
	answers(s, h, op("POST", "/orders/{order}/run", "run-order", tag, "Run an order now"),
		func(ctx context.Context, in *OrderRef) (api.OrderRun, error) {
			return s.Orders.RunOrder(ctx, callerIn(ctx).Person, in.Name)
		})
	lists(s, h, op("GET", "/next-runs", "next-runs", tag, "List when orders run by themselves next"),
		func(ctx context.Context, in *struct {
			Order string `query:"order" doc:"Just this one" maxLength:"63" example:"herbarium-weekly"`
			Most  int    `query:"most" minimum:"1" maximum:"1000" default:"10" doc:"How many times" example:"20"`
		}) ([]api.OrderTime, int, error) {
			return uncut(s.Orders.NextRuns(ctx, in.Order, in.Most))
		})
	lists(s, h, op("GET", "/runs", "list-runs", tag, "List runs of orders, the newest first; sort by began or order"),
		func(ctx context.Context, in *struct {
			Paging
			Order string `query:"order" doc:"Just those of this one" maxLength:"63" example:"herbarium-weekly"`
			Open  bool   `query:"open" doc:"Only those that are under way"`
		}) ([]api.OrderRun, int, error) {
			return s.Orders.Runs(ctx, records.RunFilter{Order: in.Order, Open: in.Open}, in.page())
		})
	answers(s, h, op("GET", "/runs/{run}", "get-run", tag, "Show a run with its parts"),
		func(ctx context.Context, in *RunRef) (api.OrderRun, error) { return s.Orders.Run(ctx, in.ID) })
	answers(s, h, op("POST", "/runs/{run}/stop", "stop-run", tag, "End a run"),
		func(ctx context.Context, in *RunRef) (api.OrderRun, error) { return s.Orders.StopRun(ctx, in.ID) })
	answers(s, h, op("POST", "/runs/{run}/go-on", "go-on-run", tag, "Go on for the workstations that a run failed for, from the part that failed"),
		func(ctx context.Context, in *RunRef) (api.OrderRun, error) {
			return s.Orders.GoOn(ctx, callerIn(ctx).Person, in.ID)
		})
	lists(s, h, op("GET", "/quiet-times", "list-quiet-times", tag, "List times in which no order runs by itself; sort by name or begin"),
		func(ctx context.Context, in *Paging) ([]api.QuietTime, int, error) {
			return s.Orders.QuietTimes(ctx, in.page())
		})
	answers(s, h, op("PUT", "/quiet-times", "save-quiet-time", tag, "Keep a time in which no order runs by itself"),
		func(ctx context.Context, in *struct{ Body api.QuietTime }) (api.QuietTime, error) {
			return s.Orders.PutQuietTime(ctx, in.Body)
		})
	does(s, h, op("DELETE", "/quiet-times/{quiet_time}", "remove-quiet-time", tag, "Forget a time in which no order runs by itself"),
		func(ctx context.Context, in *struct {
			Name string `path:"quiet_time" doc:"Name of a quiet time" maxLength:"63" example:"exam-week"`
		}) error {
			return s.Orders.RemoveQuietTime(ctx, in.Name)
		})
}
