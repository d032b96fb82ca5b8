package cli_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/proof"
	"jugate/demo/golddisk"
	"jugate/registry/registrytest"
)

// A version goes from one service to a registry, and comes back as a version of another image, if a key that was
// named has signed it.
func TestVersionsTravelThroughARegistry(t *testing.T) {
	d := openDesk(t)
	dir := t.TempDir()
	server := registrytest.Start(t, t.TempDir(), "")
	gold, err := golddisk.Build(t.Context(), golddisk.Spec{Path: filepath.Join(dir, "gold"), Data: golddisk.MiB})
	require.NoError(t, err)
	d.must("image", "import", gold.Path, "--as", "garden-desk")
	place := server.Address + "/images/garden-desk:1"
	out := d.must("image", "push", "garden-desk@1", place)
	assert.Contains(t, out, "garden-desk@1 is at "+place)
	assert.Regexp(t, `4 blobs of 4 were sent .* signed by `, out)
	out = d.must("image", "push", "garden-desk@1", server.Address+"/alpine/garden-desk:1", "--mount", "images/garden-desk")
	assert.Regexp(t, `0 blobs of 4 were sent \(0 of .*\), 4 blobs taken over`, out)

	key := read[api.LogKeys](d, "witness", "key").Log
	private, err := proof.NewKey("jugate")
	require.NoError(t, err)
	stranger, err := proof.ParseKey(private)
	require.NoError(t, err)
	said, code := d.run("image", "pull", place, "--as", "elsewhere", "--signed-by", stranger.Verifier())
	assert.NotZero(t, code)
	assert.Contains(t, said, "1 signature, and none is by a key that you named")
	keyFile := filepath.Join(dir, "garden.key")
	require.NoError(t, os.WriteFile(keyFile, []byte(key+"\n"), 0o600))
	d.must("image", "pull", place, "--as", "elsewhere", "--signed-by", keyFile)
	d.must("image", "pull", place, "--as", "elsewhere", "--signed-by", "own", "--keep-equal")
	assert.Contains(t, d.must("image", "verify", "elsewhere@2"), "is sound")
	for _, args := range [][]string{
		{"image", "push", "garden-desk@1", "garden-desk"},
		{"image", "push", "garden-desk@9", place},
		{"image", "pull", server.Address + "/images/garden-desk:9", "--as", "elsewhere"},
		{"image", "pull", place, "--as", "elsewhere", "--signed-by", filepath.Join(dir, "none")},
	} {
		_, code := d.run(args...)
		assert.NotZero(t, code, args)
	}

	// One that nobody has signed is refused if a signature is wanted.
	tags, err := filepath.Glob(filepath.Join(server.Dir, "docker/registry/v2/repositories/images/garden-desk/_manifests/tags/sha256-*"))
	require.NoError(t, err)
	require.Len(t, tags, 1)
	require.NoError(t, os.RemoveAll(tags[0]))
	said, code = d.run("image", "pull", place, "--as", "unsigned", "--signed-by", "own")
	assert.NotZero(t, code)
	assert.Contains(t, said, "0 signatures")
	d.must("image", "pull", place, "--as", "unsigned")
}
