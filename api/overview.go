package api

import "time"

// Overview is what somebody looks at first: what needs them now, what runs, what is next, and how each part of the service is.
type Overview struct {
	Now          time.Time   `json:"now"`
	Needs        []Need      `json:"attention" nullable:"false" doc:"What somebody has to do something about, the most urgent first"`
	Deliveries   []Delivery  `json:"open_deliveries" nullable:"false" doc:"The newest first"`
	Errands      int         `json:"open_errands" doc:"That wait or run, those of deliveries too"`
	Next         []OrderTime `json:"next_runs" nullable:"false" doc:"What runs by itself, the next first"`
	Parts        []PartState `json:"service_parts" nullable:"false"`
	Workstations int         `json:"workstation_count" doc:"In the roster"`
}

// Need is something that waits for somebody.
type Need struct {
	Kind  string     `json:"kind_of_need" enum:"newcomers,cards,boots,deliveries,failures,arrivals,checks"`
	Count int        `json:"count" minimum:"1"`
	What  string     `json:"what" doc:"In words"`
	Names []string   `json:"names" nullable:"false" doc:"Of the first of them: workstations, hardware addresses or deliveries"`
	Since *time.Time `json:"since,omitempty" doc:"Of the oldest that was looked at"`
	Page  string     `json:"page" doc:"Of the console, where it is mended" example:"/receipts?outcome=failed"`
}

// How a part of the service is, or something else that was looked at.
const (
	Good    = "good"
	Warning = "warning" // it works, and somebody should look
	Bad     = "bad"     // it is out of order
)

// PartState is how a part of the service is.
type PartState struct {
	Part  string `json:"part" example:"network boot on eth0"`
	State string `json:"state" enum:"good,warning,bad"`
	What  string `json:"what" doc:"In words"`
	Cure  string `json:"cure,omitempty" doc:"What to do about it"`
	Page  string `json:"page" example:"/netboot"`
	Again string `json:"restart_means" doc:"What happens if it is begun anew; empty if it cannot be"`
}

// PartRef names a part of the service.
type PartRef struct {
	Part string `json:"part" minLength:"1" maxLength:"200" doc:"As the overview calls it" example:"network boot on eth0"`
}
