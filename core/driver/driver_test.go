package driver_test

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/driver"
	"jugate/core/kmod"
	"jugate/demo/madeup"
)

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// samples are the made-up packages in a library.
func samples(t *testing.T) (*driver.Library, []driver.Skip) {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, madeup.WriteINF(dir))
	require.NoError(t, madeup.WriteModules(filepath.Join(dir, "modules")))
	l, err := driver.OpenLibrary(t.TempDir())
	require.NoError(t, err)
	found, skipped, err := driver.Find(os.DirFS(dir))
	require.NoError(t, err)
	for _, p := range found {
		_, err := l.Add(os.DirFS(dir), p, "samples", now)
		require.NoError(t, err)
	}
	return l, skipped
}

func device(t *testing.T, modalias string) driver.Device {
	t.Helper()
	d, err := driver.ParseModalias(modalias)
	require.NoError(t, err)
	return d
}

func TestFind(t *testing.T) {
	l, skipped := samples(t)
	assert.Equal(t, []driver.Skip{{Path: "broken/wren.inf", Reason: "it has no section [Version]"}}, skipped)
	var labels []string
	for _, p := range l.Packages() {
		labels = append(labels, p.Label())
	}
	assert.Equal(t, []string{"aldernet 1.6.2.0", "aldernet 1.4.0.7", "corvid_raid 2.0.1", "corvraid 2.0.1.0"}, labels)

	net := l.Packages()[0]
	assert.Equal(t, driver.Network, net.Class)
	assert.Equal(t, "Alder Works", net.Provider)
	assert.Equal(t, "Alder Works (made up)", net.Signer)
	assert.Equal(t, []string{"386", "amd64"}, net.Arch)
	assert.Equal(t, time.Date(2026, 2, 11, 0, 0, 0, 0, time.UTC), net.Date)
	require.Len(t, net.Models, 4)
	assert.Equal(t, `Alder Works Gigabit "garden" card`, net.Models[1].Name, "of the plain strings, not of another language")
	assert.Equal(t, `PCI\VEN_FE01&DEV_1000&SUBSYS_0001FE01`, net.Models[1].Hardware)
	assert.Equal(t, []string{`PCI\VEN_FE01&DEV_1000`}, net.Models[1].Compatible, "from a line that goes on in the next")
	assert.Equal(t, "amd64, from 10.0, build 16299", net.Models[1].Decoration.String())
	var files []string
	for _, f := range net.Files {
		files = append(files, f.Path)
	}
	assert.Equal(t, []string{"AlderNet.sys", "aldern32.sys", "aldernet.cat", "aldernet.inf"}, files, "names in any case are found")

	raid := l.Packages()[3]
	assert.Equal(t, "Corvid Grätz", raid.Provider, "8-bit text")
	assert.Equal(t, []string{"not signed: it names no catalogue; a 64-bit system will refuse it"}, raid.Remarks)
	modules := l.Packages()[2]
	assert.Equal(t, driver.Other, modules.Class, "its aliases do not say")
	assert.Equal(t, madeup.Kernel, modules.Kernel)
	assert.Equal(t, map[string]string{"corvid/raid.bin": "firmware/corvid/raid.bin"}, modules.Modules[1].Blobs)
	assert.Empty(t, modules.Remarks)
}

func TestTheLibraryKeepsAPackageOnce(t *testing.T) {
	dir, root := t.TempDir(), t.TempDir()
	require.NoError(t, madeup.WriteINF(root))
	l, err := driver.OpenLibrary(dir)
	require.NoError(t, err)
	found, _, err := driver.Find(os.DirFS(root))
	require.NoError(t, err)
	p, err := l.Add(os.DirFS(root), found[0], "here", now)
	require.NoError(t, err)
	_, err = l.Add(os.DirFS(root), found[0], "there", now)
	assert.ErrorIs(t, err, driver.ErrThere)

	// It is read again as it was, and what was cut off is gone.
	require.NoError(t, os.Mkdir(filepath.Join(dir, "new123"), 0o755))
	again, err := driver.OpenLibrary(dir)
	require.NoError(t, err)
	require.Len(t, again.Packages(), 1)
	assert.Equal(t, p.Models, again.Packages()[0].Models)
	assert.NoDirExists(t, filepath.Join(dir, "new123"))
	f, err := again.Open(p, "aldernet.inf")
	require.NoError(t, err)
	f.Close()
	_, err = again.Open(p, "../package.json")
	assert.ErrorIs(t, err, fs.ErrNotExist)

	got, err := again.Package(p.ID[:6])
	require.NoError(t, err)
	assert.Equal(t, p.ID, got.ID)
	_, err = again.Package("nobody")
	assert.ErrorIs(t, err, driver.ErrNoPackage)
	require.NoError(t, again.Remove(p.ID))
	assert.ErrorIs(t, again.Remove(p.ID), driver.ErrNoPackage)
	assert.NoDirExists(t, filepath.Join(dir, p.ID))

	// A file that changes between finding and adding leaves nothing half-added.
	require.NoError(t, os.WriteFile(filepath.Join(root, "alder/new/AlderNet.sys"), []byte("other"), 0o644))
	_, err = again.Add(os.DirFS(root), found[0], "here", now)
	assert.ErrorContains(t, err, "it changed while it was read")
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, entries)
}

// The identifiers of the INF reference, from what Linux says.
func TestIdentifiers(t *testing.T) {
	d := device(t, "pci:v00008086d000015B8sv0000103Csd00008053bc02sc00i00")
	d.SetRevision(0x31)
	assert.Equal(t, []string{`PCI\VEN_8086&DEV_15B8&SUBSYS_8053103C&REV_31`, `PCI\VEN_8086&DEV_15B8&SUBSYS_8053103C`, `PCI\VEN_8086&DEV_15B8&CC_020000`, `PCI\VEN_8086&DEV_15B8&CC_0200`}, d.Hardware)
	assert.Equal(t, []string{`PCI\VEN_8086&DEV_15B8&REV_31`, `PCI\VEN_8086&DEV_15B8`, `PCI\VEN_8086&CC_020000`, `PCI\VEN_8086&CC_0200`, `PCI\VEN_8086`, `PCI\CC_020000`, `PCI\CC_0200`}, d.Compatible)
	assert.Equal(t, driver.Network, d.Class)
	assert.Equal(t, "pci 8086:15b8", d.Label())

	usb := device(t, "usb:v0BDAp8153d3100dc00dsc00dp00icFFiscFFip00in00")
	assert.Contains(t, usb.Hardware, `USB\VID_0BDA&PID_8153&REV_3100`)
	assert.Contains(t, usb.Compatible, `USB\CLASS_FF&SUBCLASS_FF&PROT_00`)
	assert.Equal(t, "usb 0bda:8153", usb.Label())
	assert.Equal(t, []string{`HID\VID_046D&PID_C52B`}, device(t, "hid:b0003g0001v0000046Dp0000C52B").Hardware)
	acpi := device(t, "acpi:PNP0A08:PNP0A03:")
	assert.Equal(t, []string{`ACPI\PNP0A08`}, acpi.Hardware)
	assert.Equal(t, []string{`ACPI\PNP0A03`}, acpi.Compatible)
	assert.Equal(t, driver.Storage, device(t, "virtio:d00000002v00001AF4").Class)
	for _, bad := range []string{"", "pci:", "pci:v0d0", "usb:vZZp1", "pci:v" + strings.Repeat("0", 2000)} {
		_, err := driver.ParseModalias(bad)
		assert.ErrorIs(t, err, driver.ErrDevice, bad)
	}
}

func TestRanking(t *testing.T) {
	pack := func(name, date, version, signer string, ids ...string) *driver.Package {
		at, err := time.Parse("2006-01-02", date)
		require.NoError(t, err)
		return &driver.Package{ID: name, Kind: driver.INF, Name: name, Date: at, Version: version, Signer: signer, Models: []driver.Model{
			{Hardware: ids[0], Compatible: ids[1:], Decoration: driver.Decoration{Arch: "amd64"}}}}
	}
	d := device(t, madeup.AlderNetwork)
	x := driver.NewIndex([]*driver.Package{
		pack("class", "2026-06-01", "9.0", "x", `PCI\CC_0200`),
		pack("vendor", "2026-06-01", "9.0", "x", `PCI\VEN_FE01`),
		pack("compatible", "2026-06-01", "9.0", "x", `PCI\VEN_AAAA&DEV_0001`, `PCI\VEN_FE01&DEV_1000&SUBSYS_0001FE01`),
		pack("unsigned", "2024-01-01", "1.10", "", `PCI\VEN_FE01&DEV_1000&SUBSYS_0001FE01`),
		pack("signed", "2024-01-01", "1.10", "x", `PCI\VEN_FE01&DEV_1000&SUBSYS_0001FE01`),
		pack("lower", "2024-01-01", "1.9", "x", `PCI\VEN_FE01&DEV_1000&SUBSYS_0001FE01`),
		pack("later", "2024-01-02", "1.0", "", `PCI\VEN_FE01&DEV_1000&SUBSYS_0001FE01`),
		pack("device", "2026-06-01", "9.0", "x", `PCI\VEN_FE01&DEV_1000`),
		pack("other", "2026-06-01", "9.0", "x", `PCI\VEN_FE02&DEV_1000`),
	})
	var order []string
	for _, c := range x.Candidates(d, driver.Target{System: driver.Windows, Arch: "amd64"}) {
		order = append(order, c.Package.Name+": "+c.Why)
	}
	assert.Equal(t, []string{
		"later: its identifier is the device's own; the later date wins (2024-01-02, not 2024-01-01)",
		"signed: its identifier is the device's own; behind later 1.0: the later date wins (2024-01-02, not 2024-01-01)",
		"unsigned: its identifier is the device's own; behind signed 1.10: the signed one wins",
		"lower: its identifier is the device's own; behind unsigned 1.10: the higher version wins (1.10, not 1.9)",
		"compatible: compatible with the device; behind lower 1.9: the more exact identifier wins",
		"device: for this device, whoever built it in; behind compatible 9.0: the more exact identifier wins",
		"vendor: for devices of this kind in general; behind device 9.0: the more exact identifier wins",
		"class: for devices of this kind in general; behind vendor 9.0: the more exact identifier wins",
	}, order)
	assert.Empty(t, x.Candidates(d, driver.Target{System: driver.Windows, Arch: "arm64"}))
	assert.Empty(t, x.Candidates(d, driver.Target{System: driver.Linux}))
}

// Of one maker's sections a system takes those for it, the closest first.
func TestVersionsOfTheSystem(t *testing.T) {
	l, _ := samples(t)
	d := device(t, madeup.AlderNetwork)
	for _, c := range []struct {
		target driver.Target
		id     string
	}{
		{driver.Target{System: driver.Windows, Arch: "amd64", Major: 10, Build: 22631}, `PCI\VEN_FE01&DEV_1000&SUBSYS_0001FE01`},
		{driver.Target{System: driver.Windows, Arch: "amd64", Major: 10, Build: 10240}, `PCI\VEN_FE01&DEV_1000`},
		{driver.Target{System: driver.Windows, Arch: "386", Major: 10, Build: 19045}, `PCI\VEN_FE01&DEV_1000`},
	} {
		all := l.Index().Candidates(d, c.target)
		require.Len(t, all, 2)
		assert.Equal(t, c.id, all[0].ID, "%+v", c.target)
		assert.Equal(t, "1.6.2.0", all[0].Package.Version)
	}
}

func TestModulesForAnotherKernel(t *testing.T) {
	l, _ := samples(t)
	d := device(t, madeup.CorvidDisk)
	all := l.Index().Candidates(d, driver.Target{System: driver.Linux, Arch: "amd64", Kernel: madeup.Kernel})
	require.Len(t, all, 1)
	assert.Equal(t, "corvid_raid", all[0].Module)
	assert.Empty(t, l.Index().Candidates(d, driver.Target{System: driver.Linux, Arch: "amd64", Kernel: "6.1.0-10-garden"}))
	assert.Empty(t, l.Index().Candidates(d, driver.Target{System: driver.Linux, Arch: "arm64", Kernel: madeup.Kernel}))
}

func TestSets(t *testing.T) {
	l, _ := samples(t)
	fleet := driver.Fleet{"Alder Works A520": {device(t, madeup.AlderNetwork), device(t, madeup.CorvidDisk)}, "Brindle Mini 2": {device(t, madeup.BrindleNetwork)}}
	target := driver.Target{Arch: "amd64", Kernel: madeup.Kernel}
	whole := func(s driver.Set) (got []string) {
		require.NoError(t, s.Check())
		for _, c := range s.Whole(l.Packages(), fleet, target) {
			got = append(got, fmt.Sprint(c.Package.Name, c.Modules))
		}
		return got
	}
	assert.Equal(t, []string{"corvid_raid[corvid_raid]"}, whole(driver.Set{System: driver.Linux, Rules: []driver.Rule{{Class: driver.Storage}}}))
	assert.Equal(t, []string{"corvid_raid[corvid_raid]"}, whole(driver.Set{System: driver.Linux, Rules: []driver.Rule{{Model: "alder*"}}}))
	assert.Empty(t, whole(driver.Set{System: driver.Linux, Rules: []driver.Rule{{Model: "Brindle*"}}}))
	assert.Equal(t, []string{"aldernet[]", "aldernet[]"}, whole(driver.Set{System: driver.Windows, Rules: []driver.Rule{{Provider: "alder works"}}}))
	assert.Equal(t, []string{"aldernet[]", "aldernet[]", "corvraid[]"}, whole(driver.Set{System: driver.Windows, Rules: []driver.Rule{{Model: "*A520"}}}))

	for name, bad := range map[string]driver.Set{
		"no system": {Rules: []driver.Rule{{Class: driver.Network}}}, "no rule": {System: driver.Linux}, "empty rule": {System: driver.Linux, Rules: []driver.Rule{{}}},
		"no such class": {System: driver.Linux, Rules: []driver.Rule{{Class: "net"}}}, "a bad pattern": {System: driver.Linux, Rules: []driver.Rule{{Model: "["}}},
		"windows at boot": {System: driver.Windows, OnDemand: true, Rules: []driver.Rule{{Class: driver.Network}}},
	} {
		assert.Error(t, bad.Check(), name)
	}
}

// A fallback set is asked for what nothing else drives.
func TestFallback(t *testing.T) {
	l, _ := samples(t)
	devices := []driver.Device{device(t, madeup.AlderNetwork), device(t, madeup.CorvidDisk)}
	target := driver.Target{System: driver.Windows, Arch: "amd64"}
	exact := driver.Set{Name: "net", System: driver.Windows, Rules: []driver.Rule{{Package: "aldernet"}}}
	rest := driver.Set{Name: "rest", System: driver.Windows, Fallback: true, Rules: []driver.Rule{{Package: "*"}}}
	choose := func(sets ...driver.Set) (got []string) {
		for _, c := range driver.Merge(driver.Choose(l.Index(), devices, "Alder Works A520", target, sets)) {
			got = append(got, c.Package.Label())
		}
		return got
	}
	assert.Equal(t, []string{"aldernet 1.6.2.0"}, choose(exact))
	assert.Equal(t, []string{"aldernet 1.6.2.0", "corvraid 2.0.1.0"}, choose(exact, rest))
	assert.Equal(t, []string{"aldernet 1.6.2.0", "corvraid 2.0.1.0"}, choose())
	assert.Empty(t, choose(driver.Set{System: driver.Windows, Rules: []driver.Rule{{Model: "Brindle*"}}}))
}

func TestCoverage(t *testing.T) {
	l, _ := samples(t)
	root := t.TempDir()
	require.NoError(t, madeup.WriteKernel(root))
	linux, err := driver.ReadInside(os.DirFS(root))
	require.NoError(t, err)
	assert.Equal(t, "Garden Linux 3 (made up)", linux.Name)
	assert.Equal(t, madeup.Kernel, linux.Kernel)
	linux.Prepare()
	windows, err := driver.ReadInside(fstest.MapFS{
		"windows/inf/netbrin.inf": {Data: []byte("[Version]\nSignature=\"$Windows NT$\"\n[Manufacturer]\nB=B,NTamd64\n[B.NTamd64]\nB=B,PCI\\VEN_FE02&DEV_1500\n")},
		"windows/inf/broken.inf":  {Data: []byte("[oh")}, "windows/SysWOW64/a.dll": {},
	})
	require.NoError(t, err)
	windows.Prepare()
	_, err = driver.ReadInside(fstest.MapFS{"home/a": {}})
	assert.ErrorIs(t, err, driver.ErrNoSystem)

	devices := []driver.Device{device(t, madeup.WrenSound), device(t, madeup.CorvidDisk), device(t, madeup.AlderNetwork), device(t, madeup.BrindleNetwork)}
	table := func(rows []driver.Row) (got []string) {
		for _, r := range rows {
			got = append(got, fmt.Sprintf("%s %s: %s %s | %s %s", r.Device.Class, r.Device.Label(), r.Environment.State, r.Environment.By, r.Delivered.State, r.Delivered.By))
		}
		return got
	}
	x := l.Index()
	rows := driver.Cover(devices, linux, windows, nil, x)
	assert.Equal(t, []string{
		"network pci fe01:1000: covered aldernet | uncovered ", "network pci fe02:1500: covered brindlenet | covered netbrin",
		"storage pci fe03:3000: uncovered  | uncovered ", "sound pci fe04:4000: no driver  | no driver ",
	}, table(rows))
	assert.Equal(t, "corvid_raid 2.0.1 would drive it", rows[2].Environment.Why)
	assert.Len(t, driver.Lacking(rows, driver.Row.InEnvironment), 1, "the disk controller")
	assert.Len(t, driver.Lacking(rows, driver.Row.InDelivered), 1, "one network card is enough")

	empty := devices[1]
	empty.Empty = true
	assert.Empty(t, driver.Lacking(driver.Cover([]driver.Device{empty}, linux, nil, nil, x), driver.Row.InEnvironment), "nothing hangs on it")
	fleet := driver.FleetOf([]driver.Machine{{Model: "a", Devices: []driver.Device{empty}}, {Model: "a", Devices: devices[1:2]}})
	assert.False(t, fleet["a"][0].Empty, "a disk hangs on that of the other machine")

	coming := driver.NewComing(driver.Choose(x, devices, "", linux.Target(), nil), true)
	rows = driver.Cover(devices, nil, linux, coming, x)
	assert.Equal(t, "storage pci fe03:3000: unknown  | will be installed corvid_raid 2.0.1", table(rows)[2])
	assert.Empty(t, driver.Lacking(rows, driver.Row.InDelivered))
}

const good = "[Version]\nSignature=\"$Windows NT$\"\nClass=Net\nProvider=A\nDriverVer=01/02/2026,1.0\n[Manufacturer]\nA=M,NTamd64\n[M.NTamd64]\nD=I,PCI\\VEN_FE01&DEV_1\n[I]\n"

func TestBrokenINFs(t *testing.T) {
	for name, c := range map[string]struct{ text, reason string }{
		"no section ends":     {"[Version\n", "line 1: the name of a section does not end"},
		"text before":         {"; fine\nA=B\n", "line 2: text before the first section"},
		"a quotation mark":    {"[Version]\nSignature=\"$Windows", "line 2: a quotation mark without its other one"},
		"binary":              {"[Version]\n\x00\x01\x02", "it is not text: it holds zero bytes"},
		"no signature":        {"[Version]\nClass=Net\n", "line 1: its [Version] has no signature of the system"},
		"no DriverVer":        {"[Version]\nSignature=\"$Windows NT$\"\n", "line 1: its [Version] has no DriverVer, so that nobody can tell which of two is newer"},
		"a bad date":          {strings.Replace(good, "01/02/2026", "2026-01-02", 1), `line 5: DriverVer has no date as month/day/year: "2026-01-02"`},
		"a bad version":       {strings.Replace(good, "1.0", "one", 1), `line 5: DriverVer has no version as 1.2.3.4: "one"`},
		"no makers":           {good[:strings.Index(good, "[Man")], "it has no section [Manufacturer]: it drives no device by itself"},
		"no models":           {strings.Replace(good, "[M.NT", "[X.NT", 1), "line 7: the section [M.NTamd64] of models is not there"},
		"an unknown machine":  {strings.Replace(good, "NTamd64", "NTvax", 1), `line 7: "NTvax" is for an architecture that is not known here`},
		"nothing installs":    {strings.Replace(good, "[I]", "[J]", 1), `line 9: the section [I] that installs "D" is not there`},
		"a file is missing":   {good + "CopyFiles=@a.sys\n[SourceDisksFiles]\na.sys=1\n", "one is missing of the files that it copies: a.sys"},
		"a path that climbs":  {good + "CopyFiles=@a.sys\n[SourceDisksFiles]\na.sys=1,..\\..\n", `line 13: the path "../../a.sys" leads out of the package`},
		"a million lines":     {strings.Repeat("[A]\n", 1_000_000), "line 400001: more than 400000 lines"},
		"an endless line":     {"[A]\n" + strings.Repeat("a\\\n", 20_000), "line 2: longer than 16384 bytes"},
		"sections in a chain": {good + chain(), "line 43: sections that need sections, more than 16 deep"},
	} {
		found, skipped, err := driver.Find(fstest.MapFS{"x/a.inf": {Data: []byte(c.text)}})
		require.NoError(t, err, name)
		assert.Empty(t, found, name)
		assert.Equal(t, []driver.Skip{{Path: "x/a.inf", Reason: c.reason}}, skipped, name)
	}
}

func chain() string {
	var b strings.Builder
	fmt.Fprintf(&b, "Needs=N0\n")
	for n := range 20 {
		fmt.Fprintf(&b, "[N%d]\nNeeds=N%d\n", n, n+1)
	}
	return b.String()
}

// What is odd but works.
func TestUnusualINFs(t *testing.T) {
	for name, text := range map[string]string{
		"includes itself":       good + "Include=a.inf\nNeeds=I\nCopyFiles=I\n",
		"a file of the system":  good + "Include=machine.inf\nNeeds=Machine.Section\nCopyFiles=@elsewhere.sys\n[SourceDisksFiles]\n",
		"big-endian UTF-16":     "\xfe\xff" + wide(good, true),
		"UTF-16 without a mark": wide(good, false),
		"UTF-8 with a mark":     "\xef\xbb\xbf" + good,
		"capitals":              strings.ToUpper(good),
		"sections in two parts": good + "[Version]\nCatalogFile=none.cat\n",
	} {
		found, skipped, err := driver.Find(fstest.MapFS{"a.inf": {Data: []byte(text)}})
		require.NoError(t, err, name)
		assert.Empty(t, skipped, name)
		require.Len(t, found, 1, name)
		assert.Equal(t, `PCI\VEN_FE01&DEV_1`, found[0].Models[0].Hardware, name)
	}
}

func wide(s string, big bool) string {
	var b strings.Builder
	for _, c := range []byte(s) {
		if big {
			b.WriteString("\x00" + string(c))
		} else {
			b.WriteString(string(c) + "\x00")
		}
	}
	return b.String()
}

func TestBrokenModules(t *testing.T) {
	whole := madeup.KernelModule("wren", "")
	files := fstest.MapFS{"good.ko": {Data: whole}, "text.ko": {Data: []byte("#!/bin/sh")}, "packed.ko.xz": {Data: whole}, "empty.ko.zst": {}}
	for n := 1; n < len(whole); n += 7 {
		files[fmt.Sprintf("cut-%d.ko", n)] = &fstest.MapFile{Data: whole[:n]}
	}
	files["sparc.ko"] = &fstest.MapFile{Data: madeup.Module(2, "name=a", "vermagic=1 ")}
	found, skipped, err := driver.Find(files)
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.Len(t, found[0].Modules, 1)
	assert.Len(t, skipped, len(files)-1)
	for _, s := range skipped {
		if s.Path == "sparc.ko" {
			assert.Contains(t, s.Reason, "EM_SPARC, which is not known here")
		}
	}
}

// The kernel package of Debian: every module is read, and depmod's own list of
// aliases is the judge. `make lab` gets the package.
func TestDebiansKernel(t *testing.T) {
	root := os.Getenv("JUGATE_LAB_ROOT")
	if root == "" {
		t.Skip("needs JUGATE_LAB_ROOT, a folder with Debian's kernel package")
	}
	found, skipped, err := driver.Find(os.DirFS(filepath.Join(root, "lib/modules")))
	require.NoError(t, err)
	assert.Empty(t, skipped)
	require.Len(t, found, 1)
	p := found[0]
	t.Logf("%s: %d modules, %d files", p.Label(), len(p.Modules), len(p.Files))
	assert.Greater(t, len(p.Modules), 3000)
	assert.True(t, p.InTree)
	x := driver.NewIndex(found)
	for modalias, want := range map[string]string{
		"pci:v00008086d000010D3sv00008086sd00000000bc02sc00i00": "e1000e", "pci:v000015ADd000007B0sv000015ADsd000007B0bc02sc00i00": "vmxnet3",
		"pci:v00008086d00002922sv00001AF4sd00001100bc01sc06i01": "ahci", "pci:v00001B36d00000010sv00001AF4sd00001100bc01sc08i02": "nvme",
		"usb:v0BDAp8153d3100dc00dsc00dp00icFFiscFFip00in00": "r8152",
	} {
		all := x.Candidates(device(t, modalias), driver.Target{System: driver.Linux, Arch: "amd64", Kernel: p.Kernel})
		if assert.NotEmpty(t, all, want) {
			assert.Equal(t, want, all[0].Module, modalias)
		}
	}
	m, err := modulesOf(p)
	require.NoError(t, err)
	order, err := m.Order("e1000e")
	require.NoError(t, err)
	assert.Equal(t, "e1000e", order[len(order)-1].Name)
}

// An INF file that a Debian package ships: its sections need others of the system's own
// files, and it copies nothing. `make lab` installs the package.
func TestAnINFFileOfDebian(t *testing.T) {
	const folder = "/usr/share/doc/qemu-system-data"
	if _, err := os.Stat(folder + "/qemupciserial.inf"); err != nil {
		t.Skip("needs the package qemu-system-data")
	}
	found, skipped, err := driver.Find(os.DirFS(folder))
	require.NoError(t, err)
	assert.Empty(t, skipped)
	require.Len(t, found, 1)
	assert.Equal(t, "qemupciserial 1.3.0", found[0].Label())
	assert.Equal(t, "MultiFunction", found[0].ClassName)
	all := driver.NewIndex(found).Candidates(device(t, "pci:v00001B36d00000003sv00001AF4sd00001100bc07sc00i02"), driver.Target{System: driver.Windows, Arch: "amd64"})
	require.Len(t, all, 1)
	assert.Equal(t, "2x QEMU PCI Serial Card", all[0].Model.Name)
}

func modulesOf(p *driver.Package) (*kmod.Index, error) {
	var infos []kmod.Info
	for _, m := range p.Modules {
		infos = append(infos, m.Info)
	}
	if len(infos) == 0 {
		return nil, errors.New("none")
	}
	return kmod.NewIndex(infos, p.Builtin), nil
}

func FuzzINF(f *testing.F) {
	f.Add([]byte(good))
	f.Add([]byte("\xff\xfe[\x00V\x00]\x00"))
	f.Add([]byte(good + chain()))
	f.Fuzz(func(t *testing.T, b []byte) {
		found, _, err := driver.Find(fstest.MapFS{"a.inf": {Data: b}})
		require.NoError(t, err)
		for _, p := range found {
			assert.NotEmpty(t, p.Models)
		}
	})
}

func FuzzModule(f *testing.F) {
	f.Add(madeup.KernelModule("wren", "lib", "alias=pci:v*"))
	f.Fuzz(func(t *testing.T, b []byte) {
		if m, arch, err := driver.ReadModule(b); err == nil {
			assert.NotEmpty(t, m.Name)
			assert.NotEmpty(t, arch)
		}
	})
}

func FuzzModalias(f *testing.F) {
	for _, s := range []string{madeup.AlderNetwork, "usb:v0BDAp8153d3100dc00dsc00dp00icFFiscFFip00in00", "acpi:PNP0A08:", "hid:b0003g0001v0000046Dp0000C52B"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if d, err := driver.ParseModalias(s); err == nil {
			d.SetRevision(1)
			assert.NotEmpty(t, d.Label())
		}
	})
}

func FuzzCatalogue(f *testing.F) {
	dir := f.TempDir()
	if err := madeup.WriteINF(dir); err != nil {
		f.Fatal(err)
	}
	b, err := os.ReadFile(filepath.Join(dir, "alder/new/aldernet.cat"))
	if err != nil {
		f.Fatal(err)
	}
	f.Add(b)
	f.Fuzz(func(t *testing.T, b []byte) {
		found, _, err := driver.Find(fstest.MapFS{"a.inf": {Data: []byte(strings.Replace(good, "Provider=A", "Provider=A\nCatalogFile=a.cat", 1))}, "a.cat": {Data: bytes.Clone(b)}})
		require.NoError(t, err)
		assert.Len(t, found, 1, "what the catalogue says keeps no package out")
	})
}
