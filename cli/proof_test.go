package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	prove "jugate/core/proof"
	"jugate/demo/golddisk"
)

// An auditor gets what proves itself, and whoever keeps a head finds out what was changed since.
func TestReceiptsAreProvenAtTheCommandLine(t *testing.T) {
	d := openDesk(t)
	dir := t.TempDir()
	gold, err := golddisk.Build(t.Context(), golddisk.Spec{Path: filepath.Join(dir, "gold"), Data: golddisk.MiB})
	require.NoError(t, err)
	target := filepath.Join(dir, "target")
	require.NoError(t, golddisk.Blank(target, gold.Size))
	until(t, start(t, "simulate", "--address", "00:00:5e:00:53:01", "--disk", gold.Path), "waiting to be admitted")
	until(t, start(t, "simulate", "--address", "00:00:5e:00:53:11", "--disk", target), "waiting to be admitted")
	d.must("workstation", "admit", "00:00:5e:00:53:01", "desk-gold")
	d.must("workstation", "admit", "00:00:5e:00:53:11", "herb-01")
	d.must("capture", "desk-gold", "--as", "garden-desk")
	head := filepath.Join(dir, "earlier.head")
	d.must("receipt", "head", "--into", head)
	d.must("deliver", "garden-desk", "--to", "herb-01", "--yes")

	key := read[api.LogKeys](d, "witness", "key").Log
	keyFile := filepath.Join(dir, "garden.key")
	require.NoError(t, os.WriteFile(keyFile, []byte(key+"\n"), 0o600))
	proof := filepath.Join(dir, "receipt.proof")
	d.must("receipt", "prove", "1", "--into", proof)
	assert.Contains(t, d.must("receipt", "verify", proof, "--key", keyFile), `"workstation": "herb-01"`)
	assert.Contains(t, d.must("receipt", "check", "--head", head), "are all there, unchanged")
	assert.Regexp(t, `^1 receipts, 0 arrivals and \d+ lines of the logbook are as they were written`, d.must("receipt", "check"))

	t.Log("# a proof, a head or an export that was changed is none")
	for file, change := range map[string]func(string) string{
		proof: func(s string) string { return strings.Replace(s, "index 3", "index 2", 1) },
		head:  func(s string) string { return strings.Replace(s, "\n3\n", "\n2\n", 1) },
	} {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		changed := change(string(text))
		if changed == string(text) {
			changed = strings.Replace(changed, "\n\n", "\nAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA=\n\n", 1)
		}
		bad := file + ".bad"
		require.NoError(t, os.WriteFile(bad, []byte(changed), 0o600))
		args := []string{"receipt", "verify", bad, "--key", key}
		if file == head {
			args = []string{"receipt", "check", "--head", bad}
		}
		_, code := d.run(args...)
		assert.Equal(t, 1, code, file)
	}
	lines := filepath.Join(dir, "all.jsonl")
	d.must("receipt", "export", "--into", lines)
	assert.Contains(t, d.must("receipt", "verify", lines, "--key", key), "1 receipts, all of them in the tree of")
	text, err := os.ReadFile(lines)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(lines, []byte(strings.Replace(string(text), "herb-01", "herb-02", 1)), 0o600))
	said, code := d.run("receipt", "verify", lines, "--key", key)
	assert.Equal(t, 1, code)
	assert.Contains(t, said, "line 2: the proof does not fit")

	t.Log("# a table and a page of it are made of what was proven")
	assert.Contains(t, d.must("receipt", "export", "--format", "csv"), "herb-01,00:00:5e:00:53:11,garden-desk,1")
	page := d.must("receipt", "export", "--format", "page", "--since", "2026-01-01T00:00:00Z")
	assert.Contains(t, page, "<td>herb-01</td>")
	assert.Contains(t, d.must("receipt", "export", "--format", "csv", "--since", "2100-01-01T00:00:00Z"), "receipt,ended")
	_, code = d.run("receipt", "export", "--format", "pdf")
	assert.Equal(t, 2, code)

	t.Log("# witnesses")
	said, code = d.run("witness", "add", "alpine-house", "https://127.0.0.1:1/witness/v1", "--key", key)
	assert.Equal(t, 1, code)
	assert.Contains(t, said, "does not answer")
	private, err := prove.NewKey("garden")
	require.NoError(t, err)
	other, err := prove.ParseKey(private)
	require.NoError(t, err)
	d.must("witness", "watch", "garden", "--key", other.Verifier())
	assert.Contains(t, d.must("witness", "watched"), "garden")
	_, code = d.run("witness", "confirm", "garden")
	assert.Equal(t, 1, code)
	d.must("witness", "unwatch", "garden")
	d.must("witness", "ask")
	_, code = d.run("receipt", "restored", "--why", "nothing was")
	assert.Equal(t, 1, code)
}
