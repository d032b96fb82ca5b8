package api

import "time"

// SignIn opens a session of the console.
type SignIn struct {
	Token string `json:"token" maxLength:"200" example:"the text of admin.token"`
}

// Session tells who is signed in.
type Session struct {
	Name string `json:"name"`
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
