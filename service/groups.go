package service

import (
	"context"
	"net/http"

	"jugate/core/fault"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/core/roster"
	"jugate/records"
)

func group(g records.Group) api.Group { return api.Group{Name: g.Name, Members: g.Members} }

func (s *Service) groupRoutes(h huma.API) {
	tags := []string{"groups"}
	huma.Register(h, huma.Operation{
		OperationID: "list-groups", Method: http.MethodGet, Path: "/groups", Tags: tags, Summary: "List groups; sort by name or members",
	}, func(ctx context.Context, in *struct{ Paging }) (*reply[api.Page[api.Group]], error) {
		rows, total, err := s.records.Groups(ctx, in.page())
		return items(rows, total, err, group)
	})

	huma.Register(h, huma.Operation{
		OperationID: "add-group", Method: http.MethodPost, Path: "/groups", Tags: tags, Summary: "Make an empty group",
	}, func(ctx context.Context, in *struct{ Body api.NewGroup }) (*reply[api.Group], error) {
		if err := roster.CheckName("a group", in.Body.Name); err != nil {
			return nil, fault.Invalid.Mark(err)
		}
		return answer(api.Group{Name: in.Body.Name}, s.records.AddGroup(ctx, in.Body.Name))
	})

	huma.Register(h, huma.Operation{
		OperationID: "remove-group", Method: http.MethodDelete, Path: "/groups/{group}", Tags: tags, Summary: "Remove a group; its workstations stay",
	}, func(ctx context.Context, in *struct {
		Group string `path:"group"`
	}) (*struct{}, error) {
		return nil, problem(s.records.RemoveGroup(ctx, in.Group))
	})

	type membership struct {
		Group string `path:"group"`
		Ref   string `path:"ref" doc:"Name or hardware address of a workstation"`
	}
	member := func(change func(ctx context.Context, group string, id int64) error) func(context.Context, *membership) (*struct{}, error) {
		return func(ctx context.Context, in *membership) (*struct{}, error) {
			w, err := s.records.FindWorkstation(ctx, in.Ref)
			if err != nil {
				return nil, problem(err)
			}
			if err := roster.MustBeAdmitted(w.Label(), w.State); err != nil {
				return nil, fault.Conflict.Mark(err)
			}
			if err := change(ctx, in.Group, w.ID); err != nil {
				return nil, problem(err)
			}
			s.tellWorkstation(ctx, w.ID)
			return nil, nil
		}
	}
	// The closures ask for s.records when called: the OpenAPI document is made without any.
	huma.Register(h, huma.Operation{
		OperationID: "add-member", Method: http.MethodPut, Path: "/groups/{group}/members/{ref}", Tags: tags, Summary: "Put a workstation into a group",
	}, member(func(ctx context.Context, group string, id int64) error { return s.records.AddMember(ctx, group, id) }))
	huma.Register(h, huma.Operation{
		OperationID: "remove-member", Method: http.MethodDelete, Path: "/groups/{group}/members/{ref}", Tags: tags, Summary: "Take a workstation out of a group",
	}, member(func(ctx context.Context, group string, id int64) error { return s.records.RemoveMember(ctx, group, id) }))
}
