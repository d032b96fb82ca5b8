package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
)

// PersonRef names a person in a path.
type PersonRef struct {
	Name string `path:"person" doc:"With which they sign in" maxLength:"63" example:"ines"`
}

func (s *Server) peopleRoutes(h huma.API) {
	const tag = "people"
	lists(s, h, op("GET", "/people", "list-people", tag, "List those who may sign in"), func(ctx context.Context, _ *Nothing) ([]api.Person, int, error) { return uncut(s.Access.People(ctx)) })
	answers(s, h, op("POST", "/people", "add-person", tag, "Take a person in"), func(ctx context.Context, in *struct{ Body api.NewPerson }) (api.Person, error) {
		return s.Access.AddPerson(ctx, in.Body)
	})
	answers(s, h, op("GET", "/people/{person}", "get-person", tag, "Show a person"), func(ctx context.Context, in *PersonRef) (api.Person, error) { return s.Access.Person(ctx, in.Name) })
	answers(s, h, op("PATCH", "/people/{person}", "change-person", tag, "Change what is said of a person, or granted"), func(ctx context.Context, in *struct {
		PersonRef
		Body api.PersonChange
	}) (api.Person, error) {
		return s.Access.ChangePerson(ctx, in.Name, in.Body)
	})
	does(s, h, op("DELETE", "/people/{person}", "remove-person", tag, "Remove a person; what they did stays on record"), func(ctx context.Context, in *PersonRef) error { return s.Access.RemovePerson(ctx, in.Name) })
	answers(s, h, op("POST", "/people/{person}/invitation", "invite-person", tag, "Make a link with which a person sets a password"), func(ctx context.Context, in *PersonRef) (api.Invitation, error) {
		return s.Access.Invite(ctx, in.Name)
	})
	lists(s, h, op("GET", "/roles", "list-roles", tag, "List roles"), func(ctx context.Context, _ *Nothing) ([]api.Role, int, error) { return uncut(s.Access.Roles(ctx)) })
	answers(s, h, op("PUT", "/roles", "put-role", tag, "Keep a role of the service's own"), func(ctx context.Context, in *struct{ Body api.NewRole }) (api.Role, error) {
		return s.Access.PutRole(ctx, in.Body)
	})
	does(s, h, op("DELETE", "/roles/{role}", "remove-role", tag, "Remove a role that nobody has"), func(ctx context.Context, in *struct {
		Name string `path:"role" doc:"Its name" maxLength:"63" example:"keeper"`
	}) error {
		return s.Access.RemoveRole(ctx, in.Name)
	})
	lists(s, h, op("GET", "/tokens", "list-tokens", tag, "List tokens of programs: one's own, or with the right to administer those of all"),
		func(ctx context.Context, _ *Nothing) ([]api.Token, int, error) {
			return uncut(s.Access.Tokens(ctx, callerIn(ctx)))
		})
	answers(s, h, op("POST", "/tokens", "add-token", tag, "Make a token for a program"), func(ctx context.Context, in *struct{ Body api.NewToken }) (api.IssuedToken, error) {
		return s.Access.AddToken(ctx, callerIn(ctx), in.Body)
	})
	answers(s, h, op("PUT", "/last-resort", "change-last-resort", tag, "Renew the key of last resort, or switch it off"), func(ctx context.Context, in *struct{ Body api.LastResort }) (api.RenewedKey, error) {
		return s.Access.ChangeLastResort(ctx, in.Body)
	})
	does(s, h, op("DELETE", "/tokens/{token}", "remove-token", tag, "End a token"), func(ctx context.Context, in *struct {
		Name string `path:"token" doc:"Its name" maxLength:"63" example:"nightly-capture"`
	}) error {
		return s.Access.RemoveToken(ctx, callerIn(ctx), in.Name)
	})
}
