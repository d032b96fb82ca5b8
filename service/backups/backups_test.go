package backups_test

import (
	"database/sql"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"jugate/records"
	"jugate/service/backups"
)

func TestWhenABackupIsDue(t *testing.T) {
	at := func(day, hour, minute int) time.Time { return time.Date(2026, 11, day, hour, minute, 0, 0, time.UTC) }
	began := func(when time.Time, ended bool, trouble string) records.Backing {
		return records.Backing{Store: "big", At: "02:00", Begun: sql.NullTime{Time: when, Valid: true}, Ended: sql.NullTime{Time: when.Add(time.Minute), Valid: ended}, Trouble: trouble}
	}
	fresh := records.Backing{Store: "big", At: "02:00"}
	assert.False(t, backups.Due(at(29, 15, 0), fresh), "set up in the afternoon")
	assert.True(t, backups.Due(at(30, 2, 0), fresh))
	assert.False(t, backups.Due(at(30, 1, 59), began(at(29, 2, 0), true, "")))
	assert.True(t, backups.Due(at(30, 2, 0), began(at(29, 2, 0), true, "")))
	assert.True(t, backups.Due(at(30, 9, 0), began(at(29, 2, 0), true, "")), "the service was off in the night")
	assert.False(t, backups.Due(at(30, 2, 1), began(at(30, 2, 0), false, "")), "it is under way")
	assert.False(t, backups.Due(at(30, 2, 30), began(at(30, 2, 0), true, "the store is away")))
	assert.True(t, backups.Due(at(30, 3, 0), began(at(30, 2, 0), true, "the store is away")))
	assert.True(t, backups.Due(at(30, 3, 0), began(at(30, 2, 0), false, "")), "it was cut off")
	assert.False(t, backups.Due(at(30, 12, 0), began(at(30, 2, 0), true, "")))
}
