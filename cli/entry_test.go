package cli_test

import (
	"debug/pe"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/demo/madeup"
)

// Boot entries are added, released, looked at and booted, and those that destroy a disk ask first.
func TestBootEntriesAtTheCommandLine(t *testing.T) {
	d := openDesk(t)
	dir := t.TempDir()
	room := filepath.Join(dir, "room.csv")
	require.NoError(t, os.WriteFile(room, []byte("name,hardware_addresses,groups\nherb-01,00:00:5e:00:53:11,herbarium\nherb-02,00:00:5e:00:53:12,herbarium\n"), 0o600))
	d.must("workstation", "import", room)
	_, err := d.stranger().CheckIn(t.Context(), api.CheckIn{Boot: "boot", AgentVersion: "test", Addresses: []string{"00:00:5e:00:53:12"}, Inventory: api.Inventory{Firmware: "UEFI", SecureBoot: true, Disks: []api.Disk{}, Cards: []api.Card{}}})
	require.NoError(t, err)
	write := func(name string, content []byte) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, content, 0o600))
		return path
	}
	kernel := madeup.LinuxKernel(madeup.UEFIProgram(pe.IMAGE_FILE_MACHINE_AMD64), true)

	t.Log("# a file, several, a folder; what was found is shown")
	assert.Contains(t, d.must("entry", "list"), "no boot entry yet")
	text := d.must("entry", "add", "memory-test", "--from", write("test.efi", kernel))
	assert.Contains(t, text, "UEFI program, x64, not signed")
	assert.Contains(t, text, "not by UEFI with Secure Boot: it is not signed")
	text = d.must("entry", "add", "rescue", "--from", write("vmlinuz", kernel)+","+write("layers.gz", madeup.Initrd(62)))
	assert.Contains(t, text, "from vmlinuz and layers.gz")
	assert.Contains(t, text, "initrd-1-layers.gz")
	write("tree/debian-installer/amd64/linux", kernel)
	write("tree/debian-installer/amd64/initrd.gz", madeup.Initrd(62))
	text = d.must("entry", "add", "installer", "--from", filepath.Join(dir, "tree"))
	assert.Contains(t, text, "installer of Debian")
	assert.Regexp(t, `destroys the disk +yes`, text)
	for _, wrong := range [][]string{{"--from", filepath.Join(dir, "tree") + "," + filepath.Join(dir, "vmlinuz")}, {"--from", filepath.Join(dir, "nothing")}, {"--from", room}} {
		_, code := d.run(append([]string{"entry", "add", "odd"}, wrong...)...)
		assert.NotZero(t, code, wrong)
	}

	t.Log("# it is edited flag by flag: what none is given for stays")
	d.must("entry", "edit", "memory-test", "--release", "everybody", "--title", "Test the memory", "--to", "herbarium")
	text = d.must("entry", "edit", "memory-test", "--words", "console=ttyS0", "--parameter", "passes=How often?=1", "--parameter", "note=For whom?")
	assert.Contains(t, text, "Test the memory")
	assert.Contains(t, text, "How often? [1]")
	var e api.BootEntry
	require.NoError(t, json.Unmarshal([]byte(d.must("entry", "show", "memory-test", "-o", "json")), &e))
	assert.Equal(t, []string{"everybody"}, e.Released)
	assert.Equal(t, []api.BootParameter{{Name: "passes", Ask: "How often?", Default: "1"}, {Name: "note", Ask: "For whom?"}}, e.Parameters)
	_, code := d.run("entry", "edit", "memory-test", "--parameter", "passes")
	assert.Equal(t, 1, code)
	d.must("entry", "edit", "rescue", "--reads", "text", "--answer-file", write("own.txt", []byte("I am {{.computer_name}}\n")), "--words", "own={{.answer_file}}")
	assert.Contains(t, d.must("entry", "preview", "rescue", "--for", "herb-01"), "I am herb-01")
	d.must("entry", "hide", "rescue")
	assert.Regexp(t, `rescue .* hidden`, d.must("entry", "list"))

	t.Log("# it is booted; who cannot is named, and what destroys a disk asks first")
	text, code = d.run("entry", "next", "herb-01", "herb-02", "memory-test")
	assert.Equal(t, 3, code, "some could not")
	assert.Contains(t, text, "herb-01 boots memory-test at its next start")
	assert.Contains(t, text, "left out: herb-02:")
	text, code = d.run("entry", "next", "herb-01", "installer")
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "destroys all that is on the disk of herb-01")
	d.must("entry", "next", "herb-01", "installer", "--yes", "--set", "mirror=mirror.fennholt.example")
	_, code = d.run("entry", "always", "herbarium", "installer", "--yes")
	assert.Equal(t, 1, code)
	assert.Contains(t, d.must("entry", "always", "herbarium", "memory-test"), "whoever is in herbarium boots memory-test at every start")
	assert.Contains(t, d.must("entry", "none", "herbarium"), "whoever is in herbarium boots as usual")
	assert.Contains(t, d.must("entry", "none", "--where", `"herbarium" in groups`), "herb-02 boots as usual")
	assert.Contains(t, d.must("entry", "history"), "no boot entry was started yet")

	t.Log("# versions")
	d.must("entry", "add", "memory-test", "--from", write("newer.efi", append(kernel, "newer"...)))
	assert.Contains(t, d.must("entry", "show", "memory-test"), "version 2 (shown)")
	d.must("entry", "pin", "memory-test", "1")
	assert.Contains(t, d.must("entry", "show", "memory-test"), "version 1 (shown)")
	d.must("entry", "remove", "memory-test@1")
	assert.Contains(t, d.must("entry", "show", "memory-test"), "version 2 (shown)", "what was pinned is gone")
	for _, wrong := range [][]string{{"pin", "memory-test", "one"}, {"remove", "memory-test@one"}, {"remove", "memory-test@2"}, {"remove", "nothing"}} {
		_, code := d.run(append([]string{"entry"}, wrong...)...)
		assert.NotZero(t, code, wrong)
	}
	d.must("entry", "remove", "memory-test")
}
