package api

import (
	"time"

	"jugate/core/rights"
)

// SignIn opens a session of the console.
type SignIn struct {
	Name     string `json:"name,omitempty" maxLength:"63" example:"ines"`
	Password string `json:"password,omitempty" maxLength:"200" example:"the garden gate is green"`
	Token    string `json:"token,omitempty" doc:"The key of last resort, in place of name and password" maxLength:"200" example:"the text of admin.token"`
}

// Session tells who is signed in.
type Session struct {
	Name   string         `json:"name"`
	Rights []rights.Right `json:"rights" nullable:"false" doc:"What may be done, for everything or for a part"`
}

// NewCode asks for a code to sign in with at workstations.
type NewCode struct {
	Hours int `json:"hours" minimum:"1" maximum:"72" default:"8" example:"8"`
}

// Code is what people type at a workstation.
type Code struct {
	Code  string    `json:"code"`
	Until time.Time `json:"until"`
}

// TypedCode is a code that was typed at a workstation.
type TypedCode struct {
	Code string `json:"code" minLength:"1" maxLength:"100"`
}

// SignedIn is what a person may choose then.
type SignedIn struct {
	Images []string `json:"images" nullable:"false" doc:"That this workstation may receive"`
}

// Wish is what a person at a workstation has chosen.
type Wish struct {
	Kind  string `json:"kind" enum:"receive,capture,admit"`
	Image string `json:"image,omitempty" maxLength:"63"`
	Name  string `json:"name,omitempty" maxLength:"63" doc:"With admit: of the workstation"`
}

// CommandLine begins what the command line calls itself in the header User-Agent.
const CommandLine = "jugate/"

// Line is a line of the logbook: a change, and who made it.
type Line struct {
	ID        int64     `json:"line"`
	At        time.Time `json:"at"`
	Who       string    `json:"who"`
	From      string    `json:"from" doc:"Address"`
	Through   string    `json:"through" doc:"console, command line, program, workstation or service"`
	Operation string    `json:"operation"`
	Subject   string    `json:"subject" doc:"What it was done to"`
	Details   any       `json:"details" doc:"What was sent, with secrets left out"`
}
