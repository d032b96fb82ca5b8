package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/core/glossary"
)

func (s *Server) termRoutes(h huma.API) {
	lists(s, h, op("GET", "/terms", "list-terms", "terms", "List what the words, states and findings mean"),
		func(_ context.Context, in *struct {
			Name string `query:"name" doc:"Only terms of this name" maxLength:"100" example:"mending"`
		}) ([]api.Term, int, error) {
			found := glossary.Terms
			if in.Name != "" {
				found = glossary.Find(in.Name)
			}
			all := make([]api.Term, len(found))
			for i, t := range found {
				all[i] = api.Term{Name: t.Name, Kind: t.Kind, Text: t.Text}
			}
			return all, len(all), nil
		})
}
