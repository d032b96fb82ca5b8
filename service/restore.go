package service

import "jugate/service/backups"

// Restored is what came of a restore, and what is newer elsewhere.
type Restored = backups.Restored

// Restore makes a data folder of a backup; see package backups.
var Restore = backups.Restore
