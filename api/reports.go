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
	Reused   int64     `json:"reused_bytes" doc:"What was on disks already, in bytes of the image, and did not have to come"`
	Seconds  float64   `json:"saved_seconds" doc:"As long as those would have taken at the rate of the stream; 0 if it had none"`
}

// LicenceReport is what a workstation has of what is counted: the product key and the domain that its answers name.
type LicenceReport struct {
	Workstation string     `json:"workstation"`
	Model       string     `json:"model" doc:"Maker and model"`
	Image       string     `json:"image" doc:"On its disk, as NAME@VERSION; empty if it never got one"`
	Key         string     `json:"product_key_end" doc:"The last five letters of the product key that it is given; empty if it is given none" example:"EEEEE"`
	KeyFrom     string     `json:"product_key_from" doc:"Where that is set" example:"the group herbarium"`
	Domain      string     `json:"domain" doc:"That it joins; empty if it joins none"`
	Name        string     `json:"computer_name" doc:"As which it joins"`
	Arrived     *time.Time `json:"arrived,omitempty" doc:"When what is on its disk has started first; absent if it has not reported that"`
	Remark      string     `json:"remark" doc:"What was odd about that, or why its answers cannot be told"`
}

// DriverReport is a device of a model, and what drives it.
type DriverReport struct {
	Model        string `json:"model" doc:"Maker and model"`
	Workstations int    `json:"workstation_count"`
	Device       string `json:"device_name"`
	ID           string `json:"device_id"`
	Class        string `json:"class"`
	Environment  string `json:"environment_state" doc:"In the build of the boot environment that is offered" enum:"covered,will be installed,uncovered,too late,unknown,no driver"`
	By           string `json:"environment_by" doc:"What drives it there"`
	System       string `json:"system_state" doc:"In the image that was asked about; unknown without one" enum:"covered,will be installed,uncovered,too late,unknown,no driver"`
	SystemBy     string `json:"system_by" doc:"What drives it there, or will"`
}
