package lab_test

import (
	"bytes"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/partition"
	"jugate/demo/golddisk"
	"jugate/lab"
)

const mib = int64(1) << 20

// nightOrder checks a room, and delivers to who passes.
const nightOrder = `order: night
note: the room, while nobody is there
check:
  to: [herbarium]
  surface: whole
  memory_walk: quick
  network: true
  wait_minutes: 30
  require: ["memory >= 256MiB"]
deliver:
  image: garden-desk
  to: [herbarium]
  keep: [label=DATA]
  rate: 60000000
  despite_firmware: true
  aside_rule: {never: true}
  await_arrival: true
commands:
  - command: kernel
    script: read -r line < /proc/version; echo "$JUGATE_WORKSTATION runs $line"
    place: boot-environment
    before: deliver
  - command: scanner
    script: |
      echo ready > /etc/scanner
      dpkg-query -W -f '${Package}\n' | wc -l
    when_done: restart
only_if:
  deliver: said["kernel"] contains "Linux version"
wake: true
afterwards: power-off
warn_minutes: 1
schedule:
  when: once %s
  zone: UTC
`

// At night a schedule wakes a room. Its machines check themselves on real firmware; one has a disk with a place that cannot be read and is
// taken out with the reason. The other keeps the partition with people's files, gets its image, starts from its disk, reports that, and is
// switched off by the helper that has stayed on it. Beside them a disk is wiped, which its file shows.
func TestANightRun(t *testing.T) {
	t.Parallel() // two at a time: one alone leaves a processor idle much of the time
	r := newRoom(t, []string{"a"}, whole...)
	golden := r.goldenDebian()
	r.jugate(nil, "image", "import", golden.Path, "--as", "garden-desk", "--despite", "a disk of the lab, which nobody uses")
	table := filepath.Join(t.TempDir(), "rooms.csv")
	require.NoError(t, os.WriteFile(table, []byte("name;hardware_addresses;groups\nherb-01;00:00:5e:00:53:11;herbarium\nherb-02;00:00:5e:00:53:12;herbarium\nkiosk-03;00:00:5e:00:53:33;kiosks\n"), 0o644))
	r.jugate(nil, "workstation", "import", table)
	r.jugate(nil, "group", "image", "herbarium", "garden-desk")
	r.jugate(nil, "answers", "set", "herbarium", "helper=true", "network=[{}]")
	r.programs()
	r.done("image imported, room entered, boot environment with a shell built")

	var air net.PacketConn // who hears the wake-ups, as machines that are off do
	require.NoError(t, r.net.Host("a").Inside(func() (err error) {
		air, err = net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.MustParseAddrPort("0.0.0.0:9")))
		return err
	}))
	defer air.Close()
	begins := time.Now().UTC().Add(70 * time.Second).Truncate(time.Minute) // in 10 s at the earliest
	file := filepath.Join(t.TempDir(), "night.yaml")
	require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, nightOrder, begins.Format("2006-01-02 15:04")), 0o644))
	r.jugate(nil, "order", "import", file, "--yes")

	t.Log("# meanwhile a kiosk is taken out of service, with what is on its disk")
	secret := r.disk("kiosk-03", 64*mib)
	fill(t, secret)
	r.jugate(nil, "workstation", "retire", "kiosk-03", "--wipe", "--read-back", "whole", "--when-done", "power-off", "--sure", "kiosk-03")
	kiosk := r.on(lab.MachineOptions{Name: "kiosk-03", Address: "00:00:5e:00:53:33", Firmware: lab.BIOS, Disk: secret})

	t.Log("# the schedule wakes the room")
	woken := map[string]bool{}
	require.NoError(t, air.SetReadDeadline(time.Now().Add(slow)))
	for b := make([]byte, 200); len(woken) < 2; {
		n, _, err := air.ReadFrom(b)
		require.NoError(t, err)
		if magic := bytes.Repeat([]byte{0xff}, 6); n >= 12 && bytes.Equal(b[:6], magic) {
			woken[net.HardwareAddr(b[6:12]).String()] = true
		}
	}
	assert.Equal(t, map[string]bool{"00:00:5e:00:53:11": true, "00:00:5e:00:53:12": true}, woken)
	r.done("woken by the schedule")
	good := r.disk("herb-01", nightDisk)
	files := people(t, good)
	bad := filepath.Join(t.TempDir(), "bad.conf") // of the emulator's own error injection
	require.NoError(t, os.WriteFile(bad, []byte("[inject-error]\nevent = \"read_aio\"\nerrno = \"5\"\nsector = \"204800\"\n"), 0o644))
	machines := []*lab.Machine{
		r.on(lab.MachineOptions{Name: "herb-01", Address: "00:00:5e:00:53:11", Firmware: lab.UEFI, Disk: good}),
		r.on(lab.MachineOptions{Name: "herb-02", Address: "00:00:5e:00:53:12", Firmware: lab.BIOS, Disk: "blkdebug:" + bad + ":" + r.disk("herb-02", 160*mib)}), // no image comes onto it
	}

	var runs []api.OrderRun
	r.eventually(2*slow, func() bool {
		r.jugate(&runs, "order", "history", "night")
		return len(runs) == 1 && runs[0].Ended != nil
	})
	r.shot(machines[1], "taken-out")
	var run api.OrderRun
	r.jugate(&run, "order", "history", "--run", fmt.Sprint(runs[0].ID))
	r.done("checked, one taken out, one delivered")
	assert.EqualValues(t, "failed", run.State)
	require.Len(t, run.Parts, 5)
	require.Len(t, run.Parts[0].LeftOut, 1)
	out := run.Parts[0].LeftOut[0]
	assert.Equal(t, "herb-02", out.Workstation)
	assert.Contains(t, out.Reason, "in one place cannot be read, the first at byte 104857600; all of it was read")
	said := map[string]string{}
	for _, part := range run.Parts {
		for _, e := range part.Commands {
			said[e.Command.Name] = e.Command.LastLine
		}
	}
	t.Logf("commands said: %v", said)
	assert.Contains(t, said["kernel"], "herb-01 runs Linux version", "in the boot environment, by a shell of Debian's")
	assert.Regexp(t, `^\d\d+$`, said["scanner"], "packages of the system that was delivered")
	var checks []api.Check
	r.jugate(&checks, "check", "list", "--workstation", "herb-01")
	require.Len(t, checks, 1)
	var figures api.Check
	r.jugate(&figures, "check", "show", fmt.Sprint(checks[0].ID))
	t.Logf("herb-01 was found: %+v", figures.Findings)
	assert.Zero(t, figures.Result.Memory.Wrong)
	assert.Greater(t, figures.Result.Memory.Bytes, 100*mib)
	assert.Equal(t, nightDisk, figures.Result.Surface.Read)
	assert.Positive(t, figures.Result.Network.Heard)
	var receipts []api.Receipt
	r.jugate(&receipts, "receipt", "list", "--workstation", "herb-01")
	require.Len(t, receipts, 1)
	assert.EqualValues(t, "delivered", receipts[0].Outcome, receipts[0].Reason)
	require.NotNil(t, receipts[0].Arrival)
	assert.Equal(t, []any{"arrived", "herb-01"}, []any{receipts[0].Arrival.State, receipts[0].Arrival.Report.ComputerName})
	assert.Contains(t, receipts[0].Remark, "was kept")
	assert.NoError(t, machines[0].Ended(r.ctx), "its helper has switched it off")
	r.done("arrived from its own disk, and switched off by its helper")
	assert.Equal(t, files, filesOf(t, good), "people's files are as they were")
	assert.Contains(t, r.system(good), "etc/scanner", "the command has changed the system before it started")
	require.NoError(t, golddisk.VerifyPartitions(r.ctx, good, 512))
	var behind []api.Workstation
	r.jugate(&behind, "workstation", "list", "--where", "behind")
	require.Len(t, behind, 1)
	assert.Equal(t, "herb-02", behind[0].Name)

	t.Log("# nothing is left on the kiosk's disk, and its receipt says so")
	assert.NoError(t, kiosk.Ended(r.ctx))
	content, err := os.ReadFile(secret)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(content, make([]byte, 64*mib)), "its disk file has nothing but zeros")
	r.jugate(&receipts, "receipt", "list", "--workstation", "kiosk-03")
	require.Len(t, receipts, 1)
	require.NotNil(t, receipts[0].Wipe)
	assert.Equal(t, []any{"wiped", 64 * mib, "kiosk-03"}, []any{string(receipts[0].Outcome), receipts[0].Wipe.Read, receipts[0].Wipe.Serial})
	var retired api.Workstation
	r.jugate(&retired, "workstation", "show", "kiosk-03")
	assert.EqualValues(t, "retired", retired.State)
	r.jugate(nil, "receipt", "check")
}

// programs offers a build with a shell, of Debian's packages; what it lacks is named first.
func (r *room) programs() {
	packages, err := filepath.Glob(filepath.Join(labRoot(r.t), "programs", "*.deb"))
	require.NoError(r.t, err)
	require.NotEmpty(r.t, packages)
	shell, err := filepath.Glob(filepath.Join(labRoot(r.t), "programs", "dash_*.deb"))
	require.NoError(r.t, err)
	out, err := r.command("environment", "build", "--programs", strings.Join(shell, ",")).CombinedOutput()
	assert.Error(r.t, err)
	assert.Contains(r.t, string(out), "needs libc6")
	var build api.Build
	r.jugate(&build, "environment", "build", "--programs", strings.Join(packages, ","), "--do-without", "debianutils,dpkg", "--offer")
	at := slices.IndexFunc(build.Layers, func(l api.BuildLayer) bool { return l.Name == "programs" })
	require.Positive(r.t, at)
	r.t.Logf("a layer of %d KiB: %v", build.Layers[at].Bytes>>10, build.Layers[at].Packages)
}

// system are the files of the system on a disk.
func (r *room) system(disk string) map[string]string {
	f, err := os.Open(disk)
	require.NoError(r.t, err)
	defer f.Close()
	table, err := partition.Read(f, nightDisk, 512)
	require.NoError(r.t, err)
	i := slices.IndexFunc(table.Partitions, func(p partition.Partition) bool { return table.Size(p) > 500*mib })
	require.GreaterOrEqual(r.t, i, 0)
	files, err := golddisk.PartitionFiles(r.ctx, disk, table.Start(table.Partitions[i]), table.Size(table.Partitions[i]), "ext4")
	require.NoError(r.t, err)
	return files
}

// nightDisk is the size of a desk's disk, and peopleStart and peopleSize are where people's files are on it.
const (
	nightDisk   = 1000 * mib
	peopleStart = 930 * mib
	peopleSize  = 64 * mib
)

// people gives a disk a partition with files, and returns their digests.
func people(t *testing.T, disk string) map[string]string {
	t.Helper()
	require.NoError(t, golddisk.Partition(t.Context(), disk, 512, fmt.Sprintf("label: gpt\nstart=2048, size=%d, type=linux\nstart=%d, size=%d, type=linux, name=people\n", 100*mib/512, peopleStart/512, peopleSize/512)))
	vol := filepath.Join(t.TempDir(), "people")
	require.NoError(t, golddisk.BuildVolume(t.Context(), golddisk.VolumeSpec{Path: vol, Size: peopleSize, Mkfs: []string{"mkfs.ext4", "-q", "-F", "-L", "DATA"}, Data: 20 * mib, Seed: 7}))
	require.NoError(t, golddisk.Put(disk, peopleStart, vol))
	return filesOf(t, disk)
}

func filesOf(t *testing.T, disk string) map[string]string {
	t.Helper()
	files, err := golddisk.PartitionFiles(t.Context(), disk, peopleStart, peopleSize, "ext4")
	require.NoError(t, err)
	return files
}

// fill writes a text all over a disk.
func fill(t *testing.T, path string) {
	t.Helper()
	info, err := os.Stat(path)
	require.NoError(t, err)
	const text = "names, addresses and keys of people; "
	full := bytes.Repeat([]byte(text), int(info.Size())/len(text)+1)
	require.NoError(t, os.WriteFile(path, full[:info.Size()], 0o644))
}
