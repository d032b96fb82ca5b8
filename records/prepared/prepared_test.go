package prepared_test

import (
	"errors"
	"fmt"
	"path/filepath"
	"sync"
	"testing"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/records/prepared"
)

func open(t *testing.T, connections int) *sqlx.DB {
	db := prepared.Open("file:" + filepath.Join(t.TempDir(), "db") + "?_pragma=journal_mode(WAL)&_pragma=busy_timeout(10000)")
	db.SetMaxOpenConns(connections)
	t.Cleanup(func() { assert.NoError(t, db.Close()) })
	_, err := db.Exec("CREATE TABLE desks (name TEXT PRIMARY KEY, row INTEGER NOT NULL) STRICT; CREATE TABLE other (x INTEGER)")
	require.NoError(t, err)
	return db
}

func names(t *testing.T, db *sqlx.DB, row int) (all []string) {
	t.Helper()
	require.NoError(t, db.Select(&all, "SELECT name FROM desks WHERE row = ? ORDER BY name", row))
	return all
}

func TestStatementsAreUsedAgain(t *testing.T) {
	db := open(t, 1)
	add := func(name string, row any) error {
		_, err := db.Exec("INSERT INTO desks (name, row) VALUES (?, ?)", name, row)
		return err
	}
	require.NoError(t, add("herb-01", 1))
	require.NoError(t, add("herb-02", 1))
	assert.Error(t, add("herb-02", 2), "a name is taken")
	assert.Error(t, add("herb-03", "x"), "no number")
	require.NoError(t, add("herb-03", 2), "after an error, too")
	for range 3 {
		assert.Equal(t, []string{"herb-01", "herb-02"}, names(t, db, 1))
		assert.Equal(t, []string{"herb-03"}, names(t, db, 2), "nothing is left of what was asked before")
	}

	t.Log("# the same statement within itself")
	rows, err := db.Query("SELECT name FROM desks WHERE row = ? ORDER BY name", 1)
	require.NoError(t, err)
	require.NoError(t, rows.Close())
	tx, err := db.Begin()
	require.NoError(t, err)
	rows, err = tx.Query("SELECT name FROM desks WHERE row = ? ORDER BY name", 1)
	require.NoError(t, err)
	require.True(t, rows.Next())
	var inner, outer string
	require.NoError(t, tx.QueryRow("SELECT name FROM desks WHERE row = ? ORDER BY name", 2).Scan(&inner))
	require.NoError(t, rows.Scan(&outer))
	assert.Equal(t, []string{"herb-01", "herb-03"}, []string{outer, inner})
	require.True(t, rows.Next())
	require.NoError(t, rows.Scan(&outer))
	assert.Equal(t, "herb-02", outer)
	require.NoError(t, rows.Close())
	require.NoError(t, tx.Rollback())

	t.Log("# a table that changes")
	var count int
	require.NoError(t, db.Get(&count, "SELECT count(*) FROM (SELECT * FROM desks)"))
	_, err = db.Exec("ALTER TABLE desks ADD COLUMN seat TEXT")
	require.NoError(t, err)
	var desk struct {
		Name string
		Row  int
		Seat *string
	}
	require.NoError(t, db.Get(&desk, "SELECT * FROM desks WHERE name = ?", "herb-01"))
	_, err = db.Exec("UPDATE desks SET seat = ? WHERE name = ?", "window", "herb-01")
	require.NoError(t, err)
	require.NoError(t, db.Get(&desk, "SELECT * FROM desks WHERE name = ?", "herb-01"))
	assert.Equal(t, "window", *desk.Seat)
	_, err = db.Exec("ALTER TABLE desks DROP COLUMN seat")
	require.NoError(t, err)
	var columns []string
	some, err := db.Queryx("SELECT * FROM desks WHERE name = ?", "herb-01")
	require.NoError(t, err)
	columns, err = some.Columns()
	require.NoError(t, errors.Join(err, some.Close()))
	assert.Equal(t, []string{"name", "row"}, columns)

	t.Log("# more statements than are remembered")
	for n := range 600 {
		var got int
		require.NoError(t, db.Get(&got, fmt.Sprintf("SELECT count(*) + %d FROM desks", n)))
		assert.Equal(t, 3+n, got)
	}
}

func TestManyAtOnce(t *testing.T) {
	db := open(t, 4)
	var all sync.WaitGroup
	for n := range 8 {
		all.Go(func() {
			for k := range 50 {
				_, err := db.Exec("INSERT INTO desks (name, row) VALUES (?, ?)", fmt.Sprint(n, "-", k), n)
				assert.NoError(t, err)
				var got []string
				assert.NoError(t, db.Select(&got, "SELECT name FROM desks WHERE row = ?", n))
				assert.Len(t, got, k+1)
			}
		})
	}
	all.Wait()
}

// A page of a table beside the same without what is remembered.
func BenchmarkPrepared(b *testing.B) {
	db := prepared.Open("file:" + filepath.Join(b.TempDir(), "db"))
	defer db.Close()
	_, err := db.Exec("CREATE TABLE desks (name TEXT PRIMARY KEY, row INTEGER)")
	require.NoError(b, err)
	for b.Loop() {
		var n int
		if err := db.Get(&n, "SELECT count(*) FROM desks a JOIN desks b ON a.row = b.row WHERE a.name = ? AND b.name = ?", "x", "y"); err != nil {
			b.Fatal(err)
		}
	}
}

// BenchmarkAnew is the same by the driver alone.
func BenchmarkAnew(b *testing.B) {
	db, err := sqlx.Open("sqlite", "file:"+filepath.Join(b.TempDir(), "db"))
	require.NoError(b, err)
	defer db.Close()
	_, err = db.Exec("CREATE TABLE desks (name TEXT PRIMARY KEY, row INTEGER)")
	require.NoError(b, err)
	for b.Loop() {
		var n int
		if err := db.Get(&n, "SELECT count(*) FROM desks a JOIN desks b ON a.row = b.row WHERE a.name = ? AND b.name = ?", "x", "y"); err != nil {
			b.Fatal(err)
		}
	}
}
