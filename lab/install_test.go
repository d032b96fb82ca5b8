package lab_test

import (
	"context"
	"fmt"
	"net"
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
	"golang.org/x/sync/errgroup"

	"jugate/api"
	"jugate/lab"
)

// packages builds all programs in a folder of sources as a version, and makes packages of them, compressed somehow. The other programs
// that this needs are in bin/.
func packages(t *testing.T, sources, version, compression string) (dir string) {
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
	run(sources, []string{"CGO_ENABLED=0"}, "go", "build", "-trimpath", "-buildvcs=false", "-ldflags", "-s -w -X jugate/core/version.stamped="+version, "-o", bin+"/", "./cmd/jugate", "./cmd/jugate-agent", "./cmd/jugate-outpost")
	run(filepath.Join(root, "tools"), nil, "go", "build", "-o", filepath.Join(root, "bin")+"/", "github.com/goreleaser/nfpm/v2/cmd/nfpm", "./bill")
	run(root, []string{"COMPRESSION=" + compression}, "packaging/make", bin, dir)
	return dir
}

// otherForm are these sources, with records of another form than today's, whose number it tells.
func otherForm(t *testing.T) (sources string, today int) {
	t.Helper()
	sources = t.TempDir()
	out, err := exec.CommandContext(t.Context(), "sh", "-c", `tar -C .. --exclude=./.git --exclude=./.lab --exclude=./bin --exclude=node_modules -cf - . | tar -C "$0" -xf -`, sources).CombinedOutput()
	require.NoError(t, err, "%s", out)
	migrations := filepath.Join(sources, "records/migrations")
	files, err := os.ReadDir(migrations)
	require.NoError(t, err)
	_, err = fmt.Sscanf(files[len(files)-1].Name(), "%d_", &today)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(migrations, fmt.Sprintf("%04d_later.sql", today+1)), []byte("-- +goose Up\nCREATE TABLE later (n INTEGER) STRICT;\n"), 0o600))
	return sources, today
}

// guide are the blocks of lines of a guide, under a heading, that are there to be pasted.
func guide(t *testing.T, name, heading string) (blocks []string) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join("../docs", name))
	require.NoError(t, err)
	_, section, found := strings.Cut(string(text), "\n## "+heading+"\n")
	require.True(t, found, "%s has no part %q", name, heading)
	section, _, _ = strings.Cut(section, "\n## ")
	within := false
	for line := range strings.Lines(section) {
		code, is := strings.CutPrefix(line, "    ")
		switch {
		case is && within:
			blocks[len(blocks)-1] += code
		case is:
			blocks = append(blocks, code)
		}
		within = is
	}
	return blocks
}

// box is a machine with systemd, at which a test works as root.
type box struct {
	*lab.Container
	t *testing.T
}

// switchedOn starts one; its journal is kept.
func (r *room) switchedOn(host *lab.Host, root string) *box {
	r.t.Helper()
	on, err := host.SwitchOn(r.ctx, root, filepath.Join(r.keep, host.Name+".log"))
	require.NoError(r.t, err)
	d := &box{on, r.t}
	r.t.Cleanup(func() {
		out, _ := on.Command(context.WithoutCancel(r.ctx), "journalctl", "--no-pager", "--unit=jugate*").CombinedOutput()
		os.WriteFile(filepath.Join(r.keep, host.Name+".journal"), out, 0o644)
		assert.NoError(r.t, on.Off())
	})
	return d
}

func (d *box) do(args ...string) string {
	d.t.Helper()
	out, err := d.Command(d.t.Context(), args[0], args[1:]...).CombinedOutput()
	require.NoError(d.t, err, "%v: %s", args, out)
	return strings.TrimSpace(string(out))
}

// follow pastes lines of a guide, in the folder with the packages, with names of this test instead of the guide's.
func (d *box) follow(lines string, instead ...string) string {
	d.t.Helper()
	lines = strings.NewReplacer(instead...).Replace(lines)
	said := d.do("bash", "-e", "-c", "cd /opt/packages\n"+lines)
	d.t.Logf("%s%s", lines, said)
	return said
}

// exposure is the figure of systemd-analyze security.
func (d *box) exposure(unit string) float64 {
	d.t.Helper()
	said := regexp.MustCompile(`Overall exposure level for \S+: ([0-9.]+)`).FindStringSubmatch(d.do("systemd-analyze", "security", "--no-pager", unit))
	require.NotNil(d.t, said)
	d.t.Logf("systemd-analyze security %s: %s", unit, said[1])
	figure, err := strconv.ParseFloat(said[1], 64)
	require.NoError(d.t, err)
	return figure
}

// reaches tells whether a host reaches a port of the machine with the service.
func (r *room) reaches(from *lab.Host, port int) bool {
	ctx, cancel := context.WithTimeout(r.ctx, 2*time.Second) // a firewall that says nothing is waited for no longer
	defer cancel()
	conn, err := from.Dial(ctx, "tcp", fmt.Sprintf("%s:%d", r.desk.Address, port))
	if err != nil {
		return false
	}
	return assert.NoError(r.t, conn.Close())
}

// Fresh machines go through their lives by the lines of the guides: the packages are installed with what they recommend; the service runs
// at once, is set up by answers and from a file, makes a boot environment, delivers through a firewall, has an outpost, is upgraded, goes
// back and on again, is restarted, and keeps its port open. What it has stays when it is removed, and when it is purged unless somebody
// says otherwise.
func TestInstalledOnAFreshDebian(t *testing.T) {
	t.Parallel()
	labRoot(t)
	for _, tool := range []string{"systemd-nspawn", "help2man", "lintian"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("this test needs %s: %v", tool, err)
		}
	}
	n, err := lab.NewNetwork(t.Context(), "desk", "shed")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, n.Close()) })
	bin, err := programs()
	require.NoError(t, err)
	work, err := os.MkdirTemp("/var/tmp", "jugate-fresh") // on a disk: setup does not take a folder in memory
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, os.RemoveAll(work)) })
	root, shedRoot := filepath.Join(work, "desk"), filepath.Join(work, "shed")
	require.NoError(t, os.Mkdir(root, 0o755))
	require.NoError(t, os.Chmod(work, 0o755))
	ctx, cancel := context.WithTimeout(t.Context(), 36*time.Minute)
	t.Cleanup(cancel)
	r := &room{t: t, ctx: ctx, net: n, desk: n.Host("desk"), bin: bin, data: filepath.Join(root, "var/lib/jugate"), keep: kept(t), began: time.Now(), stage: time.Now()}

	var fresh errgroup.Group // meanwhile
	t.Cleanup(func() { fresh.Wait() })
	fresh.Go(func() error { return lab.MakeFresh(ctx, root) })
	const before, next = "8.0.0", "8.0.1"
	other, today := otherForm(t)
	old, renewed := packages(t, "..", before, "gzip"), packages(t, other, next, "none") // which takes less time
	r.done("packages of two versions")
	debs, err := filepath.Glob(filepath.Join(old, "*.deb"))
	require.NoError(t, err)
	require.Len(t, debs, 3)
	lint := exec.CommandContext(ctx, "lintian", append([]string{"--fail-on", "error,warning"}, debs...)...)
	fresh.Go(func() error {
		out, err := lint.CombinedOutput()
		if err != nil {
			err = fmt.Errorf("lintian: %w: %s", err, out)
		}
		return err
	})
	require.NoError(t, fresh.Wait())
	shelf := filepath.Join(root, "opt/packages")
	require.NoError(t, os.MkdirAll(shelf, 0o755))
	require.NoError(t, exec.CommandContext(t.Context(), "sh", "-c", fmt.Sprintf("cp %s/*.deb %s", old, shelf)).Run())
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/apt/apt.conf.d/90yes"), []byte("APT::Get::Assume-Yes \"true\";\n"), 0o644)) // nobody is there to ask
	require.NoError(t, exec.CommandContext(t.Context(), "cp", "-a", root, shedRoot).Run())
	r.done("two fresh Debians")
	said, err := lab.Prepare(t.Context(), root, "apt-get update -qq; apt-get install ufw procps firewalld; systemctl mask firewalld; cd /opt/packages; "+guide(t, "installing.md", "Packages")[0])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(r.keep, "install.log"), []byte(said), 0o644))
	r.done("installed, with what it recommends, and two firewalls")

	d := r.switchedOn(r.desk, root)
	shed := r.switchedOn(n.Host("shed"), shedRoot)
	r.done("switched on")
	t.Log("# it runs at once, as nobody in particular, and systemd finds little to say against it")
	assert.Equal(t, "active", d.do("systemctl", "is-active", "jugate"))
	assert.Less(t, d.exposure("jugate.service"), 2.5)
	pid := d.do("systemctl", "show", "--property=MainPID", "--value", "jugate")
	assert.Equal(t, "jugate", d.do("stat", "--format=%U", "/proc/"+pid))
	status := d.do("cat", "/proc/"+pid+"/status")
	assert.Regexp(t, `(?m)^Seccomp:\s+2$`, status)
	assert.Regexp(t, `(?m)^NoNewPrivs:\s+1$`, status)
	assert.NotContains(t, d.do("journalctl", "--no-pager", "--unit=jugate"), "/welcome#", "what the first administrator signs in with is not in the journal")
	assert.Contains(t, d.do("sh", "-c", "man -w jugate-deliver 2>/dev/null || ls /usr/share/man/man1/jugate-deliver.1.gz /usr/share/man/man8/jugate-outpost.8.gz"), "jugate-deliver")

	t.Log("# it is set up by answers, of which two will not do, and from a file, of which one will not do either")
	asked := d.Command(t.Context(), "jugate", "setup")
	asked.Stdin = strings.NewReader("\n\n\n\nines of the garden\nthe garden gate is green\nines\ngreen\nines\nthe garden gate is green\n")
	talk, err := asked.CombinedOutput()
	t.Logf("jugate setup: %s", talk)
	require.NoError(t, err)
	for _, words := range []string{"nobody does", `"ines of the garden" cannot be the name of a person`, "shorter than 12 characters", "console:  https://192.0.2.1:7460", "ines may do everything"} {
		assert.Contains(t, string(talk), words)
	}
	write := func(name, text string) {
		t.Helper()
		require.NoError(t, os.WriteFile(filepath.Join(root, "root", name), []byte(text), 0o600))
	}
	write("password", "the garden gate is green\n")
	write("wrong.yaml", "interface: eth7\nmode: whole\n")
	refused, err := d.Command(t.Context(), "jugate", "setup", "--from", "wrong.yaml").CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(refused), `"eth7" is not an interface of this machine`)
	write("setup.yaml", "interface: eth0\nmode: whole\npool: 192.0.2.100-192.0.2.150/24 lease 10m\nnames: [images.fennholt.example]\nperson: ines\npassword_file: /root/password\n")
	assert.Contains(t, d.do("jugate", "setup", "--from", "setup.yaml"), "ines, who was there already")
	r.done("set up by answers, and from a file")

	t.Log("# a firewall lets through what it is told to, and nothing else")
	firewalls := strings.SplitAfter(guide(t, "installing.md", "A firewall")[0], "\n")
	d.follow(firewalls[0])
	d.do("ufw", "--force", "enable")
	var door net.Listener // another port
	require.NoError(t, r.desk.Inside(func() (err error) { door, err = net.Listen("tcp", "192.0.2.1:8888"); return err }))
	defer door.Close()
	r.eventually(time.Minute, func() bool { return r.reaches(n.Host("shed"), 7460) })
	assert.False(t, r.reaches(n.Host("shed"), 8888))

	t.Log("# a boot environment is made of what was recommended, and settings change while it runs")
	d.do("jugate", "environment", "build", "--kernel-words", words, "--offer")
	d.do("jugate", "config", "set", "rate", "12Mbit")
	assert.Equal(t, before, d.do("sh", "-c", "jugate --version | sed 's/.* //'"))
	looked, _ := d.Command(t.Context(), "jugate", "doctor", "--all").CombinedOutput()
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
	r.done("delivered through the firewall")

	t.Log("# another site has an outpost")
	var code api.OutpostCode
	r.jugate(&code, "outpost", "add", "shed")
	lines := strings.SplitAfter(guide(t, "installing.md", "An outpost")[0], "\n")
	shed.follow(lines[0] + lines[1])
	shed.do("sed", "-i", "-e", "s/THE-CODE/"+code.Code+"/", "-e", "s/^listen: .*/listen: 192.0.2.2:7460/", "-e", "s/^netboot: .*/netboot: [eth0=off]/", "/etc/jugate/outpost.yaml")
	shed.follow(lines[2])
	assert.Less(t, shed.exposure("jugate-outpost.service"), 2.5)
	var post api.Outpost
	up := func() bool { r.jugate(&post, "outpost", "show", "shed"); return post.State == "up" }
	r.eventually(time.Minute, up)
	r.done("an outpost joined")

	t.Log("# the next version is put in its place while the machine waits; what is of the version before goes on, and is told so")
	put := func(from string) {
		t.Helper()
		require.NoError(t, exec.CommandContext(t.Context(), "sh", "-c", fmt.Sprintf("rm %s/*.deb && cp %s/*.deb %s", shelf, from, shelf)).Run())
	}
	serves := func(version string) {
		t.Helper()
		r.eventually(time.Minute, func() bool { return r.command("group", "list").Run() == nil })
		var versions struct{ Service string }
		r.jugate(&versions, "version")
		assert.Equal(t, version, versions.Service)
		assert.Equal(t, "active", d.do("systemctl", "is-active", "jugate"))
	}
	upgrades := guide(t, "operating.md", "Upgrades")
	put(renewed)
	d.follow(upgrades[0])
	serves(next)
	assert.FileExists(t, filepath.Join(r.data, fmt.Sprintf("jugate.db.form-%d", today)))
	r.jugate(&receipts, "receipt", "list")
	assert.Len(t, receipts, 1)
	r.jugate(nil, "receipt", "check")
	var w api.Workstation
	r.eventually(slow, func() bool { r.jugate(&w, "workstation", "show", "herb-01"); return w.Online })
	assert.Equal(t, before, w.AgentVersion, "its agent, of the version before, goes on")
	r.eventually(time.Minute, up)
	assert.Contains(t, d.do("jugate", "overview"), "its program is of version "+before)
	r.jugate(nil, "deliver", "garden-desk", "--to", "herb-01", "--yes", "--despite-firmware")
	r.done("upgraded, and delivered once more by the agent of the version before")

	t.Log("# back again: the older program does not touch the records, and says the way, which is that of the guide")
	put(old)
	older := []string{"_OLDER.deb", "_" + before + "_amd64.deb", "form-40", fmt.Sprintf("form-%d", today)}
	d.Command(t.Context(), "sh", "-c", "cd /opt/packages; apt-get install --allow-downgrades ./*.deb").Run() // it says that the service did not start
	r.eventually(time.Minute, func() bool {
		return strings.Contains(d.do("journalctl", "--no-pager", "--unit=jugate"), fmt.Sprintf("they have form %d, and this one knows up to %d", today+1, today))
	})
	d.follow(upgrades[1], older...)
	serves(before)
	r.jugate(&receipts, "receipt", "list")
	assert.Len(t, receipts, 1, "what was recorded since is in the folder that was put aside")
	put(renewed)
	d.follow(upgrades[0])
	serves(next)
	r.eventually(slow, func() bool { r.jugate(&w, "workstation", "show", "herb-01"); return w.Online })
	r.jugate(nil, "deliver", "garden-desk", "--to", "herb-01", "--yes", "--despite-firmware")
	r.jugate(nil, "receipt", "check")
	r.done("back, and on again")
	require.NoError(t, m.Off())

	t.Log("# the machine with the service is switched off and on")
	require.NoError(t, d.Off())
	d = r.switchedOn(r.desk, root)
	serves(next)
	r.jugate(&receipts, "receipt", "list")
	assert.Len(t, receipts, 2)
	var settings []api.Setting
	r.jugate(&settings, "config", "list")
	for _, s := range settings {
		if s.Name == "rate" {
			assert.Equal(t, []string{"12Mbit"}, s.Values)
		}
	}
	d.do("systemctl", "reload", "jugate")
	assert.Contains(t, d.do("journalctl", "--no-pager", "--unit=jugate"), "the settings were read again")
	r.done("restarted")

	t.Log("# its port stays open while it is away, and a call brings it back")
	d.follow(guide(t, "installing.md", "A port that is always open")[0])
	d.do("systemctl", "stop", "jugate")
	serves(next)
	d.do("ufw", "disable")
	r.eventually(time.Minute, func() bool { return r.reaches(n.Host("shed"), 8888) })
	d.do("systemctl", "unmask", "firewalld")
	d.do("systemctl", "start", "firewalld")
	d.follow(firewalls[1])
	r.eventually(time.Minute, func() bool { return r.reaches(n.Host("shed"), 7460) })
	assert.False(t, r.reaches(n.Host("shed"), 8888))
	r.done("by a socket, and behind the other firewall")

	t.Log("# what it has stays when it is removed, and when it is purged; unless somebody says otherwise")
	away := strings.SplitAfter(guide(t, "installing.md", "Take it away")[0], "\n")
	d.follow(away[0])
	assert.FileExists(t, filepath.Join(r.data, "jugate.db"))
	assert.FileExists(t, filepath.Join(root, "etc/jugate/jugate.yaml"))
	d.follow(away[1])
	assert.FileExists(t, filepath.Join(r.data, "jugate.db"))
	assert.NoFileExists(t, filepath.Join(root, "etc/jugate/jugate.yaml"))
	d.do("sh", "-c", "dpkg -i /opt/packages/jugate_*.deb")
	assert.Equal(t, "active", d.do("systemctl", "is-active", "jugate"))
	d.do("sh", "-c", "echo 'jugate jugate/remove-data boolean true' | debconf-set-selections; apt-get purge jugate")
	assert.NoDirExists(t, r.data)
	shed.do("apt-get", "purge", "jugate-outpost")
	assert.FileExists(t, filepath.Join(shedRoot, "var/lib/jugate-outpost/outpost.pem"))
	assert.NoDirExists(t, filepath.Join(shedRoot, "etc/jugate"))
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
