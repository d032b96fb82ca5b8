package driver_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/driver"
	"jugate/core/hive"
	"jugate/demo/madeup"
)

// windowsWith is a Windows whose INF files know two disk controllers: one that it starts at the
// time that is given, and one that it never installed.
func windowsWith(t *testing.T, start uint32) *driver.Inside {
	t.Helper()
	h, err := hive.New("ROOT")
	require.NoError(t, err)
	if start < 5 {
		k, err := h.Make(`ControlSet001\Services\alderdisk`)
		require.NoError(t, err)
		require.NoError(t, k.Set("Start", hive.Number(start)))
	}
	b, err := h.Bytes()
	require.NoError(t, err)
	in, err := driver.ReadInside(fstest.MapFS{
		"Windows/INF/alderdisk.inf": {Data: []byte("[Version]\nSignature=\"$Windows NT$\"\nClass=HDC\n[Manufacturer]\nA=M,NTamd64\n[M.NTamd64]\nD=I,PCI\\VEN_FE01&DEV_2000\nE=J,PCI\\VEN_FE03&DEV_3000\n" +
			"[I]\n[I.Services]\nAddService=alderdisk,%two%,S\n[S]\nStartType=0\n[J]\n[J.Services]\nAddService=other,2,S\n[Strings]\ntwo=0x2\n")},
		"Windows/SysWOW64/a.dll": {}, "Windows/System32/config/SYSTEM": {Data: b},
	})
	require.NoError(t, err)
	in.Prepare()
	return in
}

func TestDiskControllersOfAWindows(t *testing.T) {
	l, _ := samples(t)
	x := l.Index()
	alder, corvid := device(t, madeup.AlderDisk), device(t, madeup.CorvidDisk)
	judge := func(d driver.Device, in *driver.Inside, wakes bool) driver.Verdict {
		var choices []driver.Choice
		if wakes {
			choices = driver.Choose(x, []driver.Device{d}, "", in.Target(), nil)
		}
		return driver.Judge(d, in, driver.NewComing(choices, wakes), x)
	}
	state := func(v driver.Verdict) string { return string(v.State) + " by " + v.By }

	assert.Equal(t, "covered by alderdisk", state(judge(alder, windowsWith(t, 0), true)))
	sleeping := windowsWith(t, 3)
	assert.Equal(t, "alderdisk", sleeping.Sleeps(alder))
	assert.Empty(t, sleeping.Sleeps(corvid))
	v := judge(alder, sleeping, true)
	assert.Equal(t, "will be installed by alderdisk", state(v))
	assert.Equal(t, "its driver alderdisk is in the image, but is not started first; the copy will do so", v.Why)
	v = judge(alder, sleeping, false)
	assert.Equal(t, "too late by alderdisk", state(v))
	assert.Contains(t, v.Why, "the order has no drivers changed")
	assert.Equal(t, "covered by alderdisk", state(judge(alder, windowsWith(t, 9), true)), "nothing is known of when anything starts")

	v = judge(corvid, sleeping, true)
	assert.Equal(t, "will be installed by corvraid 2.0.1.0", state(v), "its INF file is there, and was never installed")
	assert.Contains(t, v.Why, "try that on one such workstation")
	assert.Equal(t, "uncovered by ", state(judge(corvid, sleeping, false)))

	closed := windowsWith(t, 3)
	closed.Closed = "changes wait"
	assert.Contains(t, judge(alder, closed, true).Why, "the settings database of the image cannot be changed: changes wait")
	v = judge(corvid, closed, true)
	assert.Equal(t, driver.TooLate, v.State)
	assert.Contains(t, v.Why, "corvraid 2.0.1.0 drives it, but comes after the disk is needed, as the settings database of the image cannot be changed")
}

func TestHowADriverIsStarted(t *testing.T) {
	l, _ := samples(t)
	p, err := l.Package("corvraid")
	require.NoError(t, err)
	m := &p.Models[0]
	first := p.First(m, "amd64")
	assert.Equal(t, "corvraid", first.Name)
	assert.Equal(t, "corvraid.sys", first.Binary)
	assert.Equal(t, "x64/corvraid.sys", m.Service.File)
	assert.Equal(t, "{4D36E97B-E325-11CE-BFC1-08002BE10318}", first.ClassID)
	assert.Equal(t, []string{`PCI\VEN_FE03&DEV_3000`}, first.Devices)
	assert.Regexp(t, `^corvraid\.inf_amd64_[0-9a-f]{16}$`, first.Package)
	require.Len(t, first.Settings, 2)
	assert.Equal(t, `Parameters\PnpInterface`, first.Settings[0].Key)
	assert.Equal(t, "5", first.Settings[0].Name)

	const base = "[Version]\nSignature=\"$Windows NT$\"\nClass=SCSIAdapter\nProvider=A\nDriverVer=01/02/2026,1.0\n[Manufacturer]\nA=M,NTamd64\n[M.NTamd64]\nD=I,PCI\\VEN_FE01&DEV_1\n[I]\n"
	in := windowsWith(t, 0)
	for name, c := range map[string]struct{ text, why string }{
		"nothing":        {"", "it does not say how it is started"},
		"something else": {"[I.Services]\nAddService=helper,,S\n[S]\nStartType=0\n", "it does not say how it is started"},
		"too late":       {"[I.Services]\nAddService=a,2,S\n[S]\nStartType=3\nServiceBinary=%12%\\a.sys\n", "it is not to be started first"},
		"no number":      {"[I.Services]\nAddService=a,2,S\n[S]\nStartType=boot\nServiceBinary=%12%\\a.sys\n", "it is not to be started first"},
		"no file":        {"[I.Services]\nAddService=a,2,S\n[S]\nStartType=0\nServiceBinary=%12%\\a.sys\n", "its file is not in the package"},
		"a file outside": {"[I.Services]\nAddService=a,2,S\n[S]\nStartType=0\nServiceBinary=%12%\\a.sys\n[SourceDisksNames]\n1=d,,,..\\outside\n[SourceDisksFiles]\na.sys=1\n", "its file is not in the package"},
		"all of it":      {"[I.NTamd64.Services]\nAddService=a,2,S\n[I.NTamd64]\n[S]\nStartType=0\nServiceBinary=%13%\\b.sys\n", ""},
		"not for here":   {"[I.NTx86.Services]\nAddService=a,2,S\n[I.NTx86]\n[S]\nStartType=0\nServiceBinary=%12%\\b.sys\n", "it does not say how it is started"},
	} {
		found, skipped, err := driver.Find(fstest.MapFS{"p/a.inf": {Data: []byte(base + c.text)}, "p/b.sys": {Data: []byte("b")}, "outside/a.sys": {Data: []byte("not of this package")}})
		require.NoError(t, err, name)
		require.Empty(t, skipped, name)
		why := in.StartsFirst(driver.Candidate{Package: found[0], Model: &found[0].Models[0]})
		assert.Equal(t, c.why, why, name)
	}
}

// A package that was added before how it is started was kept, is read again.
func TestHowAnOldPackageIsStarted(t *testing.T) {
	from, dir := t.TempDir(), t.TempDir()
	require.NoError(t, madeup.WriteINF(from))
	found, _, err := driver.Find(os.DirFS(filepath.Join(from, "corvid")))
	require.NoError(t, err)
	l, err := driver.OpenLibrary(dir)
	require.NoError(t, err)
	p, err := l.Add(os.DirFS(filepath.Join(from, "corvid")), found[0], "samples", now)
	require.NoError(t, err)
	file := filepath.Join(dir, p.ID, "package.json")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	old := strings.Replace(strings.Replace(string(text), `"class_id"`, `"unknown"`, 1), `"service":{`, `"unknown":{`, 1)
	require.NotEqual(t, string(text), old)
	require.NoError(t, os.WriteFile(file, []byte(old), 0o644))
	l, err = driver.OpenLibrary(dir)
	require.NoError(t, err)
	assert.Empty(t, l.Notices)
	p, err = l.Package("corvraid")
	require.NoError(t, err)
	require.NotNil(t, p.Models[0].Service)
	assert.Equal(t, "x64/corvraid.sys", p.Models[0].Service.File)
}
