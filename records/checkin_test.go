package records_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"jugate/core/errand"

	"jugate/api"
	"jugate/core/fault"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/hwaddr"
	"jugate/records"
)

// machine is what an agent tells of one.
func machine(uuid, serial string, own ...int) records.Seen {
	s := records.Seen{AgentVersion: "1", Inventory: api.Inventory{UUID: uuid, Serial: serial}}
	for _, n := range own {
		s.Own = append(s.Own, addr(n))
	}
	return s
}

func adapter(s records.Seen, n int) records.Seen {
	s.Adapters = append(s.Adapters, addr(n))
	return s
}

const (
	uuid1 = "8d6f1a52-0c1b-4a67-9a44-0000aa310001"
	uuid2 = "8d6f1a52-0c1b-4a67-9a44-0000aa310002"
)

func TestATicketOpensNoOtherWorkstation(t *testing.T) {
	db, _ := open(t)
	ctx := t.Context()
	herb, err := db.CheckIn(ctx, noon, machine(uuid1, "AW-0001", 1))
	require.NoError(t, err)
	require.NoError(t, db.Admit(ctx, herb.ID, "herb-01", nil))
	_, err = db.CheckIn(ctx, noon, machine(uuid2, "AW-0002", 2))
	require.NoError(t, err)
	ticket := func(digest string, a hwaddr.Address) *records.Ticket {
		require.NoError(t, db.AddTicket(ctx, noon, digest, a))
		return &records.Ticket{Digest: digest, Boot: "b1"}
	}
	for name, in := range map[string]records.Seen{
		"its own address and another's":            machine("", "", 2, 1),
		"another's alone":                          machine("", "", 1),
		"its own address and another's identity":   machine(uuid1, "AW-0001", 2),
		"an address of nobody, another's identity": machine(uuid1, "AW-0001", 66),
		"an address of nobody and another's":       machine("", "", 66, 1),
	} {
		own := addr(2)
		if len(in.Own) > 0 && in.Own[0] == addr(66) {
			own = addr(66)
		}
		in.Ticket = ticket(name, own)
		_, err := db.CheckIn(ctx, noon, in)
		assert.Error(t, err, name)
		w, err := db.Workstation(ctx, herb.ID)
		require.NoError(t, err)
		assert.Equal(t, []hwaddr.Address{addr(1)}, w.Addresses(), name)
	}
	t.Log("# with what it was made for, it is good")
	in := machine(uuid1, "AW-0001", 1)
	in.Ticket = ticket("own", addr(1))
	w, err := db.CheckIn(ctx, noon, in)
	require.NoError(t, err)
	assert.Equal(t, herb.ID, w.ID)
}

func TestMachinesAreToldApart(t *testing.T) {
	db, _ := open(t)
	ctx := t.Context()
	one, err := db.CheckIn(ctx, noon, machine(uuid1, "AW-0001", 1))
	require.NoError(t, err)
	t.Log("# another machine with its hardware address is another machine")
	_, err = db.CheckIn(ctx, noon, machine(uuid2, "AW-0002", 1))
	assert.ErrorIs(t, err, records.ErrTwice)
	assert.ErrorContains(t, err, "AW-0001")
	t.Log("# its card was exchanged: it is still itself, and the new card is proposed")
	w, err := db.CheckIn(ctx, noon, machine(uuid1, "AW-0001", 3))
	require.NoError(t, err)
	assert.Equal(t, one.ID, w.ID)
	assert.Equal(t, []hwaddr.Address{addr(3)}, w.Proposed())
	t.Log("# a proposal tells nothing to those who show it")
	_, err = db.FindWorkstation(ctx, addr(3).String())
	assert.ErrorIs(t, err, fault.NotFound)
	other, err := db.CheckIn(ctx, noon, machine(uuid2, "AW-0002", 3))
	require.NoError(t, err)
	assert.NotEqual(t, one.ID, other.ID)
	assert.ErrorIs(t, db.AcceptCard(ctx, one.ID, addr(3)), fault.Conflict)
	require.NoError(t, db.MoveCard(ctx, one.ID, addr(3)))
	found, err := db.FindWorkstation(ctx, addr(3).String())
	require.NoError(t, err)
	assert.Equal(t, one.ID, found.ID)
	t.Log("# its main board was exchanged")
	require.NoError(t, db.Relearn(ctx, one.ID))
	w, err = db.CheckIn(ctx, noon, machine("8d6f1a52-0c1b-4a67-9a44-0000aa310009", "AW-0009", 1))
	require.NoError(t, err)
	assert.Equal(t, one.ID, w.ID)
	t.Log("# cards of a machine that is certain can be accepted by policy")
	in := machine("8d6f1a52-0c1b-4a67-9a44-0000aa310009", "AW-0009", 1, 4)
	in.AcceptCards = true
	w, err = db.CheckIn(ctx, noon, in)
	require.NoError(t, err)
	assert.Contains(t, w.Addresses(), addr(4))
}

func TestAnAdapterOnTwoDesks(t *testing.T) {
	db, _ := open(t)
	ctx := t.Context()
	dock := 9
	one, err := db.CheckIn(ctx, noon, adapter(machine(uuid1, "AW-0001", 1), dock))
	require.NoError(t, err)
	two, err := db.CheckIn(ctx, noon.Add(time.Minute), adapter(machine(uuid2, "AW-0002", 2), dock))
	require.NoError(t, err)
	assert.NotEqual(t, one.ID, two.ID, "the second one is not locked out")
	for id, s := range map[int64]records.Seen{one.ID: adapter(machine(uuid1, "AW-0001"), dock), two.ID: adapter(machine(uuid2, "AW-0002"), dock)} {
		w, err := db.CheckIn(ctx, noon.Add(time.Minute), s)
		require.NoError(t, err)
		assert.Equal(t, id, w.ID, "by the adapter alone, each is known by what its firmware says")
		assert.Contains(t, w.Addresses(), addr(dock))
	}
	t.Log("# by the adapter's address the one is found that has something to do")
	require.NoError(t, db.Admit(ctx, one.ID, "desk-1", nil))
	_, err = db.AddCapture(ctx, noon, one.ID, "garden-desk", "", api.CaptureOptions{})
	require.NoError(t, err)
	found, err := db.FindWorkstation(ctx, addr(dock).String())
	require.NoError(t, err)
	assert.Equal(t, one.ID, found.ID)

	t.Log("# one that looks like a card of its own is marked")
	three, err := db.CheckIn(ctx, noon, machine("", "", 5, 6))
	require.NoError(t, err)
	require.NoError(t, db.ShareCard(ctx, addr(6), true))
	four, err := db.CheckIn(ctx, noon, machine("", "", 7, 6))
	require.NoError(t, err)
	assert.NotEqual(t, three.ID, four.ID)
	w, err := db.CheckIn(ctx, noon, machine("", "", 5, 6))
	require.NoError(t, err)
	assert.Equal(t, three.ID, w.ID)
	t.Log("# what nothing tells apart is not guessed, and not recorded again and again")
	_, err = db.CheckIn(ctx, noon, machine("", "", 6))
	assert.ErrorIs(t, err, fault.Conflict)
	require.NoError(t, db.Admit(ctx, three.ID, "desk-3", nil))
	assert.ErrorContains(t, db.ShareCard(ctx, addr(5), true), "all that desk-3 is known by")
	assert.ErrorContains(t, db.RemoveCard(ctx, addr(5)), "all that desk-3 is known by")
	require.NoError(t, db.RemoveCard(ctx, addr(6)))
	assert.ErrorIs(t, db.RemoveCard(ctx, addr(6)), fault.NotFound)
	cards, total, err := db.Cards(ctx, "accepted", records.Page{})
	require.NoError(t, err)
	assert.Len(t, cards, total)
}

func TestNewcomersGo(t *testing.T) {
	db, _ := open(t)
	ctx := t.Context()
	for n := 1; n <= 10; n++ {
		_, err := db.CheckIn(ctx, noon.Add(time.Duration(n)*time.Hour), machine("", "", n))
		require.NoError(t, err)
	}
	w, err := db.FindWorkstation(ctx, addr(1).String())
	require.NoError(t, err)
	require.NoError(t, db.Admit(ctx, w.ID, "herb-01", nil))
	assert.ErrorIs(t, db.Forget(ctx, w.ID), fault.Conflict, "it is in the roster")
	n, err := db.ForgetNewcomers(ctx, noon.Add(4*time.Hour), 5)
	require.NoError(t, err)
	assert.EqualValues(t, 4, n, "two are old, and of seven five stay")
	_, err = db.FindWorkstation(ctx, addr(5).String())
	assert.ErrorIs(t, err, fault.NotFound)
	w, err = db.FindWorkstation(ctx, addr(10).String())
	require.NoError(t, err)
	require.NoError(t, db.Forget(ctx, w.ID))

	t.Log("# refused, it does not come again")
	require.NoError(t, db.Refuse(ctx, records.Refusal{At: noon, By: "somebody", Note: "a visitor's"}, []string{addr(9).String(), uuid2}))
	for _, s := range []records.Seen{machine("", "", 9), machine(uuid2, "AW-2", 77), adapter(machine("", "", 78), 9)} {
		_, err = db.CheckIn(ctx, noon, s)
		assert.ErrorIs(t, err, records.ErrRefused)
	}
	is, err := db.Refused(ctx, addr(9))
	require.NoError(t, err)
	assert.True(t, is)
	all, total, err := db.Refusals(ctx, records.Page{})
	require.NoError(t, err)
	assert.Equal(t, 2, total)
	assert.Equal(t, "a visitor's", all[0].Note)
	require.NoError(t, db.EndRefusal(ctx, addr(9).String()))
	_, err = db.CheckIn(ctx, noon, machine("", "", 9))
	assert.NoError(t, err)
}

func TestErrandsForLaterHoldNobodyUp(t *testing.T) {
	db, _ := open(t)
	ctx := t.Context()
	id := checkedIn(t, db, "herb-01", addr(1).String())
	tonight := noon.Add(8 * time.Hour)
	_, err := db.AddDelivery(ctx, records.Delivery{Image: "garden-desk", Rule: "at", Created: noon, NotBefore: tonight}, []string{"herb-01"}, []int64{id})
	require.NoError(t, err)
	_, err = db.AddCapture(ctx, noon, id, "garden-desk", "", api.CaptureOptions{})
	require.NoError(t, err)
	now, err := db.StartErrand(ctx, noon, id)
	require.NoError(t, err)
	require.NotNil(t, now)
	assert.EqualValues(t, "capture", now.Kind, "what was ordered for tonight waits until then")
	require.NoError(t, db.EndErrand(ctx, noon, now.ID, errand.Done, ""))
	now, err = db.StartErrand(ctx, noon, id)
	require.NoError(t, err)
	assert.Nil(t, now)
	plan, err := db.Plan(ctx, noon, id)
	require.NoError(t, err)
	assert.Zero(t, plan.Errand, "and it may start from its disk")
	queue, total, err := db.Errands(ctx, records.ErrandFilter{WorkstationID: id, Open: true}, records.Page{})
	require.NoError(t, err)
	require.Equal(t, 1, total)
	assert.Equal(t, tonight, queue[0].NotBefore.Time.UTC())
	now, err = db.StartErrand(ctx, tonight, id)
	require.NoError(t, err)
	assert.NotNil(t, now)
}

func TestRateAndPauseDoNotOverwriteEachOther(t *testing.T) {
	db, _ := open(t)
	ctx := t.Context()
	id, err := db.AddDelivery(ctx, records.Delivery{Image: "garden-desk", Rate: 1000, Created: noon}, nil, nil)
	require.NoError(t, err)
	require.NoError(t, db.SetPaused(ctx, id, true))
	require.NoError(t, db.SetRate(ctx, id, 2000))
	d, err := db.Delivery(ctx, id)
	require.NoError(t, err)
	assert.True(t, d.Paused)
	assert.EqualValues(t, 2000, d.Rate)
}

func TestNothingThatTheRecordsHoldStopsAStart(t *testing.T) {
	db, path := open(t)
	ctx := t.Context()
	id := checkedIn(t, db, "herb-01", addr(1).String())
	require.NoError(t, db.AddTicket(ctx, noon, "one", addr(1)))
	require.NoError(t, db.Close())
	raw, err := sqlx.Open("sqlite", path)
	require.NoError(t, err)
	for _, change := range []string{
		`INSERT INTO leases (address, hardware, until) VALUES ('invalid IP', '', '2026-03-01 12:00:00+00:00'), ('192.0.2.7', 'no card', '2026-03-01 12:00:00+00:00')`,
		`INSERT INTO addresses (address, workstation_id) VALUES ('zz', 1)`,
		`UPDATE workstations SET fixed_address = 'somewhere'`,
		`UPDATE tickets SET address = 'nobody'`,
	} {
		_, err := raw.Exec(change)
		require.NoError(t, err)
	}
	require.NoError(t, raw.Close())

	again, err := records.Open(ctx, time.Now(), path)
	require.NoError(t, err)
	t.Cleanup(func() { again.Close() })
	assert.Len(t, again.Notices, 5, "%v", again.Notices)
	leases, err := again.Leases(ctx)
	require.NoError(t, err)
	assert.Empty(t, leases)
	w, err := again.Workstation(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, []hwaddr.Address{addr(1)}, w.Addresses())
	_, err = again.FixedAddresses(ctx)
	assert.NoError(t, err)
	require.NoError(t, again.Close())
	last, err := records.Open(ctx, time.Now(), path)
	require.NoError(t, err)
	assert.Empty(t, last.Notices, "once is enough")
	require.NoError(t, last.Close())
}

func TestDamagedPagesAreFoundAtTheStart(t *testing.T) {
	db, path := open(t)
	for n := 1; n <= 200; n++ {
		_, err := db.CheckIn(t.Context(), noon, machine("", "", n%250))
		require.NoError(t, err)
	}
	require.NoError(t, db.Close())
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	for i := 12 * 4096; i < 24*4096 && i < len(b); i++ {
		b[i] ^= 0x5a
	}
	require.NoError(t, os.WriteFile(path, b, 0o600))
	_, err = records.Open(t.Context(), time.Now(), path)
	assert.ErrorIs(t, err, records.ErrDamaged)
	assert.ErrorContains(t, err, "image rescan")
}

func TestTheRecordsAreNobodyElses(t *testing.T) {
	path := filepath.Join(t.TempDir(), "jugate.db")
	require.NoError(t, os.WriteFile(path, nil, 0o644))
	db, err := records.Open(t.Context(), time.Now(), path)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	key := []byte("a key of thirty-two bytes: 123456")
	id, err := db.AddDelivery(t.Context(), records.Delivery{Image: "garden-desk", Created: noon, Sealed: true, SealKey: key}, nil, nil)
	require.NoError(t, err)
	d, err := db.Delivery(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, key, d.SealKey)
	require.NoError(t, db.SetDelivery(t.Context(), noon, id, "finished", "", 0))
	for _, name := range []string{path, path + "-wal", path + "-shm"} {
		info, err := os.Stat(name)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), name)
		b, err := os.ReadFile(name)
		require.NoError(t, err)
		assert.NotContains(t, string(b), string(key), "the key of a sealed delivery is gone with it")
	}
}
