package records_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/delivery"
	"jugate/core/roster"
	"jugate/core/wipe"
	"jugate/records"
)

// What groups say follows versions as they come and are retired, and receipts as they are written; the groups count the same.
func TestWhoIsBehind(t *testing.T) {
	db, _ := open(t)
	ctx := t.Context()
	gold := newcomer(t, db, 9)
	require.NoError(t, db.Admit(ctx, gold.ID, "desk-gold", nil))
	captured := func(image string) {
		t.Helper()
		e, err := db.AddCapture(ctx, noon, gold.ID, image, "", api.CaptureOptions{})
		require.NoError(t, err)
		_, err = db.StartErrand(ctx, noon, gold.ID)
		require.NoError(t, err)
		n, err := db.NextVersion(ctx, image)
		require.NoError(t, err)
		require.NoError(t, db.AddVersion(ctx, noon, e.ID, records.Version{Image: image, Number: n, Digest: "d", Captured: noon}))
	}
	require.NoError(t, db.AddGroup(ctx, "herbarium"))
	require.NoError(t, db.AddGroup(ctx, "kiosks"))
	w := newcomer(t, db, 1)
	require.NoError(t, db.Admit(ctx, w.ID, "herb-01", []string{"herbarium", "kiosks"}))
	is := func(why string, wanted []roster.Ref, behind bool, herbarium int) {
		t.Helper()
		now, err := db.Workstation(ctx, w.ID)
		require.NoError(t, err)
		assert.Equal(t, wanted, now.Wanted(), why)
		assert.Equal(t, behind, now.Behind(), why)
		assert.Equal(t, []string{"herbarium", "kiosks"}, now.Groups(), why)
		g, err := db.Group(ctx, "herbarium")
		require.NoError(t, err)
		assert.Equal(t, herbarium, g.Behind, why)
	}
	received := func(image string, version int, outcome delivery.Outcome, bytes int64) {
		t.Helper()
		d, err := db.AddDelivery(ctx, records.Delivery{Image: image, Version: version, State: delivery.Gathering, Created: noon, Rule: "all", Channel: "233.252.0.1:6003"}, []string{"herb-01"}, []int64{w.ID})
		require.NoError(t, err)
		_, err = db.AddReceipt(ctx, records.Receipt{DeliveryID: d, WorkstationID: w.ID, Workstation: "herb-01", Image: image, Version: version, Ended: noon, Outcome: outcome, Verified: outcome == delivery.Delivered, BytesUnicast: bytes})
		require.NoError(t, err)
	}
	desk := func(n int) roster.Ref { return roster.Ref{Image: "garden-desk", Version: n} }
	is("nothing is said", nil, false, 0)
	require.NoError(t, db.SetGroupImage(ctx, "herbarium", roster.Ref{Image: "garden-desk"}))
	is("there is no version yet", nil, false, 0)
	captured("garden-desk")
	is("it has nothing", []roster.Ref{desk(1)}, true, 1)
	received("garden-desk", 1, delivery.Failed, 7)
	is("its copy is unfinished", []roster.Ref{desk(1)}, true, 1)
	received("garden-desk", 1, delivery.Delivered, 7)
	is("it has that", []roster.Ref{desk(1)}, false, 0)
	captured("garden-desk")
	is("there is a newer one", []roster.Ref{desk(2)}, true, 1)
	require.NoError(t, db.RetireVersion(ctx, noon, desk(2)))
	is("which is retired", []roster.Ref{desk(1)}, false, 0)
	require.NoError(t, db.SetGroupImage(ctx, "kiosks", desk(1)))
	is("its groups agree", []roster.Ref{desk(1)}, false, 0)
	require.NoError(t, db.SetGroupImage(ctx, "kiosks", desk(2)))
	is("its groups do not", []roster.Ref{desk(1), desk(2)}, true, 0)
	require.NoError(t, db.SetGroupImage(ctx, "kiosks", roster.Ref{}))
	wiped := records.Receipt{WorkstationID: w.ID, Workstation: "herb-01", Ended: noon, Outcome: delivery.Failed, Reason: "refused"}
	wiped.SetWipe(wipe.Report{Method: wipe.Purge, Verify: "nothing"})
	_, err := db.AddReceipt(ctx, wiped)
	require.NoError(t, err)
	is("a wipe that did not begin", []roster.Ref{desk(1)}, false, 0)
	wiped.SetWipe(wipe.Report{Method: wipe.Clear, Began: true, Verify: "nothing"})
	_, err = db.AddReceipt(ctx, wiped)
	require.NoError(t, err)
	is("one that did", []roster.Ref{desk(1)}, true, 1)
}
