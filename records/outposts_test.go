package records_test

import (
	"database/sql"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/fault"
	"jugate/records"
)

func TestAnOutpostIsToHoldVersions(t *testing.T) {
	db, _ := open(t)
	ctx := t.Context()
	now := time.Date(2026, 11, 29, 8, 0, 0, 0, time.UTC)
	require.NoError(t, db.AddOutpost(ctx, records.Outpost{Name: "alpine", Added: now}))
	require.NoError(t, db.SetOutpost(ctx, "alpine", "across the river", api.OutpostSettings{LineRate: 20_000_000, Hours: "20:00-06:00"}))
	o, err := db.Outpost(ctx, "alpine")
	require.NoError(t, err)
	settings, err := o.Settings()
	require.NoError(t, err)
	assert.Equal(t, api.OutpostSettings{LineRate: 20_000_000, Hours: "20:00-06:00"}, settings)
	assert.Equal(t, fault.NotFound, fault.KindOf(db.SetOutpost(ctx, "orchid", "", settings)))

	newest := records.Placement{Outpost: "alpine", Image: "garden-desk", Newest: 2, Placed: now, By: "administrator"}
	require.NoError(t, db.AddPlacement(ctx, newest))
	assert.Equal(t, fault.Conflict, fault.KindOf(db.AddPlacement(ctx, newest)))
	ofGroup := records.Placement{Outpost: "alpine", Newest: 1, Group: sql.NullString{String: "alpine-house", Valid: true}, Placed: now, By: "administrator"}
	assert.Equal(t, fault.NotFound, fault.KindOf(db.AddPlacement(ctx, ofGroup)))
	all, err := db.Placements(ctx, "alpine")
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, fault.NotFound, fault.KindOf(db.RemovePlacement(ctx, "orchid", all[0].ID)))
	require.NoError(t, db.RemovePlacement(ctx, "alpine", all[0].ID))
	require.NoError(t, db.AddPlacement(ctx, newest))
	require.NoError(t, db.RemoveOutpost(ctx, "alpine"))
	all, err = db.Placements(ctx, "alpine")
	require.NoError(t, err)
	assert.Empty(t, all, "nobody is there to hold them")
}
