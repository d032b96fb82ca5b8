package records_test

import (
	"database/sql"
	"net/netip"
	"testing"
	"time"

	"jugate/api"
	"jugate/core/fault"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/hwaddr"
	"jugate/core/netboot"
	"jugate/records"
)

func checkedIn(t *testing.T, db *records.DB, name string, addresses ...string) int64 {
	t.Helper()
	var all []hwaddr.Address
	for _, a := range addresses {
		all = append(all, hwaddr.MustParse(a))
	}
	w, err := db.CheckIn(t.Context(), noon, records.Seen{AgentVersion: "1", Own: all, Inventory: api.Inventory{Model: "A310"}})
	require.NoError(t, err)
	if name != "" {
		require.NoError(t, db.Admit(t.Context(), w.ID, name, nil))
	}
	return w.ID
}

func TestLeasesAreKept(t *testing.T) {
	db, _ := open(t)
	ctx := t.Context()
	a := netip.MustParseAddr("192.0.2.100")
	l := netboot.Lease{Address: a, Holder: netboot.Holder{Client: "00ff", Hardware: hwaddr.MustParse("00:00:5e:00:53:11")}, Until: noon}
	require.NoError(t, db.SetLease(ctx, l))
	l.Until = noon.Add(time.Hour)
	require.NoError(t, db.SetLease(ctx, l), "the same address again")
	taken := netboot.Lease{Address: a.Next(), Until: noon}
	require.NoError(t, db.SetLease(ctx, taken))
	all, err := db.Leases(ctx)
	require.NoError(t, err)
	assert.ElementsMatch(t, []netboot.Lease{l, taken}, all)
	assert.Error(t, db.SetLease(ctx, netboot.Lease{Until: noon}), "no address at all kept the service from starting")
}

func TestFixedAddresses(t *testing.T) {
	db, _ := open(t)
	ctx := t.Context()
	one := checkedIn(t, db, "herb-01", "00:00:5e:00:53:11", "00:00:5e:00:53:12")
	two := checkedIn(t, db, "herb-02", "00:00:5e:00:53:13")
	a := netip.MustParseAddr("192.0.2.50")
	require.NoError(t, db.SetFixedAddress(ctx, one, a))
	assert.ErrorIs(t, db.SetFixedAddress(ctx, two, a), fault.Conflict)
	fixed, err := db.FixedAddresses(ctx)
	require.NoError(t, err)
	assert.Len(t, fixed[a], 2, "each of its cards gets it")
	require.NoError(t, db.SetFixedAddress(ctx, one, netip.Addr{}))
	require.NoError(t, db.SetFixedAddress(ctx, two, a))
	assert.ErrorIs(t, db.SetFixedAddress(ctx, 99, a.Next()), fault.NotFound)
}

func TestWhichBuildAWorkstationBoots(t *testing.T) {
	db, _ := open(t)
	ctx := t.Context()
	id := checkedIn(t, db, "herb-01", "00:00:5e:00:53:11")
	require.NoError(t, db.AddGroup(ctx, "herbarium"))
	require.NoError(t, db.Include(ctx, "herbarium", []int64{id}))
	plan := func() records.BootPlan {
		p, err := db.Plan(ctx, noon, id)
		require.NoError(t, err)
		return p
	}
	assert.Zero(t, plan())
	require.NoError(t, db.Offer(ctx, noon, 3, "somebody"))
	require.NoError(t, db.Offer(ctx, noon, 4, "somebody"))
	require.NoError(t, db.Offer(ctx, noon, 3, "somebody")) // back again
	assert.Equal(t, records.BootPlan{Build: 3}, plan())
	require.NoError(t, db.PinGroup(ctx, "herbarium", 2))
	require.NoError(t, db.SetMenu(ctx, "herbarium", 10))
	assert.Equal(t, records.BootPlan{Build: 2, Menu: 10}, plan())
	require.NoError(t, db.PinWorkstation(ctx, id, 1))
	_, err := db.AddCapture(ctx, noon, id, "garden-desk", "", api.CaptureOptions{})
	require.NoError(t, err)
	assert.Equal(t, records.BootPlan{Build: 1, Menu: 10, Errand: 1}, plan())
	require.NoError(t, db.PinWorkstation(ctx, id, 0))
	require.NoError(t, db.PinGroup(ctx, "herbarium", 0))
	assert.Equal(t, 3, plan().Build)
	assert.ErrorIs(t, db.PinGroup(ctx, "nobody", 1), fault.NotFound)
}

func TestTicketsAreForOneBootOfOneMachine(t *testing.T) {
	db, _ := open(t)
	ctx := t.Context()
	herb, other := hwaddr.MustParse("00:00:5e:00:53:11"), hwaddr.MustParse("00:00:5e:00:53:12")
	add := func(now time.Time, digest string) {
		require.NoError(t, db.AddTicket(ctx, now, digest, herb))
	}
	use := func(now time.Time, digest, boot string, a hwaddr.Address) error {
		_, err := db.CheckIn(ctx, now, records.Seen{AgentVersion: "1", Own: []hwaddr.Address{a}, Ticket: &records.Ticket{Digest: digest, Boot: boot}, Inventory: api.Inventory{}})
		return err
	}
	add(noon, "one")
	add(noon, "two")
	assert.ErrorIs(t, use(noon, "one", "b1", other), records.ErrTicket)
	assert.ErrorIs(t, use(noon, "none", "b1", herb), records.ErrTicket)
	require.NoError(t, use(noon, "two", "b1", herb))
	require.NoError(t, use(noon.Add(24*time.Hour), "two", "b1", herb), "as long as it runs")
	assert.ErrorIs(t, use(noon, "two", "b2", herb), records.ErrTicket)
	assert.ErrorIs(t, use(noon, "one", "b2", herb), records.ErrTicket, "the others ended with the first use")

	t.Log("# one that nobody used ends by itself, and a flood pushes out the oldest")
	add(noon, "old")
	assert.ErrorIs(t, use(noon.Add(time.Hour), "old", "b3", herb), records.ErrTicket)
	for i := range 5 {
		add(noon.Add(time.Duration(i)*time.Second), string(rune('a'+i)))
	}
	assert.ErrorIs(t, use(noon, "a", "b4", herb), records.ErrTicket)
	require.NoError(t, use(noon, "e", "b4", herb))

	t.Log("# the key of media is good for any machine and any boot")
	require.NoError(t, db.AddMediaKey(ctx, records.MediaKey{Digest: "stick", Made: noon, Note: "with the engineer"}))
	require.NoError(t, use(noon.Add(1000*time.Hour), "stick", "b5", other))
	require.NoError(t, use(noon, "stick", "b6", herb))
	t.Log("# until it is limited, or withdrawn")
	require.NoError(t, db.AddGroup(ctx, "herbarium"))
	w, err := db.FindWorkstation(ctx, herb.String())
	require.NoError(t, err)
	require.NoError(t, db.Admit(ctx, w.ID, "herb-01", []string{"herbarium"}))
	require.NoError(t, db.LimitMediaKey(ctx, "sti", "herbarium", sql.NullTime{Time: noon.Add(time.Hour), Valid: true}))
	require.NoError(t, use(noon, "stick", "b7", herb))
	assert.ErrorContains(t, use(noon, "stick", "b7", other), "of the group herbarium alone")
	assert.ErrorContains(t, use(noon.Add(2*time.Hour), "stick", "b8", herb), "it ended on")
	keys, err := db.MediaKeys(ctx)
	require.NoError(t, err)
	require.Len(t, keys, 1)
	assert.Equal(t, "herbarium", keys[0].Group)
	assert.Equal(t, noon, keys[0].Used.Time.UTC())
	assert.ErrorIs(t, db.WithdrawMediaKey(ctx, ""), fault.NotFound)
	require.NoError(t, db.WithdrawMediaKey(ctx, "stick"))
	assert.ErrorIs(t, use(noon, "stick", "b9", herb), records.ErrTicket)
	assert.ErrorIs(t, db.WithdrawMediaKey(ctx, "one"), fault.NotFound, "tickets are no keys")

	t.Log("# a ticket is for one boot, so there has to be one")
	add(noon, "new")
	assert.ErrorIs(t, use(noon, "new", "", herb), records.ErrTicket)
}
