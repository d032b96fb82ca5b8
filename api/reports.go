package api

import "time"

// RoomReport is how many workstations of a group have one version on their disks.
type RoomReport struct {
	Group        string   `json:"group" example:"herbarium"`
	Image        string   `json:"image" doc:"As NAME@VERSION; empty for those that never got one" example:"garden-desk@3"`
	Unfinished   bool     `json:"unfinished" doc:"A copy was begun and is not whole"`
	Count        int      `json:"workstation_count"`
	Should       string   `json:"should_have" doc:"What the group says, as NAME@VERSION; empty if it says nothing" example:"garden-desk@4"`
	Behind       bool     `json:"behind" doc:"They do not have that"`
	Workstations []string `json:"workstations" nullable:"false" doc:"Their names"`
}

// FailureReport is something that the last check of a workstation did not find good.
type FailureReport struct {
	Workstation string    `json:"workstation"`
	Maker       string    `json:"maker"`
	Model       string    `json:"model"`
	Serial      string    `json:"serial"`
	Ended       time.Time `json:"ended" doc:"When the check ended"`
	About       string    `json:"about" enum:"memory,surface,health,network"`
	Verdict     string    `json:"verdict" enum:"doubtful,bad"`
	Text        string    `json:"text"`
}

// SavingsReport is what a delivery would have sent, had it sent to each workstation alone.
type SavingsReport struct {
	Delivery int64     `json:"delivery"`
	Image    string    `json:"image"`
	Version  int       `json:"version"`
	Ended    time.Time `json:"ended"`
	Count    int       `json:"workstation_count" doc:"That got all of it"`
	Received int64     `json:"received_bytes" doc:"By all of them together, by multicast and alone"`
	Wire     int64     `json:"wire_bytes" doc:"Sent for that"`
	Saved    int64     `json:"saved_bytes" doc:"Of the traffic; none if more was sent than came"`
	Seconds  float64   `json:"saved_seconds" doc:"As long as those would have taken at the rate of the stream; 0 if it had none"`
}
