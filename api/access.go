package api

import (
	"time"

	"jugate/core/rights"
)

// SignIn opens a session of the console.
type SignIn struct {
	Name     string `json:"name,omitempty" maxLength:"63" example:"ines"`
	Password string `json:"password,omitempty" maxLength:"200" example:"the garden gate is green"`
	Code     string `json:"second_factor_code,omitempty" doc:"What the second factor shows, if there is one" maxLength:"12" example:"492 039"`
	Token    string `json:"token,omitempty" doc:"The key of last resort, in place of name and password" maxLength:"200" example:"the text of admin.token"`
}

// Session tells who is signed in.
type Session struct {
	Name   string         `json:"name"`
	Rights []rights.Right `json:"rights" nullable:"false" doc:"What may be done, for everything or for a part"`
	// Factor and Password tell what the account has.
	Factor   bool `json:"has_second_factor"`
	Password bool `json:"has_password"`
}

// CodeNeeded is the type of the problem that says that the password is right, and that the code of the second factor is
// needed, too (RFC 9457, 3.1.1; RFC 4151).
const CodeNeeded = "tag:jugate.example,2026:second-factor"

// NewCode asks for a code to sign in with at workstations.
type NewCode struct {
	Hours int `json:"hours" minimum:"1" maximum:"72" default:"8" example:"8"`
}

// Code is what people type at a workstation.
type Code struct {
	Code  string    `json:"code"`
	Until time.Time `json:"until"`
}

// Typed is what somebody has typed at a workstation: a code, or a name with its password and the code of a second factor
// if there is one.
type Typed struct {
	Code     string `json:"code,omitempty" maxLength:"100"`
	Name     string `json:"name,omitempty" maxLength:"63"`
	Password string `json:"password,omitempty" maxLength:"200"`
	Factor   string `json:"second_factor_code,omitempty" maxLength:"12"`
}

// SignedIn is what a person may choose then.
type SignedIn struct {
	Images []string `json:"images" nullable:"false" doc:"That this workstation may receive"`
	Orders []string `json:"orders" nullable:"false" doc:"That may be run here, for this workstation alone"`
	// Entries are boot entries.
	Entries []BootEntryAt `json:"boot_entries" nullable:"false" doc:"That may be started here"`
	Later   bool          `json:"later,omitempty" doc:"The service did not answer, and whoever this is has signed in before: what is chosen is ordered when it answers"`
	Bench   bool          `json:"at_bench" doc:"Nobody has admitted this machine: what it gets is for a job"`
}

// Wish is what a person at a workstation has chosen.
type Wish struct {
	Kind  string `json:"kind" enum:"receive,capture,admit,order,entry"`
	Image string `json:"image,omitempty" maxLength:"63"`
	Job   string `json:"job,omitempty" maxLength:"200" doc:"With a machine that nobody has admitted: a number, or whose it is"`
	Name  string `json:"name,omitempty" maxLength:"63" doc:"With admit: of the workstation; with order: of the order; with entry: of the boot entry"`
	// Values are of a boot entry.
	Values map[string]string `json:"values,omitempty" doc:"With entry: what its parameters are"`
}
