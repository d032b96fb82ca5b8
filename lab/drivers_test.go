package lab_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/demo/golddisk"
	"jugate/demo/madeup"
	"jugate/lab"
)

// A network card that the boot environment does not drive: it is said which, one
// command puts its driver in, and the machine calls home at its next start. Who stands
// in front of a machine can hand the driver over on the spot.
func TestANetworkCardWithoutADriver(t *testing.T) {
	t.Parallel() // two at a time: one alone leaves a processor idle much of the time
	r := newRoom(t, nil, whole...)
	root := labRoot(t)
	r.jugate(nil, "environment", "build", "--from", root, "--kernel-words", words, "--leave-out", "e1000", "--offer", "--note", "without e1000")

	t.Log("# one of the model has another card too, calls by that, and so its devices are known")
	known := r.on(lab.MachineOptions{Name: "seed-01", Address: "00:00:5e:00:53:21", Firmware: lab.UEFI, Maker: "Alder Works", Model: "A520", Disk: r.disk("seed-01", gib),
		Extra: []string{"-device", "e1000,mac=00:00:5e:00:53:29,romfile="}})
	r.expect(known, slow, "waiting to be admitted")
	var w api.Workstation
	r.jugate(&w, "workstation", "show", known.Address)
	drivers := map[string]string{}
	for _, d := range w.Inventory.Devices {
		drivers[d.ID] = d.Driver
	}
	const e1000 = "pci:v00008086d0000100Esv00001AF4sd00001100bc02sc00i00"
	require.Contains(t, drivers, e1000)
	assert.Empty(t, drivers[e1000])
	assert.Contains(t, drivers, "virtio:d00000001v00001AF4")
	r.done("a machine of the model calls by its other card")

	t.Log("# two that have the card alone: one is left to itself, beside the other stands somebody with a stick")
	lost := r.on(lab.MachineOptions{Name: "seed-02", Address: "00:00:5e:00:53:22", Firmware: lab.BIOS, Card: "e1000", Maker: "Alder Works", Model: "A520", Disk: r.disk("seed-02", gib)})
	release, err := os.ReadDir(filepath.Join(root, "lib/modules"))
	require.NoError(t, err)
	folder := filepath.Join(root, "lib/modules", release[len(release)-1].Name(), "kernel/drivers/net/ethernet/intel/e1000")
	stick := r.disk("stick", 16<<20)
	for _, argv := range [][]string{{"mkfs.vfat", "-F", "12", stick}, {"mcopy", "-i", stick, filepath.Join(folder, "e1000.ko"), "::/"}} {
		out, err := exec.CommandContext(t.Context(), argv[0], argv[1:]...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	helped := r.on(lab.MachineOptions{Name: "seed-03", Address: "00:00:5e:00:53:23", Firmware: lab.BIOS, Card: "e1000", Maker: "Alder Works", Model: "A520", Disk: r.disk("seed-03", gib),
		Extra: []string{"-drive", "file=" + stick + ",format=raw,if=none,id=s0,readonly=on", "-device", "qemu-xhci", "-device", "usb-storage,drive=s0,removable=on"}})
	r.expect(lost, slow, "8086:100e: a network card without a driver in this build")
	r.shot(lost, "no-driver")
	r.expect(helped, slow, "driver: e1000 is loaded")
	r.expect(helped, slow, "waiting to be admitted")
	r.done("two machines with that card alone: one stands there, one has its driver from a stick")

	t.Log("# the service knows why, by the model that the firmware told, and what would help")
	r.jugate(nil, "driver", "add", folder)
	var machine api.BootTrail
	r.eventually(3*time.Minute, func() bool {
		var status api.NetbootStatus
		r.jugate(&status, "netboot", "status", lost.Address)
		machine = status.Machines[0]
		return machine.Cover != ""
	})
	assert.Contains(t, machine.Stuck, "its network card pci 8086:100e has no driver in build 2; package e1000")
	assert.Contains(t, machine.Stuck, "(Alder Works A520, by those of its model that are known)")
	assert.Contains(t, r.doctor(r.desk, lost.Address), "jugate environment build --cover "+machine.Cover+" --offer")
	r.done("flagged, with the reason")
	require.NoError(t, lost.Off())

	t.Log("# over the card that works, from the agent's screen")
	r.typed(known, "d", "admit it first", "esc")
	r.jugate(nil, "workstation", "admit", known.Address, "seed-01")
	require.NoError(t, known.Press("esc"))
	r.typed(known, "d", "driver: e1000 is loaded", "esc")
	r.shot(known, "drivers")

	intoWindows(r, known)

	t.Log("# one command, and at its next start it calls home")
	require.NoError(t, known.Off())
	require.NoError(t, helped.Off())
	var build api.Build
	r.jugate(&build, "environment", "build", "--cover", machine.Cover, "--offer")
	assert.True(t, slices.ContainsFunc(build.Layers, func(l api.BuildLayer) bool { return l.Name == "drivers Alder-Works-A520" }))
	var changes []api.BuildChange
	r.jugate(&changes, "environment", "diff", "2", "3")
	var paths []string
	for _, c := range changes {
		paths = append(paths, c.What+" "+filepath.Base(c.Path))
	}
	assert.Equal(t, "changed modules.alias, changed modules.dep, added e1000.ko, changed modules.json", strings.Join(paths, ", "))
	r.done("its driver put into the boot environment")
	again := r.on(lost.MachineOptions)
	r.expect(again, slow, "waiting to be admitted")
	r.shot(again, "has-driver")
	r.done("BIOS: power button to agent, by that card")
}

// intoWindows has a machine receive a disk with a system's NTFS volume, made up, and all
// packages of a set with it; they lie on the real disk afterwards.
func intoWindows(r *room, m *lab.Machine) {
	t := r.t
	t.Log("# INF packages into an NTFS volume, after its delivery")
	part, gold := filepath.Join(t.TempDir(), "part"), r.disk("windows", 96<<20)
	require.NoError(t, golddisk.Partition(t.Context(), gold, 512, "label: gpt\nstart=1M, size=64M\n"))
	require.NoError(t, golddisk.BuildVolume(t.Context(), golddisk.VolumeSpec{Path: part, Size: 64 << 20, Mkfs: []string{"mkfs.ntfs", "-q", "-F", "-f"}, Fill: func(dir string) error {
		for _, name := range []string{"Windows/INF/none.inf", "Windows/SysWOW64/none.dll", "Windows/Panther/setup.log"} {
			if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755); err != nil {
				return err
			}
			if err := os.WriteFile(filepath.Join(dir, name), []byte("made up\n"), 0o644); err != nil {
				return err
			}
		}
		return nil
	}}))
	require.NoError(t, golddisk.Put(gold, 1<<20, part))
	packages := t.TempDir()
	require.NoError(t, madeup.WriteINF(packages))
	r.jugate(nil, "driver", "add", packages)
	r.jugate(nil, "driver", "set", "save", "all", "--for", "windows", "--rule", "package=*")
	r.jugate(nil, "image", "import", gold, "--as", "windows-desk", "--despite", "made up")
	r.jugate(nil, "deliver", "windows-desk", "--to", "seed-01", "--drivers", "all", "--drivers-whole", "--grow", "none", "--despite-drivers", "--yes")
	var receipts []api.Receipt
	r.jugate(&receipts, "receipt", "list", "--workstation", "seed-01")
	require.Len(t, receipts, 1)
	assert.Equal(t, []string{"aldernet 1.6.2.0", "aldernet 1.4.0.7", "corvraid 2.0.1.0"}, receipts[0].Drivers, receipts[0].Reason)
	require.NoError(t, exec.CommandContext(t.Context(), "dd", "if="+m.Disk, "of="+part, "bs=1M", "skip=1", "count=64", "conv=fsync", "status=none").Run())
	out, err := exec.CommandContext(t.Context(), "ntfscat", part, "Windows/Panther/unattend.xml").Output()
	require.NoError(t, err)
	assert.Contains(t, string(out), "pnputil.exe /add-driver")
	checked, err := exec.CommandContext(t.Context(), "ntfsfix", "-n", part).CombinedOutput()
	assert.NoError(t, err, "%s", checked)
	r.done("INF packages put into an NTFS volume")
}
