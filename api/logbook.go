package api

import "time"

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
	Changes   any       `json:"changed_fields,omitempty" doc:"Each field that differs, with before and after; absent where nothing is known of that"`
}
