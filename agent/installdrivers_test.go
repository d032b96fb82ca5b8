package agent

import (
	"context"
	"io"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/disk"
	"jugate/core/driver"
	"jugate/core/hive"
	"jugate/core/volume"
	"jugate/demo/madeup"
)

// library is a driver library behind a service that hands its files out.
type library struct {
	*driver.Library
	agent *Agent
	cuts  *atomic.Int32 // how many more answers break off
}

func newLibrary(t *testing.T, write func(dir string) error) library {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, write(dir))
	l, err := driver.OpenLibrary(t.TempDir())
	require.NoError(t, err)
	found, _, err := driver.Find(os.DirFS(dir))
	require.NoError(t, err)
	for _, p := range found {
		_, err := l.Add(os.DirFS(dir), p, "samples", time.Now())
		require.NoError(t, err)
	}
	cuts := &atomic.Int32{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if cuts.Add(-1) >= 0 {
			w.Header().Set("Content-Length", "1000")
			w.Write(make([]byte, 500))
			panic(http.ErrAbortHandler)
		}
		id, name, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/agent/v1/drivers/"), "/files/")
		p, err := l.Package(id)
		if err == nil {
			var f *os.File
			if f, err = l.Open(p, name); err == nil {
				defer f.Close()
				http.ServeContent(w, r, "", time.Time{}, f)
				return
			}
		}
		http.Error(w, err.Error(), http.StatusNotFound)
	}))
	t.Cleanup(server.Close)
	client, err := apiclient.New(server.URL, "")
	require.NoError(t, err)
	return library{l, New(client, nil, Options{}), cuts}
}

func toInstall(system driver.System, kernel string, placed []driver.Placed) *api.ToInstall {
	install := &api.ToInstall{System: string(system), Kernel: kernel}
	for _, f := range placed {
		if n := len(install.Packages); n == 0 || install.Packages[n-1].ID != f.Package.ID {
			install.Packages = append(install.Packages, api.DriverPackage{ID: f.Package.ID, Label: f.Package.Label()})
		}
		last := &install.Packages[len(install.Packages)-1]
		last.Files = append(last.Files, api.DriverFile{Path: f.File.Path, Digest: f.File.Digest.String(), To: f.To})
	}
	return install
}

// volumeDisk is a disk of one partition with a file system, filled by fill.
func volumeDisk(t *testing.T, mkfs []string, fill func(dir string)) hardwareDisk {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("mounting takes root")
	}
	path := filepath.Join(t.TempDir(), "disk")
	require.NoError(t, os.WriteFile(path, nil, 0o644))
	const start, size = int64(1 << 20), int64(62 << 20)
	require.NoError(t, os.Truncate(path, 64<<20))
	cmd := exec.CommandContext(t.Context(), "sfdisk", "--quiet", path)
	cmd.Stdin = strings.NewReader("label: gpt\nstart=2048, size=126976\n")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	require.NoError(t, err)
	defer f.Close()
	loop, err := attach(f, start, size, true)
	require.NoError(t, err)
	out, err = exec.CommandContext(t.Context(), mkfs[0], append(mkfs[1:], loop.Name())...).CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.NoError(t, loop.Close())
	d, err := disk.Open(path, disk.Options{Write: true})
	require.NoError(t, err)
	t.Cleanup(func() { d.Close() })
	inside(t, hardwareDisk{d}, fill)
	return hardwareDisk{d}
}

// inside mounts the disk's volume for a while.
func inside(t *testing.T, d hardwareDisk, look func(dir string)) {
	t.Helper()
	v, err := volume.Open(io.NewSectionReader(d, 1<<20, 62<<20), 62<<20)
	require.NoError(t, err)
	v.Size = 62 << 20
	m, err := d.MountSystem(1<<20, v)
	require.NoError(t, err)
	look(m.(systemMount).dir)
	require.NoError(t, m.Close())
}

func install(t *testing.T, dir string, files map[string]string) {
	t.Helper()
	for name, content := range files {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(content), 0o644))
	}
}

const answerFile = `<?xml version="1.0" encoding="utf-8"?>
<unattend xmlns="urn:schemas-microsoft-com:unattend">
  <settings pass="specialize">
    <component name="Microsoft-Windows-Deployment" processorArchitecture="amd64" publicKeyToken="31bf3856ad364e35" language="neutral" versionScope="nonSxS">
      <RunSynchronous>
        <RunSynchronousCommand xmlns:wcm="http://schemas.microsoft.com/WMIConfig/2002/State" wcm:action="add"><Order>3</Order><Path>cmd /c echo garden</Path></RunSynchronousCommand>
      </RunSynchronous>
    </component>
  </settings>
</unattend>
`

// INF packages go onto a real NTFS volume, which ntfsfix then judges, and the answer
// file that is there keeps what it says.
func TestDriversIntoAWindowsVolume(t *testing.T) {
	l := newLibrary(t, madeup.WriteINF)
	d := volumeDisk(t, []string{"mkfs.ntfs", "-Q", "-q"}, func(dir string) {
		install(t, dir, map[string]string{"Windows/INF/none.inf": "", "Windows/SysWOW64/a.dll": "", "Windows/PANTHER/Unattend.xml": answerFile, "Windows/Setup/State/State.ini": "[State]\r\nImageState=IMAGE_STATE_COMPLETE\r\n",
			"Windows/System32/CONFIG/system": settings(t, `ControlSet001\Services\wrenraid`, hive.Number(3)), "Windows/System32/drivers/Corvraid.sys": "an old one"})
	})
	p, err := l.Package("corvraid")
	require.NoError(t, err)
	install := toInstall(driver.Windows, "", driver.PlaceINF([]driver.Choice{{Package: p}}))
	install.First, install.Wake = []api.FirstDriver{{Of: p.ID, File: p.Models[0].Service.File, First: p.First(&p.Models[0], "amd64")}}, []string{"wrenraid"}
	l.cuts.Store(2) // the line breaks, and what was cut off comes again
	for range 2 {   // the second time changes nothing
		did, err := l.agent.installDrivers(t.Context(), d, anywhere, install)
		require.NoError(t, err)
		assert.Contains(t, did, "the first start takes them, by Windows/PANTHER/Unattend.xml")
		assert.Contains(t, did, "the copy starts with corvraid (corvraid.sys)")
		assert.Contains(t, did, "the copy starts with wrenraid, which it had and did not start first")
		assert.Contains(t, strings.Join(did, "; "), `this system has had its first start: run pnputil /add-driver C:\Jugate\Drivers\*.inf /subdirs /install on it`)
	}
	inside(t, d, func(dir string) {
		b, err := os.ReadFile(filepath.Join(dir, "Jugate/Drivers/corvraid-"+p.ID, "x64/corvraid.sys"))
		require.NoError(t, err)
		assert.Equal(t, "no code either", string(b))
		b, err = os.ReadFile(filepath.Join(dir, "Windows/System32/drivers/Corvraid.sys"))
		require.NoError(t, err)
		assert.Equal(t, "no code either", string(b))
		for _, service := range []string{"corvraid", "wrenraid"} {
			out, err := exec.CommandContext(t.Context(), "hivexget", filepath.Join(dir, "Windows/System32/CONFIG/system"), `ControlSet001\Services\`+service, "Start").CombinedOutput()
			require.NoError(t, err, "%s", out)
			assert.Equal(t, "0", strings.TrimSpace(string(out)), service)
		}
		left, err := filepath.Glob(filepath.Join(dir, "Windows/System32/CONFIG/.jugate*"))
		require.NoError(t, err)
		assert.Empty(t, left)
		b, err = os.ReadFile(filepath.Join(dir, "Windows/PANTHER/Unattend.xml"))
		require.NoError(t, err)
		assert.Contains(t, string(b), "cmd /c echo garden")
		assert.Equal(t, 1, strings.Count(string(b), `pnputil.exe /add-driver %SystemDrive%\Jugate\Drivers\*.inf /subdirs /install`))
		assert.Contains(t, string(b), "<Order>4</Order>", "after what was there")
	})
	loop, err := attach(d.File, 1<<20, 62<<20, false)
	require.NoError(t, err)
	out, err := exec.CommandContext(t.Context(), "ntfsfix", "-n", loop.Name()).CombinedOutput()
	assert.NoError(t, err, "%s", out)
	require.NoError(t, loop.Close())

	_, err = l.agent.installDrivers(t.Context(), d, anywhere, toInstall(driver.Linux, "6.1", nil))
	assert.ErrorContains(t, err, "Windows with kernel \"\" is here, the drivers are for linux")
	_, err = l.agent.installDrivers(t.Context(), d, anywhere, &api.ToInstall{Problem: "the set is gone"})
	assert.EqualError(t, err, "the set is gone")
	install.Wake = []string{"nobody"}
	_, err = l.agent.installDrivers(t.Context(), d, anywhere, install)
	assert.ErrorContains(t, err, "the driver of the disk controller: Windows/System32/CONFIG/system: it is not in the registry file: the key nobody")
	install.Packages[0].Files[0].Digest = strings.Repeat("0", 64)
	_, err = l.agent.installDrivers(t.Context(), d, anywhere, install)
	assert.ErrorContains(t, err, "came damaged")
}

// settings are a file of the settings database with one key, and when that is started.
func settings(t *testing.T, key string, start hive.Value) string {
	t.Helper()
	h, err := hive.New("ROOT")
	require.NoError(t, err)
	k, err := h.Make(key)
	require.NoError(t, err)
	require.NoError(t, k.Set("Start", start))
	b, err := h.Bytes()
	require.NoError(t, err)
	return string(b)
}

// depmod runs within the system, and what it writes has the new module.
func TestDriversIntoALinuxVolume(t *testing.T) {
	l := newLibrary(t, madeup.WriteModules)
	d := volumeDisk(t, []string{"mkfs.ext4", "-q"}, func(dir string) {
		require.NoError(t, madeup.WriteKernel(filepath.Join(dir, "usr"))) // usr/lib, as systems have it now
		for _, link := range []string{"lib", "lib64", "bin", "sbin"} {
			require.NoError(t, os.MkdirAll(filepath.Join(dir, "usr", link), 0o755))
			require.NoError(t, os.Symlink("usr/"+link, filepath.Join(dir, link)))
		}
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "proc"), 0o755))
		bring(t, dir, "/usr/bin/kmod", "/usr/bin/env")
		require.NoError(t, os.Symlink("../bin/kmod", filepath.Join(dir, "usr/sbin/depmod")))
	})
	modules, err := driver.Bring([]driver.Choice{{Package: l.Packages()[0], Modules: []string{"corvid_raid"}}}, l.Packages(), madeup.Kernel, nil)
	require.NoError(t, err)
	did, err := l.agent.installDrivers(t.Context(), d, anywhere, toInstall(driver.Linux, madeup.Kernel, driver.PlaceModules(modules)))
	require.NoError(t, err)
	assert.Contains(t, did, "depmod has run in the system")
	inside(t, d, func(dir string) {
		folder := filepath.Join(dir, "usr/lib/modules", madeup.Kernel)
		b, err := os.ReadFile(filepath.Join(folder, "modules.alias"))
		require.NoError(t, err)
		assert.Contains(t, string(b), "corvid_raid")
		assert.FileExists(t, filepath.Join(folder, "modules.dep.bin"), "depmod was there")
		assert.FileExists(t, filepath.Join(dir, "usr/lib/firmware/corvid/raid.bin"))
		entries, err := os.ReadDir(filepath.Join(dir, "proc"))
		require.NoError(t, err)
		assert.Empty(t, entries, "nothing stays mounted")
	})
}

// bring copies programs with their libraries.
func bring(t *testing.T, dir string, programs ...string) {
	t.Helper()
	for _, p := range programs {
		files := []string{p}
		out, err := exec.CommandContext(t.Context(), "ldd", p).Output()
		require.NoError(t, err)
		for _, word := range strings.Fields(string(out)) {
			if strings.HasPrefix(word, "/") {
				files = append(files, word)
			}
		}
		for _, f := range files {
			b, err := os.ReadFile(f)
			require.NoError(t, err)
			to := filepath.Join(dir, "usr", strings.TrimPrefix(f, "/usr"))
			require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o755))
			require.NoError(t, os.WriteFile(to, b, 0o755))
		}
	}
}

// A system without depmod has its lists written here.
func TestListsOfModules(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, madeup.WriteKernel(dir))
	folder := "lib/modules/" + madeup.Kernel
	require.NoError(t, madeup.WriteModules(filepath.Join(dir, folder, "updates/jugate")))
	system := folderVolume{os.DirFS(dir), dir}
	in, err := driver.ReadInside(system)
	require.NoError(t, err)
	a := New(nil, nil, Options{})
	did, err := a.registerLinux(context.Background(), system, in, folder)
	require.NoError(t, err)
	assert.Equal(t, []string{"the lists of modules were written anew; the system's own depmod could not be run", "what the system loads first (its initramfs) was left as it is"}, did)
	again, err := driver.ReadInside(system)
	require.NoError(t, err)
	again.Prepare()
	one, err := driver.ParseModalias(madeup.CorvidDisk)
	require.NoError(t, err)
	assert.Equal(t, "corvid_raid", again.DrivenBy(one))
	assert.ElementsMatch(t, append(in.Names, "corvid_lib", "corvid_raid"), again.Names)
}

// folderVolume is a folder that stands for a volume.
type folderVolume struct {
	fs.FS
	dir string
}

func (v folderVolume) WriteFile(name string, content io.Reader) error {
	b, err := io.ReadAll(content)
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(v.dir, name), b, 0o644)
}

func (folderVolume) Close() error { return nil }
