package replica_test

import (
	"context"
	"fmt"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/bucket/buckettest"
	"jugate/core/objects"
	"jugate/records"
	"jugate/records/replica"
)

var log = slog.New(slog.DiscardHandler)

func line(t *testing.T, db *records.DB, n int) {
	t.Helper()
	_, err := db.AddLine(t.Context(), records.Line{At: time.Now(), Who: "administrator", Kind: "person", Through: "service", Operation: "note", Details: fmt.Sprint(n)})
	require.NoError(t, err)
}

// lines are how many lines of the logbook a copy has.
func lines(t *testing.T, path string) int {
	t.Helper()
	db, err := records.Open(t.Context(), time.Now(), path)
	require.NoError(t, err)
	defer db.Close()
	_, n, err := db.Lines(t.Context(), records.LineFilter{}, records.Page{})
	require.NoError(t, err)
	return n
}

func TestTheRecordsAreCopiedAsTheyChange(t *testing.T) {
	for name, store := range map[string]objects.Store{"folder": objects.OpenFolder(t.TempDir()), "bucket": buckettest.Start(t, t.TempDir()).Open(nil)} {
		t.Run(name, func(t *testing.T) {
			ctx, dir := t.Context(), t.TempDir()
			path := filepath.Join(dir, "jugate.db")
			err := replica.Restore(ctx, store, "live/1/", path, time.Time{}, log)
			assert.ErrorIs(t, err, replica.ErrNone)
			db, err := records.Open(ctx, time.Now(), path)
			require.NoError(t, err)
			defer db.Close()
			r, err := replica.Start(ctx, path, store, "live/1/", log)
			require.NoError(t, err)
			for n := range 10 {
				line(t, db, n)
			}
			require.NoError(t, r.Sync(ctx))
			then := time.Now()
			copied := filepath.Join(dir, "copied.db")
			require.NoError(t, replica.Restore(ctx, store, "live/1/", copied, time.Time{}, log))
			assert.Equal(t, 10, lines(t, copied))

			// Started again, it goes on; and one that was abandoned has copied nothing more.
			require.NoError(t, r.Close(context.WithoutCancel(ctx)))
			r, err = replica.Start(ctx, path, store, "live/1/", log)
			require.NoError(t, err)
			line(t, db, 10)
			require.NoError(t, r.Sync(ctx))
			require.NoError(t, r.Abandon())
			line(t, db, 11)
			again := filepath.Join(dir, "again.db")
			require.NoError(t, replica.Restore(ctx, store, "live/1/", again, time.Time{}, log))
			assert.Equal(t, 11, lines(t, again))
			earlier := filepath.Join(dir, "earlier.db")
			require.NoError(t, replica.Restore(ctx, store, "live/1/", earlier, then, log))
			assert.Equal(t, 10, lines(t, earlier), "as it was then")
		})
	}
}
