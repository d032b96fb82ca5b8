package lab_test

import (
	"context"
	"image/png"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/demo/golddisk"
	"jugate/lab"
)

// The ways to the agent that are not mode whole with PXE.

func TestHTTPBootReachesTheAgent(t *testing.T) {
	t.Parallel() // two at a time: one alone leaves a processor idle much of the time
	r := newRoom(t, nil, whole...)
	r.jugate(nil, "environment", "build", "--from", labRoot(t), "--kernel-words", words, "--shell", "--offer", "--note", "with a shell")
	nvme := r.disk("nvme", gib)
	r.jugate(nil, "answers", "set", "--service", "keyboard=de")
	m := r.on(lab.MachineOptions{Name: "kiosk-01", Address: "00:00:5e:00:53:21", Firmware: lab.UEFI, OnlyHTTP: true, Disk: r.disk("kiosk-01", gib),
		Extra: []string{"-drive", "file=" + nvme + ",format=raw,if=none,id=d1", "-device", "nvme,drive=d1,serial=NV-1"}})
	r.expect(m, slow, "waiting to be admitted")
	r.shot(m, "http-boot")
	r.done("UEFI HTTP boot: power button to agent")
	var w api.Workstation
	r.jugate(&w, "workstation", "show", "00:00:5e:00:53:21")
	assert.Equal(t, "UEFI", w.Inventory.Firmware)
	assert.False(t, w.Inventory.SecureBoot)
	assert.Equal(t, "KIOSK-01", w.Serial)
	health := map[string]string{}
	for _, d := range w.Inventory.Disks {
		health[d.Serial] = d.Health
	}
	assert.Equal(t, map[string]string{"NV-1": "good", "kiosk-01": ""}, health, "the virtual disk tells nothing, the other one is asked")

	t.Log("# keys are those of the layout that the answers name: by them somebody signs in, with letters that have an accent")
	r.expect(m, slow, "keyboard: keys are those of de")
	var link api.Invitation
	r.jugate(nil, "person", "add", "ines", "--grant", "administrator")
	r.jugate(&link, "person", "invite", "ines")
	_, err := r.clientOn(r.desk).Accept(r.ctx, link.Secret, api.Acceptance{Name: "ines", Password: "zöß@éÉ 9/- green"})
	require.NoError(t, err)
	password := func() {
		require.NoError(t, m.Press("y", "semicolon", "minus"))
		require.NoError(t, m.Chord("alt_r", "q"))
		require.NoError(t, m.Press("equal", "e", "equal"))
		require.NoError(t, m.Chord("shift", "e"))
		require.NoError(t, m.Press("spc", "9"))
		require.NoError(t, m.Chord("shift", "7"))
		require.NoError(t, m.Press("slash", "spc", "g", "r", "e", "e", "n"))
	}
	require.NoError(t, m.Press("k"))
	password()
	require.NoError(t, m.Press("ret"))
	r.expect(m, time.Minute, "keyboard: 16 letters came")
	r.shot(m, "keyboard")
	r.leaves(m, "waiting to be admitted") // or what is typed chooses another layout
	r.again(m, func() {
		require.NoError(t, m.Press("s", "i", "n", "e", "s", "ret"))
		password()
	}, "page: Signed in", "esc")
	require.NoError(t, m.Press("esc"))

	t.Log("# another is chosen at the screen")
	r.typed(m, "kus", "keyboard: keys are those of us", "esc")
	require.NoError(t, m.Press("esc"))

	t.Log("# a person signs in by a code and gives it a name")
	var code api.Code
	r.jugate(&code, "netboot", "code")
	r.typed(m, "s"+strings.ToLower(code.Code), "page: Signed in", "esc")
	r.shot(m, "signed-in")
	require.NoError(t, m.Press("esc"))
	r.typed(m, "akiosk-01", "kiosk-01: waiting for an errand", "esc")
	require.NoError(t, m.Press("h"))
	r.expect(m, slow, "page: Hardware")
	r.shot(m, "hardware")
	r.done("signed in and admitted at the keyboard")

	t.Log("# this build allows a shell, on the second screen")
	require.NoError(t, m.Chord("alt", "f2"))
	r.typed(m, "busybox dd if=/etc/jugate/settings.json of=/dev/console", `"shell": true`, "ret")
	r.shot(m, "shell")
	r.done("a shell, as the build allows it")

	t.Log("# firmware that loads by HTTP takes a disc into its memory, once")
	unpacked := t.TempDir()
	out, err := exec.CommandContext(r.ctx, "dpkg-deb", "-x", entryFile(t, "memtest86+"), unpacked).CombinedOutput()
	require.NoError(t, err, "%s", out)
	r.jugate(nil, "entry", "add", "test-disc", "--from", filepath.Join(unpacked, "usr/lib/memtest86+/memtest86+x64.iso"))
	r.jugate(nil, "entry", "next", "kiosk-01", "test-disc")
	disc := m.MachineOptions
	require.NoError(t, m.Off())
	tester := r.on(disc)
	r.eventually(slow, func() bool {
		var starts []api.BootStart
		r.jugate(&starts, "entry", "history", "--workstation", "kiosk-01")
		return len(starts) == 1 && starts[0].Way == "disc" && starts[0].Loaded != nil
	})
	r.done("a disc by UEFI HTTP boot: power button to the last byte")
	r.eventually(slow, func() bool { return r.showsTest(tester) })
	r.shot(tester, "test-disc")

	t.Log("# and then its own disk, on which Jugate's own loader finds the system's")
	require.NoError(t, tester.Off())
	disc.Disk = r.startable("kiosk-01-own", filepath.Join(unpacked, "boot/memtest86+x64.efi"))
	own := r.on(disc)
	r.eventually(slow, func() bool { return r.showsTest(own) })
	r.shot(own, "own-disk")
	r.done("its own disk by UEFI HTTP boot: power button to what is on it")
}

// startable is a disk whose EFI system partition has a program where firmware looks for one.
func (r *room) startable(name, program string) string {
	path := r.disk(name, 64*mib)
	make := `printf 'label: gpt\nstart=2048, size=60M, type=uefi\n' | sfdisk -q "$1" && mkfs.vfat --offset 2048 "$1" 61440 >/dev/null && mmd -i "$1@@1M" ::EFI ::EFI/BOOT && mcopy -i "$1@@1M" "$2" ::EFI/BOOT/BOOTX64.EFI`
	out, err := exec.CommandContext(r.ctx, "sh", "-c", make, "sh", path, program).CombinedOutput()
	require.NoError(r.t, err, "%s", out)
	return path
}

// showsTest tells whether a machine's screen is that of the memory test: most of it is blue.
func (r *room) showsTest(m *lab.Machine) bool {
	path := filepath.Join(r.keep, m.Name+"-now.png")
	if err := m.Screenshot(path); err != nil {
		return false
	}
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	screen, err := png.Decode(f)
	if err != nil {
		return false
	}
	blue, all := 0, 0
	for y := screen.Bounds().Min.Y; y < screen.Bounds().Max.Y; y += 8 {
		for x := screen.Bounds().Min.X; x < screen.Bounds().Max.X; x += 8 {
			red, green, b, _ := screen.At(x, y).RGBA()
			if all++; b > 2*red && b > 2*green && b > 0x6000 {
				blue++
			}
		}
	}
	return 2*blue > all
}

// typed types a line until the machine answers: a simulated keyboard loses keys where
// the machine is busy.
// Before it tries again, it presses undo.
func (r *room) typed(m *lab.Machine, text, answer, undo string) {
	r.t.Helper()
	r.again(m, func() { require.NoError(r.t, m.Press(keys(text)...)) }, answer, undo)
}

// again is typed for what is not just a text.
func (r *room) again(m *lab.Machine, press func(), answer, undo string) {
	r.t.Helper()
	for range 6 {
		press()
		require.NoError(r.t, m.Press("ret"))
		ctx, cancel := context.WithTimeout(r.ctx, 25*time.Second)
		err := m.Expect(ctx, answer)
		cancel()
		if err == nil {
			return
		}
		r.t.Logf("# once more, for %q", answer)
		require.NoError(r.t, m.Press(undo))
	}
	require.Fail(r.t, "it does not answer", "%q", answer)
}

// leaves goes back to the first page, which says something.
func (r *room) leaves(m *lab.Machine, first string) {
	r.t.Helper()
	for range 6 {
		m.Forget()
		require.NoError(r.t, m.Press("esc"))
		ctx, cancel := context.WithTimeout(r.ctx, 25*time.Second)
		err := m.Expect(ctx, first)
		cancel()
		if err == nil {
			return
		}
	}
	require.Fail(r.t, "it does not go back", "%q", first)
}

// keys are QEMU's names for the keys of a text.
func keys(text string) (names []string) {
	for _, c := range text {
		name := string(c)
		if special := map[rune]string{'-': "minus", '/': "slash", '.': "dot", ' ': "spc", '=': "equal"}[c]; special != "" {
			name = special
		}
		names = append(names, name)
	}
	return names
}

func TestMediaReachTheAgentWithoutNetworkBoot(t *testing.T) {
	t.Parallel() // two at a time: one alone leaves a processor idle much of the time
	r := newRoom(t, nil, "--tickets", "yes")
	stick := filepath.Join(t.TempDir(), "stick.img")
	r.jugate(nil, "entry", "add", "memory-test", "--from", entryFile(t, "memtest86+"))
	r.jugate(nil, "environment", "media", "--into", stick, "--service", "https://192.0.2.1:7460", "--address", "192.0.2.70-192.0.2.89/24", "--entry", "memory-test")
	r.done("media made")
	t.Log("# nobody gives addresses here, and the stick has some; the same file is a disc, and a BIOS starts it, too")
	bios := r.on(lab.MachineOptions{Name: "seed-02", Address: "00:00:5e:00:53:33", Firmware: lab.BIOS, Disk: r.disk("seed-02", gib), Media: stick})
	for name, firmware := range map[string]lab.Firmware{"seed-03": lab.BIOS, "seed-04": lab.UEFI} {
		disc := r.on(lab.MachineOptions{Name: name, Address: "00:00:5e:00:53:3" + name[len(name)-1:], Firmware: firmware, Disk: r.disk(name, gib), Disc: stick})
		r.expect(disc, slow, "Run /init as init process")
		require.NoError(t, disc.Off())
	}
	r.done("the disc by UEFI and on a BIOS: power button to kernel")
	m := r.on(lab.MachineOptions{Name: "seed-01", Address: "00:00:5e:00:53:31", Firmware: lab.SecureUEFI, Card: "e1000e", Disk: r.disk("seed-01", gib), Media: stick})
	r.expect(m, slow, ", the fixed address of these media")
	r.expect(m, slow, "waiting to be admitted")
	r.shot(m, "media")
	taken := map[string]bool{}
	for _, one := range []*lab.Machine{m, bios} {
		r.expect(one, slow, "waiting to be admitted")
		_, address, _ := strings.Cut(one.Serial(), "): 192.0.2.")
		address, _, _ = strings.Cut(address, ", the fixed")
		assert.False(t, taken[address], "%s is another machine's", address)
		taken[address] = true
	}
	require.NoError(t, bios.Off())
	r.done("USB stick with Secure Boot and on a BIOS: power button to agent")
	var w api.Workstation
	r.jugate(&w, "workstation", "show", "00:00:5e:00:53:31")
	assert.True(t, w.Inventory.SecureBoot)

	t.Log("# where nobody gives addresses, a disk is captured onto a second one, and handed in later")
	lone := filepath.Join(t.TempDir(), "lone.img")
	r.jugate(nil, "environment", "media", "--into", lone, "--service", "https://192.0.2.1:7460")
	gold, err := golddisk.Build(r.ctx, golddisk.Spec{Path: filepath.Join(t.TempDir(), "field"), Size: 96 * mib, Data: 20 * mib})
	require.NoError(t, err)
	shelf := filepath.Join(t.TempDir(), "shelf")
	require.NoError(t, golddisk.BuildVolume(r.ctx, golddisk.VolumeSpec{Path: shelf, Size: 200 * mib, Mkfs: []string{"mkfs.ext4", "-q", "-F", "-L", "SHELF"}}))
	field := r.on(lab.MachineOptions{Name: "field-01", Address: "00:00:5e:00:53:32", Firmware: lab.UEFI, Disk: gold.Path, Media: lone,
		Extra: []string{"-drive", "file=" + shelf + ",format=raw,if=none,id=shelf", "-device", "virtio-blk-pci,drive=shelf,serial=SHELF-1"}})
	r.jugate(nil, "workstation", "admit", "00:00:5e:00:53:32", "field-01")
	r.expect(field, slow, "no network card has an address")
	r.again(field, func() {
		require.NoError(t, field.Press("c", "1", "ret"))
		require.NoError(t, field.Press("1", "ret"))
		require.NoError(t, field.Press(keys("field-desk")...))
	}, "capturing field-desk onto", "esc")
	r.expect(field, slow, "page: Captured into field-desk-field-01.jugate")
	r.shot(field, "captured-away")
	t.Log("# an address is typed: one that somebody has is not taken, and from another the service is tried first")
	require.NoError(t, field.Press("esc"))
	r.typed(field, "f192.0.2.1/24", "another machine has 192.0.2.1", "esc")
	require.NoError(t, field.Press("esc"))
	r.typed(field, "f192.0.2.95/24", "field-01: waiting", "esc")
	r.shot(field, "typed-address")
	require.NoError(t, field.Off())
	packed := filepath.Join(t.TempDir(), "field-desk.jugate")
	out, err := exec.CommandContext(r.ctx, "debugfs", "-R", "dump /field-desk-field-01.jugate "+packed, shelf).CombinedOutput()
	require.NoError(t, err, "%s", out)
	r.jugate(nil, "image", "import", packed, "--as", "field-desk")
	r.jugate(nil, "image", "verify", "field-desk@1")
	r.done("captured without a network, and handed in")
}

func TestBesideAnotherServer(t *testing.T) {
	t.Parallel() // two at a time: one alone leaves a processor idle much of the time
	labRoot(t)
	if _, err := exec.LookPath("udhcpd"); err != nil {
		t.Skipf("this needs another DHCP server: %v", err)
	}
	r := newRoom(t, []string{"office"}, "--netboot", "eth0=beside")
	office := r.net.Host("office")
	conf := filepath.Join(t.TempDir(), "udhcpd.conf")
	require.NoError(t, os.WriteFile(conf, []byte("start 192.0.2.200\nend 192.0.2.220\ninterface eth0\nlease_file "+conf+".leases\npidfile "+conf+".pid\noption subnet 255.255.255.0\noption lease 600\n"), 0o644))
	require.NoError(t, os.WriteFile(conf+".leases", nil, 0o644))
	t.Log("# the doctor finds that nobody gives addresses, that two do, and who does then; and whether multicast is heard")
	assert.Contains(t, r.doctor(r.desk), "bad      addresses on eth0: nobody gives addresses there: workstations show 169.254.x.x")
	r.jugate(nil, "config", "set", "pool", "192.0.2.100-192.0.2.150/24")
	r.jugate(nil, "config", "set", "netboot", "eth0=whole")
	assert.Contains(t, r.doctor(r.desk, "--all"), "good     addresses on eth0: this service alone gives them")
	other := office.Command(r.ctx, "udhcpd", "-f", conf)
	require.NoError(t, other.Start())
	t.Cleanup(func() { other.Process.Kill(); other.Wait() })
	r.eventually(time.Minute, func() bool {
		return strings.Contains(r.doctor(r.desk), "bad      addresses on eth0: 192.0.2.2 gives addresses there, too")
	})
	r.jugate(nil, "config", "set", "netboot", "eth0=beside")

	r.eventually(time.Minute, func() bool {
		return strings.Contains(r.doctor(r.desk, "--all"), "good     addresses on eth0: 192.0.2.2 gives them")
	})
	assert.Contains(t, r.doctor(office, "--all", "--interface", "eth0"), "good     multicast at eth0: of 400 packets ")
	require.NoError(t, office.Lose(r.ctx, 1))
	assert.Contains(t, r.doctor(office, "--interface", "eth0"), "bad      multicast at eth0: of 400 packets none was heard")
	assert.Contains(t, r.doctor(r.desk, "00:00:5e:00:53:14"), "bad      00:00:5e:00:53:14: network boot: nothing was heard of it")
	for _, nowhere := range []string{"https://198.51.100.9:7460", "https://192.0.2.77:7460"} { // no router, and nobody there
		assert.Contains(t, r.doctor(office, "--server", nowhere), "bad      way to the service: no route leads from here to "+nowhere)
	}
	refused, err := r.command("config", "set", "netboot", "eth0=whole").CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(refused), "netboot stays as it is")

	t.Log("# mode whole does not start where the other server is")
	second := r.net.Host("desk").Command(r.ctx, filepath.Join(r.bin, "jugate"), "serve", "--data", filepath.Join(t.TempDir(), "second"), "--listen", "192.0.2.1:7470",
		"--netboot", "eth0=whole", "--pool", "192.0.2.100-192.0.2.150/24")
	out, err := second.CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(out), "192.0.2.2 gives addresses there already")

	uefi := r.on(lab.MachineOptions{Name: "herb-04", Address: "00:00:5e:00:53:14", Firmware: lab.UEFI, Disk: r.disk("herb-04", gib)})
	bios := r.on(lab.MachineOptions{Name: "herb-05", Address: "00:00:5e:00:53:15", Firmware: lab.BIOS, Disk: r.disk("herb-05", gib)})
	for _, m := range []*lab.Machine{uefi, bios} {
		r.expect(m, slow, "waiting to be admitted")
		assert.Contains(t, m.Serial(), ": 192.0.2.2", "the address is the other server's")
		assert.Subset(t, r.steps(m.Address), []string{"address", "loader", "script", "kernel", "initrd", "agent"})
	}
	r.shot(uefi, "beside")
	r.done("beside another server: UEFI and BIOS, power button to agent")
}

func TestARoomBehindARelayAgent(t *testing.T) {
	t.Parallel() // two at a time: one alone leaves a processor idle much of the time
	r := newRoom(t, []string{"router"}, "--netboot", "eth0=whole", "--pool", "192.0.2.100-192.0.2.150/24,198.51.100.100-198.51.100.150/24 router 198.51.100.1")
	far, err := lab.NewNetwork(r.ctx)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, far.Close()) })
	require.NoError(t, r.net.Join(r.ctx, "router", far, "room2", netip.MustParsePrefix("198.51.100.1/24")))
	router := r.net.Host("router")
	require.NoError(t, r.desk.Route(r.ctx, netip.MustParsePrefix("198.51.100.0/24"), router.Address))
	require.NoError(t, router.Relay(r.ctx, "room2", netip.MustParseAddr("198.51.100.1"), netip.MustParseAddrPort("192.0.2.1:67")))

	m, err := far.PowerOn(r.ctx, lab.MachineOptions{Name: "visitor-01", Address: "00:00:5e:00:53:41", Firmware: lab.UEFI, Disk: r.disk("visitor-01", gib), Dir: r.keep, Maker: "Brindle", Model: "Mini 2"})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, m.Off()) })
	r.expect(m, slow, "waiting to be admitted")
	assert.Contains(t, m.Serial(), "198.51.100.1")
	r.done("behind a relay agent: power button to agent")
	r.jugate(nil, "workstation", "admit", m.Address, "visitor-01")
	r.jugate(nil, "capture", "visitor-01", "--as", "nothing", "--no-wait")
	r.expect(m, slow, "visitor-01: the capture failed") // its disk is blank
	var status api.NetbootStatus
	r.jugate(&status, "netboot", "status", "visitor-01")
	require.Len(t, status.Machines, 1)
	assert.Contains(t, status.Machines[0].Steps[0].Detail, "by way of a relay agent")
	r.done("its errand reached it")
}
