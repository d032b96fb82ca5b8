package api

import (
	"time"

	"jugate/core/rights"
)

// Grant gives somebody the rights of a role.
type Grant struct {
	Role string `json:"role" maxLength:"63" minLength:"1" example:"engineer"`
	On   string `json:"on" doc:"everything, group:NAME or image:NAME" default:"everything" maxLength:"200" example:"group:herbarium"`
}

// Person is somebody who may sign in.
type Person struct {
	Name     string  `json:"person" example:"ines"`
	FullName string  `json:"full_name" example:"Ines Fairholm"`
	Grants   []Grant `json:"grants" nullable:"false"`
	ShutOut  bool    `json:"shut_out" doc:"May not sign in"`
	Password bool    `json:"has_password" doc:"Whether a password is set"`
	Factor   bool    `json:"has_second_factor" doc:"Whether a code is needed beside the password"`
	// Directory is where the person comes from.
	Directory string     `json:"directory,omitempty" doc:"Where the person comes from; empty for people of the service's own"`
	Added     time.Time  `json:"added"`
	Seen      *time.Time `json:"last_seen,omitempty"`
}

// NewPerson asks for a person.
type NewPerson struct {
	Name     string  `json:"person" doc:"With which they sign in" maxLength:"63" minLength:"1" example:"ines"`
	FullName string  `json:"full_name,omitempty" maxLength:"200" example:"Ines Fairholm"`
	Grants   []Grant `json:"grants,omitempty" nullable:"false" maxItems:"100" example:"[{\"role\":\"engineer\",\"on\":\"group:herbarium\"}]"`
}

// PersonChange says what becomes of a person; what is left out stays.
type PersonChange struct {
	FullName    *string  `json:"full_name,omitempty" maxLength:"200" example:"Ines Fairholm"`
	Grants      *[]Grant `json:"grants,omitempty" nullable:"false" maxItems:"100" example:"[{\"role\":\"engineer\",\"on\":\"group:herbarium\"}]"`
	ShutOut     *bool    `json:"shut_out,omitempty" doc:"May not sign in; sessions end at once" example:"true"`
	ResetFactor bool     `json:"reset_second_factor,omitempty" doc:"End the second factor of somebody who has lost it" example:"true"`
}

// Invitation is a link with which a person sets a password, once.
type Invitation struct {
	Secret  string    `json:"link_secret" doc:"The console has it at /welcome#SECRET"`
	Expires time.Time `json:"expires"`
}

// Invited tells whom a link is for.
type Invited struct {
	Name string `json:"person" doc:"Empty for the first administrator, who chooses it"`
}

// ShortestPassword is how many characters a password has at least (NIST SP 800-63B-4, 3.1.1.2).
const ShortestPassword = 12

// Acceptance uses a link.
type Acceptance struct {
	Name     string `json:"person,omitempty" doc:"Of the first administrator" maxLength:"63" example:"ines"`
	FullName string `json:"full_name,omitempty" doc:"Of the first administrator" maxLength:"200" example:"Ines Fairholm"`
	Password string `json:"password" maxLength:"200" minLength:"1" example:"the garden gate is green"`
}

// PasswordChange sets one's own password.
type PasswordChange struct {
	Old string `json:"old_password" maxLength:"200" example:"the garden gate is green"`
	New string `json:"new_password" maxLength:"200" minLength:"1" example:"the garden gate is blue"`
}

// OfferedFactor is the secret of a second factor, which counts once a code of it was told.
type OfferedFactor struct {
	Secret string `json:"factor_secret" doc:"In base32, to be typed"`
	URL    string `json:"factor_url" doc:"The same as otpauth URL, for a QR code"`
}

// FactorCode is the code that a second factor shows.
type FactorCode struct {
	Code string `json:"second_factor_code" minLength:"6" maxLength:"12" example:"492 039"`
}

// Role is a set of rights with a name.
type Role struct {
	Name    string         `json:"role" example:"engineer"`
	Note    string         `json:"note"`
	Rights  []rights.Right `json:"rights" nullable:"false"`
	BuiltIn bool           `json:"built_in" doc:"Every service has it, and it cannot be changed"`
}

// NewRole asks for a role, in place of one of that name.
type NewRole struct {
	Name   string         `json:"role" maxLength:"63" minLength:"1" example:"keeper"`
	Note   string         `json:"note,omitempty" maxLength:"500" example:"keeps the images of the herbarium"`
	Rights []rights.Right `json:"rights" nullable:"false" minItems:"1" maxItems:"20" enum:"see,admit,set-answers,capture,deliver,wipe,run-orders,keep-images,keep-drivers,keep-entries,keep-sites,administer" example:"[\"see\",\"keep-images\"]"`
}

// Token is a secret with which a program calls, as its person and with no more than its rights.
type Token struct {
	Name     string         `json:"token" example:"nightly-capture"`
	Person   string         `json:"person"`
	Rights   []rights.Right `json:"rights" nullable:"false" doc:"What it may do at the most; empty for all that its person may"`
	Issued   time.Time      `json:"issued"`
	Expires  time.Time      `json:"expires"`
	Used     *time.Time     `json:"last_used,omitempty"`
	UsedFrom string         `json:"used_from,omitempty" doc:"Address"`
}

// NewToken asks for a token of one's own.
type NewToken struct {
	Name   string         `json:"token" maxLength:"63" minLength:"1" example:"nightly-capture"`
	Rights []rights.Right `json:"rights,omitempty" nullable:"false" maxItems:"20" enum:"see,admit,set-answers,capture,deliver,wipe,run-orders,keep-images,keep-drivers,keep-entries,keep-sites,administer" example:"[\"see\",\"capture\"]" doc:"What it may do at the most; all that its person may by default"`
	Days   int            `json:"days,omitempty" doc:"How long it is good" minimum:"1" maximum:"730" default:"90" example:"90"`
	Person string         `json:"person,omitempty" doc:"Whose; who asks by default. Another's takes the right to administer" maxLength:"63" example:"ines"`
}

// IssuedToken is a token with its secret, which is told once.
type IssuedToken struct {
	Token
	Secret string `json:"token_secret"`
}

// OpenSession is a session of the console.
type OpenSession struct {
	ID      string    `json:"session"`
	Person  string    `json:"person" doc:"Empty for the key of last resort"`
	Opened  time.Time `json:"opened"`
	Expires time.Time `json:"expires"`
	From    string    `json:"from" doc:"Address"`
	Program string    `json:"program" doc:"What the browser calls itself"`
	Own     bool      `json:"own" doc:"This one"`
}

// LastResort changes the key of last resort.
type LastResort struct {
	Off bool `json:"off,omitempty" doc:"Switch it off, in place of renewing it. The service makes another when it starts without the file admin.token" example:"true"`
}

// RenewedKey is the key of last resort from now on.
type RenewedKey struct {
	Secret string `json:"token_secret" doc:"Empty if it is switched off"`
}
