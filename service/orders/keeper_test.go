package orders

import (
	"context"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/errand"
	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/order"
	"jugate/core/rights"
	"jugate/records"
	"jugate/records/recordstest"
	"jugate/stream"
)

// stillFleet is a fleet in which nobody is on.
type stillFleet struct{ Fleet }

func (stillFleet) Ring(int64)                                     {}
func (stillFleet) Activity(int64) (api.Activity, bool)            { return api.Activity{}, false }
func (stillFleet) Answered(context.Context, string) (bool, error) { return false, nil }
func (stillFleet) SwitchOn(context.Context, api.WakeUp) (woken api.Woken, err error) {
	return woken, nil
}

type versions struct{ Versions }

func (versions) GiveUp(int64) {}

// people are who may do what, by number.
type people map[int64]*rights.Holder

func (people) MayReceive(context.Context, string, []records.Workstation) error { return nil }

func (p people) HolderOf(_ context.Context, person int64) (*rights.Holder, error) {
	if h := p[person]; h != nil {
		return h, nil
	}
	return nil, fault.Forbidden.Errorf("they may not sign in")
}

// office is orders with records and a clock of their own, and one workstation.
type office struct {
	*Orders
	t   *testing.T
	now time.Time
}

func newOffice(t *testing.T, now string) *office {
	t.Helper()
	begin, err := time.Parse(time.RFC3339, now)
	require.NoError(t, err)
	db := recordstest.Open(t, begin)
	w, err := db.CheckIn(t.Context(), begin, records.Seen{AgentVersion: "1", Own: []hwaddr.Address{hwaddr.MustParse("00:00:5e:00:53:01")}, Inventory: api.Inventory{Model: "A310"}})
	require.NoError(t, err)
	require.NoError(t, db.Admit(t.Context(), w.ID, "desk-gold", nil))
	o := &office{t: t, now: begin}
	o.Orders = &Orders{Records: db, Fleet: stillFleet{}, Versions: versions{}, Access: people{}, Log: slog.New(slog.NewTextHandler(t.Output(), nil)), Now: func() time.Time { return o.now }, Publish: func(any) {}}
	return o
}

func (o *office) save(in api.Order) api.OrderSaved {
	o.t.Helper()
	saved, err := o.SaveOrder(actor.With(o.t.Context(), actor.Actor{Kind: actor.Person, Name: "ines"}), 0, in, false)
	require.NoError(o.t, err)
	return saved
}

// until has time pass, from one instant at which the keeper has something to do to the next.
func (o *office) until(text string) {
	o.t.Helper()
	end, err := time.Parse(time.RFC3339, text)
	require.NoError(o.t, err)
	for o.now.Before(end) {
		require.NoError(o.t, o.beginDue(o.t.Context()))
		o.goOn()
		next, is, err := o.Records.NextDue(o.t.Context())
		require.NoError(o.t, err)
		if !is || !next.Before(end) {
			next = end
		}
		o.now = next.In(end.Location())
	}
}

func (o *office) goOn() {
	o.t.Helper()
	open, _, err := o.Records.Runs(o.t.Context(), records.RunFilter{Open: true}, records.Page{})
	require.NoError(o.t, err)
	for _, r := range open {
		require.NoError(o.t, o.advance(o.t.Context(), r.ID))
	}
}

// errands ends those that are open.
func (o *office) errands(as errand.State, reason string) {
	o.t.Helper()
	all, _, err := o.Records.Errands(o.t.Context(), records.ErrandFilter{Open: true}, records.Page{})
	require.NoError(o.t, err)
	for _, e := range all {
		require.NoError(o.t, o.Records.EndErrand(o.t.Context(), o.now, e.ID, as, reason))
	}
	o.goOn()
}

// history is how runs were, the newest first.
func (o *office) history() (all []string) {
	o.t.Helper()
	rows, _, err := o.Runs(o.t.Context(), records.RunFilter{}, records.Page{})
	require.NoError(o.t, err)
	for _, r := range rows {
		all = append(all, r.Began.Format("01-02 15:04 ")+string(r.State))
	}
	return all
}

func golden(name, when, missed string) api.Order {
	in := api.Order{Name: name, Capture: &api.NewCapture{Workstation: "desk-gold", Image: "garden-desk"}}
	if when != "" {
		in.Schedule = &api.OrderSchedule{When: when, Zone: "Europe/Vienna", Missed: missed}
	}
	return in
}

func TestAnOrderRunsByItselfAtItsTime(t *testing.T) {
	o := newOffice(t, "2026-11-26T12:00:00+01:00") // a Thursday
	saved := o.save(golden("golden-month", "weekdays 18:30", ""))
	assert.True(t, saved.Added)
	assert.Equal(t, []order.Work{order.Capture}, saved.Order.Work)
	assert.Equal(t, "2026-11-26T17:30:00Z", saved.Order.Next.UTC().Format(time.RFC3339))
	o.until("2026-11-26T18:30:00+01:00")
	assert.Empty(t, o.history())
	o.until("2026-11-26T18:32:00+01:00")
	assert.Equal(t, []string{"11-26 17:30 running"}, o.history())
	run, err := o.Run(t.Context(), 1)
	require.NoError(t, err)
	assert.Equal(t, "the schedule of golden-month, saved by ines", run.OrderedBy)
	require.Len(t, run.Parts, 1)
	assert.Len(t, run.Parts[0].Errands, 1)

	lines, _, err := o.Records.Lines(t.Context(), records.LineFilter{}, records.Page{Limit: 1})
	require.NoError(t, err)
	assert.Equal(t, []string{"the schedule of golden-month, saved by ines", "schedule", "run-order", "order golden-month"}, []string{lines[0].Who, lines[0].Through, lines[0].Operation, lines[0].Subject})

	t.Log("# it is still under way the next day, which that day's history says")
	o.until("2026-11-27T19:00:00+01:00")
	assert.Equal(t, []string{"11-27 17:30 missed", "11-26 17:30 running"}, o.history())
	o.errands(errand.Done, "")
	assert.Equal(t, []string{"11-27 17:30 missed", "11-26 17:30 done"}, o.history())

	t.Log("# a weekend later it fails")
	o.until("2026-11-30T18:31:00+01:00")
	o.errands(errand.Failed, "the disk cannot be read")
	rows, _, err := o.Runs(t.Context(), records.RunFilter{Order: "golden-month"}, records.Page{Limit: 1})
	require.NoError(t, err)
	assert.Equal(t, order.Failed, rows[0].State)
	assert.Equal(t, "capture: desk-gold: the disk cannot be read", rows[0].Reason)
}

// What becomes of a run whose time came while the service was down is a setting. Of many that were missed, the last counts.
func TestARunThatWasMissed(t *testing.T) {
	for missed, want := range map[string][]string{"": {"11-27 05:00 missed"}, "skip": {"11-27 05:00 missed"}, "run": {"12-01 11:00 running"}} {
		o := newOffice(t, "2026-11-26T12:00:00+01:00")
		o.save(golden("golden-day", "daily 06:00", missed))
		o.now = o.now.AddDate(0, 0, 5) // and nobody looked
		require.NoError(t, o.beginDue(t.Context()))
		assert.Equal(t, want, o.history(), missed)
		next, err := o.NextRuns(t.Context(), "", 2)
		require.NoError(t, err)
		assert.Equal(t, "2026-12-02T06:00:00+01:00", next[0].At.Format(time.RFC3339))
		kept, err := o.Order(t.Context(), "golden-day")
		require.NoError(t, err)
		assert.True(t, kept.Next.Equal(next[0].At))
	}
	t.Log("# a clock that jumps back has nothing run twice")
	o := newOffice(t, "2026-11-26T05:59:00+01:00")
	o.save(golden("golden-day", "daily 06:00", ""))
	o.until("2026-11-26T06:02:00+01:00")
	o.errands(errand.Done, "")
	o.now = o.now.Add(-time.Hour)
	o.until("2026-11-26T07:00:00+01:00")
	assert.Equal(t, []string{"11-26 05:00 done"}, o.history())
}

// A service that is killed between beginning a part and noting that finds what it has begun.
func TestAPartBeginsOnceHoweverOftenTheServiceIsKilled(t *testing.T) {
	o := newOffice(t, "2026-11-26T12:00:00Z")
	o.save(golden("golden", "", ""))
	run, err := o.RunOrder(t.Context(), 0, "golden")
	require.NoError(t, err)
	for range 3 { // what was noted of it is lost
		require.NoError(t, o.Records.SetRunPart(t.Context(), records.RunPart{Run: run.ID, State: order.Waiting}))
		o.goOn()
	}
	run, err = o.Run(t.Context(), run.ID)
	require.NoError(t, err)
	assert.Len(t, run.Parts[0].Errands, 1)
	assert.Equal(t, order.Running, run.Parts[0].State)

	t.Log("# and one that is stopped takes along what it has begun")
	stopped, err := o.StopRun(actor.With(t.Context(), actor.Administrator), run.ID)
	require.NoError(t, err)
	assert.Equal(t, order.Stopped, stopped.State)
	assert.Equal(t, "stopped by the administrator", stopped.Parts[0].Reason)
	e, err := o.Records.Errand(t.Context(), run.Parts[0].Errands[0])
	require.NoError(t, err)
	assert.Equal(t, errand.Stopped, e.State)
	_, err = o.StopRun(t.Context(), run.ID)
	assert.ErrorIs(t, err, fault.Conflict)
}

func TestOrdersThatMakeNoSense(t *testing.T) {
	o := newOffice(t, "2026-11-26T12:00:00Z")
	at := o.now
	for why, in := range map[string]api.Order{
		"has nothing to do":       {Name: "idle"},
		"name of an order":        golden("a b", "", ""),
		"is not a schedule":       golden("golden", "now and then", ""),
		"never comes":             golden("golden", "once 2026-01-01 06:00", ""),
		"is not a time zone":      {Name: "golden", Capture: golden("", "", "").Capture, Schedule: &api.OrderSchedule{When: "daily 06:00", Zone: "Garden"}},
		"there is no workstation": {Name: "golden", Capture: &api.NewCapture{Workstation: "desk-lead", Image: "garden-desk"}},
		"say wait_minutes":        {Name: "golden", Deliver: &api.PreparedDelivery{NewDelivery: api.NewDelivery{Image: "garden-desk", AtLatest: &at}}},
	} {
		_, err := o.SaveOrder(t.Context(), 0, in, false)
		assert.ErrorContains(t, err, why)
	}
	_, total, err := o.Prepared(t.Context(), records.Page{Limit: 10})
	require.NoError(t, err)
	assert.Zero(t, total)

	t.Log("# trying one keeps nothing, and says what would change")
	tried, err := o.SaveOrder(t.Context(), 0, golden("golden", "daily 06:00", ""), true)
	require.NoError(t, err)
	assert.True(t, tried.Added)
	_, err = o.Order(t.Context(), "golden")
	assert.ErrorIs(t, err, fault.NotFound)
	o.save(golden("golden", "daily 06:00", ""))
	tried, err = o.SaveOrder(t.Context(), 0, golden("golden", "daily 07:00", ""), true)
	require.NoError(t, err)
	assert.False(t, tried.Added)
	assert.Equal(t, []api.OrderDiff{{Field: "schedule", Before: `{"when":"daily 06:00","zone":"Europe/Vienna"}`, After: `{"when":"daily 07:00","zone":"Europe/Vienna"}`}}, tried.Changes)
}

func TestAnOrderTakesTheRightsOfWhatItDoes(t *testing.T) {
	o := newOffice(t, "2026-11-26T12:00:00Z")
	grant := func(name string, r ...rights.Right) *rights.Holder {
		return rights.Of([]rights.Grant{{Role: rights.Role{Name: name, Rights: r}, On: rights.Scope{Kind: rights.Everything}}})
	}
	keeper, helper := grant("keeper", rights.Order, rights.Capture), grant("helper", rights.Order, rights.See)
	o.Access = people{1: keeper}
	as := func(h *rights.Holder) context.Context { return rights.With(t.Context(), h) }
	_, err := o.SaveOrder(as(helper), 2, golden("golden", "", ""), false)
	assert.ErrorIs(t, err, fault.Forbidden)
	_, err = o.SaveOrder(as(keeper), 1, golden("golden", "", ""), false)
	require.NoError(t, err)
	_, err = o.RunOrder(as(helper), 2, "golden")
	assert.ErrorIs(t, err, fault.Forbidden)

	t.Log("# unless it was released for a role, and then as it stands")
	in := golden("golden", "", "")
	in.Released = []string{"Helper"}
	_, err = o.SaveOrder(as(keeper), 1, in, false)
	require.NoError(t, err)
	run, err := o.RunOrder(as(helper), 2, "golden")
	require.NoError(t, err)
	assert.Equal(t, order.Running, run.State)
	o.errands(errand.Done, "")
	in.Capture.Image = "other-desk"
	_, err = o.SaveOrder(as(helper), 2, in, false)
	assert.ErrorIs(t, err, fault.Forbidden, "they cannot change it")
	assert.ErrorIs(t, o.RemoveOrder(as(helper), "golden"), fault.Forbidden)

	t.Log("# whoever saved it loses the right, and the order with them")
	o.Access = people{1: helper}
	run, err = o.RunOrder(as(helper), 2, "golden")
	require.NoError(t, err)
	assert.Equal(t, order.Failed, run.State)
	assert.Contains(t, run.Reason, "this takes the right to capture")
	o.Access = people{}
	run, err = o.RunOrder(as(helper), 2, "golden")
	require.NoError(t, err)
	assert.Contains(t, run.Reason, "they may not sign in")

	t.Log("# who may do nothing of it sees nothing of it")
	_, err = o.Order(as(grant("reader", rights.Order)), "golden")
	assert.ErrorIs(t, err, fault.Forbidden)
	_, total, err := o.Prepared(as(grant("reader", rights.Order)), records.Page{Limit: 10})
	require.NoError(t, err)
	assert.Zero(t, total)
}

// Quiet times are for orders that run by themselves; the history says which run was left out.
func TestNothingRunsByItselfInAQuietTime(t *testing.T) {
	o := newOffice(t, "2027-01-15T00:00:00Z")
	o.save(api.Order{Name: "golden", Capture: &api.NewCapture{Workstation: "desk-gold", Image: "garden-desk"}, Schedule: &api.OrderSchedule{When: "daily 06:00"}})
	at := func(text string) time.Time {
		at, err := time.Parse(time.RFC3339, text)
		require.NoError(t, err)
		return at
	}
	_, err := o.PutQuietTime(t.Context(), api.QuietTime{Name: "over", Begin: at("2027-01-10T00:00:00Z"), Until: at("2027-01-11T00:00:00Z")})
	assert.ErrorContains(t, err, "is over already")
	_, err = o.PutQuietTime(t.Context(), api.QuietTime{Name: "turned", Begin: at("2027-01-20T00:00:00Z"), Until: at("2027-01-19T00:00:00Z")})
	assert.ErrorContains(t, err, "ends before it begins")
	_, err = o.PutQuietTime(t.Context(), api.QuietTime{Name: "exam-week", Begin: at("2027-01-16T00:00:00Z"), Until: at("2027-01-17T06:00:00Z")})
	require.NoError(t, err)
	next, err := o.NextRuns(t.Context(), "golden", 3)
	require.NoError(t, err)
	assert.Equal(t, []string{"", "it is the quiet time exam-week, until 2027-01-17 06:00 UTC", ""}, []string{next[0].Problem, next[1].Problem, next[2].Problem})
	o.until("2027-01-15T12:00:00Z")
	o.errands(errand.Done, "")
	o.until("2027-01-16T12:00:00Z")
	o.until("2027-01-17T12:00:00Z") // it ends at the very time of the run
	rows, _, err := o.Runs(t.Context(), records.RunFilter{}, records.Page{})
	require.NoError(t, err)
	var states []order.State
	for _, r := range rows {
		states = append(states, r.State)
	}
	assert.Equal(t, []order.State{order.Running, order.Missed, order.Done}, states)
	assert.Equal(t, "it is the quiet time exam-week, until 2027-01-17 06:00 UTC", rows[1].Reason)
	require.NoError(t, o.RemoveQuietTime(t.Context(), "exam-week"))
	_, n, err := o.QuietTimes(t.Context(), records.Page{})
	require.NoError(t, err)
	assert.Zero(t, n)
}

// What failed is tried again as often as the order says, and once more by whoever asks for that; each time is a run of its own.
func TestAFailedRunGoesOn(t *testing.T) {
	o := newOffice(t, "2027-01-15T00:00:00Z")
	in := api.Order{Name: "golden", Capture: &api.NewCapture{Workstation: "desk-gold", Image: "garden-desk"}, Tries: 2}
	o.save(in)
	ctx := actor.With(t.Context(), actor.Actor{Kind: actor.Person, Name: "ines"})
	run, err := o.RunOrder(ctx, 0, "golden")
	require.NoError(t, err)
	_, err = o.GoOn(ctx, 0, run.ID)
	assert.ErrorContains(t, err, "run 1 is running; one that failed or was stopped can go on")
	o.errands(errand.Failed, "the disk is away") // goes on at once
	o.goOn()
	o.errands(errand.Failed, "the disk is still away")
	o.goOn()
	second, err := o.Run(ctx, 2)
	require.NoError(t, err)
	assert.Equal(t, order.Failed, second.State)
	assert.Equal(t, []any{int64(1), 2, []string{"desk-gold"}}, []any{second.Continues, second.Attempt, second.Only})
	_, total, err := o.Runs(ctx, records.RunFilter{}, records.Page{})
	require.NoError(t, err)
	assert.Equal(t, 2, total, "twice is what the order says")

	_, err = o.GoOn(ctx, 0, 1)
	assert.ErrorContains(t, err, "run 2 goes on for run 1 already")
	third, err := o.GoOn(ctx, 0, 2)
	require.NoError(t, err)
	assert.Equal(t, []any{order.Running, int64(2), 3}, []any{third.State, third.Continues, third.Attempt})
	o.errands(errand.Done, "")
	_, err = o.GoOn(ctx, 0, third.ID)
	assert.ErrorContains(t, err, "run 3 is done")
}

// Between the last receipt of a delivery and its end on record, who asks for work is not given that delivery again.
func TestADeliveryThatIsNotRunningGivesNoErrand(t *testing.T) {
	o := newOffice(t, "2026-11-30T09:00:00+01:00")
	o.Streams = &stream.Streams{}
	_, err := o.Records.AddDelivery(t.Context(), records.Delivery{Image: "garden-desk", Version: 1, Created: o.now}, []string{"desk-gold"}, []int64{1})
	require.NoError(t, err)
	e, err := o.next(t.Context(), 1)
	require.NoError(t, err)
	assert.Nil(t, e)
}
