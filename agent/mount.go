package agent

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"jugate/core/answers"
	"jugate/core/disk"
	"jugate/core/fileview"
	"jugate/core/volume"
	"jugate/core/windows"
)

// hardwareDisk is a disk of a real machine. Its volumes can be looked into by the
// kernel, which in the boot environment knows more file systems than the agent.
type hardwareDisk struct {
	*disk.Disk
}

// kernelNames are what the kernel calls file systems, and how it mounts one without
// playing back its journal: nothing may be written.
var kernelNames = map[volume.Kind]struct{ name, options string }{
	volume.Ext:     {"ext4", "noload"},
	volume.XFS:     {"xfs", "norecovery,nouuid"},
	volume.Btrfs:   {"btrfs", "rescue=nologreplay"},
	volume.NTFS:    {"ntfs3", ""},
	volume.FAT12:   {"vfat", ""},
	volume.FAT16:   {"vfat", ""},
	volume.FAT32:   {"vfat", ""},
	volume.ExFAT:   {"exfat", ""},
	volume.HFSPlus: {"hfsplus", ""},
}

// Files shows the files of a volume through the kernel, or where it does not know
// the file system, through the agent's own readers. What it returns may be an
// io.Closer.
func (d hardwareDisk) Files(start int64, v *volume.Volume) (fs.FS, error) {
	kernel, known := kernelNames[v.Kind]
	if known && kernelKnows(kernel.name) {
		return mount(d.File, start, v.Size, kernel.name, kernel.options)
	}
	return fileview.Open(io.NewSectionReader(d, start, v.Size), v.Size, v.Kind)
}

// kernelKnows tells whether the kernel knows a file system, inside or by a module.
func kernelKnows(name string) bool {
	if hasFileSystem(name) {
		return true
	}
	need("fs-" + name)
	return hasFileSystem(name)
}

// need has the kernel take in a module, by the program that it calls for modules itself. If that does not help, it shows where the
// module is used.
func need(module string) {
	exec.Command("/sbin/modprobe", "-q", "--", module).Run()
}

// needDevice has the kernel take in the module that brings a device, if it is not there.
func needDevice(path, module string) {
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		need(module)
	}
}

func hasFileSystem(name string) bool {
	text, err := os.ReadFile("/proc/filesystems")
	if err != nil {
		return false
	}
	for line := range strings.Lines(string(text)) {
		if fields := strings.Fields(line); len(fields) > 0 && fields[len(fields)-1] == name {
			return true
		}
	}
	return false
}

// mounted is a volume under a folder of its own. No name leads out of it.
type mounted struct {
	fs.FS
	root *os.Root
	dir  string
	// descriptors is the extended attribute that has security descriptors; empty if files have
	// none.
	descriptors string
}

// Extended attributes with the security descriptors of NTFS, of the program and of the kernel.
const (
	descriptorsOfProgram = "system.ntfs_acl"
	descriptorsOfKernel  = "system.ntfs_security"
)

// attach makes size bytes from start of a disk a loop device, which ends when nobody
// has it open and nothing is mounted from it.
func attach(f *os.File, start, size int64, write bool) (*os.File, error) {
	needDevice("/dev/loop-control", "loop")
	control, err := os.OpenFile("/dev/loop-control", os.O_RDWR, 0)
	if err != nil {
		return nil, err
	}
	defer control.Close()
	number, err := unix.IoctlRetInt(int(control.Fd()), unix.LOOP_CTL_GET_FREE)
	if err != nil {
		return nil, fmt.Errorf("find a loop device: %w", err)
	}
	mode, flags := os.O_RDONLY, uint32(unix.LO_FLAGS_READ_ONLY|unix.LO_FLAGS_AUTOCLEAR)
	if write {
		mode, flags = os.O_RDWR, unix.LO_FLAGS_AUTOCLEAR
	}
	loop, err := os.OpenFile(fmt.Sprintf("/dev/loop%d", number), mode, 0)
	if err != nil {
		return nil, err
	}
	err = unix.IoctlLoopConfigure(int(loop.Fd()), &unix.LoopConfig{Fd: uint32(f.Fd()), Info: unix.LoopInfo64{Offset: uint64(start), Sizelimit: uint64(size), Flags: flags}})
	if err != nil {
		return nil, errors.Join(fmt.Errorf("set up a loop device: %w", err), loop.Close())
	}
	return loop, nil
}

// mount brings size bytes from start of a disk under a folder, read-only.
func mount(f *os.File, start, size int64, kind, options string) (*mounted, error) {
	return mountAs(f, start, size, kind, options, false)
}

func mountAs(f *os.File, start, size int64, kind, options string, write bool) (*mounted, error) {
	loop, err := attach(f, start, size, write)
	if err != nil {
		return nil, fmt.Errorf("mount it: %w", err)
	}
	defer loop.Close()
	m := &mounted{}
	if m.dir, err = os.MkdirTemp("", "volume"); err != nil {
		return nil, err
	}
	flags := uintptr(unix.MS_NOSUID | unix.MS_NODEV)
	if !write {
		flags |= unix.MS_RDONLY | unix.MS_NOEXEC
	}
	if err := unix.Mount(loop.Name(), m.dir, kind, flags, options); err != nil {
		return nil, errors.Join(fmt.Errorf("mount it as %s: %w", kind, err), os.Remove(m.dir))
	}
	if m.root, err = os.OpenRoot(m.dir); err != nil {
		return nil, errors.Join(err, m.Close())
	}
	m.FS = m.root.FS()
	return m, nil
}

// ReadLink is fs.ReadLinkFS's.
func (m *mounted) ReadLink(name string) (string, error) { return m.root.Readlink(name) }

// Lstat is fs.ReadLinkFS's.
func (m *mounted) Lstat(name string) (fs.FileInfo, error) { return m.root.Lstat(name) }

// Close unmounts the volume.
func (m *mounted) Close() error {
	var err error
	if m.root != nil {
		err = m.root.Close()
	}
	return errors.Join(err, unix.Unmount(m.dir, unix.MNT_DETACH), os.Remove(m.dir))
}

// MountSystem has the kernel mount a volume for writing; NTFS, where it does not know
// that, by the program ntfs-3g.
func (d hardwareDisk) MountSystem(start int64, v *volume.Volume) (SystemVolume, error) {
	return MountForWriting(d.File, start, v)
}

// MountForWriting mounts a volume of a disk for writing, with what the kernel or the
// system has for that.
func MountForWriting(disk *os.File, start int64, v *volume.Volume) (SystemVolume, error) {
	kernel, known := kernelNames[v.Kind]
	options := ""
	if v.Kind == volume.XFS {
		options = "nouuid"
	}
	if known && kernelKnows(kernel.name) {
		m, err := mountAs(disk, start, v.Size, kernel.name, options, true)
		if err != nil {
			return nil, err
		}
		if v.Kind == volume.NTFS {
			m.descriptors = descriptorsOfKernel
		}
		return systemMount{m}, nil
	}
	// The first process of a machine has no PATH.
	program, err := exec.LookPath("ntfs-3g")
	if err != nil {
		program, err = exec.LookPath("/usr/bin/ntfs-3g")
	}
	if err == nil && v.Kind == volume.NTFS {
		m, err := mountByProgram(disk, start, v.Size, program)
		if err != nil {
			return nil, err
		}
		m.descriptors = descriptorsOfProgram
		return systemMount{m}, nil
	}
	return nil, fmt.Errorf("%s cannot be written here: the kernel does not know it, and there is no program that does", v.Kind)
}

// mountByProgram mounts a volume with a FUSE program.
func mountByProgram(disk *os.File, start, size int64, program string) (*mounted, error) {
	loop, err := attach(disk, start, size, true)
	if err != nil {
		return nil, err
	}
	defer loop.Close()
	m := &mounted{}
	if m.dir, err = os.MkdirTemp("", "volume"); err != nil {
		return nil, err
	}
	needDevice("/dev/fuse", "fuse")
	if out, err := exec.Command(program, loop.Name(), m.dir).CombinedOutput(); err != nil {
		return nil, errors.Join(fmt.Errorf("mount it by %s: %w: %s", filepath.Base(program), err, bytes.TrimSpace(out)), os.Remove(m.dir))
	}
	if m.root, err = os.OpenRoot(m.dir); err != nil {
		return nil, errors.Join(err, m.Close())
	}
	m.FS = m.root.FS()
	return m, nil
}

// systemMount is a mounted volume that has an operating system.
type systemMount struct{ *mounted }

// WriteFile writes a file, on the medium when it returns: beside one of that name, and then in
// its place, so that whatever happens one of the two is there. On NTFS it has the permissions of
// the old one, or if there is none those that its folder hands down.
func (m systemMount) WriteFile(name string, content io.Reader) error {
	if err := m.folders(path.Dir(name)); err != nil {
		return err
	}
	beside := besideOf(name)
	if err := m.clear(beside); err != nil {
		return err
	}
	f, err := m.root.OpenFile(beside, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	if err = m.describe(name, f, false); err == nil {
		_, err = io.Copy(f, content)
	}
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return errors.Join(err, m.root.Remove(beside))
	}
	return m.root.Rename(beside, name)
}

// besideOf is where a file is written before it takes the place of another.
func besideOf(name string) string { return path.Join(path.Dir(name), ".jugate-"+path.Base(name)) }

// folders makes a folder, and those that it is in.
func (m systemMount) folders(name string) error {
	if info, err := m.root.Stat(name); err == nil && info.IsDir() {
		return nil
	}
	if err := m.folders(path.Dir(name)); err != nil {
		return err
	}
	if err := m.root.Mkdir(name, 0o755); err != nil {
		return err
	}
	f, err := m.root.Open(name)
	if err != nil {
		return err
	}
	return errors.Join(m.describe(name, f, true), f.Close())
}

// describe gives a new file or folder of NTFS the permissions of what has its name, or those that
// come from its folder; the writers of the file system would let everybody do everything.
func (m systemMount) describe(name string, f *os.File, folder bool) error {
	if m.descriptors == "" {
		return nil
	}
	own := windows.Private()
	if old, err := m.descriptorOf(name); err == nil && !folder {
		own = old
	} else if above, err := m.descriptorOf(path.Dir(name)); err == nil {
		if handed, err := windows.Inherited(above, folder); err == nil {
			own = handed
		}
	}
	if err := unix.Fsetxattr(int(f.Fd()), m.descriptors, own, 0); err != nil {
		return fmt.Errorf("the permissions of %s: %w", name, err)
	}
	return nil
}

// Protect leaves a file of NTFS to the system and to administrators.
func (m systemMount) Protect(name string) error {
	if m.descriptors == "" {
		return nil
	}
	f, err := m.root.OpenFile(name, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	return errors.Join(unix.Fsetxattr(int(f.Fd()), m.descriptors, windows.Private(), 0), f.Close())
}

func (m systemMount) descriptorOf(name string) ([]byte, error) {
	f, err := m.root.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b := make([]byte, 64<<10) // of less, the program says that it cannot be read
	n, err := unix.Fgetxattr(int(f.Fd()), m.descriptors, b)
	return b[:max(n, 0)], err
}

// Close writes what is not on the disk yet, and unmounts the volume.
func (m systemMount) Close() error {
	err := m.root.Close()
	return errors.Join(err, unmount(m.dir, forSomeSeconds))
}

// unmount unmounts the volume at a folder and removes the folder. A child between fork and exec
// still has the open files of this process, also those of the volume. While the volume is busy,
// unmount therefore tries again for as long as again returns true.
func unmount(dir string, again func(tried int) bool) error {
	for tried := 1; ; tried++ {
		err := unix.Unmount(dir, 0)
		if err == nil {
			return os.Remove(dir)
		}
		if !errors.Is(err, unix.EBUSY) || !again(tried) {
			return fmt.Errorf("unmount the volume at %s: %w", dir, err)
		}
	}
}

// forSomeSeconds waits 10 ms, and gives up after about ten seconds.
func forSomeSeconds(tried int) bool {
	time.Sleep(10 * time.Millisecond)
	return tried < 1000
}

// Place is Placer's. What it writes is on the medium when the volume is closed. NTFS has the permissions that a folder hands down.
func (m systemMount) Place(h *tar.Header, content io.Reader) (err error) {
	name := h.Name
	if err := m.folders(path.Dir(name)); err != nil {
		return err
	}
	switch h.Typeflag {
	case tar.TypeDir:
		err = m.folders(name)
	case tar.TypeSymlink:
		if err = m.clear(name); err == nil {
			err = m.root.Symlink(h.Linkname, name)
		}
		if err == nil && m.descriptors == "" {
			err = m.root.Lchown(name, h.Uid, h.Gid)
		}
		return err
	case tar.TypeReg:
		err = m.placeFile(name, content)
	default:
		return nil
	}
	if err != nil || m.descriptors != "" {
		return err
	}
	if err := errors.Join(m.root.Chown(name, h.Uid, h.Gid), m.root.Chmod(name, fs.FileMode(h.Mode)&fs.ModePerm)); err != nil || h.Typeflag == tar.TypeDir {
		return err
	}
	return m.root.Chtimes(name, h.ModTime, h.ModTime)
}

func (m systemMount) placeFile(name string, content io.Reader) error {
	if err := m.clear(name); err != nil {
		return err
	}
	f, err := m.root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	if err = m.describe(name, f, false); err == nil {
		_, err = io.Copy(f, content)
	}
	return errors.Join(err, f.Close())
}

// Run runs a program of the system, within it.
func (m systemMount) Run(ctx context.Context, p Program) (err error) {
	for _, at := range []struct{ kind, dir string }{{"proc", "proc"}, {"sysfs", "sys"}, {"devtmpfs", "dev"}} {
		dir := filepath.Join(m.dir, at.dir)
		if info, err := os.Lstat(dir); err != nil || !info.IsDir() {
			continue
		}
		if err := unix.Mount(at.kind, dir, at.kind, unix.MS_NOSUID|unix.MS_NOEXEC, ""); err != nil {
			continue // it may do without
		}
		defer func() { err = errors.Join(err, unix.Unmount(dir, unix.MNT_DETACH)) }()
	}
	cmd := exec.CommandContext(ctx, "/usr/bin/env", p.Argv...)
	if _, err := m.root.Stat("usr/bin/env"); err != nil {
		dir := "/sbin/"
		if p.Argv[0] == "sh" {
			dir = "/bin/"
		}
		cmd = exec.CommandContext(ctx, dir+p.Argv[0], p.Argv[1:]...)
	}
	cmd.SysProcAttr = &unix.SysProcAttr{Chroot: m.dir}
	cmd.Dir = "/"
	return runAlone(cmd, p)
}

func lastLine(out []byte) string {
	out = bytes.TrimSpace(out)
	return string(out[bytes.LastIndexByte(out, '\n')+1:])
}

// Change makes one change, on the medium when it returns. Links are never followed to write
// behind them.
func (m systemMount) Change(c answers.Change) error {
	switch c.Do {
	case answers.Remove:
		return m.root.Remove(c.Path)
	case answers.Folder:
		if err := m.root.Mkdir(c.Path, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
		return errors.Join(m.root.Chown(c.Path, c.UID, c.GID), m.root.Chmod(c.Path, c.Mode))
	case answers.Link:
		if err := m.clear(c.Path); err != nil {
			return err
		}
		return m.root.Symlink(c.Target, c.Path)
	}
	// Beside the old one, and then in its place: a file is whole or as it was.
	beside := besideOf(c.Path)
	if err := m.clear(beside); err != nil {
		return err
	}
	f, err := m.root.OpenFile(beside, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(c.Content)
	if err = errors.Join(err, f.Chown(c.UID, c.GID), f.Chmod(c.Mode), f.Sync(), f.Close()); err != nil {
		return errors.Join(err, m.root.Remove(beside))
	}
	return m.root.Rename(beside, c.Path)
}

// clear removes a file or link, if it is there.
func (m systemMount) clear(name string) error {
	if err := m.root.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}
