package service

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"syscall"

	"jugate/core/fault"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"jugate/api"
	"jugate/console"
	"jugate/records"
)

// Handler has everything the service answers over HTTP.
func (s *Service) Handler() http.Handler {
	r := chi.NewRouter()
	r.Use(middleware.Recoverer, notePeer, steady)
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) {
		writeJSON(w, http.StatusOK, "application/json", api.Health{Status: "up", Version: Version})
	})
	r.Get("/readyz", s.ready)
	r.Route("/api/v1", func(r chi.Router) {
		r.Use(http.NewCrossOriginProtection().Handler) // the console signs in with a cookie
		s.peopleAPI(r)
		r.NotFound(notFound)
	})
	r.Route("/agent/v1", func(r chi.Router) {
		s.agentAPI(r)
		r.NotFound(notFound)
	})
	s.bootRoutes(r)
	r.NotFound(console.Handler().ServeHTTP)
	return r
}

// ready tells whether the service can do its work now.
func (s *Service) ready(w http.ResponseWriter, r *http.Request) {
	health, status := api.Health{Status: "ready", Version: Version}, http.StatusOK
	if err := s.records.Ready(r.Context()); err != nil {
		health.Status, status = "the records cannot be used: "+err.Error(), http.StatusServiceUnavailable
	} else if err := s.roomForSlabs(); err != nil {
		health.Status, status = err.Error(), http.StatusServiceUnavailable
	}
	writeJSON(w, status, "application/json", health)
}

// detailsAtMost is how many faults of a request an answer lists.
const detailsAtMost = 10

func init() { huma.NewError = boundedError(huma.NewError) }

// boundedError makes errors that repeat nothing of the request: neither without end nor
// what may be a secret.
func boundedError(plain func(status int, message string, errs ...error) huma.StatusError) func(int, string, ...error) huma.StatusError {
	return func(status int, message string, errs ...error) huma.StatusError {
		var few []error
		for i, err := range errs {
			if i == detailsAtMost {
				few = append(few, &huma.ErrorDetail{Message: fmt.Sprintf("and %d more", len(errs)-i)})
				break
			}
			var d huma.ErrorDetailer
			if errors.As(err, &d) {
				detail := *d.ErrorDetail()
				detail.Value, detail.Message, detail.Location = nil, clipped(detail.Message), clipped(detail.Location)
				err = &detail
			}
			few = append(few, err)
		}
		return plain(status, clipped(message), few...)
	}
}

// clipped is the beginning of a text that may be of any length.
func clipped(s string) string {
	const most = 2000
	if len(s) <= most {
		return s
	}
	return strings.ToValidUTF8(s[:most], "") + "…"
}

// OpenAPI is the document that describes /api/v1, made from the Go types.
func OpenAPI() ([]byte, error) {
	s := &Service{}
	return json.MarshalIndent(s.peopleAPI(chi.NewRouter()).OpenAPI(), "", "  ")
}

func (s *Service) peopleAPI(r chi.Router) huma.API {
	c := huma.DefaultConfig("Jugate", Version)
	c.Servers = []*huma.Server{{URL: "/api/v1"}}
	c.OpenAPIPath, c.DocsPath, c.SchemasPath, c.CreateHooks = "/openapi", "", "", nil
	c.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":   {Type: "http", Scheme: "bearer", Description: "The administrator's token"},
		"session": {Type: "apiKey", In: "cookie", Name: api.SessionCookie, Description: "What POST /session sets"},
	}
	c.Security = []map[string][]string{{"token": {}}, {"session": {}}}
	h := humachi.New(r, c)
	h.UseMiddleware(s.requirePerson(h))
	s.sessionRoutes(h)
	s.workstationRoutes(h)
	s.strangerRoutes(h)
	s.cardRoutes(h)
	s.groupRoutes(h)
	s.imageRoutes(h)
	s.storeRoutes(h)
	s.importRoutes(h)
	s.errandRoutes(h)
	s.deliveryRoutes(h)
	s.changeRoutes(h)
	s.receiptRoutes(h)
	s.bootenvRoutes(h)
	s.mediaRoutes(h)
	s.keyRoutes(h)
	s.wishRoutes(h)
	s.netbootRoutes(h)
	s.driverRoutes(h)
	s.driverSetRoutes(h)
	s.coverageRoutes(h)
	s.putRoutes(h)
	s.eventRoutes(h)
	return h
}

// statusOf is what a kind of fault is in HTTP.
func statusOf(k fault.Kind) int {
	switch k {
	case fault.NotFound:
		return http.StatusNotFound
	case fault.Conflict:
		return http.StatusConflict
	case fault.Invalid:
		return http.StatusUnprocessableEntity
	case fault.Forbidden:
		return http.StatusForbidden
	case fault.Stranger:
		return http.StatusUnauthorized
	case fault.TooLarge:
		return http.StatusRequestEntityTooLarge
	case fault.TooMany:
		return http.StatusTooManyRequests
	case fault.Full:
		return http.StatusInsufficientStorage
	case fault.Unreachable:
		return http.StatusBadGateway
	case fault.CutOff:
		return http.StatusBadRequest
	case fault.Unready:
		return http.StatusServiceUnavailable
	}
	return http.StatusInternalServerError
}

// problem turns a fault into the reply that fits it (RFC 9457). Errors of no kind stay
// as they are: whoever answers logs them.
func problem(err error) error {
	if errors.Is(err, syscall.ENOSPC) && fault.KindOf(err) == "" {
		err = fault.Full.Errorf("the service's disk is full: free some room on it and try again")
	}
	kind := fault.KindOf(err)
	if kind == "" {
		return err
	}
	var details []error
	for _, d := range fault.DetailsOf(err) {
		details = append(details, &huma.ErrorDetail{Message: d})
	}
	return huma.NewError(statusOf(kind), err.Error(), details...)
}

// fail answers a plain handler's request with a problem.
func (s *Service) fail(w http.ResponseWriter, r *http.Request, err error) {
	var known huma.StatusError
	if !errors.As(problem(err), &known) {
		s.log.Error("request failed", "method", r.Method, "path", r.URL.Path, "error", err)
		known = huma.Error500InternalServerError("the service could not do this; its log says more")
	}
	writeJSON(w, known.GetStatus(), "application/problem+json", known)
}

func writeJSON(w http.ResponseWriter, status int, kind string, v any) {
	w.Header().Set("Content-Type", kind)
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(v)
}

func notFound(w http.ResponseWriter, r *http.Request) {
	err := huma.Error404NotFound("there is nothing at " + r.URL.Path)
	writeJSON(w, http.StatusNotFound, "application/problem+json", err)
}

// reply is the shape huma wants of an answer with a body.
type reply[T any] struct{ Body T }

func answer[T any](body T, err error) (*reply[T], error) {
	if err != nil {
		return nil, problem(err)
	}
	return &reply[T]{body}, nil
}

// Paging are the parameters that every list takes. (Its name is exported because
// huma passes over embedded types whose name is not.)
type Paging struct {
	Search string `query:"search" doc:"Keep only what contains this text"`
	Sort   string `query:"sort" doc:"Field to sort by, with a hyphen in front for descending"`
	Offset int    `query:"offset" minimum:"0"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

func (p Paging) page() records.Page {
	return records.Page{Offset: p.Offset, Limit: p.Limit, Sort: p.Sort, Search: p.Search}
}

// items turns rows of the records into a page of a list.
func items[R, T any](rows []R, total int, err error, turn func(R) T) (*reply[api.Page[T]], error) {
	if err != nil {
		return nil, problem(err)
	}
	page := api.Page[T]{Items: make([]T, len(rows)), Total: total}
	for i, row := range rows {
		page.Items[i] = turn(row)
	}
	return &reply[api.Page[T]]{page}, nil
}
