package sim

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"slices"
	"strings"

	"jugate/agent"
	"jugate/core/answers"
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

// WriteFile writes a file with debugfs.
func (e *extVolume) WriteFile(name string, content io.Reader) error {
	file, done, err := beside(content)
	if err != nil {
		return err
	}
	defer done()
	return e.debugfs(append(e.folders(path.Dir(name)), append(e.cleared(name), fmt.Sprintf("write %s \"%s\"", file, path.Base(name)))...)...)
}

// Place is agent.Placer's.
func (e *extVolume) Place(h *tar.Header, content io.Reader) error {
	owner := answers.Change{Path: h.Name, Target: h.Linkname, UID: h.Uid, GID: h.Gid, Mode: fs.FileMode(h.Mode) & fs.ModePerm}
	switch h.Typeflag {
	case tar.TypeDir:
		if _, err := fs.Stat(e.FS, h.Name); err == nil {
			return nil
		}
		owner.Do = answers.Folder
		return e.Change(owner)
	case tar.TypeSymlink:
		owner.Do = answers.Link
		return e.Change(owner)
	}
	return e.WriteFile(h.Name, content)
}

// Change makes one change with debugfs.
func (e *extVolume) Change(c answers.Change) error {
	at := "\"/" + c.Path + "\""
	const regular, folder = 0o100000, 0o040000 // of inode(7)
	owned := func(kind int) []string {
		return []string{fmt.Sprintf("sif %s mode 0%o", at, kind|int(c.Mode)), fmt.Sprintf("sif %s uid %d", at, c.UID), fmt.Sprintf("sif %s gid %d", at, c.GID)}
	}
	switch c.Do {
	case answers.Remove:
		return e.debugfs("rm " + at)
	case answers.Folder:
		return e.debugfs(append([]string{"mkdir " + at}, owned(folder)...)...)
	case answers.Link:
		return e.debugfs(append(e.cleared(c.Path), fmt.Sprintf("symlink \"%s\" \"%s\"", path.Base(c.Path), c.Target))...)
	}
	file, done, err := beside(bytes.NewReader(c.Content))
	if err != nil {
		return err
	}
	defer done()
	return e.debugfs(append(append(e.cleared(c.Path), fmt.Sprintf("write %s \"%s\"", file, path.Base(c.Path))), owned(regular)...)...)
}

// beside writes content to a file of this machine, for debugfs to read.
func beside(content io.Reader) (name string, done func(), err error) {
	dir, err := os.MkdirTemp("", "sim")
	if err != nil {
		return "", nil, err
	}
	done = func() { os.RemoveAll(dir) }
	f, err := os.Create(path.Join(dir, "content"))
	if err == nil {
		_, err = io.Copy(f, content)
		err = errors.Join(err, f.Close())
	}
	if err != nil {
		done()
		return "", nil, err
	}
	return f.Name(), done, nil
}

// folders are the commands that make a folder and those above it.
func (e *extVolume) folders(name string) (commands []string) {
	at := ""
	for part := range strings.SplitSeq(name, "/") {
		at = path.Join(at, part)
		if _, err := fs.Stat(e.FS, at); err != nil {
			commands = append(commands, fmt.Sprintf("mkdir \"/%s\"", at))
		}
	}
	return commands
}

// cleared are the commands that go to the folder of a file, and remove what has its name.
func (e *extVolume) cleared(name string) []string {
	commands := []string{fmt.Sprintf("cd \"/%s\"", path.Dir(name))}
	entries, _ := fs.ReadDir(e.FS, path.Dir(name))
	if slices.ContainsFunc(entries, func(d fs.DirEntry) bool { return d.Name() == path.Base(name) }) {
		commands = append(commands, fmt.Sprintf("rm \"%s\"", path.Base(name)))
	}
	return commands
}

// debugfs runs commands. It says on its second output what it could not do.
func (e *extVolume) debugfs(commands ...string) error {
	cmd := exec.Command("debugfs", "-w", "-f", "/dev/stdin", fmt.Sprintf("%s?offset=%d", e.disk.path, e.start))
	cmd.Stdin = strings.NewReader(strings.Join(commands, "\n") + "\n")
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
