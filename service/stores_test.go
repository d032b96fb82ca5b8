package service_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"jugate/api"
	"jugate/apiclient"
	"jugate/bucket/buckettest"
	"jugate/core/slabstore"
)

// addStore enters the object store of a server.
func (h *house) addStore(name string, s *buckettest.Server) api.Store {
	h.t.Helper()
	added, err := h.client.AddStore(h.t.Context(), api.NewStore{Name: name, Place: s.URL, Key: buckettest.Key, Secret: buckettest.Secret})
	require.NoError(h.t, err)
	return added
}

// moved waits until a version is in a store.
func (h *house) moved(ref, store string) {
	h.t.Helper()
	h.eventually(func() bool {
		v, err := h.client.Version(h.t.Context(), ref)
		require.NoError(h.t, err)
		return v.Store == store && v.MovesTo == ""
	})
}

func (h *house) use(store string, cache int64) {
	h.t.Helper()
	_, err := h.client.UseStore(h.t.Context(), api.StoreUse{Store: &store, Cache: &cache})
	require.NoError(h.t, err)
}

// Versions go to an object store, leave the data folder, and are delivered from there; and come back.
func TestVersionsInAnObjectStore(t *testing.T) {
	t.Parallel()
	server := buckettest.Start(t, t.TempDir())
	h, disk := two(t)
	ctx := t.Context()
	before := h.slabs()
	h.leaned("garden-desk@2")
	added := h.addStore("big", server)
	assert.Equal(t, "ready", added.State)
	_, err := h.client.AddStore(ctx, api.NewStore{Name: "other", Place: server.URL, Key: buckettest.Key, Secret: buckettest.Secret})
	assert.ErrorContains(t, err, "there is a store other already, or one at")
	_, err = h.client.AddStore(ctx, api.NewStore{Name: "folder", Place: server.URL})
	assert.ErrorContains(t, err, "is called folder already")
	_, err = h.client.AddStore(ctx, api.NewStore{Name: "within", Place: h.data})
	assert.ErrorContains(t, err, "lie in each other")

	moving, err := h.client.MoveToStore(ctx, "big", api.StoreMove{Version: "garden-desk"})
	require.NoError(t, err)
	assert.Equal(t, []string{"garden-desk@1", "garden-desk@2"}, moving.Versions)
	h.moved("garden-desk@1", "big")
	h.moved("garden-desk@2", "big")
	h.use("folder", 0)
	h.eventually(func() bool { return h.slabs() == 0 })
	shown, err := h.client.Store(ctx, "big")
	require.NoError(t, err)
	assert.Equal(t, 2, shown.Versions)
	assert.Equal(t, 2, shown.Packs, "one for each version that was moved")
	check, err := h.client.CheckStore(ctx, "big", api.NewStoreCheck{Read: true})
	require.NoError(t, err)
	assert.True(t, check.Sound, check.Faults)
	assert.GreaterOrEqual(t, check.Slabs, before)
	assert.Zero(t, h.slabs(), "what is only checked does not stay")

	t.Log("# a delivery brings back what it needs, and what it needs stays while it is open")
	h.use("folder", 1<<30)
	h.start(10, blank(t, disk.Size), 0, "herb-01")
	done := h.deliver(api.NewDelivery{Image: "garden-desk@2", To: []string{"herb-01"}})
	assert.EqualValues(t, "delivered", h.receipts(done.ID)["herb-01"].Outcome)
	assert.Positive(t, h.slabs())
	sound, err := h.client.VerifyVersion(ctx, "garden-desk@1")
	require.NoError(t, err)
	assert.True(t, sound.Sound, "%+v", sound)

	t.Log("# a store that has versions stays, and what nobody needs goes")
	assert.ErrorContains(t, h.client.RemoveStore(ctx, "big"), "versions are in the store big")
	_, err = h.client.RetireVersion(ctx, "garden-desk@2")
	require.NoError(t, err)
	dry, err := h.client.Prune(ctx, true)
	require.NoError(t, err)
	assert.Positive(t, dry.Slabs)
	_, err = h.client.Prune(ctx, false)
	require.NoError(t, err)
	check, err = h.client.CheckStore(ctx, "big", api.NewStoreCheck{Read: true})
	require.NoError(t, err)
	assert.True(t, check.Sound, check.Faults)

	t.Log("# back into the folder")
	_, err = h.client.MoveToStore(ctx, "folder", api.StoreMove{})
	require.NoError(t, err)
	h.moved("garden-desk@1", "folder")
	h.use("folder", 0)
	require.NoError(t, h.client.RemoveStore(ctx, "big"))
	server.Kill()
	sound, err = h.client.VerifyVersion(ctx, "garden-desk@1")
	require.NoError(t, err)
	assert.True(t, sound.Sound, "%+v", sound)
}

// A store that is away, or full, keeps nobody from capturing; what waits goes on when it is back.
func TestAStoreThatIsAwayOrFull(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("a small disk needs root")
	}
	small := filepath.Join(t.TempDir(), "small")
	require.NoError(t, os.Mkdir(small, 0o755))
	require.NoError(t, unix.Mount("tmpfs", small, "tmpfs", 0, "size=3m"))
	t.Cleanup(func() { unix.Unmount(small, unix.MNT_DETACH) })
	server := buckettest.Start(t, small)
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.addStore("big", server)
	h.use("big", 0)
	server.Kill()
	disk := gold(t)
	h.start(1, disk.Path, 0, "desk-gold")
	h.capture("desk-gold", "garden-desk")
	away := func() bool {
		s, err := h.client.Store(ctx, "big")
		require.NoError(t, err)
		return s.State == "away"
	}
	h.eventually(away)
	s, err := h.client.Store(ctx, "big")
	require.NoError(t, err)
	assert.Contains(t, s.Trouble, "cannot be reached")
	assert.Equal(t, 1, s.Moving)
	_, err = h.client.RestartPart(ctx, "store big")
	assert.True(t, apiclient.IsConflict(err), "nobody is there yet: %v", err)

	server.Run()
	part, err := h.client.RestartPart(ctx, "store big")
	require.NoError(t, err)
	assert.Equal(t, "store big", part.Part)
	for _, wrong := range []string{"records", "store folder", "store nobody-has", "network boot on eth9", "disk", "x"} {
		_, err = h.client.RestartPart(ctx, wrong)
		assert.Error(t, err, wrong)
	}
	h.eventually(func() bool { // the disk of the store is too small
		h.use("big", 0) // has it be tried again
		s, err := h.client.Store(ctx, "big")
		require.NoError(t, err)
		return s.State == "away" && !strings.Contains(s.Trouble, "cannot be reached")
	})
	v, err := h.client.Version(ctx, "garden-desk@1")
	require.NoError(t, err)
	assert.Equal(t, "folder", v.Store, "nothing says that it is there")
	sound, err := h.client.VerifyVersion(ctx, "garden-desk@1")
	require.NoError(t, err)
	assert.True(t, sound.Sound)

	require.NoError(t, unix.Mount("tmpfs", small, "tmpfs", unix.MS_REMOUNT, "size=200m"))
	h.use("big", 0)
	h.moved("garden-desk@1", "big")
	h.eventually(func() bool { return h.slabs() == 0 })

	t.Log("# a version whose store is away is not delivered, and is once it is back")
	server.Kill()
	_, err = h.client.CheckStore(ctx, "big", api.NewStoreCheck{})
	require.NoError(t, err)
	var any slabstore.Digest
	for _, any = range h.mapOf("garden-desk@1").Distinct() {
		break
	}
	_, err = h.client.Slab(ctx, any)
	assert.ErrorContains(t, err, "cannot be reached")
	server.Run()
	_, err = h.client.Slab(ctx, any)
	assert.NoError(t, err)
}

// A folder that another service keeps its versions in, and a place that does not do what is asked.
func TestPlacesThatAreNoStoreToRelyOn(t *testing.T) {
	t.Parallel()
	shelf := t.TempDir()
	first := open(t, t.TempDir(), "127.0.0.1:0")
	second := open(t, t.TempDir(), "127.0.0.1:0")
	_, err := first.client.AddStore(t.Context(), api.NewStore{Name: "shelf", Place: shelf})
	require.NoError(t, err)
	_, err = second.client.AddStore(t.Context(), api.NewStore{Name: "shelf", Place: shelf})
	assert.ErrorContains(t, err, "another service's")
	_, err = second.client.AddStore(t.Context(), api.NewStore{Name: "shelf", Place: "shelf"})
	assert.ErrorContains(t, err, "by its whole path")
	_, err = second.client.AddStore(t.Context(), api.NewStore{Name: "shelf", Place: filepath.Join(shelf, "none")})
	assert.Error(t, err)
	_, err = second.client.AddStore(t.Context(), api.NewStore{Name: "shelf", Place: "http://127.0.0.1:1/garden"})
	assert.ErrorContains(t, err, "cannot be relied on as a store")
}
