package service_test

import (
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
	"jugate/bucket/buckettest"
	"jugate/core/lease"
	"jugate/core/objects"
	"jugate/core/proof"
	"jugate/service"
)

func (h *house) standby(store string) {
	h.t.Helper()
	_, err := h.client.UseStandby(h.t.Context(), store)
	require.NoError(h.t, err)
}

// copied waits until all of what was done by now is in the copy.
func (h *house) copied() {
	h.t.Helper()
	now := time.Now()
	h.eventually(func() bool {
		s, err := h.client.Standby(h.t.Context())
		require.NoError(h.t, err)
		return s.Slabs != nil && s.Slabs.After(now) && s.Records != nil && s.Records.After(now)
	})
}

// copiedOnto is a service with a group, of which a copy is on a shelf.
func copiedOnto(t *testing.T) (one *house, shelf string) {
	t.Helper()
	shelf = t.TempDir()
	one = openLeased(t, filepath.Join(t.TempDir(), "one"))
	_, err := one.client.AddStore(t.Context(), api.NewStore{Name: "shelf", Place: shelf})
	require.NoError(t, err)
	one.standby("shelf")
	one.groups("herbarium")
	one.copied()
	return one, shelf
}

func openLeased(t *testing.T, data string) *house {
	t.Helper()
	settle(t, data)
	s, err := service.Open(t.Context(), leased(t, data))
	require.NoError(t, err)
	return serve(t, s, data, "127.0.0.1:0")
}

func leased(t *testing.T, data string) service.Config {
	return service.Config{Data: data, Multicast: loopback, Machine: filepath.Base(data), Log: slog.New(slog.NewTextHandler(t.Output(), nil))}
}

// takeOver has another machine become the service; before it opens, the store may be where it was.
func takeOver(t *testing.T, store objects.Store, data string, before ...func()) (*house, service.TakenOver) {
	t.Helper()
	out, err := service.TakeOver{Dir: data, Machine: filepath.Base(data), Wait: true, Log: slog.New(slog.DiscardHandler)}.Run(t.Context(), store)
	require.NoError(t, err)
	for _, f := range before {
		f()
	}
	c := leased(t, data)
	c.TakenOver = &out
	s, err := service.Open(t.Context(), c)
	require.NoError(t, err)
	return serve(t, s, data, "127.0.0.1:0"), out
}

// One machine is the service, another one becomes it, and knows all that the first has answered with "done".
func TestAnotherMachineBecomesTheService(t *testing.T) {
	t.Parallel()
	server := buckettest.Start(t, t.TempDir())
	one := openLeased(t, filepath.Join(t.TempDir(), "one"))
	ctx := t.Context()
	one.addStore("big", server)
	disk := gold(t)
	one.start(1, disk.Path, 0, "desk-gold")
	one.capture("desk-gold", "garden-desk")
	one.standby("big")
	one.start(10, blank(t, disk.Size), 0, "herb-01")
	done := one.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}})
	require.EqualValues(t, "delivered", one.receipts(done.ID)["herb-01"].Outcome)
	one.copied()
	before := one.all()
	head, err := one.client.Head(ctx)
	require.NoError(t, err)

	t.Log("# while it is alive nobody else is")
	renewed := func(watched lease.Lease) { // however long that takes here
		one.eventually(func() bool {
			now, _, err := lease.Read(ctx, server.Open(nil))
			return err == nil && now.Nonce != watched.Nonce
		})
	}
	_, err = service.TakeOver{Dir: filepath.Join(t.TempDir(), "two"), Machine: "two", Watching: renewed, Log: slog.New(slog.DiscardHandler)}.Run(ctx, server.Open(nil))
	assert.ErrorIs(t, err, lease.ErrHeld)

	t.Log("# it stops, and is followed when its lease is over")
	one.stop()
	two, out := takeOver(t, server.Open(nil), filepath.Join(t.TempDir(), "two"))
	assert.Equal(t, int64(1), out.From)
	assert.Equal(t, int64(2), out.Held.Term())
	assert.Equal(t, before, two.all())
	sound, err := two.client.VerifyVersion(ctx, "garden-desk@1")
	require.NoError(t, err)
	assert.True(t, sound.Sound, "%+v", sound)
	log, err := two.client.CheckLog(ctx)
	require.NoError(t, err)
	assert.True(t, log.Sound, log.Detail)
	now, err := two.client.Head(ctx)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, now.Leaves, head.Leaves)
	shown, err := two.client.Standby(ctx)
	require.NoError(t, err)
	assert.Equal(t, "two", shown.Machine)
	two.start(11, blank(t, disk.Size), 0, "herb-02")
	done = two.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-02"}})
	assert.EqualValues(t, "delivered", two.receipts(done.ID)["herb-02"].Outcome)
	two.copied()

	t.Log("# the first machine does not start with its old folder, and becomes the service again with a new one")
	_, err = service.Open(ctx, leased(t, one.data))
	assert.ErrorIs(t, err, lease.ErrHeld)
	assert.ErrorContains(t, err, "start jugate takeover")
	two.stop()
	three, out := takeOver(t, server.Open(nil), filepath.Join(t.TempDir(), "three"))
	assert.Equal(t, int64(3), out.Held.Term())
	assert.Len(t, three.all(), 2)
	three.stop()
	again := openLeased(t, three.data) // the same folder, started again
	shown, err = again.client.Standby(ctx)
	require.NoError(t, err)
	assert.Equal(t, int64(3), shown.Term)
}

// A machine that is cut off from the store stops serving before another one can begin, and ends when one has;
// what it did meanwhile and did not get across is a fork that is on record.
func TestAMachineThatIsCutOffIsTheServiceNoMore(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	away := filepath.Join(t.TempDir(), "away")
	one, shelf := copiedOnto(t)
	require.NoError(t, replaceFolder(shelf, away)) // its store is away, and that of the other machine is not
	one.eventually(func() bool {
		_, err := one.client.Groups(ctx, apiclient.List{})
		return err != nil
	})
	_, err := one.client.Groups(ctx, apiclient.List{})
	assert.ErrorContains(t, err, "this machine may no longer be the service")

	// What is signed there is seen by the other one. The place stays where it is for the second machine, however slow this one is.
	two, out := takeOver(t, objects.OpenFolder(away), filepath.Join(t.TempDir(), "two"), func() { require.NoError(t, os.Symlink(away, shelf)) })
	assert.Equal(t, int64(2), out.Held.Term())
	groups, err := two.client.Groups(ctx, apiclient.List{})
	require.NoError(t, err)
	assert.Len(t, groups.Items, 1)
	assert.ErrorIs(t, <-one.served, lease.ErrTaken)
}

// Nothing that was answered is lost when the service dies without a word, but for what came after the copy
// was made last; and that is a fork on record.
func TestWhatGotLostIsOnRecord(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	one, shelf := copiedOnto(t)
	head, err := one.client.Head(ctx)
	require.NoError(t, err)
	one.copied()
	copyOfRecords := filepath.Join(t.TempDir(), "records")
	require.NoError(t, os.CopyFS(copyOfRecords, os.DirFS(filepath.Join(shelf, "live/00000001/records"))))
	one.groups("seeds") // after the copy that will be used
	later, err := one.client.Head(ctx)
	require.NoError(t, err)
	require.Greater(t, later.Leaves, head.Leaves)
	one.copied()
	one.stop()
	require.NoError(t, replaceFolder(copyOfRecords, filepath.Join(shelf, "live/00000001/records"))) // as if the last seconds had not been copied

	two, _ := takeOver(t, objects.OpenFolder(shelf), filepath.Join(t.TempDir(), "two"))
	groups, err := two.client.Groups(ctx, apiclient.List{})
	require.NoError(t, err)
	assert.Len(t, groups.Items, 1)
	log, err := two.client.CheckLog(ctx)
	require.NoError(t, err)
	assert.True(t, log.Sound, log.Detail)
	page, err := two.client.Lines(ctx, apiclient.List{Limit: 100})
	require.NoError(t, err)
	said := ""
	for _, l := range page.Items {
		if l.Operation == proof.RestoreOperation {
			said += fmt.Sprint(l)
		}
	}
	assert.Contains(t, said, "two has become the service")
}

// The records come back as they were at a moment; what was recorded since is a gap that the log names.
func TestTheServiceAsItWasAtAMoment(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	one, shelf := copiedOnto(t)
	then := time.Now()
	one.copied() // by then a transaction of a later millisecond is there
	one.groups("seeds")
	_, err := one.client.Head(ctx)
	require.NoError(t, err)
	one.copied()
	one.stop()
	data := filepath.Join(t.TempDir(), "two")
	out, err := service.TakeOver{Dir: data, Machine: "two", AsOf: then, Log: slog.New(slog.DiscardHandler)}.Run(ctx, objects.OpenFolder(shelf))
	require.NoError(t, err)
	c := leased(t, data)
	c.TakenOver = &out
	s, err := service.Open(ctx, c)
	require.NoError(t, err)
	two := serve(t, s, data, "127.0.0.1:0")
	groups, err := two.client.Groups(ctx, apiclient.List{})
	require.NoError(t, err)
	require.Len(t, groups.Items, 1)
	assert.Equal(t, "herbarium", groups.Items[0].Name)
	log, err := two.client.CheckLog(ctx)
	require.NoError(t, err)
	assert.True(t, log.Sound, log.Detail)
}

// A service that keeps no copy any more goes on, and nobody takes it over from the old copy.
func TestAServiceThatKeepsNoCopyAnyMore(t *testing.T) {
	t.Parallel()
	one, shelf := copiedOnto(t)
	one.standby("")
	_, err := service.TakeOver{Dir: filepath.Join(t.TempDir(), "two"), Machine: "two", Wait: true, Log: slog.New(slog.DiscardHandler)}.Run(t.Context(), objects.OpenFolder(shelf))
	assert.ErrorIs(t, err, lease.ErrOver)
	one.groups("seeds")
	one.standby("shelf") // and again
	one.copied()
	one.stop()
	two, out := takeOver(t, objects.OpenFolder(shelf), filepath.Join(t.TempDir(), "two"))
	assert.Equal(t, int64(2), out.Held.Term())
	groups, err := two.client.Groups(t.Context(), apiclient.List{})
	require.NoError(t, err)
	assert.Len(t, groups.Items, 2)
}

// replaceFolder puts a folder in the place of another one.
func replaceFolder(from, to string) error {
	return errors.Join(os.RemoveAll(to), os.Rename(from, to))
}
