// Package api has the requests and replies of both HTTP interfaces as types:
// /api/v1 for people and programs (people.go), /agent/v1 for workstations
// (agents.go). It has no behaviour and depends on no framework; the doc tags
// become the descriptions of the OpenAPI document.
package api

import "time"

// InterfaceVersion is the version of /api/v1, told by its OpenAPI document: the second number grows when something is added. Nothing
// that was there is taken away or changes its meaning; that would be another interface, beside this one.
const InterfaceVersion = "1.0.0"

// Page is one part of a list.
type Page[T any] struct {
	Items []T `json:"items" nullable:"false"`
	Total int `json:"total" doc:"How many there are in all"`
}

// Problem is an error reply: RFC 9457 problem details.
type Problem struct {
	Type   string          `json:"type,omitempty"`
	Title  string          `json:"title"`
	Status int             `json:"status"`
	Detail string          `json:"detail"`
	Errors []ProblemDetail `json:"errors,omitempty"`
}

// ProblemDetail says what is wrong with one field of a request.
type ProblemDetail struct {
	Message  string `json:"message"`
	Location string `json:"location"`
}

// Health says that the service is up.
type Health struct {
	Status  string    `json:"status"`
	Version string    `json:"version"`
	Now     time.Time `json:"now,omitzero" doc:"What time it is there"`
	Busy    int       `json:"busy,omitempty" doc:"Deliveries that an outpost has under way"`
}

// Names that both ends share.
const (
	// SessionCookie is what the console signs in with.
	SessionCookie = "jugate_session"
	// EventStream is the path of the server-sent events, below /api/v1.
	EventStream = "/events"
)
