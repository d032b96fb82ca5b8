package lab_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/lab"
)

// packages builds all programs as a version, and makes packages of them. The other programs that this needs are in bin/.
func packages(t *testing.T, version string) (dir string) {
	t.Helper()
	root, err := filepath.Abs("..")
	require.NoError(t, err)
	bin, dir := t.TempDir(), filepath.Join(t.TempDir(), "packages")
	run := func(dir string, env []string, name string, args ...string) {
		t.Helper()
		cmd := exec.CommandContext(t.Context(), name, args...)
		cmd.Dir, cmd.Env = dir, append(os.Environ(), env...)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s: %s", name, out)
	}
	run(root, []string{"CGO_ENABLED=0"}, "go", "build", "-trimpath", "-ldflags", "-s -w -X jugate/core/version.stamped="+version, "-o", bin+"/", "./cmd/jugate", "./cmd/jugate-agent", "./cmd/jugate-outpost")
	run(filepath.Join(root, "tools"), nil, "go", "build", "-o", filepath.Join(root, "bin")+"/", "github.com/goreleaser/nfpm/v2/cmd/nfpm", "./bill")
	run(root, []string{"COMPRESSION=gzip"}, "packaging/make", bin, dir)
	return dir
}

// exposed reads the figure of systemd-analyze security.
var exposed = regexp.MustCompile(`Overall exposure level for \S+: ([0-9.]+)`)

// A fresh Debian gets the packages, with what they recommend; the service runs at once. It is set up from a file, makes a boot environment,
// delivers to a machine that is on its network, is upgraded and restarted, and goes on. What it has stays when it is removed, and when it
// is purged unless somebody says otherwise.
func TestInstalledOnAFreshDebian(t *testing.T) {
	t.Parallel()
	labRoot(t)
	for _, tool := range []string{"systemd-nspawn", "help2man", "lintian"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("this test needs %s: %v", tool, err)
		}
	}
	const before, next = "8.0.0", "8.0.1"
	began := time.Now()
	old, renewed := packages(t, before), packages(t, next)
	t.Logf("# packages of two versions %60.1f s", time.Since(began).Seconds())
	debs, err := filepath.Glob(filepath.Join(old, "*.deb"))
	require.NoError(t, err)
	require.Len(t, debs, 3)
	out, err := exec.CommandContext(t.Context(), "lintian", append([]string{"--fail-on", "error,warning"}, debs...)...).CombinedOutput()
	require.NoError(t, err, "%s", out)

	keep := kept(t)
	n, err := lab.NewNetwork(t.Context(), "desk")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, n.Close()) })
	bin, err := programs()
	require.NoError(t, err)
	root, err := os.MkdirTemp("/var/tmp", "jugate-fresh") // on a disk: setup does not take a folder in memory
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, os.RemoveAll(root)) })
	require.NoError(t, os.Chmod(root, 0o755))
	ctx, cancel := context.WithTimeout(t.Context(), 36*time.Minute)
	t.Cleanup(cancel)
	r := &room{t: t, ctx: ctx, net: n, desk: n.Host("desk"), bin: bin, data: filepath.Join(root, "var/lib/jugate"), keep: keep, began: time.Now(), stage: time.Now()}
	require.NoError(t, lab.MakeFresh(t.Context(), root))
	r.done("a fresh Debian")
	shelf := filepath.Join(root, "opt/packages")
	require.NoError(t, os.MkdirAll(shelf, 0o755))
	for _, deb := range debs {
		require.NoError(t, exec.CommandContext(t.Context(), "cp", deb, shelf).Run())
	}
	said, err := lab.Prepare(t.Context(), root, "apt-get update -qq; apt-get install -y /opt/packages/jugate_*.deb /opt/packages/jugate-agent_*.deb /opt/packages/jugate-outpost_*.deb")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(keep, "install.log"), []byte(said), 0o644))
	r.done("installed, with what it recommends")

	box, err := r.desk.SwitchOn(t.Context(), root, filepath.Join(keep, "console.log"))
	require.NoError(t, err)
	defer func() { assert.NoError(t, box.Off()) }()
	r.done("switched on")
	inside := func(args ...string) string {
		t.Helper()
		out, err := box.Command(t.Context(), args[0], args[1:]...).CombinedOutput()
		require.NoError(t, err, "%v: %s", args, out)
		return strings.TrimSpace(string(out))
	}
	defer func() { // what happened, for whoever looks
		out, _ := box.Command(r.ctx, "journalctl", "--no-pager", "--unit=jugate").CombinedOutput()
		os.WriteFile(filepath.Join(keep, "journal.log"), out, 0o644)
	}()
	t.Log("# it runs at once, as nobody in particular, and systemd finds little to say against it")
	assert.Equal(t, "active", inside("systemctl", "is-active", "jugate"))
	for _, unit := range []string{"jugate.service", "jugate-outpost.service"} {
		figure := exposed.FindStringSubmatch(inside("systemd-analyze", "security", "--no-pager", unit))
		require.NotNil(t, figure)
		t.Logf("systemd-analyze security %s: %s", unit, figure[1])
		exposure, err := strconv.ParseFloat(figure[1], 64)
		require.NoError(t, err)
		assert.Less(t, exposure, 2.5)
	}
	pid := inside("systemctl", "show", "--property=MainPID", "--value", "jugate")
	assert.Equal(t, "jugate", inside("stat", "--format=%U", "/proc/"+pid))
	status := inside("cat", "/proc/"+pid+"/status")
	assert.Regexp(t, `(?m)^Seccomp:\s+2$`, status)
	assert.Regexp(t, `(?m)^NoNewPrivs:\s+1$`, status)
	assert.NotContains(t, inside("journalctl", "--no-pager", "--unit=jugate"), "/welcome#", "what the first administrator signs in with is not in the journal")
	assert.Contains(t, inside("sh", "-c", "man -w jugate-deliver 2>/dev/null || ls /usr/share/man/man1/jugate-deliver.1.gz /usr/share/man/man8/jugate-outpost.8.gz"), "jugate-deliver")

	t.Log("# it is set up from a file; an answer that will not do is refused first")
	write := func(name, text string) {
		t.Helper()
		require.NoError(t, os.WriteFile(filepath.Join(root, "root", name), []byte(text), 0o600))
	}
	write("password", "the garden gate is green\n")
	write("wrong.yaml", "interface: eth7\nmode: whole\n")
	refused, err := box.Command(t.Context(), "jugate", "setup", "--from", "wrong.yaml").CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(refused), `"eth7" is not an interface of this machine`)
	write("setup.yaml", "interface: eth0\nmode: whole\npool: 192.0.2.100-192.0.2.150/24 lease 10m\nnames: [images.fennholt.example]\nperson: ines\npassword_file: /root/password\n")
	setUp := inside("jugate", "setup", "--from", "setup.yaml")
	t.Logf("jugate setup: %s", setUp)
	assert.Contains(t, setUp, "console:  https://192.0.2.1:7460")
	assert.Contains(t, setUp, "ines may do everything")
	r.done("set up from a file")

	t.Log("# a boot environment is made of what was recommended, and settings change while it runs")
	inside("jugate", "environment", "build", "--kernel-words", words, "--offer")
	inside("jugate", "config", "set", "rate", "12Mbit")
	assert.Equal(t, before, inside("sh", "-c", "jugate --version | sed 's/.* //'"))
	looked, _ := box.Command(t.Context(), "jugate", "doctor", "--all").CombinedOutput()
	t.Logf("jugate doctor --all: %s", looked)
	assert.Contains(t, string(looked), "good     addresses on eth0: this service alone gives them")
	assert.NotContains(t, string(looked), "bad ")
	r.done("boot environment built, and looked at by the doctor")

	t.Log("# a room's machine gets its image")
	golden := filepath.Join(t.TempDir(), "gold.img")
	require.NoError(t, makeSmallDisk(golden))
	r.jugate(nil, "image", "import", golden, "--as", "garden-desk", "--despite", "a disk of the lab, which nobody uses")
	m := r.on(lab.MachineOptions{Name: "herb-01", Address: "00:00:5e:00:53:11", Firmware: lab.BIOS, Disk: r.disk("herb-01", 96<<20)})
	r.expect(m, slow, "waiting to be admitted")
	r.jugate(nil, "workstation", "admit", "00:00:5e:00:53:11", "herb-01")
	r.jugate(nil, "deliver", "garden-desk", "--to", "herb-01", "--yes", "--despite-firmware")
	var receipts []api.Receipt
	r.jugate(&receipts, "receipt", "list", "--workstation", "herb-01")
	require.Len(t, receipts, 1)
	assert.EqualValues(t, "delivered", receipts[0].Outcome, receipts[0].Reason)
	r.done("delivered")

	t.Log("# the next version is put in its place while the machine waits; it is told which agent it has")
	require.NoError(t, exec.CommandContext(t.Context(), "sh", "-c", fmt.Sprintf("rm %s/*.deb && cp %s/*.deb %s", shelf, renewed, shelf)).Run())
	upgraded := inside("sh", "-c", "dpkg -i /opt/packages/*.deb")
	t.Logf("dpkg: %s", upgraded)
	assert.Equal(t, "active", inside("systemctl", "is-active", "jugate"))
	r.eventually(time.Minute, func() bool { return r.command("group", "list").Run() == nil })
	var versions struct{ Service string }
	r.jugate(&versions, "version")
	assert.Equal(t, next, versions.Service)
	r.jugate(&receipts, "receipt", "list")
	assert.Len(t, receipts, 1)
	r.jugate(nil, "receipt", "check")
	var w api.Workstation
	r.eventually(slow, func() bool { r.jugate(&w, "workstation", "show", "herb-01"); return w.Online })
	assert.Equal(t, before, w.AgentVersion, "its agent, of the version before, goes on")
	r.jugate(nil, "deliver", "garden-desk", "--to", "herb-01", "--yes", "--despite-firmware")
	r.done("upgraded, and delivered once more by the agent of the version before")
	require.NoError(t, m.Off())

	t.Log("# the machine with the service is switched off and on")
	require.NoError(t, box.Off())
	box, err = r.desk.SwitchOn(t.Context(), root, filepath.Join(keep, "console.log"))
	require.NoError(t, err)
	r.jugate(&receipts, "receipt", "list")
	assert.Len(t, receipts, 2)
	var settings []api.Setting
	r.jugate(&settings, "config", "list")
	for _, s := range settings {
		if s.Name == "rate" {
			assert.Equal(t, []string{"12Mbit"}, s.Values)
		}
	}
	inside("systemctl", "reload", "jugate")
	assert.Contains(t, inside("journalctl", "--no-pager", "--unit=jugate"), "the settings were read again")
	r.done("restarted")

	t.Log("# what it has stays when it is removed, and when it is purged; unless somebody says otherwise")
	inside("apt-get", "remove", "-y", "jugate")
	assert.FileExists(t, filepath.Join(r.data, "jugate.db"))
	assert.FileExists(t, filepath.Join(root, "etc/jugate/jugate.yaml"))
	inside("apt-get", "purge", "-y", "jugate")
	assert.FileExists(t, filepath.Join(r.data, "jugate.db"))
	assert.NoFileExists(t, filepath.Join(root, "etc/jugate/jugate.yaml"))
	inside("sh", "-c", "dpkg -i /opt/packages/jugate_*.deb")
	assert.Equal(t, "active", inside("systemctl", "is-active", "jugate"))
	inside("sh", "-c", "echo 'jugate jugate/remove-data boolean true' | debconf-set-selections; apt-get purge -y jugate")
	assert.NoDirExists(t, r.data)
	r.done("removed, and purged twice")
}

// makeSmallDisk makes a disk with a system partition and one with files.
func makeSmallDisk(path string) error {
	out, err := exec.Command("sh", "-e", "-c", `truncate -s 64M "$0"
		printf 'label: gpt\nsize=8M, type=uefi, name=boot\nsize=48M, type=linux, name=desk\n' | sfdisk -q "$0"
		mkfs.vfat -F 12 --offset 2048 "$0" 8192 > /dev/null 2>&1
		mkfs.ext4 -q -F -d /usr/share/common-licenses -E offset=9437184 "$0" 48M`, path).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}
