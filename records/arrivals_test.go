package records_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/delivery"
	"jugate/core/fault"
	"jugate/records"
)

func TestArrivalsAreTheSecondEntryOfTheirReceipts(t *testing.T) {
	db, path := open(t)
	ctx := t.Context()
	var ids []int64
	for n, name := range []string{"herb-01", "herb-02", "herb-03"} {
		w := newcomer(t, db, n+1)
		require.NoError(t, db.Admit(ctx, w.ID, name, nil))
		ids = append(ids, w.ID)
	}
	d, err := db.AddDelivery(ctx, records.Delivery{Image: "garden-desk", Version: 1, Created: noon}, []string{"herbarium"}, ids)
	require.NoError(t, err)
	told := func(n int, name, id string) api.ArrivalReport {
		return api.ArrivalReport{ComputerName: name, MachineID: id, Addresses: []string{addr(n).String()}, IPs: []string{}}
	}
	for i, digest := range []string{"one", "two", "three"} {
		require.NoError(t, db.AwaitArrival(ctx, noon, "earlier "+digest, d, ids[i], "herb-0"+string(rune('1'+i))))
		require.NoError(t, db.AwaitArrival(ctx, noon, digest, d, ids[i], "herb-0"+string(rune('1'+i))))
	}
	_, err = db.Arrive(ctx, noon, "one", told(1, "herb-01", "aa"))
	assert.ErrorIs(t, err, fault.Unready, "before the receipt")
	for i, id := range ids {
		_, err := db.AddReceipt(ctx, records.Receipt{DeliveryID: d, WorkstationID: id, Workstation: "herb-0" + string(rune('1'+i)), Image: "garden-desk", Version: 1, Ended: noon, Outcome: delivery.Delivered, Verified: true})
		require.NoError(t, err)
	}
	// Whoever is still being told what was asked for before has changed nothing: the token is on the disk.
	require.NoError(t, db.AwaitArrival(ctx, noon, "too late", d, ids[0], "herb-01"))
	require.NoError(t, db.ForgetArrival(ctx, d, ids[0]))
	for _, bad := range []string{"", "four", "earlier one", "too late"} {
		_, err = db.Arrive(ctx, noon, bad, told(1, "herb-01", "aa"))
		assert.ErrorIs(t, err, fault.Stranger, bad)
	}
	for i, c := range []struct {
		digest string
		report api.ArrivalReport
		odd    string
	}{
		{"one", told(1, "HERB-01", "aa"), ""},
		{"two", told(2, "desk-gold", "aa"), `it has come up as "desk-gold", and not as herb-02; it has the machine-id of herb-01`},
		{"three", told(66, "herb-03", "cc"), "none of its network cards is known of this workstation"},
	} {
		r, err := db.Arrive(ctx, noon.Add(time.Duration(i)*time.Minute), c.digest, c.report)
		require.NoError(t, err)
		assert.Equal(t, c.odd, r.ArrivalRemark)
		assert.Equal(t, c.report, r.ArrivalReport())
		_, err = db.Arrive(ctx, noon, c.digest, c.report)
		assert.ErrorIs(t, err, fault.Stranger, "once")
	}
	require.NoError(t, db.AwaitArrival(ctx, noon, "again", d, ids[0], "herb-01"))
	_, err = db.Arrive(ctx, noon, "again", told(1, "herb-01", "aa"))
	assert.ErrorIs(t, err, fault.Stranger, "what was reported stays")
	checked, err := db.Check(ctx)
	require.NoError(t, err)
	assert.Equal(t, records.Checked{Receipts: 3, Arrivals: 3, Leaves: 6}, checked)

	for change, found := range map[string]string{
		`UPDATE arrivals SET remark = '' WHERE digest = 'two'`: "the arrival of receipt 2 was changed", `UPDATE arrivals SET arrived = '2026-03-01 00:00:00 +0000 UTC' WHERE digest = 'one'`: "the arrival of receipt 1 was changed",
		`DELETE FROM arrivals WHERE digest = 'one'`: "arrival 1 was removed", `UPDATE arrivals SET number = 7 WHERE digest = 'three'`: "the arrival of receipt 3 was added by somebody else",
	} {
		_, err = tampered(t, path, change).Check(ctx)
		assert.ErrorContains(t, err, found, change)
	}
}
