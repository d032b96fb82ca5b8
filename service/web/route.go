package web

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/negotiation"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/sheet"
	"jugate/records"
)

// op describes an operation; descriptions has what more there is to say.
func op(method, path, id, tag, summary string) huma.Operation {
	errors := []int{http.StatusUnauthorized}
	if strings.Contains(path, "{") {
		errors = append(errors, http.StatusNotFound)
	}
	if method != http.MethodGet {
		errors = append(errors, http.StatusConflict)
	}
	if method == http.MethodPut || method == http.MethodPatch {
		errors = append(errors, http.StatusPreconditionFailed)
	}
	return huma.Operation{OperationID: id, Method: method, Path: path, Tags: []string{tag}, Summary: summary, Description: descriptions[id], Errors: append(errors, http.StatusUnprocessableEntity)}
}

// reply is an answer with a body.
type reply[T any] struct{ Body T }

// answers registers an operation that answers with a body.
func answers[I, T any](s *Server, h huma.API, o huma.Operation, do func(ctx context.Context, in *I) (T, error)) {
	huma.Register(h, o, func(ctx context.Context, in *I) (*reply[T], error) {
		body, err := do(ctx, in)
		if err != nil {
			return nil, s.problem(err, o.OperationID)
		}
		return &reply[T]{body}, nil
	})
}

// does registers an operation that answers with nothing.
func does[I any](s *Server, h huma.API, o huma.Operation, do func(ctx context.Context, in *I) error) {
	huma.Register(h, o, func(ctx context.Context, in *I) (*struct{}, error) {
		if err := do(ctx, in); err != nil {
			return nil, s.problem(err, o.OperationID)
		}
		return nil, nil
	})
}

// lists registers an operation that answers with a page of a list.
func lists[I, T any](s *Server, h huma.API, o huma.Operation, do func(ctx context.Context, in *I) ([]T, int, error)) {
	o.Middlewares = append(o.Middlewares, offersTable)
	answers(s, h, o, func(ctx context.Context, in *I) (page[T], error) {
		items, total, err := do(ctx, in)
		if items == nil {
			items = []T{}
		}
		asTable, _ := ctx.Value(wantsTable{}).(bool)
		return page[T]{api.Page[T]{Items: items, Total: total}, asTable}, err
	})
}

// page is a page of a list, which may be written as a table.
type page[T any] struct {
	api.Page[T]
	asTable bool
}

// table is what pages of lists are written as for who accepts it; nothing else is, as no Accept header names all of this.
const table = "text/csv; charset=utf-8"

// ContentType is huma's way to ask.
func (p page[T]) ContentType(negotiated string) string {
	if p.asTable {
		return table
	}
	return negotiated
}

func (p page[T]) items() any { return p.Items }

func marshalTable(w io.Writer, v any) error {
	return sheet.Write(w, v.(interface{ items() any }).items())
}

type wantsTable struct{}

// offersTable is the middleware of lists.
func offersTable(ctx huma.Context, next func(huma.Context)) {
	best := negotiation.SelectQValueFast(ctx.Header("Accept"), []string{"application/json", "text/csv"})
	next(huma.WithValue(ctx, wantsTable{}, best == "text/csv"))
}

// uncut is a list that is never cut into pages.
func uncut[T any](items []T, err error) ([]T, int, error) { return items, len(items), err }

// Paging are the parameters that every list takes. (Its name and those like it are
// exported because huma passes over embedded types whose name is not.)
type Paging struct {
	Search string `query:"search" doc:"Keep only what contains this text" maxLength:"200" example:"alder"`
	Sort   string `query:"sort" doc:"Field to sort by, with a hyphen in front for descending" maxLength:"50" example:"-created"`
	Offset int    `query:"offset" doc:"How many to leave out" minimum:"0" maximum:"100000000" default:"0" example:"0"`
	Limit  int    `query:"limit" doc:"How many at the most" minimum:"1" maximum:"1000" default:"100" example:"100"`
}

func (p Paging) page() records.Page {
	return records.Page{Offset: p.Offset, Limit: p.Limit, Sort: p.Sort, Search: p.Search}
}

// WorkstationRef names a workstation in a path.
type WorkstationRef struct {
	Ref string `path:"workstation" doc:"Name or hardware address" maxLength:"100" example:"herb-01"`
}

// GroupRef names a group in a path.
type GroupRef struct {
	Group string `path:"group" doc:"Its name" maxLength:"63" example:"herbarium"`
}

// VersionRef names a version in a path.
type VersionRef struct {
	Ref string `path:"version" doc:"NAME@VERSION, or NAME for the newest" maxLength:"80" example:"garden-desk@3"`
}

// ImageRef names an image in a path.
type ImageRef struct {
	Image string `path:"image" doc:"Its name" maxLength:"80" example:"garden-desk"`
}

// DeliveryRef is a delivery in a path.
type DeliveryRef struct {
	ID int64 `path:"delivery" doc:"Number of a delivery" minimum:"0" example:"12"`
}

// ErrandRef is an errand in a path.
type ErrandRef struct {
	ID int64 `path:"errand" doc:"Number of an errand" minimum:"0" example:"34"`
}

// Nothing is a request without parameters.
type Nothing struct{}

// knownParameters refuses queries with a parameter that the operation does not know:
// a filter that was misspelt must not be taken for none.
func knownParameters(h huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		u := ctx.URL()
		if u.RawQuery == "" {
			next(ctx)
			return
		}
		query, err := url.ParseQuery(u.RawQuery)
		if err != nil {
			huma.WriteErr(h, ctx, http.StatusUnprocessableEntity, "the query cannot be read")
			return
		}
		for name := range query {
			if !slices.ContainsFunc(ctx.Operation().Parameters, func(p *huma.Param) bool { return p.In == "query" && p.Name == name }) {
				huma.WriteErr(h, ctx, statuses[fault.Invalid], "there is no parameter "+clipped(name)+" here")
				return
			}
		}
		next(ctx)
	}
}

// Upload is a request's body, read as it comes.
type Upload struct{ body io.Reader }

// Resolve is huma's way to reach the body.
func (u *Upload) Resolve(c huma.Context) []error {
	u.body = c.BodyReader()
	return nil
}

// uploaded says of an operation that its body is a file.
func uploaded(o huma.Operation) huma.Operation {
	o.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{"application/octet-stream": {}}}
	return o
}
