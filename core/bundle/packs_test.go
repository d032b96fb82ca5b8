package bundle_test

import (
	"math/rand/v2"
	"testing"

	oci "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/bundle"
	"jugate/core/slabstore"
)

// kept are the blobs that a packed image has.
type kept map[string]int64

func (k kept) Blob(d oci.Descriptor, _ []byte) error {
	k[d.Digest.String()] = d.Size
	return nil
}

func (k kept) Finish(oci.Descriptor, []byte, string) error { return nil }

// Two versions share the packs around what differs, so that a registry needs few of the next one.
func TestVersionsSharePacks(t *testing.T) {
	content := make([]byte, 500_000)
	pack := func(seeds []byte) kept {
		k := kept{}
		w := bundle.NewBlobWriter(k)
		for i, seed := range seeds {
			rand.NewChaCha8([32]byte{byte(i), byte(i >> 8), seed}).Read(content)
			require.NoError(t, w.Put(t.Context(), slabstore.Sum(content), slabstore.Compress(nil, content)))
		}
		return k
	}
	seeds := make([]byte, 800) // 400 MB
	first := pack(seeds)
	seeds[300], seeds[301] = 1, 1
	second := pack(append(seeds, 1))
	shared := 0
	for d, size := range second {
		assert.LessOrEqual(t, size, int64(bundle.MaxPack))
		if first[d] == size {
			shared++
		}
	}
	require.Greater(t, len(second), 8)
	assert.GreaterOrEqual(t, shared, len(second)-3, "%d of %d", shared, len(second))
}
