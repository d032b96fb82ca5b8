package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
)

// DirectoryRef is a directory in a path.
type DirectoryRef struct {
	Name string `path:"directory" doc:"Name of a directory" maxLength:"63" example:"garden"`
}

func (s *Server) directoryRoutes(h huma.API) {
	const tag = "people"
	lists(s, h, op("GET", "/directories", "list-directories", tag, "List directories that people come from"),
		func(ctx context.Context, _ *Nothing) ([]api.Directory, int, error) {
			return uncut(s.Directories.List(ctx))
		})
	answers(s, h, op("POST", "/directories", "add-directory", tag, "Enter a directory, if it answers and has the groups"),
		func(ctx context.Context, in *struct{ Body api.NewDirectory }) (api.DirectoryCheck, error) {
			return s.Directories.Add(ctx, in.Body)
		})
	answers(s, h, op("POST", "/directories/{directory}/check", "check-directory", tag, "Ask a directory whether people can sign in"),
		func(ctx context.Context, in *struct {
			DirectoryRef
			As string `query:"as" doc:"Somebody of whom it is told what they may do here" maxLength:"200" example:"ines"`
		}) (api.DirectoryCheck, error) {
			return s.Directories.Check(ctx, in.Name, in.As)
		})
	does(s, h, op("DELETE", "/directories/{directory}", "remove-directory", tag, "Forget a directory, with the people who came from it"),
		func(ctx context.Context, in *DirectoryRef) error {
			defer s.Access.LookAgain()
			return s.Directories.Remove(ctx, in.Name)
		})
	open := op("GET", "/providers", "list-providers", "session", "List OpenID providers that people can sign in by at the console")
	open.Security = []map[string][]string{}
	lists(s, h, open, func(ctx context.Context, _ *Nothing) ([]api.Provider, int, error) { return uncut(s.providers(ctx)) })
}
