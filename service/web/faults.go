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
	"github.com/danielgtaylor/huma/v2/validation"

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

func init() {
	huma.NewError = boundedError(huma.NewError)
	// Messages about a field are worded so that they can follow the field's name.
	validation.MsgUnexpectedProperty = "is not known here"
	validation.MsgExpectedRFC3339DateTime = "has to be a time such as 2026-03-01T18:30:00Z (RFC 3339)"
	validation.MsgExpectedBoolean = "has to be true or false"
	validation.MsgExpectedNumber = "has to be a number"
	validation.MsgExpectedInteger = "has to be a whole number"
	validation.MsgExpectedString = "has to be a text"
	validation.MsgExpectedArray = "has to be a list"
	validation.MsgExpectedObject = "has to be an object"
	validation.MsgExpectedBase64String = "has to be in base64"
	validation.MsgExpectedOneOf = `has to be one of "%s"`
	validation.MsgExpectedMinimumNumber = "has to be at least %v"
	validation.MsgExpectedMaximumNumber = "has to be at most %v"
	validation.MsgExpectedMinLength = "has to have at least %d characters"
	validation.MsgExpectedMaxLength = "has to have at most %d characters"
	validation.MsgExpectedMinItems = "has to have at least %d entries"
	validation.MsgExpectedMaxItems = "has to have at most %d entries"
	validation.MsgExpectedRequiredProperty = "%s is missing"
}

// renamed are fields that had another name before.
var renamed = map[string]string{"body.wait_at_most": "at_latest, a time"}

// sentence says what is wrong with a field.
func sentence(d *huma.ErrorDetail) string {
	if now, was := renamed[d.Location]; was {
		return fmt.Sprintf("%s is called %s now", strings.TrimPrefix(d.Location, "body."), now)
	}
	_, field, _ := strings.Cut(d.Location, ".")
	return strings.TrimSpace(field + " " + strings.TrimPrefix(d.Message, field+" "))
}

// boundedError makes errors that repeat nothing of the request, which may be long or
// secret.
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
		if message == "validation failed" {
			var wrong []string
			for _, err := range few {
				if d, is := err.(*huma.ErrorDetail); is {
					wrong = append(wrong, sentence(d))
				}
			}
			message = strings.Join(wrong, "; ")
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
