package bundle_test

import (
	"bytes"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"testing"

	"jugate/demo/goldimage"

	oci "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"oras.land/oras-go/v2"
	"oras.land/oras-go/v2/content"
	ocilayout "oras.land/oras-go/v2/content/oci"

	"jugate/core/bundle"
	"jugate/core/image"
	"jugate/core/restore"
	"jugate/core/slabstore"
	"jugate/demo/golddisk"
)

// Pack captures a disk into a file.
func Pack(t *testing.T, gold *golddisk.Disk, name string) (string, *image.Manifest) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "packed")
	f, err := os.Create(path)
	require.NoError(t, err)
	p := bundle.NewWriter(f)
	man, slabs, err := goldimage.Capture(t, gold, p)
	require.NoError(t, err)
	require.NoError(t, p.Finish(man, slabs, name))
	require.NoError(t, f.Close())
	return path, man
}

func OpenPacked(t *testing.T, path string) (*bundle.Reader, error) {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	info, err := f.Stat()
	require.NoError(t, err)
	return bundle.Open(f, info.Size())
}

func TestAPackedImageIsRestored(t *testing.T) {
	gold := goldimage.Build(t, golddisk.Spec{Other: bytes.Repeat([]byte("again and again "), 3*golddisk.MiB/16), ESP: 33 * golddisk.MiB})
	path, man := Pack(t, gold, "garden-desk@3")
	p, err := OpenPacked(t, path)
	require.NoError(t, err)
	assert.Equal(t, "garden-desk@3", p.Name)
	assert.Equal(t, man.MapDigest, p.Manifest.MapDigest)
	require.NoError(t, p.Verify(t.Context()))

	target := goldimage.Open(t, gold.Size)
	r, err := restore.New(p.Manifest, p.Slabs, target, gold.Size, 512, restore.Options{})
	require.NoError(t, err)
	_, err = r.Begin(t.Context(), nil)
	require.NoError(t, err)
	require.NoError(t, r.Fill(t.Context(), p, nil))
	require.NoError(t, r.Finish(t.Context(), nil))
	got := gold.On(target.Name())
	require.NoError(t, got.Check(t.Context()))
	want, err := gold.Files(t.Context())
	require.NoError(t, err)
	files, err := got.Files(t.Context())
	require.NoError(t, err)
	assert.Equal(t, want, files)
	_, err = p.Frame(slabstore.Sum([]byte("none of it")))
	assert.ErrorIs(t, err, slabstore.ErrNotFound)
}

// A library of other people's, made for OCI registries, reads the file, follows
// every descriptor, checks every digest, and copies the whole.
func TestAPackedImageIsAnOCILayout(t *testing.T) {
	path, _ := Pack(t, goldimage.Build(t, golddisk.Spec{}), "garden-desk@3")
	ctx := t.Context()
	from, err := ocilayout.NewFromTar(ctx, path)
	require.NoError(t, err)
	to, err := ocilayout.New(t.TempDir())
	require.NoError(t, err)
	top, err := oras.Copy(ctx, from, "garden-desk@3", to, "copied", oras.DefaultCopyOptions)
	require.NoError(t, err)
	assert.Equal(t, oci.MediaTypeImageManifest, top.MediaType)
	text, err := content.FetchAll(ctx, to, top)
	require.NoError(t, err)
	var m oci.Manifest
	require.NoError(t, json.Unmarshal(text, &m))
	assert.Equal(t, bundle.ArtifactType, m.ArtifactType)
	assert.GreaterOrEqual(t, len(m.Layers), 3)
	for _, layer := range append(m.Layers, m.Config) {
		r, err := to.Fetch(ctx, layer)
		require.NoError(t, err)
		n, err := io.Copy(io.Discard, r)
		require.NoError(t, err)
		assert.Equal(t, layer.Size, n)
		require.NoError(t, r.Close())
	}
}

func TestADamagedPackedImageIsRefused(t *testing.T) {
	path, _ := Pack(t, goldimage.Build(t, golddisk.Spec{Data: golddisk.MiB}), "")
	sound, err := os.ReadFile(path)
	require.NoError(t, err)
	for name, harm := range map[string]func(b []byte) []byte{
		"cut off":           func(b []byte) []byte { return b[:len(b)/2] },
		"no tar":            func(b []byte) []byte { return bytes.Repeat([]byte("leaf "), 1000) },
		"empty":             func(b []byte) []byte { return nil },
		"a frame list lies": func(b []byte) []byte { i := bytes.Index(b, []byte("JUGMAP1\n")); b[i+200] ^= 1; return b },
		"another artifact": func(b []byte) []byte {
			return bytes.ReplaceAll(b, []byte("vnd.jugate.image"), []byte("vnd.others.image"))
		},
	} {
		b := harm(bytes.Clone(sound))
		_, err := bundle.Open(bytes.NewReader(b), int64(len(b)))
		assert.ErrorIs(t, err, bundle.ErrNotBundle, name)
	}
	b := bytes.Clone(sound)
	b[4096] ^= 1 // in the first pack
	p, err := bundle.Open(bytes.NewReader(b), int64(len(b)))
	require.NoError(t, err, "packs are checked when they are read")
	assert.ErrorIs(t, p.Verify(t.Context()), bundle.ErrNotBundle)
}

func FuzzOpenPacked(f *testing.F) {
	var file bytes.Buffer
	p := bundle.NewWriter(&file)
	f.Add([]byte("no tar at all"))
	plain := []byte("pressed leaf")
	if err := p.Put(f.Context(), slabstore.Sum(plain), slabstore.Compress(nil, plain)); err != nil {
		f.Fatal(err)
	}
	man := &image.Manifest{Format: image.Format}
	if err := p.Finish(man, &image.Map{}, "garden-desk@3"); err != nil {
		f.Fatal(err)
	}
	f.Add(file.Bytes())
	f.Fuzz(func(t *testing.T, b []byte) {
		p, err := bundle.Open(bytes.NewReader(b), int64(len(b)))
		if err == nil {
			for _, d := range p.Slabs.Distinct() {
				if _, err := p.Frame(d); err != nil {
					t.Fatal(err)
				}
			}
		}
	})
}

// A slab can be told by another one of the same file.
func TestAPackedImageWithDeltas(t *testing.T) {
	gold := goldimage.Build(t, golddisk.Spec{})
	sink := goldimage.NewSink(t)
	man, slabs, err := goldimage.Capture(t, gold, sink)
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "packed")
	f, err := os.Create(path)
	require.NoError(t, err)
	p := bundle.NewWriter(f)
	var first []byte
	var base slabstore.Digest
	n := 0
	for _, d := range slabs.Distinct() {
		plain, err := sink.Get(d)
		require.NoError(t, err)
		if n++; n == 1 || n%2 == 0 {
			if n == 1 {
				first, base = plain, d
			}
			require.NoError(t, p.Put(t.Context(), d, slabstore.Compress(nil, plain)))
			assert.False(t, p.Leans(d))
			continue
		}
		delta, err := slabstore.CompressDelta(nil, plain, first, base)
		require.NoError(t, err)
		require.NoError(t, p.PutDelta(d, delta))
		assert.True(t, p.Leans(d))
	}
	require.NoError(t, p.Finish(man, slabs, "garden-desk@3"))
	require.NoError(t, f.Close())
	r, err := OpenPacked(t, path)
	require.NoError(t, err)
	require.NoError(t, r.Verify(t.Context()))
	for _, d := range slabs.Distinct() {
		want, err := sink.Get(d)
		require.NoError(t, err)
		frame, err := r.Frame(d)
		require.NoError(t, err)
		got, err := slabstore.ExpandChecked(nil, frame, d)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(want, got))
	}
	target := goldimage.Open(t, gold.Size)
	restoring, err := restore.New(r.Manifest, r.Slabs, target, gold.Size, 512, restore.Options{})
	require.NoError(t, err)
	_, err = restoring.Begin(t.Context(), nil)
	require.NoError(t, err)
	require.NoError(t, restoring.Fill(t.Context(), r, nil))
	require.NoError(t, restoring.Finish(t.Context(), nil))
}
