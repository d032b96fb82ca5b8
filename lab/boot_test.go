package lab_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/lab"
)

// labRoot is a folder with Debian's kernel and loaders, unpacked; `make lab` makes
// it. Tests of real firmware are skipped without.
func labRoot(t *testing.T) string {
	root := os.Getenv("JUGATE_LAB_ROOT")
	if root == "" {
		t.Skip("tests on real firmware need Debian's kernel, loaders and QEMU; run them with `make lab`")
	}
	if _, err := os.Stat(filepath.Join(root, ".made")); err != nil {
		t.Skip("Debian's kernel and loaders are not there; the output of lab/prepare says why")
	}
	if os.Geteuid() != 0 {
		t.Skip("tests on real firmware make network namespaces, which needs root")
	}
	for _, tool := range []string{"qemu-system-x86_64", "debootstrap"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("tests on real firmware need %s: %v", tool, err)
		}
	}
	return root
}

// kept is where logs and screenshots of a test stay.
func kept(t *testing.T) string {
	dir := os.Getenv("JUGATE_LAB_KEEP")
	if dir == "" {
		return t.TempDir()
	}
	dir = filepath.Join(dir, t.Name())
	require.NoError(t, os.RemoveAll(dir))
	require.NoError(t, os.MkdirAll(dir, 0o755))
	return dir
}

// programs builds jugate and its agent, once.
var programs = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "jugate-lab")
	if err != nil {
		return "", err
	}
	cmd := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w", "-o", dir+"/", "jugate/cmd/jugate", "jugate/cmd/jugate-agent", "jugate/cmd/jugate-outpost")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("%w: %s", err, out)
	}
	return dir, nil
})

// debian is the golden Debian, made once; machines only read it.
var debian = sync.OnceValues(func() (*lab.Golden, error) {
	root, err := filepath.Abs(os.Getenv("JUGATE_LAB_ROOT"))
	if err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp("", "jugate-golden")
	if err != nil {
		return nil, err
	}
	goldenFolder = dir
	return lab.MakeGolden(context.Background(), root, filepath.Join(dir, "work"), filepath.Join(dir, "golden.img"))
})

// goldenFolder is removed when all tests are over.
var goldenFolder string

func (r *room) goldenDebian() *lab.Golden {
	r.t.Helper()
	golden, err := debian()
	require.NoError(r.t, err)
	return golden
}

func TestMain(m *testing.M) {
	config, err := os.MkdirTemp("", "jugate-lab-config") // services of tests leave nothing with this machine's user
	if err != nil {
		panic(err)
	}
	os.Setenv("XDG_CONFIG_HOME", config)
	code := m.Run()
	os.RemoveAll(config)
	if dir, err := programs(); err == nil && dir != "" {
		os.RemoveAll(dir)
	}
	if goldenFolder != "" {
		os.RemoveAll(goldenFolder)
	}
	os.Exit(code)
}

// room is a service in a network, and machines.
type room struct {
	t     *testing.T
	ctx   context.Context
	net   *lab.Network
	desk  *lab.Host
	bin   string
	data  string
	keep  string
	began time.Time
	stage time.Time
}

// newRoom starts a service with these arguments and makes a build of the boot
// environment.
func newRoom(t *testing.T, hosts []string, args ...string) *room {
	root := labRoot(t)
	bin, err := programs()
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 36*time.Minute)
	t.Cleanup(cancel)
	n, err := lab.NewNetwork(ctx, append([]string{"desk"}, hosts...)...)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, n.Close()) })
	r := &room{t: t, ctx: ctx, net: n, desk: n.Host("desk"), bin: bin, data: filepath.Join(t.TempDir(), "data"), keep: kept(t), began: time.Now(), stage: time.Now()}
	r.serve(args...)
	r.jugate(nil, "environment", "build", "--from", root, "--kernel-words", words, "--offer")
	r.done("service started, boot environment built")
	return r
}

// words have the kernel write to the serial console, too.
const words = "console=tty0 console=ttyS0,115200 fbcon=font:TER16x32"

// whole are the arguments of a service that gives addresses itself.
var whole = []string{"--netboot", "eth0=whole", "--pool", "192.0.2.100-192.0.2.150/24 lease 10m"}

func (r *room) serve(args ...string) {
	r.t.Helper()
	log, err := os.Create(filepath.Join(r.keep, "service.log"))
	require.NoError(r.t, err)
	cmd := r.desk.Command(r.ctx, filepath.Join(r.bin, "jugate"), append([]string{"serve", "--data", r.data, "--listen", "192.0.2.1:7460", "--multicast-groups", "233.252.0.0/24", "--rate", "12Mbit", "--build-from", "/"}, args...)...)
	cmd.Stderr = log
	out, err := cmd.StdoutPipe()
	require.NoError(r.t, err)
	require.NoError(r.t, cmd.Start())
	r.t.Cleanup(func() {
		cmd.Process.Signal(os.Interrupt)
		cmd.Wait()
		log.Close()
	})
	_, err = out.Read(make([]byte, 1)) // it says where it listens
	require.NoError(r.t, err, "the service did not start; see its log")
	r.eventually(time.Minute, func() bool { return r.command("group", "list").Run() == nil })
}

func (r *room) command(args ...string) *exec.Cmd {
	cmd := r.desk.Command(r.ctx, filepath.Join(r.bin, "jugate"), args...)
	token, _ := os.ReadFile(filepath.Join(r.data, "admin.token"))
	cmd.Env = append(os.Environ(), "JUGATE_SERVER=https://192.0.2.1:7460", "JUGATE_AUTHORITY="+filepath.Join(r.data, "authority.pem"), "JUGATE_TOKEN="+strings.TrimSpace(string(token)))
	return cmd
}

// doctor is what jugate doctor says on a host.
func (r *room) doctor(host *lab.Host, args ...string) string {
	r.t.Helper()
	there := r.command(append([]string{"doctor"}, args...)...)
	cmd := host.Command(r.ctx, there.Args[len(there.Args)-len(args)-2], there.Args[len(there.Args)-len(args)-1:]...)
	cmd.Env = there.Env
	out, _ := cmd.CombinedOutput() // it fails if something is out of order
	return string(out)
}

// jugate runs a command; into takes its JSON.
func (r *room) jugate(into any, args ...string) {
	r.t.Helper()
	if into != nil {
		args = append(args, "-o", "json")
	}
	cmd := r.command(args...)
	var complaints bytes.Buffer
	cmd.Stderr = &complaints
	out, err := cmd.Output()
	require.NoError(r.t, err, "jugate %s: %s", strings.Join(args, " "), complaints.String())
	if into != nil {
		require.NoError(r.t, json.Unmarshal(out, into))
	}
}

func (r *room) eventually(within time.Duration, true func() bool) {
	r.t.Helper()
	require.Eventually(r.t, true, within, 200*time.Millisecond)
}

// done tells how long a stage took.
func (r *room) done(stage string) {
	r.t.Logf("# %-60s %6.1f s", stage, time.Since(r.stage).Seconds())
	r.stage = time.Now()
}

// disk is a blank one.
func (r *room) disk(name string, size int64) string {
	path := filepath.Join(r.t.TempDir(), name+".img")
	f, err := os.Create(path)
	require.NoError(r.t, err)
	require.NoError(r.t, f.Truncate(size))
	require.NoError(r.t, f.Close())
	return path
}

func (r *room) on(o lab.MachineOptions) *lab.Machine {
	r.t.Helper()
	o.Dir = r.keep
	if o.Maker == "" {
		o.Maker, o.Model = "Alder Works", "A310"
	}
	m, err := r.net.PowerOn(r.ctx, o)
	require.NoError(r.t, err)
	r.t.Cleanup(func() {
		if r.t.Failed() {
			m.Screenshot(filepath.Join(r.keep, o.Name+"-failed.png"))
		}
		assert.NoError(r.t, m.Off())
	})
	return m
}

// expect waits for a text on a machine's serial console.
func (r *room) expect(m *lab.Machine, within time.Duration, text string) {
	r.t.Helper()
	ctx, cancel := context.WithTimeout(r.ctx, within)
	defer cancel()
	require.NoError(r.t, m.Expect(ctx, text))
}

func (r *room) shot(m *lab.Machine, stage string) {
	r.t.Helper()
	assert.NoError(r.t, m.Screenshot(filepath.Join(r.keep, m.Name+"-"+stage+".png")))
}

// steps are the steps that the service saw of a machine.
func (r *room) steps(address string) (names []string) {
	var status api.NetbootStatus
	r.jugate(&status, "netboot", "status", address)
	for _, m := range status.Machines {
		for _, s := range m.Steps {
			names = append(names, s.Step)
		}
	}
	return names
}

const (
	gib  = int64(1) << 30
	slow = 10 * time.Minute // what a stage of a machine may take
)

// joinable starts the domain, and enters it.
func (r *room) joinable() *lab.Domain {
	d, err := r.net.Host("dc1").StartDomain(r.ctx, r.t.TempDir())
	require.NoError(r.t, err)
	r.t.Cleanup(func() { d.Close() })
	const unit = "OU=Workstations,DC=fennholt,DC=example"
	require.NoError(r.t, d.Joiner(r.ctx, unit, "jugate"))
	authority := filepath.Join(r.t.TempDir(), "authority.pem")
	require.NoError(r.t, os.WriteFile(authority, d.Authority, 0o644))
	add := r.command("domain", "add", lab.DomainName, "--controller", "ldaps://192.0.2.2", "--account", "jugate@"+lab.DomainName, "--unit", unit, "--certificate", authority)
	add.Stdin = strings.NewReader(lab.DomainPassword + "\n")
	out, err := add.CombinedOutput()
	require.NoError(r.t, err, "%s", out)
	r.t.Logf("jugate domain add: %s", out)
	return d
}

// hashOf is a hash of a password for shadow(5), by OpenSSL.
func hashOf(t *testing.T, password string) string {
	out, err := exec.CommandContext(t.Context(), "openssl", "passwd", "-6", password).Output()
	require.NoError(t, err)
	return strings.TrimSpace(string(out))
}

func TestFromPowerButtonToOwnDisk(t *testing.T) {
	t.Parallel() // two at a time: one alone leaves a processor idle much of the time
	r := newRoom(t, []string{"dc1"}, whole...)
	domain := r.joinable()
	r.done("domain controller started, its domain entered")
	golden := r.goldenDebian()
	r.done("golden Debian made")

	t.Log("# the golden workstation boots from the network, registers and is captured")
	desk := r.on(lab.MachineOptions{Name: "garden-desk", Address: "00:00:5e:00:53:01", Firmware: lab.UEFI, Disk: golden.Path})
	r.expect(desk, slow, "waiting to be admitted")
	r.shot(desk, "newcomer")
	r.done("golden workstation: power button to agent, UEFI")
	r.jugate(nil, "workstation", "admit", "00:00:5e:00:53:01", "garden-desk")
	r.jugate(nil, "capture", "garden-desk", "--as", "garden-desk")
	r.shot(desk, "captured")
	r.done("captured")
	require.NoError(t, desk.Off())
	assert.Subset(t, r.steps("00:00:5e:00:53:01"), []string{"address", "loader", "script", "kernel", "initrd", "agent"})

	t.Log("# network boot is begun anew, by which the others come")
	var parts []api.PartState
	r.jugate(&parts, "part", "list")
	begun := 0
	for _, p := range parts {
		if strings.HasPrefix(p.Part, "network boot on ") {
			var now api.PartState
			r.jugate(&now, "part", "restart", p.Part)
			assert.Contains(t, now.What, "serving")
			begun++
		}
	}
	require.Positive(t, begun)

	t.Log("# three blank machines with larger disks, each with other firmware")
	table := filepath.Join(t.TempDir(), "herbarium.csv")
	require.NoError(t, os.WriteFile(table, []byte("name;hardware_addresses;serial;groups\nherb-01;00:00:5e:00:53:11;;herbarium\nherb-02;00:00:5e:00:53:12;;herbarium\nherb-03;;HERB-03;herbarium\n"), 0o644))
	r.jugate(nil, "workstation", "import", table)
	const password = "sundial-2.14"
	r.jugate(nil, "answers", "set", "--service", "time_zone=Pacific/Auckland", "locale=en_NZ", "network=[{}]")
	r.jugate(nil, "answers", "set", "herbarium", "domain="+lab.DomainName, "files=[{path: /etc/resolv.conf, content: 'nameserver 192.0.2.2'}]", "accounts=[{name: scan, full_name: Scanning desk, administrator: true, password_hash: "+hashOf(t, password)+"}]",
		"commands=['for i in $(seq 30); do adcli testjoin --domain="+lab.DomainName+" > /var/log/testjoin 2>&1 && break; sleep 2; done', echo garden first start of $(hostname) > /dev/ttyS0]")
	r.jugate(nil, "answers", "set", "herb-02", "--ask", "description=Where does it stand?", "description=2.14")
	machines := []*lab.Machine{
		r.on(lab.MachineOptions{Name: "herb-01", Address: "00:00:5e:00:53:11", Firmware: lab.UEFI, Disk: r.disk("herb-01", 2*gib)}),
		r.on(lab.MachineOptions{Name: "herb-02", Address: "00:00:5e:00:53:12", Firmware: lab.SecureUEFI, Disk: r.disk("herb-02", 3*gib)}),
		r.on(lab.MachineOptions{Name: "herb-03", Address: "00:00:5e:00:53:13", Firmware: lab.BIOS, Disk: r.disk("herb-03", 2*gib), Maker: "Brindle", Model: "Mini 2",
			Card: "virtio-net-pci"}), // its kernel, that for virtual machines, knows no other
	}
	for _, m := range machines {
		r.eventually(slow, func() bool { // nobody admits them: each is expected
			var w api.Workstation
			r.jugate(&w, "workstation", "show", m.Name)
			return w.State == "admitted" && w.Online && w.Addresses[0] == m.Address
		})
	}
	r.done("three machines: power button to agent (UEFI, Secure Boot, BIOS)")
	for _, m := range machines {
		m.Forget()
	}
	t.Log("# whoever comes by the network again sees a menu for a few seconds, with a memory test; one with Secure Boot could not start that, which is said beforehand")
	r.jugate(nil, "group", "menu", "herbarium", "8")
	r.jugate(nil, "entry", "add", "memory-test", "--from", entryFile(t, "memtest86+"))
	r.jugate(nil, "entry", "edit", "memory-test", "--release", "everybody", "--title", "Test the memory")
	refused, err := r.command("entry", "next", "herb-02", "memory-test").CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(refused), "it is not signed, so that machines with Secure Boot cannot start it")
	var order api.Delivery
	r.jugate(&order, "deliver", "garden-desk", "--to", "herbarium", "--when-done", "restart", "--aside", "never", "--no-wait", "--yes") // a busy machine loses packets
	t.Log("# one of them is asked something at its screen, and the others wait for that")
	r.expect(machines[1], slow, "question: Where does it stand?")
	r.shot(machines[1], "question")
	r.typed(machines[1], "", "ready, waiting", "esc") // Enter alone takes the default
	r.eventually(slow, func() bool {
		var d api.Delivery
		r.jugate(&d, "delivery", "show", strconv.FormatInt(order.ID, 10))
		return d.State != "gathering" && d.Members[0].Done > d.Members[0].Total/3
	})
	for _, m := range machines {
		r.shot(m, "receiving")
	}
	var done api.Delivery
	r.eventually(2*slow, func() bool {
		r.jugate(&done, "delivery", "show", strconv.FormatInt(order.ID, 10))
		return done.State == "finished" || done.State == "stopped"
	})
	require.EqualValues(t, "finished", done.State, done.Reason)
	r.done("one multicast to three machines, checked, file systems grown")
	var receipts []api.Receipt
	r.jugate(&receipts, "receipt", "list", "--delivery", strconv.FormatInt(order.ID, 10))
	require.Len(t, receipts, 3)
	for _, one := range receipts {
		assert.EqualValues(t, "delivered", one.Outcome, "%s: %s", one.Workstation, one.Reason)
		assert.True(t, one.Verified)
		assert.Positive(t, one.Multicast)
		assert.Contains(t, one.Remark, "in "+lab.DomainName)
	}
	computers, err := domain.Tool(r.ctx, "computer", "list")
	require.NoError(t, err)
	for _, m := range machines {
		assert.Contains(t, computers, strings.ToUpper(m.Name)+"$")
	}

	t.Log("# they restart, ask the service, and start from their own disks")
	r.eventually(slow, func() bool {
		var status api.NetbootStatus
		r.jugate(&status, "netboot", "status", "herb-03")
		steps := status.Machines[0].Steps
		return steps[len(steps)-1].Detail == "disk: no errand"
	})
	r.shot(machines[2], "menu")
	ids, keys := map[string]bool{}, map[string]bool{}
	for i, m := range machines {
		r.expect(m, slow, m.Name+" login:")
		r.shot(m, "login")
		size := []int64{2, 3, 2}[i] * gib
		_, told, found := strings.Cut(m.Serial(), "garden root has ")
		require.True(t, found, "the system tells the size of its root: %s", m.Name)
		var blocks, block int64
		_, err := fmt.Sscanf(told, "%d blocks of %d", &blocks, &block)
		require.NoError(t, err)
		assert.Greater(t, blocks*block, size*8/10, "%s: the root file system fills the larger disk", m.Name)

		_, self, found := strings.Cut(m.Serial(), "garden self ")
		require.True(t, found, m.Name)
		words := strings.Fields(self) // name, machine-id, time zone, SSH host key, end
		assert.Equal(t, m.Name, words[0])
		assert.Len(t, words[1], 32)
		assert.Equal(t, "../usr/share/zoneinfo/Pacific/Auckland", words[2])
		ids[words[1]], keys[words[3]] = true, true
		r.expect(m, slow, "garden first start of "+m.Name)

		t.Log("# its account signs in on the serial console, and may become root")
		require.NoError(t, m.Type("scan"))
		r.expect(m, slow, "Password:")
		require.NoError(t, m.Type(password))
		r.expect(m, slow, "scan@"+m.Name)
		require.NoError(t, m.Type("id; echo $LANG; cat /var/log/testjoin /etc/machine-info"))
		r.expect(m, slow, "(sudo)")
		r.expect(m, slow, "validated join to domain "+lab.DomainName) // it says so itself, when it could ask
		if m.Name == "herb-02" {
			r.expect(m, slow, `PRETTY_HOSTNAME="2.14"`)
		}
	}
	assert.Len(t, ids, 3, "each has a machine-id of its own")
	assert.Len(t, keys, 3, "and SSH host keys of its own")
	r.eventually(slow, func() bool {
		r.jugate(&receipts, "receipt", "list", "--delivery", strconv.FormatInt(order.ID, 10))
		arrived := 0
		for _, one := range receipts {
			if one.Arrival.State == "arrived" {
				arrived++
				assert.Equal(t, one.Workstation, one.Arrival.Report.ComputerName)
				assert.Empty(t, one.Arrival.Remark)
				assert.True(t, ids[one.Arrival.Report.MachineID])
			}
		}
		return arrived == len(machines)
	})
	r.jugate(nil, "receipt", "check")
	r.done("all at their login prompt, from their own disks")

	t.Log("# switched off and on again, UEFI comes by the network once more and is sent to its disk")
	for _, m := range machines[:2] {
		require.NoError(t, m.Off())
	}
	for _, m := range machines[:2] {
		again := r.on(m.MachineOptions)
		r.expect(again, slow, m.Name+" login:")
		var status api.NetbootStatus
		r.jugate(&status, "netboot", "status", m.Name)
		steps := status.Machines[0].Steps
		assert.Equal(t, "disk: no errand", steps[len(steps)-1].Detail, m.Name)
	}
	r.done("two of them once more, by way of the network")
}
