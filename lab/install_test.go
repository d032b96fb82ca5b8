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

// lives are those of two fresh Debians, at which the lines of the guides are followed.
type lives struct {
	*room
	desk, shed         *box
	root, shedRoot     string
	old, renewed       string   // folders with packages of two versions
	formToday          int      // of the records of the first version; the second has another
	firewalls, upgrade []string // lines of the guides
}

// The two versions.
const before, next = "8.0.0", "8.0.1"

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
	l := newLives(t)
	l.runsAtOnce()
	l.isSetUp()
	l.isBehindAFirewall()
	l.makesABootEnvironment()
	m := l.delivers()
	l.hasAnOutpost()
	l.isUpgraded()
	l.goesBackAndOn()
	require.NoError(t, m.Off())
	l.isSwitchedOffAndOn()
	l.keepsItsPortOpen()
	l.isTakenAway()
}

// newLives makes the machines and the packages, installs those, and switches the machines on.
func newLives(t *testing.T) *lives {
	n, err := lab.NewNetwork(t.Context(), "desk", "shed")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, n.Close()) })
	bin, err := programs()
	require.NoError(t, err)
	work, err := os.MkdirTemp("/var/tmp", "jugate-fresh") // on a disk: setup does not take a folder in memory
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, os.RemoveAll(work)) })
	l := &lives{root: filepath.Join(work, "desk"), shedRoot: filepath.Join(work, "shed"), firewalls: strings.SplitAfter(guide(t, "installing.md", "A firewall")[0], "\n"), upgrade: guide(t, "operating.md", "Upgrades")}
	require.NoError(t, os.Mkdir(l.root, 0o755))
	require.NoError(t, os.Chmod(work, 0o755))
	ctx, cancel := context.WithTimeout(t.Context(), 36*time.Minute)
	t.Cleanup(cancel)
	l.room = &room{t: t, ctx: ctx, net: n, desk: n.Host("desk"), bin: bin, data: filepath.Join(l.root, "var/lib/jugate"), keep: kept(t), began: time.Now(), stage: time.Now()}

	var fresh errgroup.Group // meanwhile
	t.Cleanup(func() { fresh.Wait() })
	fresh.Go(func() error { return lab.MakeFresh(ctx, l.root) })
	other, today := otherForm(t)
	l.formToday = today
	l.old, l.renewed = packages(t, "..", before, "gzip"), packages(t, other, next, "none") // which takes less time
	l.done("packages of two versions")
	debs, err := filepath.Glob(filepath.Join(l.old, "*.deb"))
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
	l.put(l.old)
	require.NoError(t, os.WriteFile(filepath.Join(l.root, "etc/apt/apt.conf.d/90yes"), []byte("APT::Get::Assume-Yes \"true\";\n"), 0o644)) // nobody is there to ask
	require.NoError(t, exec.CommandContext(ctx, "cp", "-a", l.root, l.shedRoot).Run())
	l.done("two fresh Debians")
	said, err := lab.Prepare(ctx, l.root, "apt-get update -qq; apt-get install ufw procps firewalld; systemctl mask firewalld; cd /opt/packages; "+guide(t, "installing.md", "Packages")[0])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(l.keep, "install.log"), []byte(said), 0o644))
	l.done("installed, with what it recommends, and two firewalls")
	l.desk = l.switchedOn(l.room.desk, l.root)
	l.shed = l.switchedOn(n.Host("shed"), l.shedRoot)
	l.done("switched on")
	return l
}

// put puts packages where the guides' lines look for them.
func (l *lives) put(from string) {
	l.t.Helper()
	shelf := filepath.Join(l.root, "opt/packages")
	require.NoError(l.t, os.RemoveAll(shelf))
	require.NoError(l.t, exec.CommandContext(l.ctx, "sh", "-e", "-c", `mkdir -p "$1"; cp "$0"/*.deb "$1"`, from, shelf).Run())
}

// serves waits until the service answers, in a version.
func (l *lives) serves(version string) {
	l.t.Helper()
	l.eventually(time.Minute, func() bool { return l.command("group", "list").Run() == nil })
	var versions struct{ Service string }
	l.jugate(&versions, "version")
	assert.Equal(l.t, version, versions.Service)
	assert.Equal(l.t, "active", l.desk.do("systemctl", "is-active", "jugate"))
}

func (l *lives) receipts() (all []api.Receipt) {
	l.t.Helper()
	l.jugate(&all, "receipt", "list")
	return all
}

func (l *lives) deliver() {
	l.t.Helper()
	l.jugate(nil, "deliver", "garden-desk", "--to", "herb-01", "--yes", "--despite-firmware")
}

// agentIsOn waits until the workstation's agent calls, and returns its version.
func (l *lives) agentIsOn() string {
	l.t.Helper()
	var w api.Workstation
	l.eventually(slow, func() bool { l.jugate(&w, "workstation", "show", "herb-01"); return w.Online })
	return w.AgentVersion
}

func (l *lives) outpostIsUp() {
	l.t.Helper()
	var post api.Outpost
	l.eventually(time.Minute, func() bool { l.jugate(&post, "outpost", "show", "shed"); return post.State == "up" })
}

func (l *lives) runsAtOnce() {
	t, d := l.t, l.desk
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
}

func (l *lives) isSetUp() {
	t, d := l.t, l.desk
	t.Log("# it is set up by answers, of which two will not do, and from a file, of which one will not do either")
	asked := d.Command(l.ctx, "jugate", "setup")
	asked.Stdin = strings.NewReader("\n\n\n\nines of the garden\nthe garden gate is green\nines\ngreen\nines\nthe garden gate is green\n")
	talk, err := asked.CombinedOutput()
	t.Logf("jugate setup: %s", talk)
	require.NoError(t, err)
	for _, words := range []string{"nobody does", `"ines of the garden" cannot be the name of a person`, "shorter than 12 characters", "console:  https://192.0.2.1:7460", "ines may do everything"} {
		assert.Contains(t, string(talk), words)
	}
	write := func(name, text string) {
		t.Helper()
		require.NoError(t, os.WriteFile(filepath.Join(l.root, "root", name), []byte(text), 0o600))
	}
	write("password", "the garden gate is green\n")
	write("wrong.yaml", "interface: eth7\nmode: whole\n")
	refused, err := d.Command(l.ctx, "jugate", "setup", "--from", "wrong.yaml").CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(refused), `"eth7" is not an interface of this machine`)
	write("setup.yaml", "interface: eth0\nmode: whole\npool: 192.0.2.100-192.0.2.150/24 lease 10m\nnames: [images.fennholt.example]\nperson: ines\npassword_file: /root/password\n")
	assert.Contains(t, d.do("jugate", "setup", "--from", "setup.yaml"), "ines, who was there already")
	l.done("set up by answers, and from a file")
}

func (l *lives) isBehindAFirewall() {
	t, d := l.t, l.desk
	t.Log("# a firewall lets through what it is told to, and nothing else")
	d.follow(l.firewalls[0])
	d.do("ufw", "--force", "enable")
	var door net.Listener // another port
	require.NoError(t, l.room.desk.Inside(func() (err error) { door, err = net.Listen("tcp", "192.0.2.1:8888"); return err }))
	t.Cleanup(func() { door.Close() })
	l.eventually(time.Minute, func() bool { return l.reaches(l.net.Host("shed"), 7460) })
	assert.False(t, l.reaches(l.net.Host("shed"), 8888))
}

func (l *lives) makesABootEnvironment() {
	t, d := l.t, l.desk
	t.Log("# a boot environment is made of what was recommended, and settings change while it runs")
	d.do("jugate", "environment", "build", "--kernel-words", words, "--offer")
	d.do("jugate", "config", "set", "rate", "12Mbit")
	assert.Equal(t, before, d.do("sh", "-c", "jugate --version | sed 's/.* //'"))
	looked, _ := d.Command(l.ctx, "jugate", "doctor", "--all").CombinedOutput()
	t.Logf("jugate doctor --all: %s", looked)
	assert.Contains(t, string(looked), "good     addresses on eth0: this service alone gives them")
	assert.NotContains(t, string(looked), "bad ")
	l.done("boot environment built, and looked at by the doctor")
}

// delivers to a workstation, which stays on.
func (l *lives) delivers() *lab.Machine {
	t := l.t
	t.Log("# a room's machine gets its image")
	golden := filepath.Join(t.TempDir(), "gold.img")
	require.NoError(t, makeSmallDisk(golden))
	l.jugate(nil, "image", "import", golden, "--as", "garden-desk", "--despite", "a disk of the lab, which nobody uses")
	m := l.on(lab.MachineOptions{Name: "herb-01", Address: "00:00:5e:00:53:11", Firmware: lab.BIOS, Disk: l.disk("herb-01", 96<<20)})
	l.expect(m, slow, "waiting to be admitted")
	l.jugate(nil, "workstation", "admit", "00:00:5e:00:53:11", "herb-01")
	l.deliver()
	receipts := l.receipts()
	require.Len(t, receipts, 1)
	assert.EqualValues(t, "delivered", receipts[0].Outcome, receipts[0].Reason)
	l.done("delivered through the firewall")
	return m
}

func (l *lives) hasAnOutpost() {
	t := l.t
	t.Log("# another site has an outpost")
	var code api.OutpostCode
	l.jugate(&code, "outpost", "add", "shed")
	lines := strings.SplitAfter(guide(t, "installing.md", "An outpost")[0], "\n")
	l.shed.follow(lines[0] + lines[1])
	l.shed.do("sed", "-i", "-e", "s/THE-CODE/"+code.Code+"/", "-e", "s/^listen: .*/listen: 192.0.2.2:7460/", "-e", "s/^netboot: .*/netboot: [eth0=off]/", "/etc/jugate/outpost.yaml")
	l.shed.follow(lines[2])
	assert.Less(t, l.shed.exposure("jugate-outpost.service"), 2.5)
	l.outpostIsUp()
	l.done("an outpost joined")
}

func (l *lives) isUpgraded() {
	t := l.t
	t.Log("# the next version is put in its place while the machine waits; what is of the version before goes on, and is told so")
	l.put(l.renewed)
	l.desk.follow(l.upgrade[0])
	l.serves(next)
	assert.FileExists(t, filepath.Join(l.data, fmt.Sprintf("jugate.db.form-%d", l.formToday)))
	assert.Len(t, l.receipts(), 1)
	l.jugate(nil, "receipt", "check")
	assert.Equal(t, before, l.agentIsOn(), "its agent, of the version before, goes on")
	l.outpostIsUp()
	assert.Contains(t, l.desk.do("jugate", "overview"), "its program is of version "+before)
	l.deliver()
	l.done("upgraded, and delivered once more by the agent of the version before")
}

func (l *lives) goesBackAndOn() {
	t, d := l.t, l.desk
	t.Log("# back again: the older program does not touch the records, and says the way, which is that of the guide")
	l.put(l.old)
	d.Command(l.ctx, "sh", "-c", "cd /opt/packages; apt-get install --allow-downgrades ./*.deb").Run() // it says that the service did not start
	l.eventually(time.Minute, func() bool {
		return strings.Contains(d.do("journalctl", "--no-pager", "--unit=jugate"), fmt.Sprintf("they have form %d, and this one knows up to %d", l.formToday+1, l.formToday))
	})
	d.follow(l.upgrade[1], "_OLDER.deb", "_"+before+"_amd64.deb", "form-40", fmt.Sprintf("form-%d", l.formToday))
	l.serves(before)
	assert.Len(t, l.receipts(), 1, "what was recorded since is in the folder that was put aside")
	l.put(l.renewed)
	d.follow(l.upgrade[0])
	l.serves(next)
	l.agentIsOn()
	l.deliver()
	l.jugate(nil, "receipt", "check")
	l.done("back, and on again")
}

func (l *lives) isSwitchedOffAndOn() {
	t := l.t
	t.Log("# the machine with the service is switched off and on")
	require.NoError(t, l.desk.Off())
	l.desk = l.switchedOn(l.room.desk, l.root)
	l.serves(next)
	assert.Len(t, l.receipts(), 2)
	var settings []api.Setting
	l.jugate(&settings, "config", "list")
	for _, s := range settings {
		if s.Name == "rate" {
			assert.Equal(t, []string{"12Mbit"}, s.Values)
		}
	}
	l.desk.do("systemctl", "reload", "jugate")
	assert.Contains(t, l.desk.do("journalctl", "--no-pager", "--unit=jugate"), "the settings were read again")
	l.done("restarted")
}

func (l *lives) keepsItsPortOpen() {
	t, d, from := l.t, l.desk, l.net.Host("shed")
	t.Log("# its port stays open while it is away, and a call brings it back; another firewall lets through no more than the first")
	d.follow(guide(t, "installing.md", "A port that is always open")[0])
	d.do("systemctl", "stop", "jugate")
	l.serves(next)
	d.do("ufw", "disable")
	l.eventually(time.Minute, func() bool { return l.reaches(from, 8888) })
	d.do("systemctl", "unmask", "firewalld")
	d.do("systemctl", "start", "firewalld")
	d.follow(l.firewalls[1])
	l.eventually(time.Minute, func() bool { return l.reaches(from, 7460) })
	assert.False(t, l.reaches(from, 8888))
	l.done("by a socket, and behind the other firewall")
}

func (l *lives) isTakenAway() {
	t, d := l.t, l.desk
	t.Log("# what it has stays when it is removed, and when it is purged; unless somebody says otherwise")
	away := strings.SplitAfter(guide(t, "installing.md", "Take it away")[0], "\n")
	d.follow(away[0])
	assert.FileExists(t, filepath.Join(l.data, "jugate.db"))
	assert.FileExists(t, filepath.Join(l.root, "etc/jugate/jugate.yaml"))
	d.follow(away[1])
	assert.FileExists(t, filepath.Join(l.data, "jugate.db"))
	assert.NoFileExists(t, filepath.Join(l.root, "etc/jugate/jugate.yaml"))
	d.do("sh", "-c", "dpkg -i /opt/packages/jugate_*.deb")
	assert.Equal(t, "active", d.do("systemctl", "is-active", "jugate"))
	d.do("sh", "-c", "echo 'jugate jugate/remove-data boolean true' | debconf-set-selections; apt-get purge jugate")
	assert.NoDirExists(t, l.data)
	l.shed.do("apt-get", "purge", "jugate-outpost")
	assert.FileExists(t, filepath.Join(l.shedRoot, "var/lib/jugate-outpost/outpost.pem"))
	assert.NoDirExists(t, filepath.Join(l.shedRoot, "etc/jugate"))
	l.done("removed, and purged twice")
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
