package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
)

// StoreRef names a store in a path.
type StoreRef struct {
	Name string `path:"store" doc:"Its name; folder is that of the data folder" maxLength:"63" example:"big"`
}

func (s *Server) storesRoutes(h huma.API) {
	const tag = "stores"
	lists(s, h, op("GET", "/stores", "list-stores", tag, "List where slabs lie"),
		func(ctx context.Context, _ *Nothing) ([]api.Store, int, error) { return uncut(s.Stores.List(ctx)) })
	answers(s, h, op("GET", "/stores/{store}", "get-store", tag, "Show a store"),
		func(ctx context.Context, in *StoreRef) (api.Store, error) { return s.Stores.Show(ctx, in.Name) })
	answers(s, h, op("POST", "/stores", "add-store", tag, "Enter an object store"),
		func(ctx context.Context, in *struct{ Body api.NewStore }) (api.Store, error) {
			return s.Stores.Add(ctx, in.Body)
		})
	answers(s, h, op("PATCH", "/stores", "use-store", tag, "Say which store new versions go to, and how much of others the data folder may have"),
		func(ctx context.Context, in *struct{ Body api.StoreUse }) (api.Store, error) {
			return s.Stores.Use(ctx, in.Body)
		})
	answers(s, h, op("POST", "/stores/{store}/check", "check-store", tag, "Try what is asked of a store, and hold versions against what is in it"),
		func(ctx context.Context, in *struct {
			StoreRef
			Body api.NewStoreCheck
		}) (api.StoreCheck, error) {
			return s.Stores.Check(ctx, in.Name, in.Body)
		})
	answers(s, h, op("POST", "/stores/{store}/move", "move-versions", tag, "Have versions be moved to a store"),
		func(ctx context.Context, in *struct {
			StoreRef
			Body api.StoreMove
		}) (api.StoreMoving, error) {
			return s.Stores.Move(ctx, in.Name, in.Body)
		})
	does(s, h, op("DELETE", "/stores/{store}", "remove-store", tag, "Forget a store"),
		func(ctx context.Context, in *StoreRef) error { return s.Stores.Remove(ctx, in.Name) })
}
