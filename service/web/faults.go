package web

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"syscall"

	"github.com/danielgtaylor/huma/v2"

	"jugate/core/fault"
)

// statuses is what the kinds of faults are in HTTP (RFC 9110, 15).
var statuses = map[fault.Kind]int{
	fault.NotFound:    http.StatusNotFound,
	fault.Conflict:    http.StatusConflict,
	fault.Invalid:     http.StatusUnprocessableEntity,
	fault.Forbidden:   http.StatusForbidden,
	fault.Stranger:    http.StatusUnauthorized,
	fault.TooLarge:    http.StatusRequestEntityTooLarge,
	fault.TooMany:     http.StatusTooManyRequests,
	fault.Full:        http.StatusInsufficientStorage,
	fault.Unreachable: http.StatusBadGateway,
	fault.CutOff:      http.StatusBadRequest,
	fault.Unready:     http.StatusServiceUnavailable,
}

// problem turns a fault into the reply that fits it (RFC 9457). What has no kind is the
// program's own failure: it goes into the log, and the reply says no more than that.
func (s *Server) problem(err error, what string) huma.StatusError {
	if errors.Is(err, syscall.ENOSPC) && fault.KindOf(err) == "" {
		err = fault.Full.Errorf("the service's disk is full: free some room on it and try again")
	}
	var ready huma.StatusError // of huma itself
	if errors.As(err, &ready) {
		return ready
	}
	status, known := statuses[fault.KindOf(err)]
	if !known {
		if errors.Is(err, context.Canceled) {
			return huma.NewError(http.StatusServiceUnavailable, "whoever asked has gone")
		}
		s.Log.Error("request failed", "request", what, "error", err)
		return huma.Error500InternalServerError("the service could not do this; its log says more")
	}
	var details []error
	for _, d := range fault.DetailsOf(err) {
		details = append(details, &huma.ErrorDetail{Message: d})
	}
	return huma.NewError(status, err.Error(), details...)
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

// fail answers a plain handler's request with a problem.
func (s *Server) fail(w http.ResponseWriter, r *http.Request, err error) {
	p := s.problem(err, r.Method+" "+r.URL.Path)
	writeJSON(w, p.GetStatus(), "application/problem+json", p)
}

func notFound(w http.ResponseWriter, r *http.Request) {
	writeJSON(w, http.StatusNotFound, "application/problem+json", huma.Error404NotFound("there is nothing at "+r.URL.Path))
}

func writeJSON(w http.ResponseWriter, status int, contentType string, v any) {
	w.Header().Set("Content-Type", contentType)
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(v) // an error means the client has gone
}
