package api

// Diagnosis is something that was looked at, how it is, and what to do about it.
type Diagnosis struct {
	Looked string `json:"looked_at" example:"network boot on eth0"`
	State  string `json:"state" enum:"good,warning,bad"`
	What   string `json:"what" doc:"In words"`
	Cure   string `json:"cure,omitempty" doc:"What to do about it"`
}

// TrialChannel is where packets are sent that tell how far multicast goes.
type TrialChannel struct {
	Channel string `json:"channel" doc:"Group and port" example:"239.255.0.0:6003"`
	Source  string `json:"source,omitempty" doc:"The address that they come from; empty if that is left to the system"`
}

// NewTrial is a word that the packets of a trial begin with, so that whoever listens knows their own.
type NewTrial struct {
	Token string `json:"trial_token" minLength:"8" maxLength:"64" pattern:"^[a-z0-9]+$" example:"k3v9x2m7q4"`
	Rate  int64  `json:"rate,omitempty" minimum:"64000" maximum:"2000000000" doc:"In bits a second: a second of packets at this rate, or at the ceiling of streams if that is lower" example:"100000000"`
}
