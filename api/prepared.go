package api

import (
	"time"

	"jugate/core/order"
)

// Order is work that was prepared. What it has of capture, check, wipe_disks, deliver, drivers and payloads is done in this order, one after the other, with its commands between;
// with a capture and a delivery it brings what one workstation has to others.
type Order struct {
	Name     string            `json:"order" doc:"Letters, digits, '-', '_' and '.'" minLength:"1" maxLength:"63" example:"herbarium-weekly"`
	Note     string            `json:"note,omitempty" maxLength:"1000" example:"the scanning room, each Monday"`
	Capture  *NewCapture       `json:"capture,omitempty"`
	Check    *PreparedCheck    `json:"check,omitempty"`
	Wipe     *PreparedWipe     `json:"wipe_disks,omitempty"`
	Deliver  *PreparedDelivery `json:"deliver,omitempty"`
	Drivers  *InstallDrivers   `json:"install_drivers,omitempty"`
	Payloads *InstallPayloads  `json:"bring_payloads,omitempty"`
	// Commands are run before one of the parts, or after all of them but the wait for arrivals.
	Commands []PreparedCommand `json:"commands,omitempty" maxItems:"20" nullable:"false" doc:"Commands of your own"`
	Entries  []PreparedEntry   `json:"boot_entries,omitempty" maxItems:"20" nullable:"false" doc:"Boot entries that are started, each before one of the parts, or after all of them but the wait for arrivals"`
	SaveDays int               `json:"save_days,omitempty" minimum:"0" maximum:"3650" example:"14" doc:"Before the first part that erases disks, they are captured as they are, and kept for so many days; who cannot be saved is taken out. A saved disk goes back onto its own workstation alone"`
	Folders  []string          `json:"folders_back,omitempty" maxItems:"50" nullable:"false" doc:"Folders of the saved disks that go back onto what is delivered, without a slash in front; a workstation that lacks one is taken out before anything is erased" example:"[\"home\",\"srv/photos\"]"`
	OnlyIf   map[string]string `json:"only_if,omitempty" doc:"Conditions (docs/roster.md) of parts, by capture, check, wipe, deliver, drivers, payloads or the name of a command or boot entry: the part leaves those alone that do not fit when it begins, which stay in the run" example:"{\"deliver\":\"passed[\\\"scanner\\\"]\"}"`
	Wake     bool              `json:"wake,omitempty" doc:"Switch the workstations on over the network first"`
	// Restart and Afterwards are for workstations with a helper.
	Restart     bool           `json:"restart_running,omitempty" doc:"Workstations whose system is on restart into the boot environment, by the helper on it (the answer helper), once whoever is signed in has had time to save their work"`
	WarnMinutes int            `json:"warn_minutes,omitempty" minimum:"0" maximum:"1440" doc:"How long they have for that, 5 by default, also before a workstation is switched off afterwards" example:"10"`
	Afterwards  string         `json:"afterwards,omitempty" enum:"power-off,as-before" doc:"What becomes of the workstations that it does not fail for, once all is done, also their first start if the run waits for that: by their helper they are switched off, all or those that were off before"`
	Schedule    *OrderSchedule `json:"schedule,omitempty" doc:"When it runs by itself"`
	// WhenBehind is about machines that appear.
	WhenBehind bool     `json:"when_behind,omitempty" doc:"Runs by itself for each of the workstations of its delivery that appears in the network and does not have the version that its groups say it should have, once for each version"`
	Tries      int      `json:"tries,omitempty" minimum:"0" maximum:"5" doc:"How often it is tried for workstations that it fails for; once by default" example:"2"`
	Bench      bool     `json:"at_bench,omitempty" doc:"May be run at machines that nobody has admitted, by whoever has signed in there; it can have no targets then. It has no capture"`
	Released   []string `json:"released,omitempty" maxItems:"50" nullable:"false" doc:"Roles whose people may run it as it stands, whatever else they may do; everybody lets anybody run it from the boot menu of a workstation, for that one alone" example:"[\"helper\"]"`
}

// PreparedDelivery is a delivery that is ordered again and again.
type PreparedDelivery struct {
	NewDelivery
	Wait  int  `json:"wait_minutes,omitempty" minimum:"0" maximum:"43200" doc:"How long it waits for its workstations at the most; an hour by default" example:"30"`
	Await bool `json:"await_arrival,omitempty" doc:"The run ends when each copy has started under its own name and reported; it has failed for those that do not in time"`
}

// PreparedCheck is a check that is ordered again and again. A workstation that does not pass takes no part in what comes after it, and
// the others do not wait for it.
type PreparedCheck struct {
	NewCheck
	Wait    int      `json:"wait_minutes,omitempty" minimum:"0" maximum:"43200" doc:"How long it waits for workstations that do not come; an hour by default" example:"30"`
	Passes  string   `json:"passes,omitempty" enum:"good,doubtful" default:"doubtful" doc:"The worst verdict with which a workstation passes"`
	Require []string `json:"require,omitempty" maxItems:"50" nullable:"false" doc:"Conditions (docs/roster.md) that each has to fit, by what it has told when it came" example:"[\"memory >= 8GiB\",\"firmware == \\\"UEFI\\\"\"]"`
}

// PreparedWipe is a wipe that is ordered again and again.
type PreparedWipe struct {
	NewWipe
	Wait int `json:"wait_minutes,omitempty" minimum:"0" maximum:"43200" doc:"How long it waits for workstations that do not come; an hour by default" example:"30"`
}

// OrderSchedule is when an order runs by itself.
type OrderSchedule struct {
	When   string `json:"when" minLength:"1" maxLength:"300" doc:"daily 06:00, weekdays 18:30, monday and thursday 18:30, first monday 06:00, last day 22:00, day 15 06:00, once 2026-12-24 12:00, or a rule of RFC 5545 that begins with FREQ=" example:"weekdays 18:30"`
	Zone   string `json:"zone,omitempty" maxLength:"100" doc:"A name of the time zone database; UTC by default" example:"Europe/Vienna"`
	Missed string `json:"when_missed,omitempty" enum:"run,skip" default:"skip" doc:"What becomes of a run whose time came while the service was down: it begins as soon as that can be, or is left out"`
}

// KeptOrder is an order as the service keeps it.
type KeptOrder struct {
	Order
	Work    []order.Work `json:"work" nullable:"false" doc:"What it does, in this order"`
	Saved   time.Time    `json:"saved"`
	SavedBy string       `json:"saved_by" doc:"Whose rights count when it runs by itself"`
	Next    *time.Time   `json:"next_run,omitempty" doc:"When it runs by itself"`
	Last    *OrderRun    `json:"last_run,omitempty"`
	Problem string       `json:"problem" doc:"Why it would fail if it ran now, such as that its version is retired; empty if nothing is known against it"`
}

// OrderRun is one execution of an order.
type OrderRun struct {
	ID        int64       `json:"id"`
	Order     string      `json:"order"`
	State     order.State `json:"state" enum:"running,done,failed,stopped,missed"`
	Reason    string      `json:"reason"`
	OrderedBy string      `json:"ordered_by"`
	Began     time.Time   `json:"began"`
	Ended     *time.Time  `json:"ended,omitempty"`
	Parts     []RunPart   `json:"parts,omitempty" nullable:"false" doc:"Told for a single run"`
	Only      []string    `json:"only_for,omitempty" nullable:"false" doc:"The workstations that it is for, if those are not all of its order; told for a single run"`
	Continues int64       `json:"continues,omitempty" doc:"The run that failed for those, and that it goes on for"`
	Attempt   int         `json:"attempt" doc:"How often it was tried with this one"`
}

// RunPart is a part of a run.
type RunPart struct {
	Work       order.Work  `json:"part" doc:"capture, check, wipe, deliver, drivers, payloads, arrive, or command and its name" maxLength:"80"`
	State      order.State `json:"state" enum:"waiting,running,done,failed,stopped"`
	Reason     string      `json:"reason"`
	Began      *time.Time  `json:"began,omitempty"`
	Ended      *time.Time  `json:"ended,omitempty"`
	Deliveries []int64     `json:"deliveries" nullable:"false" doc:"Numbers of the deliveries that it made"`
	LeftOut    []LeftOut   `json:"taken_out" nullable:"false" doc:"Workstations that it took out"`
	Commands   []Errand    `json:"commands_run,omitempty" nullable:"false" doc:"Of a part that is a command: what it has said where. The whole output is told by GET /errands/{errand}"`
	Errands    []int64     `json:"errand_numbers" nullable:"false" doc:"Numbers of the errands that it made"`
}

// LeftOut is a workstation that a part of a run took out; the parts after it leave it alone.
type LeftOut struct {
	ID          int64  `json:"id"`
	Workstation string `json:"workstation"`
	Reason      string `json:"reason"`
}

// OrderSaved says what saving an order has changed, or would.
type OrderSaved struct {
	Order   KeptOrder   `json:"kept_order"`
	Added   bool        `json:"is_new" doc:"There was none of that name"`
	Changes []OrderDiff `json:"differs" nullable:"false"`
}

// OrderDiff is something of an order that is another than before.
type OrderDiff struct {
	Field  string `json:"field"`
	Before string `json:"was" doc:"As JSON; empty if it was not there"`
	After  string `json:"becomes" doc:"As JSON; empty if it is not there any more"`
}

// OrderTime is an instant at which an order runs by itself.
type OrderTime struct {
	Order string    `json:"order"`
	At    time.Time `json:"at"`
	Words string    `json:"schedule_words"`
	// Problem is said ahead, while people are at their desks.
	Problem string `json:"problem" doc:"Why it will not run then, as it is a quiet time, or would fail if it ran now; empty if nothing is known against it"`
}

// QuietTime is a time in which no order runs by itself.
type QuietTime struct {
	Name  string    `json:"quiet_time" doc:"Letters, digits, '-', '_' and '.'" minLength:"1" maxLength:"63" example:"exam-week"`
	Begin time.Time `json:"from" example:"2027-01-18T00:00:00+01:00"`
	Until time.Time `json:"until" example:"2027-01-30T00:00:00+01:00"`
	Note  string    `json:"note" maxLength:"1000" required:"false" example:"nobody touches the rooms"`
}
