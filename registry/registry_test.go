package registry_test

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	oci "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"jugate/core/bundle"
	"jugate/core/fault"
	"jugate/core/image"
	"jugate/core/slabstore"
	"jugate/demo/golddisk"
	"jugate/demo/goldimage"
	"jugate/registry"
	"jugate/registry/registrytest"
)

// gold is a golden disk, captured.
func gold(t *testing.T) (*golddisk.Disk, *goldimage.Sink, *image.Manifest, *image.Map) {
	t.Helper()
	disk, err := golddisk.Build(t.Context(), golddisk.Spec{Path: filepath.Join(t.TempDir(), "gold"), Size: 36 * golddisk.MiB, ESP: 3 * golddisk.MiB, FATBits: 12, Data: 6 * golddisk.MiB})
	require.NoError(t, err)
	sink := goldimage.NewSink(t)
	man, slabs, err := goldimage.Capture(t, disk, sink)
	require.NoError(t, err)
	return disk, sink, man, slabs
}

func repository(t *testing.T, reference string, o registry.Options) *registry.Repository {
	t.Helper()
	r, err := registry.Open(reference, o)
	require.NoError(t, err)
	return r
}

// push puts a version into a repository.
func push(t *testing.T, r *registry.Repository, sink *goldimage.Sink, man *image.Manifest, slabs *image.Map) (*registry.Pushing, error) {
	t.Helper()
	p := r.Push(t.Context())
	packer := bundle.NewBlobWriter(p)
	for _, d := range slabs.Distinct() {
		frame, err := sink.Frame(d)
		require.NoError(t, err)
		if err := packer.Put(t.Context(), d, frame); err != nil {
			return p, err
		}
	}
	return p, packer.Finish(man, slabs, "garden-desk@1")
}

func TestAVersionGoesThroughARegistry(t *testing.T) {
	server := registrytest.Start(t, t.TempDir(), "")
	_, sink, man, slabs := gold(t)
	r := repository(t, server.Address+"/images/garden-desk:1", registry.Options{})
	p, err := push(t, r, sink, man, slabs)
	require.NoError(t, err)
	assert.Equal(t, 4, p.Sent, "manifest, map, list and a pack")
	assert.Zero(t, p.There)

	t.Log("# what is there is not sent, and what another repository has is mounted")
	again, err := push(t, repository(t, server.Address+"/images/garden-desk:newest", registry.Options{}), sink, man, slabs)
	require.NoError(t, err)
	assert.Zero(t, again.Sent)
	assert.Equal(t, 4, again.There)
	assert.Equal(t, p.Top(), again.Top())
	other, err := push(t, repository(t, server.Address+"/alpine/garden-desk:1", registry.Options{From: []string{"images/none", "images/garden-desk"}}), sink, man, slabs)
	require.NoError(t, err)
	assert.Equal(t, 4, other.Mounted)
	assert.Zero(t, other.SentBytes)
	fourth, err := push(t, repository(t, server.Address+"/seeds/garden-desk:1", registry.Options{From: []string{"images/none"}}), sink, man, slabs)
	require.NoError(t, err)
	assert.Equal(t, 4, fourth.Sent)

	t.Log("# and comes out as it went in")
	top, err := r.Find(t.Context())
	require.NoError(t, err)
	back, err := bundle.OpenFrom(r.Source(t.Context()), top, "garden-desk")
	require.NoError(t, err)
	assert.True(t, image.SameContent(man, back.Manifest))
	for _, d := range slabs.Distinct() {
		frame, err := back.Frame(d)
		require.NoError(t, err)
		_, err = slabstore.ExpandChecked(nil, frame, d)
		require.NoError(t, err)
	}
	require.NoError(t, back.Verify(t.Context()))
}

// This registry has no interface for referrers: signatures are found by a tag, as the specification
// has it for such.
func TestSignaturesReferToAVersion(t *testing.T) {
	server := registrytest.Start(t, t.TempDir(), "")
	answer, err := http.Get("http://" + server.Address + "/v2/images/garden-desk/referrers/sha256:" + strings.Repeat("0", 64))
	require.NoError(t, err)
	answer.Body.Close()
	require.Equal(t, http.StatusNotFound, answer.StatusCode)

	_, sink, man, slabs := gold(t)
	r := repository(t, server.Address+"/images/garden-desk:1", registry.Options{})
	p, err := push(t, r, sink, man, slabs)
	require.NoError(t, err)
	all, err := r.Signatures(t.Context(), p.Top())
	require.NoError(t, err)
	assert.Empty(t, all)
	for range 2 {
		require.NoError(t, r.Sign(t.Context(), p.Top(), "one\n"))
	}
	require.NoError(t, r.Sign(t.Context(), p.Top(), "two\n"))
	all, err = r.Signatures(t.Context(), p.Top())
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"one\n", "two\n"}, all)
}

func TestARegistryThatAsksWhoYouAre(t *testing.T) {
	server := registrytest.Start(t, t.TempDir(), "not-a-real-secret")
	_, sink, man, slabs := gold(t)
	place := server.Address + "/images/garden-desk:1"
	empty := filepath.Join(t.TempDir(), "none.json")
	_, err := push(t, repository(t, place, registry.Options{Credentials: empty}), sink, man, slabs)
	assert.ErrorIs(t, err, fault.Forbidden)
	assert.ErrorContains(t, err, "sign in to it")
	_, err = push(t, repository(t, place, registry.Options{Credentials: server.Credentials("wrong")}), sink, man, slabs)
	assert.ErrorIs(t, err, fault.Forbidden)
	_, err = push(t, repository(t, place, registry.Options{Credentials: server.Credentials("not-a-real-secret")}), sink, man, slabs)
	assert.NoError(t, err)
}

// A registry that is filled up, or killed in the middle, has no version by that tag; the next try
// sends what is missing.
func TestARegistryThatIsFullOrKilled(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("a small disk needs root")
	}
	small := t.TempDir()
	require.NoError(t, unix.Mount("tmpfs", small, "tmpfs", 0, "size=2m"))
	t.Cleanup(func() { unix.Unmount(small, unix.MNT_DETACH) })
	server := registrytest.Start(t, small, "")
	_, sink, man, slabs := gold(t)
	r := repository(t, server.Address+"/images/garden-desk:1", registry.Options{})
	_, err := push(t, r, sink, man, slabs)
	require.Error(t, err)
	_, err = r.Find(t.Context())
	assert.ErrorIs(t, err, fault.NotFound)
	require.NoError(t, unix.Mount("tmpfs", small, "tmpfs", unix.MS_REMOUNT, "size=200m"))

	half := r.Push(t.Context())
	packer := bundle.NewBlobWriter(cut{half, func() { server.Kill() }})
	for _, d := range slabs.Distinct() {
		frame, err := sink.Frame(d)
		require.NoError(t, err)
		require.NoError(t, packer.Put(t.Context(), d, frame))
	}
	require.Error(t, packer.Finish(man, slabs, ""))
	server.Run()
	_, err = r.Find(t.Context())
	assert.ErrorIs(t, err, fault.NotFound)
	p, err := push(t, r, sink, man, slabs)
	require.NoError(t, err)
	assert.Positive(t, p.There, "what came before the kill")
	_, err = r.Find(t.Context())
	assert.NoError(t, err)
}

// cut kills before the manifest is there.
type cut struct {
	*registry.Pushing
	kill func()
}

func (c cut) Finish(top oci.Descriptor, manifest []byte, name string) error {
	c.kill()
	return c.Pushing.Finish(top, manifest, name)
}

// Bytes that a registry has damaged are no version, and what is no version of ours is told so.
func TestARegistryThatGivesOtherBytes(t *testing.T) {
	server := registrytest.Start(t, t.TempDir(), "")
	_, sink, man, slabs := gold(t)
	r := repository(t, server.Address+"/images/garden-desk:1", registry.Options{})
	_, err := push(t, r, sink, man, slabs)
	require.NoError(t, err)
	top, err := r.Find(t.Context())
	require.NoError(t, err)
	blobs, err := filepath.Glob(filepath.Join(server.Dir, "docker/registry/v2/blobs/sha256/*/*/data"))
	require.NoError(t, err)
	for _, path := range blobs {
		if strings.Contains(path, top.Digest.Encoded()) {
			continue
		}
		whole, err := os.ReadFile(path)
		require.NoError(t, err)
		bad := append([]byte(nil), whole...)
		bad[len(bad)/2] ^= 1
		require.NoError(t, os.WriteFile(path, bad, 0o600))
		back, err := bundle.OpenFrom(r.Source(t.Context()), top, "garden-desk")
		for _, d := range slabs.Distinct() {
			if err == nil {
				_, err = back.Frame(d)
			}
		}
		assert.ErrorIs(t, err, bundle.ErrNotBundle, path)
		require.NoError(t, os.WriteFile(path, whole, 0o600))
	}
	require.NoError(t, r.Sign(t.Context(), top, "a signature is no version\n"))
	tags, err := filepath.Glob(filepath.Join(server.Dir, "docker/registry/v2/repositories/images/garden-desk/_manifests/tags/sha256-*"))
	require.NoError(t, err)
	require.Len(t, tags, 1)
	other := repository(t, server.Address+"/images/garden-desk:"+filepath.Base(tags[0]), registry.Options{})
	top, err = other.Find(t.Context())
	require.NoError(t, err)
	_, err = bundle.OpenFrom(other.Source(t.Context()), top, "garden-desk")
	assert.Error(t, err)
}

func TestPlacesThatAreNone(t *testing.T) {
	for _, place := range []string{"", "garden-desk", "registry.fennholt.example/garden-desk", "https://registry.fennholt.example/a:1"} {
		_, err := registry.Open(place, registry.Options{})
		assert.ErrorIs(t, err, fault.Invalid, place)
	}
}
