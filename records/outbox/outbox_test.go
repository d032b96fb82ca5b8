package outbox_test

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/fault"
	"jugate/records/outbox"
)

func TestWhatIsKeptIsThereAgain(t *testing.T) {
	ctx, path := t.Context(), filepath.Join(t.TempDir(), "outpost.db")
	db, err := outbox.Open(ctx, path)
	require.NoError(t, err)
	now := time.Date(2026, 11, 29, 8, 0, 0, 0, time.UTC)
	var text string
	_, err = db.Kept(ctx, "choice", "a", &text)
	assert.Equal(t, fault.NotFound, fault.KindOf(err))
	require.NoError(t, db.Keep(ctx, now, "choice", "a", "one"))
	require.NoError(t, db.Keep(ctx, now.Add(time.Minute), "choice", "a", "two"))
	require.NoError(t, db.Keep(ctx, now, "choice", "b", "three"))
	require.NoError(t, db.Keep(ctx, now, "facts", "a", "four"))
	require.NoError(t, db.Close())
	db, err = outbox.Open(ctx, path)
	require.NoError(t, err)
	defer db.Close()
	at, err := db.Kept(ctx, "choice", "a", &text)
	require.NoError(t, err)
	assert.Equal(t, "two", text)
	assert.Equal(t, now.Add(time.Minute), at)
	all, err := outbox.All[string](ctx, db, "choice")
	require.NoError(t, err)
	assert.Equal(t, []string{"two", "three"}, all)
}
