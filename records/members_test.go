package records_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/records"
)

// However workstations come into groups and leave them, the groups know how many they have.
func TestGroupsKnowHowManyTheyHave(t *testing.T) {
	db, _ := open(t)
	ctx := t.Context()
	counted := func(why string, want map[string]int) {
		t.Helper()
		groups, _, err := db.Groups(ctx, nil, records.Page{})
		require.NoError(t, err)
		is := map[string]int{}
		for _, g := range groups {
			is[g.Name] = g.Members
			ids, err := db.GroupMembers(ctx, g.Name)
			require.NoError(t, err)
			assert.Len(t, ids, g.Members, "%s: %s", why, g.Name)
		}
		assert.Equal(t, want, is, why)
		for _, within := range [][]string{{"herbarium"}, {"herbarium", "upstairs"}} {
			rows, total, err := db.Workstations(ctx, records.WorkstationFilter{Within: within}, records.Page{Limit: 100})
			require.NoError(t, err)
			assert.Len(t, rows, total, "%s: %v", why, within)
		}
	}
	one, two := newcomer(t, db, 1), newcomer(t, db, 2)
	require.NoError(t, db.AddGroup(ctx, "upstairs"))
	require.NoError(t, db.AddGroup(ctx, "herbarium"))
	require.NoError(t, db.Admit(ctx, one.ID, "herb-01", []string{"herbarium", "upstairs"}))
	require.NoError(t, db.Admit(ctx, two.ID, "herb-02", []string{"herbarium"}))
	counted("admitted", map[string]int{"herbarium": 2, "upstairs": 1})
	require.NoError(t, db.AddFilledGroup(ctx, "all", "true", []int64{one.ID, two.ID}))
	counted("filled", map[string]int{"herbarium": 2, "upstairs": 1, "all": 2})
	require.NoError(t, db.Exclude(ctx, "upstairs", []int64{one.ID}))
	require.NoError(t, db.Include(ctx, "upstairs", []int64{two.ID, one.ID}))
	require.NoError(t, db.Include(ctx, "upstairs", []int64{one.ID}), "once more")
	counted("in and out", map[string]int{"herbarium": 2, "upstairs": 2, "all": 2})
	require.NoError(t, db.Retire(ctx, two.ID))
	counted("retired", map[string]int{"herbarium": 1, "upstairs": 1, "all": 1})
	require.NoError(t, db.RemoveGroup(ctx, "upstairs"))
	counted("a group is gone", map[string]int{"herbarium": 1, "all": 1})
}
