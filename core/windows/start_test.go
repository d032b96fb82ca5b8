package windows_test

import (
	"encoding/binary"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/hive"
	"jugate/core/windows"
)

// corvid is a driver that a system is to start with.
var corvid = windows.First{
	Service: windows.Service{Name: "corvraid", Type: 1, OnError: 1, Group: "SCSI Miniport", Binary: "corvraid.sys",
		Settings: []windows.Setting{{Key: `Parameters\PnpInterface`, Value: named("5", hive.Number(1))}, {Value: named("IORate", hive.Number(64))}}},
	INF: "corvraid.inf", Package: "corvraid.inf_amd64_0123456789abcdef", Provider: "Corvid Grätz", Version: "2.0.1.0", Date: time.Date(2026, 3, 9, 0, 0, 0, 0, time.UTC),
	ClassID: "{4D36E97B-E325-11CE-BFC1-08002BE10318}", Section: "Raid", Description: "Corvid RAID", Maker: "Corvid Grätz", Devices: []string{`PCI\VEN_FE03&DEV_3000`},
}

func named(name string, v hive.Value) hive.Value {
	v.Name = name
	return v
}

// installed is the settings database of a system that starts its own disk controller's driver
// at once, and two others later.
func installed(t *testing.T) map[string]map[string]hive.Value {
	return map[string]map[string]hive.Value{
		"Select":                                           {"Default": hive.Number(2)},
		`ControlSet001\Services\alderdisk`:                 {"Start": hive.Number(3)},
		`ControlSet002\Services\alderdisk`:                 {"Start": hive.Number(0), "Group": hive.Of("SCSI Miniport")},
		`ControlSet002\Services\wrenraid`:                  {"Start": hive.Number(3)},
		`ControlSet002\Services\brindledisk`:               {"Start": hive.Number(0)},
		`ControlSet002\Services\brindledisk\StartOverride`: {"0": hive.Number(3), "1": hive.Number(3)},
		`DriverDatabase\DriverInfFiles\oem0.inf`:           {"": hive.OfAll("x")},
	}
}

func TestWhatAWindowsStartsFirst(t *testing.T) {
	volume := fstest.MapFS{"Windows/System32/config/SYSTEM": database(t, installed(t))}
	starts, err := windows.Starts(volume, []string{"AlderDisk", "wrenraid", "brindledisk", "corvraid"})
	require.NoError(t, err)
	assert.Equal(t, map[string]uint32{"alderdisk": 0, "wrenraid": 3, "brindledisk": 3}, starts)
	assert.Empty(t, windows.Closed(volume))

	unclean := *volume["Windows/System32/config/SYSTEM"]
	unclean.Data = append([]byte(nil), unclean.Data...)
	le := binary.LittleEndian
	le.PutUint32(unclean.Data[4:], le.Uint32(unclean.Data[4:])+1)
	sum := uint32(0)
	for i := 0; i < 508; i += 4 {
		sum ^= le.Uint32(unclean.Data[i:])
	}
	le.PutUint32(unclean.Data[508:], sum)
	assert.Contains(t, windows.Closed(fstest.MapFS{"windows/system32/config/SYSTEM": &unclean}), "changes of this registry file wait in its log")
	_, err = windows.Start(unclean.Data, nil, []string{"wrenraid"}, nil)
	assert.ErrorIs(t, err, hive.ErrUnclean)
	assert.Contains(t, windows.Closed(fstest.MapFS{"windows/system32/config/SYSTEM": {Data: []byte("regf")}}), "it has 4 bytes")
	assert.Contains(t, windows.Closed(fstest.MapFS{"Windows/System32/config/x": {}}), "is not there")
	starts, err = windows.Starts(fstest.MapFS{"Windows/System32/config/SYSTEM": database(t, nil)}, []string{"a"})
	require.NoError(t, err)
	assert.Empty(t, starts)
}

// hivexget is asked, which knows nothing of this code.
func TestASystemStartsWithWhatItIsGiven(t *testing.T) {
	content := database(t, installed(t)).Data
	taken := func(inf string) bool { return inf == "oem1.inf" }
	for range 2 { // the second time changes nothing
		var err error
		content, err = windows.Start(content, []windows.First{corvid}, []string{"wrenraid", "brindledisk"}, taken)
		require.NoError(t, err)
	}
	file := filepath.Join(t.TempDir(), "SYSTEM")
	require.NoError(t, os.WriteFile(file, content, 0o644))
	get := func(key string) string {
		out, err := exec.CommandContext(t.Context(), "hivexget", file, key).CombinedOutput()
		require.NoError(t, err, "%s: %s", key, out)
		return string(out)
	}
	service := get(`ControlSet002\Services\corvraid`)
	for _, want := range []string{`"Start"=dword:00000000`, `"Type"=dword:00000001`, `"ErrorControl"=dword:00000001`, `"Group"="SCSI Miniport"`, `"ImagePath"=str(2):"System32\\drivers\\corvraid.sys"`, `"IORate"=dword:00000040`} {
		assert.Contains(t, service, want)
	}
	assert.Contains(t, get(`ControlSet002\Services\corvraid\Parameters\PnpInterface`), `"5"=dword:00000001`)
	critical := get(`ControlSet002\Control\CriticalDeviceDatabase\pci#ven_fe03&dev_3000`)
	assert.Contains(t, critical, `"Service"="corvraid"`)
	assert.Contains(t, critical, `"ClassGUID"="{4D36E97B-E325-11CE-BFC1-08002BE10318}"`)
	assert.Contains(t, get(`ControlSet002\Services\wrenraid`), `"Start"=dword:00000000`)
	assert.Equal(t, 2, strings.Count(get(`ControlSet002\Services\brindledisk\StartOverride`), "dword:00000000"))
	assert.Contains(t, get(`ControlSet001\Services\alderdisk`), `"Start"=dword:00000003`, "another set of settings stays")

	assert.Contains(t, get(`DriverDatabase\DeviceIds\PCI\VEN_FE03&DEV_3000`), `"oem2.inf"=hex(3):01,ff,00,00`, "0 and 1 are taken")
	pack := get(`DriverDatabase\DriverPackages\` + corvid.Package)
	assert.Contains(t, pack, `"@"="oem2.inf"`)
	assert.Contains(t, pack, `"Version"=hex(3):00,ff,09,00,00,00,00,00,7b,e9,36,4d,25,e3,ce,11,bf,c1,08,00,2b,e1,03,18,00,40,2e,ac,57,af,dc,01,00,00,01,00,00,00,02,00`)
	assert.Contains(t, get(`DriverDatabase\DriverPackages\`+corvid.Package+`\Descriptors\PCI\VEN_FE03&DEV_3000`), `"Configuration"="Raid"`)
	out, err := exec.CommandContext(t.Context(), "hivexget", file, `DriverDatabase\DriverInfFiles\oem3.inf`).CombinedOutput()
	assert.Error(t, err, "%s", out)
}

func TestWhatCannotBeStarted(t *testing.T) {
	content := func() []byte { return database(t, installed(t)).Data }
	for name, change := range map[string]func(*windows.First){
		"a class that is none": func(f *windows.First) { f.ClassID = "SCSIAdapter" }, "a version that is none": func(f *windows.First) { f.Version = "2.one" },
		"a name without end": func(f *windows.First) { f.Name = strings.Repeat("x", 300) },
	} {
		f := corvid
		change(&f)
		_, err := windows.Start(content(), []windows.First{f}, nil, func(string) bool { return false })
		assert.Error(t, err, name)
	}
	_, err := windows.Start(content(), []windows.First{corvid}, nil, func(string) bool { return true })
	assert.ErrorContains(t, err, "more INF files than can be numbered")
	_, err = windows.Start(content(), nil, []string{"none"}, nil)
	assert.ErrorIs(t, err, hive.ErrNotFound)
	_, err = windows.Start([]byte("regf"), nil, nil, nil)
	assert.ErrorIs(t, err, hive.ErrFormat)
	// Systems of before version 8 have no driver database.
	old := database(t, map[string]map[string]hive.Value{"Select": {"Default": hive.Number(1)}}).Data
	changed, err := windows.Start(old, []windows.First{corvid}, nil, nil)
	require.NoError(t, err)
	h, err := hive.Read(changed)
	require.NoError(t, err)
	_, err = h.Find(`ControlSet001\Services\corvraid`)
	assert.NoError(t, err)
	_, err = h.Find("DriverDatabase")
	assert.ErrorIs(t, err, hive.ErrNotFound)
}

// Whatever a database looks like: what is written can be read, and has the service.
func FuzzStart(f *testing.F) {
	h, err := hive.New("ROOT")
	require.NoError(f, err)
	for key, values := range map[string]map[string]hive.Value{`ControlSet001\Services\a`: {"Start": hive.Number(3)}, "DriverDatabase": {"x": hive.Of("y")}} {
		k, err := h.Make(key)
		require.NoError(f, err)
		for name, v := range values {
			require.NoError(f, k.Set(name, v))
		}
	}
	seed, err := h.Bytes()
	require.NoError(f, err)
	f.Add(seed[4096:])
	f.Fuzz(func(t *testing.T, bins []byte) {
		if len(bins) > len(seed)-4096 {
			return
		}
		content := append(append([]byte(nil), seed[:4096]...), bins...)
		changed, err := windows.Start(append(content, make([]byte, len(seed)-len(content))...), []windows.First{corvid}, nil, func(string) bool { return false })
		if err != nil {
			return
		}
		h, err := hive.Read(changed)
		require.NoError(t, err)
		require.NoError(t, h.Check())
	})
}
