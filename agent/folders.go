package agent

import (
	"archive/tar"
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"github.com/klauspost/compress/zstd"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/answers"
	"jugate/core/fileview"
	"jugate/core/partition"
	"jugate/core/volume"
	"jugate/core/windows"
)

// Placer is a SystemVolume onto which what a tar archive has can be placed, with owners and times where the volume has such.
type Placer interface {
	Place(h *tar.Header, content io.Reader) error
}

// filed are the kinds of volumes in which people have files.
var filed = []volume.Kind{volume.Ext, volume.XFS, volume.Btrfs, volume.NTFS, volume.FAT32, volume.ExFAT}

// packFolders writes folders of a disk as a tar archive, compressed by zstd. One that no volume has is an error: nobody is to
// think that it was saved.
func (a *Agent) packFolders(ctx context.Context, d Disk, names []string, out io.Writer) error {
	table, err := partition.Read(d, d.Size(), d.SectorSize())
	if err != nil {
		return err
	}
	z, err := zstd.NewWriter(out, zstd.WithEncoderConcurrency(1))
	if err != nil {
		return err
	}
	t := tar.NewWriter(z)
	left := slices.Clone(names)
	var whys []error
	for _, p := range table.Partitions {
		start, size := table.Start(p), table.Size(p)
		v, err := volume.Open(io.NewSectionReader(d, start, size), size)
		if err != nil || !slices.Contains(filed, v.Kind) {
			continue
		}
		v.Size = size
		files, err := a.viewOf(d, start, v)
		if err != nil {
			whys = append(whys, fmt.Errorf("partition %d: %w", p.Number, err))
			continue
		}
		left = slices.DeleteFunc(left, func(name string) bool {
			if info, notThere := fs.Stat(files, name); notThere != nil || !info.IsDir() || err != nil {
				return false
			}
			a.show("packing /%s", name)
			err = packFolder(ctx, t, files, name)
			return err == nil
		})
		if c, is := files.(io.Closer); is {
			err = errors.Join(err, c.Close())
		}
		if err != nil {
			return err
		}
	}
	if len(left) > 0 && len(table.Partitions) > 0 {
		return errors.Join(append([]error{fmt.Errorf("the disk has no folder %s that could go back", strings.Join(left, ", "))}, whys...)...)
	}
	return errors.Join(t.Close(), z.Close())
}

// viewOf shows the files of a volume, by the kernel where the disk has that.
func (a *Agent) viewOf(d Disk, start int64, v *volume.Volume) (fs.FS, error) {
	if open := a.filesOf(d); open != nil {
		return open(start, v)
	}
	return fileview.Open(io.NewSectionReader(d, start, v.Size), v.Size, v.Kind)
}

// packFolder writes a folder with all that is in it. What is neither a file, a folder nor a link is left out.
func packFolder(ctx context.Context, t *tar.Writer, files fs.FS, name string) error {
	users, groups := namesOf(files, "etc/passwd"), namesOf(files, "etc/group")
	return fs.WalkDir(files, name, func(name string, d fs.DirEntry, err error) error {
		if err = errors.Join(err, ctx.Err()); err != nil {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		h := &tar.Header{Format: tar.FormatPAX, Name: name, Mode: int64(info.Mode().Perm()), ModTime: info.ModTime()}
		if s, is := info.Sys().(*syscall.Stat_t); is {
			h.Uid, h.Gid, h.Uname, h.Gname = int(s.Uid), int(s.Gid), users[int(s.Uid)], groups[int(s.Gid)]
		}
		switch {
		case d.IsDir():
			h.Typeflag, h.Name = tar.TypeDir, name+"/"
			return t.WriteHeader(h)
		case d.Type() == fs.ModeSymlink:
			h.Typeflag = tar.TypeSymlink
			if h.Linkname, err = fs.ReadLink(files, name); err != nil {
				return err
			}
			return t.WriteHeader(h)
		case !d.Type().IsRegular():
			return nil
		}
		h.Typeflag, h.Size = tar.TypeReg, info.Size()
		if err := t.WriteHeader(h); err != nil {
			return err
		}
		f, err := files.Open(name)
		if err != nil {
			return err
		}
		_, err = io.Copy(t, f)
		return errors.Join(err, f.Close())
	})
}

// namesOf are the names of a system's users or groups by number (passwd(5), group(5)).
func namesOf(system fs.FS, file string) map[int]string {
	all := map[int]string{}
	f, err := system.Open(file)
	if err != nil {
		return all
	}
	defer f.Close()
	for lines := bufio.NewScanner(io.LimitReader(f, 1<<20)); lines.Scan(); {
		fields := strings.Split(lines.Text(), ":")
		if len(fields) < 3 {
			continue
		}
		if n, err := strconv.Atoi(fields[2]); err == nil && all[n] == "" {
			all[n] = fields[0]
		}
	}
	return all
}

// saveFolders hands in the folders of a disk that is to be erased.
func (a *Agent) saveFolders(ctx context.Context, id int64, d Disk, names []string) error {
	if len(names) == 0 {
		return nil
	}
	_, err := authorized(ctx, a, func(c *apiclient.Client) (struct{}, error) {
		out, in := io.Pipe()
		packed := make(chan error, 1)
		go func() {
			err := a.packFolders(ctx, d, names, in)
			in.CloseWithError(err)
			packed <- err
		}()
		err := c.PutFolders(ctx, id, out)
		out.CloseWithError(errTakesNoMore)
		if broken := <-packed; broken != nil && !errors.Is(broken, errTakesNoMore) { // trying again would not mend it
			err = giveUp{broken}
		}
		return struct{}{}, err
	})
	return err
}

// errTakesNoMore ends packing when the service has answered, whatever that is.
var errTakesNoMore = errors.New("the service takes no more")

// bringFolders does an errand that brings folders back onto the new system.
func (a *Agent) bringFolders(ctx context.Context, e *api.ToErrand) error {
	did, err := a.foldersOnto(ctx, e)
	return a.endInstall(ctx, e.ID, "the folders", err, func(c *apiclient.Client) error {
		return c.Brought(ctx, e.ID, api.Installed{Packages: []string{}, Did: did})
	})
}

func (a *Agent) foldersOnto(ctx context.Context, e *api.ToErrand) ([]string, error) {
	to := e.Folders
	if to == nil {
		return nil, errors.New("the service did not say which")
	}
	disk, err := a.openDisk(to.Disk)
	if err != nil {
		return nil, err
	}
	defer disk.Close()
	return onSystem(ctx, disk, anywhere, errors.New("this disk has no system to bring folders onto"), answers.ErrNoSystem, func(system SystemVolume, _ volume.Kind) ([]string, error) {
		if !answers.IsLinux(system) && !windows.Is(system) {
			return nil, answers.ErrNoSystem
		}
		placer, can := system.(Placer)
		if !can {
			return nil, errors.New("folders cannot be placed onto this volume from here")
		}
		var placed int
		err := a.fetched(ctx, "the folders", to.Digest, func(c *apiclient.Client) (io.ReadCloser, error) { return c.Folders(ctx, e.ID) }, func(in io.Reader) (err error) {
			a.show("bringing folders back")
			placed, err = unpackFolders(ctx, placer, system, in)
			return err
		})
		return []string{fmt.Sprintf("%d files and folders are back", placed)}, err
	})
}

// unpackFolders places what an archive has. Owners are those of the same name in the new system.
func unpackFolders(ctx context.Context, placer Placer, system fs.FS, in io.Reader) (placed int, err error) {
	users, groups := numbersOf(system, "etc/passwd"), numbersOf(system, "etc/group")
	z, err := zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(64<<20))
	if err != nil {
		return 0, err
	}
	defer z.Close()
	for t := tar.NewReader(z); ; placed++ {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			_, err = io.Copy(io.Discard, in) // what is behind the end counts for the digest
			return placed, err
		}
		if err = errors.Join(err, ctx.Err()); err != nil {
			return placed, err
		}
		h.Name = path.Clean(h.Name)
		if !fs.ValidPath(h.Name) || h.Name == "." {
			return placed, fmt.Errorf("%q is not the name of a file", h.Name)
		}
		if n, is := users[h.Uname]; is {
			h.Uid = n
		}
		if n, is := groups[h.Gname]; is {
			h.Gid = n
		}
		if err := placer.Place(h, t); err != nil {
			return placed, fmt.Errorf("/%s: %w", h.Name, err)
		}
	}
}

// numbersOf are the numbers of a system's users or groups by name.
func numbersOf(system fs.FS, file string) map[string]int {
	all := map[string]int{}
	for n, name := range namesOf(system, file) {
		all[name] = n
	}
	return all
}
