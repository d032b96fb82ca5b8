package intake

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/fileview"
	"jugate/core/image"
	"jugate/core/rights"
)

const (
	// lookingAtMost is how many look into images at the same time: each has slabs in memory.
	lookingAtMost = 4
	// fileAtMost is how long a file is that is handed out, in bytes.
	fileAtMost = 400 << 20
	// comparedAtMost is how many files of a version are compared, and readAtMost how long one is that is read for it, in bytes.
	comparedAtMost, readAtMost = 200_000, 256 << 10
	// differentAtMost is how many differences are told.
	differentAtMost = 1000
)

// looking has a place for each that looks into an image, and handing one for each that is handed a file: whoever takes it slowly keeps
// nobody from looking.
var looking, handing = make(chan struct{}, lookingAtMost), make(chan struct{}, lookingAtMost)

// look opens the files of a partition of a version, and calls do with them. Whatever the libraries make of what they read, the
// service goes on.
func (k *Intake) look(ctx context.Context, places chan struct{}, ref string, partition int, do func(files fs.FS) error) (err error) {
	_, man, slabs, err := k.opened(ctx, ref)
	if err != nil {
		return err
	}
	select {
	case places <- struct{}{}:
		defer func() { <-places }()
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() {
		if p := recover(); p != nil {
			err = fault.Conflict.Errorf("the files of partition %d of %s cannot be read: %v", partition, ref, p)
		}
	}()
	files, err := k.filesOf(ref, man, slabs, partition)
	if err != nil {
		return err
	}
	return do(files)
}

func (k *Intake) filesOf(ref string, man *image.Manifest, slabs *image.Map, partition int) (fs.FS, error) {
	i := slices.IndexFunc(man.Areas, func(a image.Area) bool { return a.Partition == partition && partition != 0 })
	if i < 0 {
		return nil, fault.NotFound.Errorf("%s has no partition %d", ref, partition)
	}
	view, err := image.NewView(man, slabs, partition, k.Slabs)
	if err != nil {
		return nil, err
	}
	files, err := fileview.Open(view, man.Areas[i].Size, man.Areas[i].Kind)
	if err != nil {
		return nil, fault.Conflict.Errorf("the files of partition %d of %s (%s) cannot be read: %w", partition, ref, man.Areas[i].Kind, err)
	}
	return files, nil
}

// pathIn is a path as io/fs wants it. What names nothing in the volume is refused.
func pathIn(text string) (string, error) {
	at := cmp.Or(strings.Trim(text, "/"), ".")
	if !fs.ValidPath(at) {
		return "", fault.Invalid.Errorf("%q is not the path of a file or folder, such as etc/fstab", text)
	}
	return at, nil
}

// notThere makes an error of a path that is not there, or is something else, a fault.
func notThere(err error, ref, at string) error {
	if errors.Is(err, fs.ErrNotExist) {
		return fault.NotFound.Errorf("%s has no %s", ref, at)
	}
	return err
}

// Folder lists what is in a folder of a version: folders first, then files, each by name.
func (k *Intake) Folder(ctx context.Context, ref string, partition int, folder string) (all []api.ImageFile, err error) {
	at, err := pathIn(folder)
	if err != nil {
		return nil, err
	}
	err = k.look(ctx, looking, ref, partition, func(files fs.FS) error {
		entries, err := fs.ReadDir(files, at)
		if err != nil {
			return notThere(err, ref, at)
		}
		for _, e := range entries {
			if e.Name() == "." || e.Name() == ".." {
				continue
			}
			f := api.ImageFile{Name: e.Name(), Path: path.Join(at, e.Name()), Kind: kindOf(e.Type())}
			if info, err := e.Info(); err == nil && f.Kind == "file" {
				f.Size = info.Size()
			}
			all = append(all, f)
		}
		return nil
	})
	slices.SortFunc(all, func(a, b api.ImageFile) int {
		return cmp.Or(cmp.Compare(rank(a), rank(b)), strings.Compare(a.Name, b.Name))
	})
	return all, err
}

func rank(f api.ImageFile) int {
	if f.Kind == "folder" {
		return 0
	}
	return 1
}

func kindOf(mode fs.FileMode) string {
	switch {
	case mode.IsDir():
		return "folder"
	case mode.IsRegular():
		return "file"
	case mode&fs.ModeSymlink != 0:
		return "link"
	}
	return "other"
}

// File hands out a file of a version: give is told its name and length, and gets its content.
func (k *Intake) File(ctx context.Context, ref string, partition int, at string, give func(name string, size int64, content io.Reader) error) error {
	v, err := k.named(ctx, ref)
	if err != nil {
		return err
	}
	if err := rights.CheckImage(ctx, rights.KeepImages, v.Image); err != nil {
		return err
	}
	at, err = pathIn(at)
	if err != nil {
		return err
	}
	return k.look(ctx, handing, ref, partition, func(files fs.FS) error {
		f, err := files.Open(at)
		if err != nil {
			return notThere(err, ref, at)
		}
		defer f.Close()
		info, err := f.Stat()
		switch {
		case err != nil:
			return err
		case !info.Mode().IsRegular():
			return fault.Invalid.Errorf("%s of %s is not a file", at, ref)
		case info.Size() > fileAtMost:
			return fault.Conflict.Errorf("%s of %s has %d bytes; up to %d are handed out", at, ref, info.Size(), fileAtMost)
		}
		return give(path.Base(at), info.Size(), io.LimitReader(f, info.Size()))
	})
}

// entry is a file as it is compared.
type entry struct {
	kind string
	size int64
}

// CompareFiles tells which files of a partition differ between two versions.
func (k *Intake) CompareFiles(ctx context.Context, earlier, later string, partition int) (api.FilesCompared, error) {
	out := api.FilesCompared{Files: []api.FileDifference{}}
	_, man, slabs, err := k.opened(ctx, later)
	if err != nil {
		return out, err
	}
	err = k.look(ctx, looking, earlier, partition, func(before fs.FS) error {
		after, err := k.filesOf(later, man, slabs, partition)
		if err != nil {
			return err
		}
		return compare(ctx, before, after, &out)
	})
	return out, err
}

func compare(ctx context.Context, before, after fs.FS, out *api.FilesCompared) error {
	closed := map[string]bool{}
	old, err := walk(ctx, before, closed)
	if err != nil {
		return err
	}
	now, err := walk(ctx, after, closed)
	if err != nil {
		return err
	}
	out.Unread += len(closed)
	for _, all := range []map[string]entry{old, now} { // what is in a folder that one of them does not show has not come or gone
		maps.DeleteFunc(all, func(at string, _ entry) bool { return isIn(at, closed) })
	}
	tell := func(at, change string, was, is entry) {
		out.Different++
		if len(out.Files) < differentAtMost {
			out.Files = append(out.Files, api.FileDifference{Path: at, Change: change, Before: was.size, After: is.size})
		}
	}
	for _, at := range slices.Sorted(maps.Keys(now)) {
		is, was := now[at], old[at]
		switch _, known := old[at]; {
		case !known:
			tell(at, "added", was, is)
		case was.kind != is.kind || was.size != is.size:
			tell(at, "changed", was, is)
		case is.kind != "file" || is.size == 0:
		case is.size > readAtMost:
			out.Unread++
		default:
			same, err := equal(ctx, before, after, at)
			if err != nil {
				out.Unread++
			} else if !same {
				tell(at, "changed", was, is)
			}
		}
	}
	for _, at := range slices.Sorted(maps.Keys(old)) {
		if _, still := now[at]; !still {
			tell(at, "removed", old[at], entry{})
		}
	}
	slices.SortStableFunc(out.Files, func(a, b api.FileDifference) int { return strings.Compare(a.Path, b.Path) })
	return nil
}

// isIn tells whether a path is in one of some folders.
func isIn(at string, folders map[string]bool) bool {
	for at != "." && len(folders) > 0 {
		if at = path.Dir(at); folders[at] {
			return true
		}
	}
	return false
}

// walk is everything in a volume but folders. Those that cannot be read are closed.
func walk(ctx context.Context, files fs.FS, closed map[string]bool) (map[string]entry, error) {
	all := map[string]entry{}
	err := fs.WalkDir(files, ".", func(at string, e fs.DirEntry, err error) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			closed[at] = true
			return fs.SkipDir
		}
		if e.IsDir() {
			return nil
		}
		if len(all) >= comparedAtMost {
			return fmt.Errorf("it has more than %d files", comparedAtMost)
		}
		one := entry{kind: kindOf(e.Type())}
		if info, err := e.Info(); err == nil && one.kind == "file" {
			one.size = info.Size()
		}
		all[at] = one
		return nil
	})
	if err != nil && ctx.Err() == nil {
		err = fault.Conflict.Errorf("the files cannot be compared: %w", err)
	}
	return all, err
}

func equal(ctx context.Context, before, after fs.FS, at string) (bool, error) {
	if ctx.Err() != nil {
		return false, ctx.Err()
	}
	one, err := fs.ReadFile(before, at)
	if err != nil {
		return false, err
	}
	other, err := fs.ReadFile(after, at)
	return bytes.Equal(one, other), err
}
