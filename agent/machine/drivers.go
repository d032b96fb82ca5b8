package machine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"jugate/agent"
	"jugate/api"
	"jugate/core/disk"
	"jugate/core/driver"
	"jugate/core/fileview"
	"jugate/core/kmod"
	"jugate/core/partition"
	"jugate/core/volume"
)

// spareFolder is where modules lie that were handed over on the spot.
const spareFolder = "/run/jugate/drivers"

// untaken are the devices that nothing has taken.
func untaken(all []api.Device) (out []api.Device) {
	for _, d := range all {
		if d.Driver == "" {
			out = append(out, d)
		}
	}
	return out
}

// here are the names of the modules that this environment has.
func (m *modules) here() (names []string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, one := range m.index.Modules() {
		names = append(names, one.Name)
	}
	return names
}

// spare is a module that was handed over, with its content.
type spare struct {
	info     kmod.Info
	content  []byte
	firmware map[string][]byte
}

// take loads modules that were handed over, in their order, and returns what came of
// each in words.
func (m *modules) take(all []spare) (lines []string) {
	for _, s := range all {
		path := filepath.Join(spareFolder, s.info.Name+".ko")
		err := errors.Join(os.MkdirAll(spareFolder, 0o755), os.WriteFile(path, s.content, 0o644))
		for name, content := range s.firmware {
			to := filepath.Join("/lib/firmware", name)
			err = errors.Join(err, os.MkdirAll(filepath.Dir(to), 0o755), os.WriteFile(to, content, 0o644))
		}
		if err == nil {
			s.info.Path = path
			m.mu.Lock()
			m.index = m.index.With([]kmod.Info{s.info})
			delete(m.loaded, s.info.Name)
			m.mu.Unlock()
			err = m.load(s.info.Name)
		}
		switch {
		case errors.Is(err, unix.EKEYREJECTED), errors.Is(err, unix.EPERM):
			lines = append(lines, fmt.Sprintf("%s: the kernel takes signed modules only, as Secure Boot is on", s.info.Name))
		case err != nil:
			lines = append(lines, fmt.Sprintf("%s: %v", s.info.Name, err))
		default:
			lines = append(lines, fmt.Sprintf("%s is loaded", s.info.Name))
		}
	}
	return lines
}

// fromSticks looks for modules on all removable disks, for devices that have no driver
// yet, and loads them.
func (m *modules) fromSticks() (lines []string) {
	devices := untaken(agent.Devices("/sys"))
	for _, name := range removable("/sys") {
		found, err := m.fromDisk(filepath.Join("/dev", name), devices)
		if err != nil {
			lines = append(lines, fmt.Sprintf("%s: %v", name, err))
		}
		lines = append(lines, found...)
	}
	return lines
}

// removable are the names of removable disks.
func removable(sys string) (names []string) {
	entries, _ := os.ReadDir(filepath.Join(sys, "block"))
	for _, e := range entries {
		dir := filepath.Join(sys, "block", e.Name())
		device, err := filepath.EvalSymlinks(filepath.Join(dir, "device"))
		if err != nil {
			continue
		}
		if size, _ := os.ReadFile(filepath.Join(dir, "size")); strings.TrimSpace(string(size)) == "0" {
			continue // nothing is in it
		}
		flag, _ := os.ReadFile(filepath.Join(dir, "removable"))
		if strings.Contains(device, "/usb") || strings.TrimSpace(string(flag)) == "1" {
			names = append(names, e.Name())
		}
	}
	return names
}

func (m *modules) fromDisk(path string, devices []api.Device) (lines []string, err error) {
	d, err := disk.Open(path, disk.Options{})
	if errors.Is(err, unix.ENOMEDIUM) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer d.Close()
	whole := []volumeAt{{0, d.Size()}}
	if table, err := partition.Read(d, d.Size(), d.SectorSize()); err == nil && len(table.Partitions) > 0 {
		whole = nil
		for _, p := range table.Partitions {
			whole = append(whole, volumeAt{table.Start(p), table.Size(p)})
		}
	}
	for _, at := range whole {
		section := io.NewSectionReader(d, at.start, at.size)
		v, err := volume.Open(section, at.size)
		if err != nil {
			continue
		}
		files, err := fileview.Open(section, at.size, v.Kind)
		if err != nil {
			continue
		}
		spares, err := m.choose(files, devices)
		if err != nil {
			return lines, err
		}
		lines = append(lines, m.take(spares)...)
	}
	return lines, nil
}

type volumeAt struct{ start, size int64 }

// choose finds modules for devices among files, in the order in which they are loaded.
func (m *modules) choose(files fs.FS, devices []api.Device) (all []spare, err error) {
	found, _, err := driver.Find(files)
	if err != nil {
		return nil, err
	}
	release := filepath.Base(m.folder)
	var wanted []driver.Device
	for _, d := range devices {
		if one, err := driver.ParseModalias(d.ID); err == nil {
			wanted = append(wanted, one)
		}
	}
	choices := driver.Merge(driver.Choose(driver.NewIndex(found), wanted, "", driver.Target{System: driver.Linux, Kernel: release}, nil))
	brought, err := driver.Bring(choices, found, release, m.here())
	if err != nil {
		return nil, err
	}
	for _, b := range brought {
		s := spare{info: b.Module.Info, firmware: map[string][]byte{}}
		if s.content, err = expanded(files, b.Module.File); err != nil {
			return nil, err
		}
		for name, at := range b.Module.Blobs {
			if s.firmware[name], err = expanded(files, at); err != nil {
				return nil, err
			}
		}
		all = append(all, s)
	}
	return all, nil
}

func expanded(files fs.FS, name string) ([]byte, error) {
	f, err := files.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return driver.Expand(f, name)
}

// fromService asks the service, over a card that works, for modules for the others.
func (m *modules) fromService(ctx context.Context, a *agent.Agent) (lines []string, err error) {
	devices := untaken(agent.Devices("/sys"))
	if len(devices) == 0 {
		return nil, nil
	}
	put, err := a.Lacks(ctx, api.Lacks{Kernel: filepath.Base(m.folder), Modules: m.here(), Devices: devices})
	if err != nil {
		return nil, err
	}
	for _, p := range put.Packages {
		s := spare{firmware: map[string][]byte{}}
		for _, f := range p.Files {
			content, err := a.DriverFile(ctx, p.ID, f)
			if err != nil {
				return lines, err
			}
			if name, is := strings.CutPrefix(f.To, "lib/firmware/"); is {
				s.firmware[strings.TrimSuffix(strings.TrimSuffix(name, ".xz"), ".zst")] = content
				continue
			}
			s.content = content
			if s.info, _, err = driver.ReadModule(content); err != nil {
				return lines, fmt.Errorf("%s: %w", f.Path, err)
			}
		}
		if s.content != nil {
			lines = append(lines, m.take([]spare{s})...)
		}
	}
	return lines, nil
}

// report is the page that says what came of looking for drivers.
func report(lines []string, silent []device) (out []string) {
	out = slices.Clone(lines)
	if len(lines) == 0 {
		out = append(out, "Neither on a stick nor in the service's library is a module for what nothing has taken.")
	}
	for _, d := range silent {
		out = append(out, fmt.Sprintf("%s %s: a network card without a driver", d.bus, d.id))
	}
	return out
}
