package records

import (
	"database/sql"
	"io/fs"
	"path/filepath"
	"testing"
	"time"

	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A table that others refer to is made anew in migrations, and their rows stay.
func TestWhatRefersToErrandsStays(t *testing.T) {
	path := filepath.Join(t.TempDir(), "jugate.db")
	before, err := sql.Open("sqlite", "file:"+path+"?_pragma=foreign_keys(1)&_txlock=immediate&_time_format=sqlite")
	require.NoError(t, err)
	before.SetMaxOpenConns(1)
	files, err := fs.Sub(migrations, "migrations")
	require.NoError(t, err)
	now := time.Date(2026, 10, 1, 8, 0, 0, 0, time.UTC)
	old, err := goose.NewProvider(goose.DialectSQLite3, before, files, goose.WithGoMigrations(moveChains(now)))
	require.NoError(t, err)
	_, err = old.UpTo(t.Context(), 25)
	require.NoError(t, err)
	for _, row := range []string{
		`INSERT INTO workstations (id, name, maker, model, serial, memory, agent_version, state, first_seen, last_seen) VALUES (1, 'herb-01', '', '', '', 0, '', 'admitted', '2026-10-01', '2026-10-01')`,
		`INSERT INTO errands (id, workstation_id, kind, state, image, version, note, created) VALUES (7, 1, 'check', 'done', '', 0, '', '2026-10-01')`,
		`INSERT INTO checks (errand_id, workstation_id, workstation, hardware_address, maker, model, serial, ended, verdict, findings, result, ordered_by) VALUES (7, 1, 'herb-01', '', '', '', '', '2026-10-01', 'good', '[]', '{}', '')`,
	} {
		_, err := before.ExecContext(t.Context(), row)
		require.NoError(t, err, row)
	}
	require.NoError(t, before.Close())

	db, err := Open(t.Context(), now, path)
	require.NoError(t, err)
	defer db.Close()
	var errand int
	require.NoError(t, db.read.Get(&errand, `SELECT e.id FROM checks c JOIN errands e ON e.id = c.errand_id`))
	assert.Equal(t, 7, errand)
	_, err = db.write.Exec(`INSERT INTO checks (errand_id, workstation_id, workstation, hardware_address, maker, model, serial, ended, verdict, findings, result, ordered_by) VALUES (8, 1, '', '', '', '', '', '2026-10-01', '', '', '', '')`)
	assert.ErrorContains(t, err, "FOREIGN KEY", "references are looked at again")
}
