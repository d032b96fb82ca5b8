package api

import "time"

// What a helper can be told; it takes nothing else.
const (
	TellRestart  = "restart"
	TellPowerOff = "power-off"
)

// HelperWish is what the helper on a delivered system is to do now.
type HelperWish struct {
	Number      int64  `json:"number" doc:"Another each time; 0 if there is nothing to do, also not any more"`
	Verb        string `json:"verb,omitempty" enum:"restart,power-off"`
	WarnSeconds int64  `json:"warn_seconds,omitempty" doc:"How long whoever is signed in has to save their work"`
	Why         string `json:"why,omitempty"`
}

// Telling is what systems of workstations are told that are on.
type Telling struct {
	To          []string `json:"to,omitempty" doc:"Groups and workstations" maxItems:"10000" nullable:"false" example:"[\"herbarium\"]"`
	Where       string   `json:"where,omitempty" doc:"A condition over the roster (docs/roster.md). It narrows the targets; without any, it is for the whole roster" maxLength:"1000" example:"running"`
	Verb        string   `json:"verb" enum:"restart,power-off,nothing" doc:"restart: into the boot environment, if something waits there; nothing withdraws what was told" example:"restart"`
	WarnMinutes int      `json:"warn_minutes,omitempty" minimum:"0" maximum:"1440" doc:"How long whoever is signed in there has to save their work; 5 by default" example:"10"`
	Why         string   `json:"why,omitempty" maxLength:"200" doc:"What they read" example:"The room gets its new image."`
}

// Told says who was told.
type Told struct {
	Told    []string `json:"told" nullable:"false" doc:"Workstations whose helper does it"`
	Without []string `json:"without_helper" nullable:"false" doc:"Workstations whose system has no helper"`
	Off     []string `json:"away" nullable:"false" doc:"Workstations whose helper was not heard in the last two minutes"`
}

// Helper is what stays on a workstation's system, by the answer helper.
type Helper struct {
	Running bool       `json:"running" doc:"It was heard in the last two minutes: the system is on"`
	Heard   *time.Time `json:"heard,omitempty" doc:"Since the service was started"`
	Verb    string     `json:"verb,omitempty" enum:"restart,power-off" doc:"What it was told and has not done yet"`
}
