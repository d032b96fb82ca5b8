package slabstore_test

import (
	"bytes"
	"encoding/hex"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/slabstore"
)

// noise is bytes that do not compress.
func noise(seed byte, n int) []byte {
	b := make([]byte, n)
	rand.NewChaCha8([32]byte{seed}).Read(b)
	return b
}

func delta(t *testing.T, plain, base []byte) []byte {
	t.Helper()
	d, err := slabstore.CompressDelta(nil, plain, base, slabstore.Sum(base))
	require.NoError(t, err)
	return d
}

func TestADeltaHasWhatDiffers(t *testing.T) {
	base := noise(1, 1<<20)
	for name, plain := range map[string][]byte{
		"the same":            base,
		"64 KiB other":        slices.Concat(base[:300_000], noise(2, 64<<10), base[300_000+64<<10:]),
		"moved":               slices.Concat(noise(3, 5000), base[:1<<20-5000]),
		"shorter":             base[100:7000],
		"longer":              slices.Concat(base, noise(4, 100)),
		"nothing in common":   noise(5, 1<<20),
		"nothing":             {},
		"as large as can be":  slices.Concat(base, base, base, noise(6, 1<<20)),
		"zeros, which repeat": make([]byte, 1<<20),
	} {
		t.Run(name, func(t *testing.T) {
			d := delta(t, plain, base)
			of, err := slabstore.BaseOf(d)
			require.NoError(t, err)
			assert.Equal(t, slabstore.Sum(base), of)
			got, err := slabstore.ExpandDeltaChecked(nil, d, base, slabstore.Sum(plain))
			require.NoError(t, err)
			assert.True(t, bytes.Equal(plain, got))
		})
	}
	assert.Less(t, len(delta(t, slices.Concat(noise(3, 5000), base[:1<<20-5000]), base)), 5500)
	assert.Less(t, len(delta(t, slices.Concat(base[:300_000], noise(2, 64<<10), base[300_000+64<<10:]), base)), 66<<10)
}

func TestADeltaIsOrdinaryZstandard(t *testing.T) {
	dir := t.TempDir()
	for name, base := range map[string][]byte{
		"noise": noise(1, 1<<20),
		"text":  bytes.Repeat([]byte("specimen sheet, pressed and mounted; "), 20_000),
	} {
		plain := slices.Concat(base[:1000], []byte("a label was added"), base[1000:])
		frame := delta(t, plain, base)[44:]
		require.NoError(t, os.WriteFile(filepath.Join(dir, "base"), base, 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "frame.zst"), frame, 0o600))
		out, err := exec.Command("zstd", "-dc", "-D", filepath.Join(dir, "base"), filepath.Join(dir, "frame.zst")).Output()
		require.NoError(t, err, name)
		assert.True(t, bytes.Equal(plain, out), name)
		out, err = exec.Command("zstd", "-dc", "--patch-from="+filepath.Join(dir, "base"), filepath.Join(dir, "frame.zst")).Output()
		require.NoError(t, err, name)
		assert.True(t, bytes.Equal(plain, out), name)
	}
}

// What a disk has may look like a dictionary of another kind.
func TestABaseThatBeginsLikeADictionary(t *testing.T) {
	base := append([]byte{0x37, 0xA4, 0x30, 0xEC, 1, 0, 0, 0}, noise(1, 5000)...)
	plain := base[50:]
	d := delta(t, plain, base)
	assert.Less(t, len(d), 200)
	got, err := slabstore.ExpandDelta(nil, d, base)
	require.NoError(t, err)
	assert.Equal(t, plain, got)
}

func TestWhatIsNoDelta(t *testing.T) {
	base, plain := noise(1, 5000), noise(2, 5000)
	good := delta(t, plain, base)
	for name, c := range map[string]struct {
		delta, base []byte
		want        error
	}{
		"nothing":          {nil, base, slabstore.ErrDelta},
		"a frame":          {slabstore.Compress(nil, plain), base, slabstore.ErrDelta},
		"cut in its head":  {good[:30], base, slabstore.ErrDelta},
		"cut in its frame": {good[:len(good)-10], base, slabstore.ErrDelta},
		"another base":     {delta(t, base[:4000], base), noise(3, 5000), slabstore.ErrDigest},
	} {
		_, err := slabstore.ExpandDeltaChecked(nil, c.delta, c.base, slabstore.Sum(base[:4000]))
		assert.ErrorIs(t, err, c.want, name)
	}
}

func FuzzExpandDelta(f *testing.F) {
	base := noise(1, 4096)
	d, err := slabstore.CompressDelta(nil, base[:3000], base, slabstore.Sum(base))
	require.NoError(f, err)
	f.Add(d, base)
	head, _ := hex.DecodeString("502a4d18240000004a474431")
	f.Add(append(head, make([]byte, 32)...), base)
	f.Fuzz(func(t *testing.T, delta, base []byte) {
		plain, err := slabstore.ExpandDelta(nil, delta, base)
		if err == nil && len(plain) > slabstore.MaxSlab {
			t.Fatalf("%d bytes out of %d", len(plain), len(delta))
		}
	})
}
