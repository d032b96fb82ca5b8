package api

import "time"

// Backup is a copy of the service's data in a store.
type Backup struct {
	ID       string    `json:"backup" example:"2026-11-29T02-00-00.000Z"`
	Store    string    `json:"store"`
	Taken    time.Time `json:"made_at"`
	Of       string    `json:"service_version" doc:"The version of Jugate that made it"`
	Files    int       `json:"file_count"`
	Bytes    int64     `json:"bytes" doc:"Of its files, as they were"`
	Sent     int64     `json:"bytes_sent,omitempty" doc:"Of those that the store lacked; told when it is made"`
	Slabs    bool      `json:"with_slabs" doc:"The slabs of its versions are in the store, too"`
	Versions int       `json:"version_count"`
	Listed   []string  `json:"listed_versions,omitempty" nullable:"false" doc:"Versions of which the store has no slabs; told when it is made"`
}

// NewBackup says how a backup is made.
type NewBackup struct {
	Store string `json:"store" doc:"The store that it goes to" minLength:"1" maxLength:"63" example:"big"`
	Slabs bool   `json:"with_slabs,omitempty" doc:"Slabs go there, too; otherwise it only tells which there were"`
}

// BackupCheck tells what of a backup is not as it was made.
type BackupCheck struct {
	Backup Backup   `json:"checked_backup"`
	Sound  bool     `json:"sound"`
	Faults []string `json:"what_is_wrong" nullable:"false"`
}

// BackupSchedule says when backups are made by themselves.
type BackupSchedule struct {
	Store string `json:"store" doc:"None are made while it is empty" maxLength:"63" example:"big"`
	At    string `json:"time_of_day" doc:"By the clock of the service" pattern:"^([01][0-9]|2[0-3]):[0-5][0-9]$" minLength:"5" maxLength:"5" example:"02:00"`
	Slabs bool   `json:"with_slabs"`
	Keep  int    `json:"keep_backups" doc:"How many stay in the store" minimum:"1" maximum:"10000" example:"14"`
}

// BackupsDue tells when backups are made by themselves, and how the last one went.
type BackupsDue struct {
	BackupSchedule
	Begun   *time.Time `json:"last_begun,omitempty"`
	Ended   *time.Time `json:"last_ended,omitempty"`
	Trouble string     `json:"trouble,omitempty"`
}
