package service

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/core/hwaddr"
	"jugate/records"
)

// cardRoutes are about hardware addresses: who has which.
func (s *Service) cardRoutes(h huma.API) {
	tags := []string{"workstations"}
	type address struct {
		Address string `path:"address" doc:"Hardware address, in any spelling"`
	}
	type addressAndOwner struct { // huma does not look into embedded types without a capital
		Address string `path:"address" doc:"Hardware address, in any spelling"`
		Body    api.CardRef
	}
	huma.Register(h, huma.Operation{
		OperationID: "list-cards", Method: http.MethodGet, Path: "/cards", Tags: tags, Summary: "List hardware addresses and their workstations; sort by address, workstation or state",
	}, func(ctx context.Context, in *struct {
		Paging
		State string `query:"state" enum:"accepted,proposed,shared"`
	}) (*reply[api.Page[api.HardwareAddress]], error) {
		rows, total, err := s.records.Cards(ctx, in.State, in.page())
		return items(rows, total, err, func(c records.Card) api.HardwareAddress {
			return api.HardwareAddress{Address: c.Address, Workstation: c.Workstation, State: c.State}
		})
	})
	give := func(change func(ctx context.Context, id int64, a hwaddr.Address) error, what string) func(context.Context, *addressAndOwner) (*reply[api.Workstation], error) {
		return func(ctx context.Context, in *addressAndOwner) (*reply[api.Workstation], error) {
			a, err := parseAddress(in.Address)
			if err != nil {
				return nil, err
			}
			s.log.Info("hardware address "+what, "address", a, "workstation", in.Body.Workstation, "by", administrator)
			return s.changeWorkstation(ctx, in.Body.Workstation, func(id int64) error { return change(ctx, id, a) })
		}
	}
	// The closures ask for s.records when called: the OpenAPI document is made without any.
	huma.Register(h, huma.Operation{
		OperationID: "accept-card", Method: http.MethodPost, Path: "/cards/{address}/accept", Tags: tags, Summary: "Make a hardware address one of a workstation's own",
	}, give(func(ctx context.Context, id int64, a hwaddr.Address) error { return s.records.AcceptCard(ctx, id, a) }, "accepted"))
	huma.Register(h, huma.Operation{
		OperationID: "move-card", Method: http.MethodPost, Path: "/cards/{address}/move", Tags: tags, Summary: "Make a hardware address a workstation's, whoever had it",
	}, give(func(ctx context.Context, id int64, a hwaddr.Address) error { return s.records.MoveCard(ctx, id, a) }, "moved"))

	change := func(do func(ctx context.Context, a hwaddr.Address) error, what string) func(context.Context, *address) (*struct{}, error) {
		return func(ctx context.Context, in *address) (*struct{}, error) {
			a, err := parseAddress(in.Address)
			if err != nil {
				return nil, err
			}
			if err := do(ctx, a); err != nil {
				return nil, problem(err)
			}
			s.log.Info("hardware address "+what, "address", a, "by", administrator)
			return nil, s.refix(ctx)
		}
	}
	huma.Register(h, huma.Operation{
		OperationID: "remove-card", Method: http.MethodDelete, Path: "/cards/{address}", Tags: tags, Summary: "Take a hardware address away from its workstation",
	}, change(func(ctx context.Context, a hwaddr.Address) error { return s.records.RemoveCard(ctx, a) }, "removed"))
	huma.Register(h, huma.Operation{
		OperationID: "share-card", Method: http.MethodPut, Path: "/cards/{address}/shared", Tags: tags, Summary: "Say that a hardware address is of an adapter or dock that several machines use",
	}, change(func(ctx context.Context, a hwaddr.Address) error { return s.records.ShareCard(ctx, a, true) }, "shared"))
	huma.Register(h, huma.Operation{
		OperationID: "unshare-card", Method: http.MethodDelete, Path: "/cards/{address}/shared", Tags: tags, Summary: "Say that a hardware address is one machine's",
	}, change(func(ctx context.Context, a hwaddr.Address) error { return s.records.ShareCard(ctx, a, false) }, "not shared any more"))
}
