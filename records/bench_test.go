package records_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/errand"
	"jugate/core/roster"
	"jugate/records"
)

// Who was at a bench is out of sight after a while, but for its receipts, and a newcomer again when it comes again.
func TestWhoWasAtABenchGoes(t *testing.T) {
	db, _ := open(t)
	ctx := t.Context()
	w := newcomer(t, db, 1)
	require.NoError(t, db.Visit(ctx, w.ID, "4711"))
	e, err := db.AddErrand(ctx, noon, records.Asked{Workstation: w.ID, Kind: errand.Check, Options: api.CheckOptions{Health: true}}, "wren")
	require.NoError(t, err)
	assert.Equal(t, addr(1).String(), e.Workstation, "it has no name")
	state := func() (roster.State, string) {
		w, err := db.Workstation(ctx, w.ID)
		require.NoError(t, err)
		return w.State, w.Job
	}
	newcomer(t, db, 1)
	is, job := state()
	assert.Equal(t, []any{roster.Visiting, "4711"}, []any{is, job}, "it has something to do still")
	of := func(states ...roster.State) int {
		rows, total, err := db.Workstations(ctx, records.WorkstationFilter{States: states}, records.Page{})
		require.NoError(t, err)
		assert.Len(t, rows, total)
		return total
	}
	assert.Equal(t, []int{1, 0, 1, 0}, []int{of(), of(roster.Newcomer), of(roster.Visiting), of(roster.Admitted, roster.Expected, roster.Retired)})

	require.NoError(t, db.EndErrand(ctx, noon, e.ID, errand.Done, ""))
	newcomer(t, db, 1)
	is, job = state()
	assert.Equal(t, []any{roster.Newcomer, ""}, []any{is, job})
	_, err = db.ForgetNewcomers(ctx, noon.Add(time.Hour), 100)
	require.NoError(t, err)
	assert.Equal(t, []int{0, 0, 0}, []int{of(), of(roster.Newcomer), of(roster.Visiting)})
	found, err := db.FindWorkstation(ctx, addr(1).String())
	require.NoError(t, err, "what was done with it is found")
	assert.Equal(t, w.ID, found.ID)
	newcomer(t, db, 1)
	assert.Equal(t, []int{1, 1, 0}, []int{of(), of(roster.Newcomer), of(roster.Visiting)})

	require.NoError(t, db.Visit(ctx, w.ID, "4712"))
	require.NoError(t, db.Admit(ctx, w.ID, "herb-01", nil))
	is, job = state()
	assert.Equal(t, []any{roster.Admitted, ""}, []any{is, job})
	assert.Error(t, db.Visit(ctx, w.ID, "4713"), "it is no newcomer")
}

// Several are asked, or none: a service that is killed in between leaves nobody out.
func TestAllAreAskedOrNone(t *testing.T) {
	db, _ := open(t)
	ctx := t.Context()
	w := newcomer(t, db, 1)
	ask := func(id int64) records.Asked {
		return records.Asked{Workstation: id, Kind: errand.Check, Options: api.CheckOptions{Health: true}}
	}
	_, err := db.AddErrands(ctx, noon, []records.Asked{ask(w.ID), ask(w.ID + 100)}, "wren")
	require.Error(t, err, "there is no such workstation")
	_, total, err := db.Errands(ctx, records.ErrandFilter{}, records.Page{})
	require.NoError(t, err)
	assert.Zero(t, total)
	all, err := db.AddErrands(ctx, noon, []records.Asked{ask(w.ID), ask(w.ID)}, "wren")
	require.NoError(t, err)
	assert.Len(t, all, 2)
}
