package cli_test

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
)

// kernelFolder is a folder with what a build is made of: files, but no kernel that
// would start.
func kernelFolder(t *testing.T) (root, agent string) {
	root = t.TempDir()
	for _, name := range []string{"boot/vmlinuz-6.1.0-9-amd64", "lib/modules/6.1.0-9-amd64/kernel/none", "usr/lib/shim/shimx64.efi.signed",
		"usr/lib/grub/x86_64-efi-signed/grubnetx64.efi.signed", "usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(name), 0o644))
	}
	agent = filepath.Join(root, "agent")
	require.NoError(t, os.WriteFile(agent, []byte("the agent"), 0o755))
	return root, agent
}

func TestBootEnvironmentsAtTheCommandLine(t *testing.T) {
	root, agent := kernelFolder(t)
	d := openDesk(t, "--agent", agent)
	text, code := d.run("environment", "show")
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "no build of the boot environment is offered")

	t.Log("# a build is made, and says what it lacks")
	text = d.must("environment", "build", "--from", root, "--note", "first")
	for _, want := range []string{"6.1.0-9-amd64", "offered              no", "base", "settings", "warning: ", "no BIOS workstation can boot it"} {
		assert.Contains(t, text, want)
	}
	b := read[api.Build](d, "environment", "build", "--from", root, "--kernel-words", "quiet debug", "--offer")
	assert.True(t, b.Offered)
	assert.Equal(t, 2, b.Number)
	text, code = d.run("environment", "build", "--from", t.TempDir())
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "linux-image-amd64")

	t.Log("# builds are looked at and held against each other")
	list := d.must("environment", "list")
	assert.Regexp(t, `2\s+yes`, list)
	assert.Regexp(t, `1\s+no`, list)
	files := d.must("environment", "show", "1", "--files")
	assert.Contains(t, files, "/init")
	assert.Contains(t, files, "jugate-agent")
	assert.Regexp(t, `base\s+/sbin/modprobe`, files)
	assert.Contains(t, d.must("environment", "show", "1", "--files", "-o", "csv"), "vmlinuz,")
	require.NoError(t, os.WriteFile(agent, []byte("the next agent"), 0o755))
	read[api.Build](d, "environment", "build", "--from", root)
	changes := read[[]api.BuildChange](d, "environment", "diff", "1", "3")
	require.Len(t, changes, 1)
	assert.Equal(t, "/init", changes[0].Path)
	assert.Contains(t, d.must("environment", "diff", "3"), "changed   /init", "against the one that is offered")

	t.Log("# one step offers another, and pins hold")
	d.must("environment", "offer", "1")
	assert.Equal(t, 1, read[api.Build](d, "environment", "show").Number)
	d.must("group", "add", "herbarium")
	d.must("workstation", "admit", "00-00-5E-00-53-11", "herb-01", "--group", "herbarium")
	d.must("environment", "pin", "herbarium", "2", "--group")
	d.must("environment", "pin", "herb-01", "3")
	text, code = d.run("environment", "remove", "1")
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "build 1 is offered; offer another one first")
	text, code = d.run("environment", "remove", "2")
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "build 2 is what herbarium boots")
	d.must("environment", "pin", "herbarium", "0", "--group")
	d.must("environment", "remove", "2")
	assert.Len(t, read[[]api.Build](d, "environment", "list"), 2)
	_, code = d.run("environment", "remove", "2")
	assert.Equal(t, 1, code)
	d.must("environment", "show", "3", "--files")
	d.must("environment", "pin", "herbarium", "3", "--group")
	_, code = d.run("environment", "pin", "herb-01", "99")
	assert.Equal(t, 1, code)

	t.Log("# a stick of it")
	stick := filepath.Join(t.TempDir(), "stick.img")
	d.must("environment", "media", "--into", stick, "--service", "https://192.0.2.1:7460", "--address", "192.0.2.70/24")

	t.Log("# its key can be listed, limited and withdrawn")
	keys := read[[]api.MediaKey](d, "key", "list")
	require.Len(t, keys, 1)
	assert.Equal(t, "media of build 1", keys[0].Note)
	assert.Nil(t, keys[0].Until)
	_, code = d.run("key", "limit", keys[0].ID[:4], "--group", "nobody")
	assert.Equal(t, 1, code, "there is no such group")
	d.must("group", "add", "seed-bank")
	d.must("key", "limit", keys[0].ID[:4], "--group", "seed-bank", "--for", "72h")
	assert.Contains(t, d.must("key", "list"), "the group seed-bank")
	d.must("key", "withdraw", keys[0].ID)
	assert.Contains(t, d.must("key", "list"), "no media yet")

	info, err := os.Stat(stick)
	require.NoError(t, err)
	assert.Greater(t, info.Size(), int64(32<<20))
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "whoever has it can check in")
	left, err := filepath.Glob(stick + ".*")
	require.NoError(t, err)
	assert.Empty(t, left)
	for _, wrong := range []string{"environment offer latest", "environment pin herb-01", "environment media --into x", "environment diff", "environment build now"} {
		_, code := d.run(strings.Fields(wrong)...)
		assert.Equal(t, 2, code, wrong)
	}
}

func TestNetworkBootAtTheCommandLine(t *testing.T) {
	root, agent := kernelFolder(t)
	d := openDesk(t, "--agent", agent, "--unknown", "welcome")
	text := d.must("netboot", "status")
	assert.Contains(t, text, "none; workstations start from their disk (jugate environment build --offer)")
	d.must("environment", "build", "--from", root, "--offer")
	for _, path := range []string{"script/efi/y/00:00:5e:00:53:11", "files/1/vmlinuz", "files/1/initrd"} {
		resp, err := http.Get(d.plain() + "/boot/" + path)
		require.NoError(t, err)
		resp.Body.Close()
		assert.Equal(t, http.StatusOK, resp.StatusCode)
	}
	text = d.must("netboot", "status")
	assert.Regexp(t, `unknown machines\s+welcome`, text)
	assert.Regexp(t, `00:00:5e:00:53:11\s+\d\d:\d\d:\d\d\s+initrd`, text)
	assert.NotContains(t, text, "vmlinuz")
	text = d.must("netboot", "status", "00:00:5e:00:53:11")
	assert.Contains(t, text, "disk: new here")
	assert.Contains(t, text, "build 1, 6.1.0-9-amd64")
	assert.Contains(t, d.must("netboot", "status", "--steps", "-o", "csv"), "00:00:5e:00:53:11,")
	assert.Empty(t, read[[]api.BootAdvice](d, "netboot", "advice"), "no interface is served")
	assert.Regexp(t, `^[A-Z2-9]{4}-[A-Z2-9]{4}  good until`, d.must("netboot", "code", "--hours", "2"))

	t.Log("# what belongs to workstations, groups and images")
	d.must("group", "add", "herbarium")
	d.must("workstation", "admit", "00:00:5e:00:53:11", "herb-01", "--group", "herbarium")
	d.must("workstation", "admit", "00:00:5e:00:53:12", "herb-02")
	nobody := d.stranger()
	_, err := nobody.CheckIn(t.Context(), api.CheckIn{Boot: "b", AgentVersion: "test", Addresses: []string{"00:00:5e:00:53:11"}, Inventory: api.Inventory{Disks: []api.Disk{}, Cards: []api.Card{}}})
	require.NoError(t, err, "it has been seen, so that it starts from its disk")
	text, code := d.run("workstation", "address", "herb-01", "192.0.2.50")
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "no interface gives addresses")
	d.must("workstation", "address", "herb-01")
	_, code = d.run("workstation", "address", "herb-02", "seven")
	assert.Equal(t, 1, code)
	d.must("group", "menu", "herbarium", "10")
	resp, err := http.Get(d.plain() + "/boot/script/efi/y/00:00:5e:00:53:11")
	require.NoError(t, err)
	script := make([]byte, 4096)
	n, _ := resp.Body.Read(script)
	resp.Body.Close()
	assert.Contains(t, string(script[:n]), "set timeout=10")
	_, code = d.run("group", "menu", "herbarium", "soon")
	assert.Equal(t, 2, code)
	text, code = d.run("group", "menu", "herbarium", "100000")
	assert.Equal(t, 2, code)
	assert.Equal(t, "jugate: seconds has to be at most 600\n", text)
	_, code = d.run("image", "recipients", "garden-desk")
	assert.Equal(t, 1, code, "the image does not exist")
	text, code = d.run("workstation", "wake", "nobody")
	assert.Equal(t, 1, code, text)
}
