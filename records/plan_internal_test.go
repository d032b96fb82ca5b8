package records

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A fresh database has no statistics: SQLite must find a workstation's own rows without them. A list of
// 10,000 took longer than it may once, as it looked through all addresses for each.
func TestAWorkstationsRowsAreFoundByItsNumber(t *testing.T) {
	db, err := Open(t.Context(), time.Now(), filepath.Join(t.TempDir(), "jugate.db"))
	require.NoError(t, err)
	defer db.Close()
	var plan []struct {
		ID, Parent, NotUsed int
		Detail              string
	}
	require.NoError(t, db.read.SelectContext(t.Context(), &plan, "EXPLAIN QUERY PLAN SELECT "+workstationColumns+" FROM "+workstationFrom))
	found := 0
	for _, step := range plan {
		assert.NotContains(t, step.Detail, "addresses_state")
		if step.Detail == "SEARCH addresses USING INDEX addresses_workstation (workstation_id=?)" {
			found++
		}
	}
	assert.Equal(t, 3, found)
}
