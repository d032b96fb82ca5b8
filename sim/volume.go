package sim

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"strings"

	"jugate/agent"
	"jugate/core/disk"
	"jugate/core/fileview"
	"jugate/core/volume"
)

// fileDisk is a disk that is a file.
type fileDisk struct {
	*disk.Disk
	path string
}

// MountSystem gives a volume to write to. A simulated workstation has no kernel of its
// own: the file system's own tool stands in for it on ext4, and this machine's kernel on
// others, which takes root.
func (d fileDisk) MountSystem(start int64, v *volume.Volume) (agent.SystemVolume, error) {
	if v.Kind != volume.Ext {
		return agent.MountForWriting(d.File, start, v)
	}
	e := &extVolume{disk: d, start: start, size: v.Size}
	return e, e.look()
}

// extVolume is written by debugfs.
type extVolume struct {
	fs.FS
	disk        fileDisk
	start, size int64
}

// look opens the volume's files as they are now.
func (e *extVolume) look() (err error) {
	e.FS, err = fileview.Open(io.NewSectionReader(e.disk, e.start, e.size), e.size, volume.Ext)
	return err
}

// ReadDir and Stat are the view's own: what it opens is not a folder that can be listed.
func (e *extVolume) ReadDir(name string) ([]fs.DirEntry, error) { return fs.ReadDir(e.FS, name) }

// Stat is fs.StatFS's.
func (e *extVolume) Stat(name string) (fs.FileInfo, error) { return fs.Stat(e.FS, name) }

func (e *extVolume) Close() error { return nil }

// WriteFile writes a file with debugfs, which says on its second output what it could
// not do.
func (e *extVolume) WriteFile(name string, content io.Reader) error {
	dir, err := os.MkdirTemp("", "sim")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	f, err := os.Create(path.Join(dir, "content"))
	if err != nil {
		return err
	}
	_, err = io.Copy(f, content)
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	var script strings.Builder
	at := ""
	for part := range strings.SplitSeq(path.Dir(name), "/") {
		at = path.Join(at, part)
		if _, err := fs.Stat(e.FS, at); err != nil {
			fmt.Fprintf(&script, "mkdir \"/%s\"\n", at)
		}
	}
	fmt.Fprintf(&script, "cd \"/%s\"\n", path.Dir(name))
	if _, err := fs.Stat(e.FS, name); err == nil {
		fmt.Fprintf(&script, "rm \"%s\"\n", path.Base(name))
	}
	fmt.Fprintf(&script, "write %s \"%s\"\n", path.Join(dir, "content"), path.Base(name))
	if err := os.WriteFile(path.Join(dir, "script"), []byte(script.String()), 0o644); err != nil {
		return err
	}
	cmd := exec.Command("debugfs", "-w", "-f", path.Join(dir, "script"), fmt.Sprintf("%s?offset=%d", e.disk.path, e.start))
	var complaints strings.Builder
	cmd.Stderr = &complaints
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("debugfs: %w: %s", err, complaints.String())
	}
	for line := range strings.Lines(complaints.String()) {
		if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "debugfs 1.") {
			return fmt.Errorf("debugfs: %s", line)
		}
	}
	return e.look()
}
