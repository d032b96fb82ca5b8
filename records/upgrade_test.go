package records

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Records are copied before they are brought to another form; an older program does not touch newer ones, and says how to go back.
func TestUpgradesHaveAWayBack(t *testing.T) {
	path := filepath.Join(t.TempDir(), "jugate.db")
	db, err := Open(t.Context(), time.Now(), path)
	require.NoError(t, err)
	_, err = db.write.Exec(`INSERT INTO groups (name) VALUES ('herbarium')`)
	require.NoError(t, err)
	forms, err := copies(path)
	require.NoError(t, err)
	assert.Empty(t, forms, "new records need none")

	t.Log("# as a version of before has left them")
	var newest int64
	require.NoError(t, db.write.Get(&newest, `SELECT max(version_id) FROM goose_db_version`))
	_, err = db.write.Exec(`DELETE FROM goose_db_version WHERE version_id = ?; DROP TABLE settings`, newest)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	require.NoError(t, os.WriteFile(copyBefore(path, 3), nil, 0o600))
	require.NoError(t, os.WriteFile(copyBefore(path, 4), nil, 0o600))
	require.NoError(t, os.WriteFile(copyBefore(path, newest-1)+".unfinished", []byte("cut off"), 0o600))
	db, err = Open(t.Context(), time.Now(), path)
	require.NoError(t, err)
	forms, err = copies(path)
	require.NoError(t, err)
	assert.Equal(t, []int64{4, newest - 1}, forms, "the two last")
	info, err := os.Stat(copyBefore(path, newest-1))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	t.Log("# a newer version comes, and goes again")
	_, err = db.write.Exec(`INSERT INTO goose_db_version (version_id, is_applied) VALUES (?, 1)`, newest+1)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, err = Open(t.Context(), time.Now(), path)
	require.ErrorIs(t, err, ErrNewer)
	assert.ErrorContains(t, err, "rename that copy to "+path)

	t.Log("# the way back")
	require.NoError(t, os.Rename(path, path+".newer"))
	os.Remove(path + "-wal")
	os.Remove(path + "-shm")
	require.NoError(t, os.Rename(copyBefore(path, newest-1), path))
	db, err = Open(t.Context(), time.Now(), path)
	require.NoError(t, err)
	defer db.Close()
	var group string
	require.NoError(t, db.read.Get(&group, `SELECT name FROM groups`))
	assert.Equal(t, "herbarium", group)
}
