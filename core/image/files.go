package image

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"jugate/core/durable"
	"jugate/core/roster"
	"jugate/core/slabstore"
)

// Files is a folder that keeps versions as files, so that the records can be
// lost without losing an image:
//
//	images/NAME/NUMBER/manifest.json
//	images/NAME/NUMBER/slabs.map
//	images/NAME/NUMBER/state.json      what people have said of it since
//	images/NAME/NUMBER/sketches        what its slabs are like (package leaning); made anew when missing
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
	folder, err := durable.CreateFolder(parent)
	if err != nil {
		return err
	}
	defer folder.Drop()
	for name, content := range map[string][]byte{"manifest.json": manifest, "slabs.map": slabs} {
		if err := durable.Write(filepath.Join(folder.Path, name), content, 0o644); err != nil {
			return err
		}
	}
	return errors.Join(folder.Keep(f.path(ref)), durable.SyncDir(f.Dir))
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

// Standing is whether a version may be used.
type Standing string

// A version in use can be delivered. A retired one cannot until it is readmitted. Once it is
// pruned, the slabs that it alone needed are gone, and only the record is left.
const (
	InUse   Standing = "in use"
	Retired Standing = "retired"
	Pruned  Standing = "pruned"
)

// Standings are all of them.
var Standings = []Standing{InUse, Retired, Pruned}

// State is what people have said of a version after it was captured, kept beside it so
// that a rescan into new records brings it back as it was.
type State struct {
	Note    string     `json:"note,omitempty"`
	Retired *time.Time `json:"retired,omitempty"`
	Pruned  *time.Time `json:"pruned,omitempty"`  // its slabs were given up
	Expires *time.Time `json:"expires,omitempty"` // of a disk that was saved before it was erased
	Settled *time.Time `json:"settled,omitempty"` // it stands alone, and is to stay so
}

// maxState bounds the file, in bytes.
const maxState = 64 << 10

// SetState keeps the state of a version.
func (f Files) SetState(ref roster.Ref, s State) error {
	text, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return durable.Write(f.path(ref, "state.json"), text, 0o644)
}

// State returns the state of a version; one that none was kept of is in use.
func (f Files) State(ref roster.Ref) (s State, err error) {
	file, err := os.Open(f.path(ref, "state.json"))
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err != nil {
		return s, err
	}
	defer file.Close()
	var kept struct {
		State
		Swept *time.Time `json:"swept"` // what Pruned was called until 0.2.0
	}
	err = json.NewDecoder(io.LimitReader(file, maxState)).Decode(&kept)
	if kept.Pruned == nil {
		kept.Pruned = kept.Swept
	}
	return kept.State, err
}

// Link gives an image's files a second name; Remove takes one away. So a renaming
// that is cut off leaves at least one of the two whole.
func (f Files) Link(from, to string) error {
	old, fresh := filepath.Join(f.Dir, from), filepath.Join(f.Dir, to)
	if err := os.RemoveAll(fresh); err != nil {
		return err
	}
	err := filepath.WalkDir(old, func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(old, path)
		if err != nil {
			return err
		}
		if e.IsDir() {
			return os.MkdirAll(filepath.Join(fresh, rel), 0o755)
		}
		return os.Link(path, filepath.Join(fresh, rel))
	})
	return errors.Join(err, durable.SyncDir(fresh), durable.SyncDir(f.Dir))
}

// Remove takes all versions of an image away.
func (f Files) Remove(image string) error {
	return errors.Join(os.RemoveAll(filepath.Join(f.Dir, image)), durable.SyncDir(f.Dir))
}

// All lists the versions that have files, by image and number.
func (f Files) All() ([]roster.Ref, error) {
	names, err := filepath.Glob(filepath.Join(f.Dir, "*", "*", "manifest.json"))
	var refs []roster.Ref
	for _, name := range names {
		folder := filepath.Dir(name)
		number, err := strconv.Atoi(filepath.Base(folder))
		if err != nil || number < 1 {
			continue // the rest of a save that was cut off
		}
		refs = append(refs, roster.Ref{Image: filepath.Base(filepath.Dir(folder)), Version: number})
	}
	slices.SortFunc(refs, func(a, b roster.Ref) int { return cmp.Or(cmp.Compare(a.Image, b.Image), a.Version-b.Version) })
	return refs, err
}

// Sketches is the name of the file with the sketches of a version.
func (f Files) Sketches(ref roster.Ref) string { return f.path(ref, "sketches") }

// Paths are the names of a version's two files.
func (f Files) Paths(ref roster.Ref) (manifest, slabs string) {
	return f.path(ref, "manifest.json"), f.path(ref, "slabs.map")
}
