package service

import (
	"jugate/service/backups"
	"jugate/service/standby"
)

// Restored is what came of a restore, and what is newer elsewhere.
type Restored = backups.Restored

// TakeOver says how another machine becomes the service, and TakenOver what came of it.
type (
	TakeOver  = standby.TakeOver
	TakenOver = standby.TakenOver
)

// Restore makes a data folder of a backup; see package backups.
var Restore = backups.Restore
