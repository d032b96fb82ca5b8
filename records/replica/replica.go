// Package replica copies the records into an object store as they change, through the library of
// Litestream, and brings them back as they were at any time.
//
//	r, err := replica.Start(path, store, "live/00000003/", log)
//	err = r.Sync(ctx) // what was written by now is there
//	err = replica.Restore(ctx, store, "live/00000003/", path, time.Time{})
//
// What is copied are LTX files, the library's own format, under PREFIX/records/LEVEL/.
package replica

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path"
	"strings"
	"time"

	"github.com/benbjohnson/litestream"
	"github.com/superfly/ltx"

	"jugate/core/fault"
	"jugate/core/objects"
)

// Every is how often what has changed is copied.
const Every = time.Second

// Kept is how long it can be brought back how the records were at a moment.
const Kept = 7 * 24 * time.Hour

// Replica is a copy that is kept.
type Replica struct {
	db        *litestream.DB
	store     *litestream.Store
	abandoned context.Context // what the library still waits for ends with it
	abandon   context.CancelFunc
}

// Start begins to copy the records at a path. What an earlier copy under the prefix has stays, if the
// records have grown out of it.
func Start(ctx context.Context, path string, store objects.Store, prefix string, log *slog.Logger) (*Replica, error) {
	db := litestream.NewDB(path)
	db.MonitorInterval, db.ShutdownSyncTimeout = Every, 10*time.Second
	db.Replica = litestream.NewReplicaWithClient(db, &client{objects.Within(store, prefix+"records/")})
	db.Replica.SyncInterval, db.Replica.AutoRecoverEnabled = Every, true
	log = slog.New(warnings{log.Handler()})
	db.SetLogger(log)
	s := litestream.NewStore([]*litestream.DB{db}, litestream.CompactionLevels{
		{Level: 0},
		{Level: 1, Interval: 30 * time.Second},
		{Level: 2, Interval: 5 * time.Minute},
		{Level: 3, Interval: time.Hour},
	})
	db.SetLogger(log) // which the library has replaced
	s.SnapshotInterval, s.SnapshotRetention, s.CompactionMonitorEnabled, s.Logger = 24*time.Hour, Kept, true, log
	abandoned, abandon := context.WithCancel(context.Background())
	s.SetDone(abandoned.Done())
	if err := s.Open(ctx); err != nil {
		abandon()
		return nil, err
	}
	return &Replica{db, s, abandoned, abandon}, nil
}

// Sync returns when all that was written before it was called is in the store.
func (r *Replica) Sync(ctx context.Context) error { return r.db.SyncAndWait(ctx) }

// Last is when the copy was whole the last time.
func (r *Replica) Last() time.Time { return r.db.LastSuccessfulSyncAt() }

// Close copies what is left, and ends.
func (r *Replica) Close(ctx context.Context) error {
	defer r.abandon()
	return r.store.Close(ctx)
}

// Abandon ends without copying anything more: somebody else may write there now.
func (r *Replica) Abandon() error {
	r.abandon()
	err := r.store.Close(r.abandoned)
	if errors.Is(err, context.Canceled) {
		return nil
	}
	return err
}

// ErrNone says that there is nothing to bring back.
var ErrNone = fault.NotFound.Errorf("no copy of the records is there")

// Restore writes the records as they were at a time, or last if that is zero, into a new file. Errors wrap
// ErrNone.
func Restore(ctx context.Context, store objects.Store, prefix, path string, at time.Time, log *slog.Logger) error {
	r := litestream.NewReplicaWithClient(litestream.NewDB(path), &client{objects.Within(store, prefix+"records/")})
	r.DB().SetLogger(log)
	o := litestream.NewRestoreOptions()
	o.OutputPath, o.Timestamp, o.IntegrityCheck = path, at, litestream.IntegrityCheckQuick
	err := r.Restore(ctx, o)
	if errors.Is(err, litestream.ErrTxNotAvailable) || errors.Is(err, litestream.ErrNoSnapshots) {
		return ErrNone
	}
	return err
}

// warnings are what the library says that people should know of.
type warnings struct{ slog.Handler }

func (w warnings) Enabled(_ context.Context, l slog.Level) bool { return l >= slog.LevelWarn }

func (w warnings) WithAttrs(a []slog.Attr) slog.Handler { return warnings{w.Handler.WithAttrs(a)} }
func (w warnings) WithGroup(g string) slog.Handler      { return warnings{w.Handler.WithGroup(g)} }

// client has the library read and write objects.
type client struct{ store objects.Store }

func (c *client) Type() string               { return "objects" }
func (c *client) Init(context.Context) error { return nil }
func (c *client) SetLogger(*slog.Logger)     {}

func (c *client) level(level int) string { return fmt.Sprintf("%04x/", level) }

func (c *client) name(level int, from, to ltx.TXID) string {
	return c.level(level) + ltx.FormatFilename(from, to)
}

// LTXFiles lists what there is of a level. When one was made is in its head, which is read if that is
// wanted.
func (c *client) LTXFiles(ctx context.Context, level int, seek ltx.TXID, exact bool) (ltx.FileIterator, error) {
	var all []*ltx.FileInfo
	for o, err := range c.store.List(ctx, c.level(level)) {
		if err != nil {
			return nil, err
		}
		from, to, err := ltx.ParseFilename(path.Base(o.Name))
		if err != nil || from < seek {
			continue
		}
		f := &ltx.FileInfo{Level: level, MinTXID: from, MaxTXID: to, Size: o.Size, CreatedAt: o.Changed.UTC()}
		if exact {
			if f.CreatedAt, err = c.made(ctx, o.Name); err != nil {
				return nil, err
			}
		}
		all = append(all, f)
	}
	return ltx.NewFileInfoSliceIterator(all), nil
}

func (c *client) made(ctx context.Context, name string) (time.Time, error) {
	r, err := c.store.Open(ctx, name, 0, ltx.HeaderSize)
	if err != nil {
		return time.Time{}, err
	}
	defer r.Close()
	head, _, err := ltx.PeekHeader(r)
	return time.UnixMilli(head.Timestamp).UTC(), err
}

func (c *client) OpenLTXFile(ctx context.Context, level int, from, to ltx.TXID, offset, size int64) (io.ReadCloser, error) {
	if size == 0 {
		size = -1
	}
	r, err := c.store.Open(ctx, c.name(level, from, to), offset, size)
	if errors.Is(err, objects.ErrNotFound) {
		err = fmt.Errorf("%w: %w", os.ErrNotExist, err)
	}
	return r, err
}

func (c *client) WriteLTXFile(ctx context.Context, level int, from, to ltx.TXID, r io.Reader) (*ltx.FileInfo, error) {
	var head strings.Builder
	h, _, err := ltx.PeekHeader(io.TeeReader(r, &head))
	if err != nil {
		return nil, err
	}
	count := &counter{r: io.MultiReader(strings.NewReader(head.String()), r)}
	if err := c.store.Write(ctx, c.name(level, from, to), count); err != nil {
		return nil, err
	}
	return &ltx.FileInfo{Level: level, MinTXID: from, MaxTXID: to, Size: count.n, CreatedAt: time.UnixMilli(h.Timestamp).UTC()}, nil
}

type counter struct {
	r io.Reader
	n int64
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

func (c *client) DeleteLTXFiles(ctx context.Context, all []*ltx.FileInfo) error {
	for _, f := range all {
		if err := c.store.Remove(ctx, c.name(f.Level, f.MinTXID, f.MaxTXID)); err != nil {
			return err
		}
	}
	return nil
}

func (c *client) DeleteAll(ctx context.Context) error {
	for o, err := range c.store.List(ctx, "") {
		if err != nil {
			return err
		}
		if err := c.store.Remove(ctx, o.Name); err != nil {
			return err
		}
	}
	return nil
}
