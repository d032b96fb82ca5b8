package image

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"

	"jugate/core/roster"
	"jugate/core/slabstore"
)

// Files is a folder that keeps versions as files, so that the records can be
// lost without losing an image:
//
//	images/NAME/NUMBER/manifest.json
//	images/NAME/NUMBER/slabs.map
type Files struct {
	Dir string
}

func (f Files) path(ref roster.Ref, parts ...string) string {
	return filepath.Join(append([]string{f.Dir, ref.Image, strconv.Itoa(ref.Version)}, parts...)...)
}

// Save writes a version whole or not at all, and replaces files of the same
// number, which a commit that was cut off can have left.
func (f Files) Save(ref roster.Ref, manifest, slabs []byte) error {
	parent := filepath.Join(f.Dir, ref.Image)
	if err := os.MkdirAll(parent, 0o755); err != nil {
		return err
	}
	tmp, err := os.MkdirTemp(parent, "new-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(tmp)
	for name, content := range map[string][]byte{"manifest.json": manifest, "slabs.map": slabs} {
		if err := writeSynced(filepath.Join(tmp, name), content); err != nil {
			return err
		}
	}
	if err := os.Chmod(tmp, 0o755); err != nil {
		return err
	}
	if err := os.RemoveAll(f.path(ref)); err != nil {
		return err
	}
	if err := os.Rename(tmp, f.path(ref)); err != nil {
		return err
	}
	return errors.Join(slabstore.SyncDir(f.path(ref)), slabstore.SyncDir(parent), slabstore.SyncDir(f.Dir))
}

// Load reads a version and checks that its manifest has the digest that the
// records name. Errors wrap ErrManifest or are the system's.
func (f Files) Load(ref roster.Ref, digest slabstore.Digest) (*Manifest, *Map, error) {
	text, err := os.ReadFile(f.path(ref, "manifest.json"))
	if err != nil {
		return nil, nil, err
	}
	if slabstore.Sum(text) != digest {
		return nil, nil, fmt.Errorf("%w: the file of %s is not the one that was captured", ErrManifest, ref)
	}
	man, err := ParseManifest(text)
	if err != nil {
		return nil, nil, err
	}
	raw, err := os.ReadFile(f.path(ref, "slabs.map"))
	if err != nil {
		return nil, nil, err
	}
	slabs, err := ParseMap(raw, man)
	return man, slabs, err
}

// Paths are the names of a version's two files.
func (f Files) Paths(ref roster.Ref) (manifest, slabs string) {
	return f.path(ref, "manifest.json"), f.path(ref, "slabs.map")
}

func writeSynced(name string, content []byte) error {
	file, err := os.Create(name)
	if err != nil {
		return err
	}
	_, err = file.Write(content)
	if err == nil {
		err = file.Sync()
	}
	return errors.Join(err, file.Close())
}
