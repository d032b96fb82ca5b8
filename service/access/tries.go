package access

import (
	"net/netip"
	"time"

	"jugate/core/fault"
	"jugate/core/quota"
)

const (
	// wrongAtMost is how many wrong codes or tokens one workstation may try within
	// wrongWithin, and wrongFrom how many may come from one address.
	wrongAtMost = 10
	wrongFrom   = 30
	wrongWithin = time.Minute
)

// tries limits how many wrong secrets one workstation or address may try. Others are not
// affected when one has reached its limit.
type tries struct {
	byWorkstation quota.Quota[int64]
	byAddress     quota.Quota[netip.Addr]
	byAccount     quota.Quota[string] // by name in small letters
}

var errTooManyTries = fault.TooMany.Errorf("too many wrong codes, tokens or passwords from here; try again in a minute")

// may tells whether one may try; workstation is 0 where it is not one.
func (t *tries) may(now time.Time, workstation int64, from netip.Addr) bool {
	return (workstation == 0 || t.byWorkstation.Left(workstation, now)) && t.byAddress.Left(from, now)
}

// wrong counts one that was not right.
func (t *tries) wrong(now time.Time, workstation int64, from netip.Addr) {
	if workstation != 0 {
		t.byWorkstation.Take(workstation, now, wrongAtMost, wrongWithin)
	}
	t.byAddress.Take(from, now, wrongFrom, wrongWithin)
}
