package fleet

import (
	"context"
	"log/slog"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/rights"
	"jugate/core/roster"
	"jugate/records/recordstest"
)

// quiet is network boot, a library and errands of which nothing comes.
type quiet struct{}

func (quiet) Called(hwaddr.Address, string)                       {}
func (quiet) Refix(context.Context) error                         { return nil }
func (quiet) MayFix(netip.Addr) error                             { return nil }
func (quiet) Wake([]hwaddr.Address) ([]string, error)             { return nil, nil }
func (quiet) Touched(int64)                                       {}
func (quiet) Start(context.Context, int64) (*api.ToErrand, error) { return nil, nil }

// no is a setting that is off.
func no() bool { return false }

func TestWhoIsAdmittedWhileItChecksInIsAdmitted(t *testing.T) {
	db := recordstest.Open(t, time.Now())
	f := &Fleet{AcceptCards: no, Tickets: no, Records: db, Boot: quiet{}, Stock: quiet{}, Errands: quiet{}, Log: slog.New(slog.DiscardHandler), Publish: func(any) {}}
	admitted := false
	f.Now = func() time.Time { // the moment at which the records have it, and nobody else does yet
		if _, err := db.FindWorkstation(t.Context(), "00:00:5e:00:53:01"); err == nil && !admitted {
			admitted = true
			_, err := f.Admit(t.Context(), "00:00:5e:00:53:01", api.Admission{Name: "seed-01"})
			assert.NoError(t, err)
		}
		return time.Now()
	}
	in, err := f.CheckIn(t.Context(), Caller{At: netip.MustParseAddr("192.0.2.7")}, api.CheckIn{Addresses: []string{"00:00:5e:00:53:01"}})
	require.NoError(t, err)
	require.True(t, admitted)
	id, err := f.Enter(Caller{}, in.Pass)
	require.NoError(t, err)
	p, _ := f.agents.presence(id)
	assert.Equal(t, roster.Admitted, p.state, "and not a newcomer for ever")
	assert.NoError(t, f.MustBeAdmitted(id))
	assert.Equal(t, "seed-01", in.Name)

	t.Log("# a browser that goes away at once does not take the news with it")
	ctx, leave := context.WithCancel(t.Context())
	_, _ = f.change(ctx, "seed-01", func(id int64) error {
		defer leave()
		return db.Retire(ctx, id)
	})
	p, _ = f.agents.presence(id)
	assert.Equal(t, roster.Retired, p.state)
}

func TestAForgottenNewcomerHasToCheckInAgain(t *testing.T) {
	db := recordstest.Open(t, time.Now())
	now := time.Now()
	f := &Fleet{AcceptCards: no, Tickets: no, Records: db, Boot: quiet{}, Stock: quiet{}, Errands: quiet{}, Log: slog.New(slog.DiscardHandler), Publish: func(any) {}, Now: func() time.Time { return now }}
	checkIn := func(address string) string {
		in, err := f.CheckIn(t.Context(), Caller{At: netip.MustParseAddr("192.0.2.7")}, api.CheckIn{Addresses: []string{address}})
		require.NoError(t, err)
		return in.Pass
	}
	early := checkIn("00:00:5e:00:53:01")
	now = now.AddDate(0, 0, newcomerDays+1)
	late := checkIn("00:00:5e:00:53:02")
	f.ForgetNewcomers(t.Context())
	_, err := f.Enter(Caller{}, early)
	assert.Equal(t, fault.Stranger, fault.KindOf(err), "or it would wait for ever as one that nobody sees")
	_, err = f.Enter(Caller{}, late)
	assert.NoError(t, err)

	t.Log("# so has one whose card turns out to be another workstation's")
	_, err = f.Admit(t.Context(), "00:00:5e:00:53:03", api.Admission{Name: "seed-03"})
	require.NoError(t, err)
	_, err = f.MoveCard(t.Context(), "00:00:5e:00:53:02", "seed-03")
	require.NoError(t, err)
	_, err = f.Enter(Caller{}, late)
	assert.Equal(t, fault.Stranger, fault.KindOf(err))
	again, err := f.CheckIn(t.Context(), Caller{At: netip.MustParseAddr("192.0.2.7")}, api.CheckIn{Addresses: []string{"00:00:5e:00:53:02"}})
	require.NoError(t, err)
	assert.Equal(t, "seed-03", again.Name)
}

func TestAPassIsGoodUntilTheNextCheckIn(t *testing.T) {
	var a agents
	now := time.Now()
	from := netip.MustParseAddr("192.0.2.7")
	first := a.admit(7, now, "b1", Caller{At: from}, 0)
	id, ok := a.enter(first, "", now)
	assert.True(t, ok)
	assert.EqualValues(t, 7, id)
	a.does(7, api.Activity{Text: "capturing"})
	require.NoError(t, a.mayEnter(7, now, "b1"))
	second := a.admit(7, now, "b1", Caller{At: from}, 0)
	_, ok = a.enter(first, "", now)
	assert.False(t, ok)
	_, ok = a.enter(second, "", now)
	assert.True(t, ok)
	_, ok = a.enter("", "", now)
	assert.False(t, ok)
	p, _ := a.presence(7)
	assert.Empty(t, p.activity.Text, "a fresh agent does nothing yet")
	a.ring(7)
	a.ring(7) // never blocks
	<-p.bell
	a.ring(99)
}

func TestTwoMachinesDoNotTakeTurns(t *testing.T) {
	var a agents
	now := time.Now()
	from := netip.MustParseAddr("192.0.2.7")
	a.admit(7, now, "one", Caller{At: from}, 0)
	require.NoError(t, a.mayEnter(7, now, "two"), "it was started again, as far as anybody can tell")
	a.admit(7, now, "two", Caller{At: from}, 0)
	assert.ErrorIs(t, a.mayEnter(7, now.Add(time.Second), "one"), errTwice, "no machine goes back to an earlier boot")
	require.NoError(t, a.mayEnter(7, now.Add(2*onlineFor), "one"), "the other one has gone")

	t.Log("# who is at work keeps its pass")
	a.at(7, 3)
	assert.ErrorIs(t, a.mayEnter(7, now.Add(time.Second), "three"), errTwice)
	assert.NoError(t, a.mayEnter(7, now.Add(time.Second), "two"), "itself, after a restart of the service")
	assert.NoError(t, a.mayEnter(7, now.Add(atWorkFor), "three"), "until it has been silent for a while")
}

func TestNewcomersAreBounded(t *testing.T) {
	var n newcomers
	now := time.Now()
	allowed := 0
	for i := range 20_000 {
		if n.allow(netip.AddrFrom4([4]byte{192, 0, 2, byte(i)}), now) == nil {
			allowed++
		}
	}
	assert.Equal(t, newcomersPerHour, allowed)
	assert.NoError(t, n.allow(netip.MustParseAddr("198.51.100.1"), now), "another network has its own")
}

// Whoever has signed in at a workstation and orders nothing may have walked away.
func TestSigningInAtAWorkstationEndsByItself(t *testing.T) {
	now := time.Now()
	f := &Fleet{Now: func() time.Time { return now }}
	f.agents.admit(7, now, "boot", Caller{}, 0)
	ines := actor.Actor{Kind: actor.Person, Name: "ines"}
	holder := rights.Of(nil)
	in := func() bool {
		by, _, h, err := f.SignedInAt(t.Context(), 7)
		require.NoError(t, err)
		assert.Equal(t, by == ines, h == holder)
		return by == ines
	}
	assert.False(t, in())
	f.SignIn(7, SignedIn{By: ines, Holder: func(context.Context) (*rights.Holder, error) { return holder, nil }})
	assert.True(t, in())
	now = now.Add(signedInFor - time.Second)
	assert.True(t, in())
	now = now.Add(time.Second)
	assert.False(t, in())

	t.Log("# with the errand, and with the next boot")
	f.SignIn(7, SignedIn{By: ines, Holder: func(context.Context) (*rights.Holder, error) { return holder, nil }})
	f.At(7, 3)
	assert.True(t, in())
	f.At(7, 0)
	assert.False(t, in())
	f.SignIn(7, SignedIn{By: ines, Holder: func(context.Context) (*rights.Holder, error) { return holder, nil }})
	f.agents.admit(7, now, "another boot", Caller{}, 0)
	assert.False(t, in())
}
