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

func TestItemsAreHandedInByNumbersThatGrow(t *testing.T) {
	ctx, path := t.Context(), filepath.Join(t.TempDir(), "outpost.db")
	db, err := outbox.Open(ctx, path)
	require.NoError(t, err)
	now := time.Date(2026, 11, 29, 8, 0, 0, 0, time.UTC)
	require.NoError(t, db.Add(ctx, now, outbox.Item{Body: "one", Kind: "through", Key: "7/1"}, outbox.Item{Body: "two"}))
	require.NoError(t, db.Add(ctx, now, outbox.Item{Body: "three", Kind: "through", Key: "7/2"}, outbox.Item{Body: "again", Kind: "through", Key: "7/1"}))
	box, items, err := db.Items(ctx, 3)
	require.NoError(t, err)
	require.Len(t, items, 3)
	assert.Equal(t, []string{"one", "two", "three"}, []string{items[0].Body, items[1].Body, items[2].Body})
	require.NoError(t, db.Drop(ctx, items[2].Number))
	require.NoError(t, db.Drop(ctx, items[2].Number+1))
	_, none, err := db.Items(ctx, 3)
	require.NoError(t, err)
	assert.Empty(t, none)
	require.NoError(t, db.Close())

	t.Log("# also after a start, and when nothing waited")
	db, err = outbox.Open(ctx, path)
	require.NoError(t, err)
	require.NoError(t, db.Add(ctx, now, outbox.Item{Body: "five"}))
	same, more, err := db.Items(ctx, 3)
	require.NoError(t, err)
	assert.Equal(t, box, same)
	assert.Greater(t, more[0].Number, items[2].Number+1)
	keys, err := db.Keys(ctx, "through", "7/")
	require.NoError(t, err)
	assert.Equal(t, []string{"7/1", "7/2"}, keys)
	require.NoError(t, db.Forget(ctx, "through", "7/1"))
	keys, err = db.Keys(ctx, "through", "")
	require.NoError(t, err)
	assert.Equal(t, []string{"7/2"}, keys)
	require.NoError(t, db.Close())

	t.Log("# another database has another box")
	other, err := outbox.Open(ctx, filepath.Join(t.TempDir(), "outpost.db"))
	require.NoError(t, err)
	defer other.Close()
	another, none, err := other.Items(ctx, 3)
	require.NoError(t, err)
	assert.Empty(t, none)
	assert.NotEqual(t, box, another)
	assert.Len(t, another, 32)
}
