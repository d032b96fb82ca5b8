package access

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSecretsAreSealedForOnePurposeWithOneKey(t *testing.T) {
	dir := t.TempDir()
	open := func(dir string) *Access {
		key, err := sealKey(dir)
		require.NoError(t, err)
		return &Access{sealing: key}
	}
	a := open(dir)
	first, err := a.Seal("group:herbarium product_key", "AAAAA-00000")
	require.NoError(t, err)
	second, err := a.Seal("group:herbarium product_key", "AAAAA-00000")
	require.NoError(t, err)
	assert.NotEqual(t, first, second, "equal secrets do not show that they are equal")
	assert.NotContains(t, first, "AAAAA")

	text, err := open(dir).Unseal("group:herbarium product_key", first)
	require.NoError(t, err, "the key outlives the service")
	assert.Equal(t, "AAAAA-00000", text)

	t.Log("# it opens for nothing else, with no other key, and not if a bit of it changed")
	_, err = a.Unseal("group:scanners product_key", first)
	assert.ErrorContains(t, err, "set it again")
	_, err = open(t.TempDir()).Unseal("group:herbarium product_key", first)
	assert.ErrorContains(t, err, "set it again")
	for _, text := range []string{sealed, sealed + "!", sealed + "AAAA", first[:len(first)-4] + "AAAA"} {
		_, err = a.Unseal("group:herbarium product_key", text)
		assert.Error(t, err, text)
	}
	text, err = a.Unseal("x", "never sealed")
	assert.NoError(t, err)
	assert.Equal(t, "never sealed", text)

	info, err := os.Stat(filepath.Join(dir, "seal.key"))
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())
	require.NoError(t, os.WriteFile(filepath.Join(dir, "seal.key"), []byte("short"), 0o600))
	_, err = sealKey(dir)
	assert.ErrorContains(t, err, "is not a key of 32 bytes")
}
