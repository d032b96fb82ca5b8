package cli_test

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/cli"
	"jugate/demo/golddisk"
)

// Nothing that is there is lost by an order that does not say so.
func TestNothingIsReplacedUnasked(t *testing.T) {
	dir := t.TempDir()
	gold := filepath.Join(dir, "gold.disk")
	_, err := golddisk.Build(t.Context(), golddisk.Spec{Path: gold, Size: 36 * golddisk.MiB, ESP: 3 * golddisk.MiB, FATBits: 12, Data: 2 * golddisk.MiB})
	require.NoError(t, err)
	sound, err := os.ReadFile(gold)
	require.NoError(t, err)
	run := func(args ...string) (string, int) {
		var out, errs bytes.Buffer
		code := cli.Run(t.Context(), args, &out, &errs)
		t.Logf("$ jugate %v\n%s%s[exit %d]", args, out.String(), errs.String(), code)
		return out.String() + errs.String(), code
	}
	unchanged := func() {
		t.Helper()
		is, err := os.ReadFile(gold)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(sound, is))
	}

	t.Log("# a golden disk is not packed into itself, by whatever name, nor with --replace")
	link := filepath.Join(dir, "link")
	require.NoError(t, os.Symlink(gold, link))
	hard := filepath.Join(dir, "hard")
	require.NoError(t, os.Link(gold, hard))
	for _, into := range []string{gold, link, hard} {
		for _, more := range [][]string{nil, {"--replace"}} {
			_, code := run(append([]string{"disk", "pack", gold, "--into", into}, more...)...)
			assert.NotZero(t, code)
			unchanged()
		}
	}

	t.Log("# a file that is there stays, but with --replace")
	file := filepath.Join(dir, "gold.tar")
	require.NoError(t, os.WriteFile(file, []byte("somebody's"), 0o600))
	text, code := run("disk", "pack", gold, "--into", file)
	assert.NotZero(t, code)
	assert.Contains(t, text, "--replace")
	is, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "somebody's", string(is))
	_, code = run("disk", "pack", gold, "--into", file, "--replace")
	require.Zero(t, code)

	t.Log("# a file that holds a disk is not written over without a yes")
	_, code = run("disk", "unpack", file, "--onto", gold)
	assert.NotZero(t, code)
	unchanged()
	target := filepath.Join(dir, "target")
	require.NoError(t, golddisk.Blank(target, 36*golddisk.MiB))
	_, code = run("disk", "unpack", file, "--onto", target, "--yes")
	assert.Zero(t, code)
}
