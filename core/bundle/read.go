package bundle

import (
	"archive/tar"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"github.com/opencontainers/go-digest"
	oci "github.com/opencontainers/image-spec/specs-go/v1"

	"jugate/core/image"
	"jugate/core/slabstore"
)

// ErrNotBundle says that a file is not a packed image.
var ErrNotBundle = errors.New("not a packed image")

// Reader is a packed image that can be read in any order of slabs.
type Reader struct {
	Manifest *image.Manifest
	Slabs    *image.Map
	Name     string // the reference name, such as garden-desk@3; can be empty

	frames map[slabstore.Digest]frame
	packs  []packed
}

// frame is where a frame lies: in which pack, and where there.
type frame struct {
	pack          int
	start, length int64
}

// packed is a pack.
type packed struct {
	io.ReaderAt
	length int64
	digest digest.Digest
}

// Source is where the blobs of a packed image come from.
type Source interface {
	// Blob reads a blob of at most limit bytes and checks its digest.
	Blob(d oci.Descriptor, limit int64) ([]byte, error)
	// Pack reads parts of a large blob, which nobody has checked; each is checked by its own digest.
	Pack(d oci.Descriptor) (io.ReaderAt, error)
}

// Open reads the index of a packed image of size bytes and checks that its
// parts belong together; the packs are checked frame by frame when they are read,
// or whole by Verify. Errors wrap ErrNotPacked or ErrManifest, or are r's.
func Open(r io.ReaderAt, size int64) (*Reader, error) {
	blobs, err := tarFiles(r, size)
	if err != nil {
		return nil, err
	}
	a := archive{r: r, files: blobs}
	var layout oci.ImageLayout
	if err := a.json(oci.ImageLayoutFile, &layout); err != nil {
		return nil, err
	}
	var index oci.Index
	if err := a.json(oci.ImageIndexFile, &index); err != nil {
		return nil, err
	}
	for _, top := range index.Manifests {
		if top.ArtifactType != ArtifactType && top.MediaType != oci.MediaTypeImageManifest {
			continue
		}
		var m oci.Manifest
		text, err := a.Blob(top, image.MaxManifest)
		if err != nil {
			return nil, err
		}
		if err := json.Unmarshal(text, &m); err != nil {
			return nil, fmt.Errorf("%w: %w", ErrNotBundle, err)
		}
		if m.ArtifactType == ArtifactType {
			return open(a, &m, top.Annotations[oci.AnnotationRefName])
		}
	}
	return nil, fmt.Errorf("%w: its index lists no image of Jugate's", ErrNotBundle)
}

// OpenFrom is Open for a packed image whose blobs are elsewhere: top is its OCI manifest.
func OpenFrom(from Source, top oci.Descriptor, name string) (*Reader, error) {
	text, err := from.Blob(top, image.MaxManifest)
	if err != nil {
		return nil, err
	}
	var m oci.Manifest
	if err := json.Unmarshal(text, &m); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNotBundle, err)
	}
	if m.ArtifactType != ArtifactType {
		return nil, fmt.Errorf("%w: what is there is %q", ErrNotBundle, cmp.Or(m.ArtifactType, m.Config.MediaType))
	}
	return open(from, &m, name)
}

// place is where a file lies in a tar.
type place struct{ start, length int64 }

// archive is the tar as a set of files.
type archive struct {
	r     io.ReaderAt
	files map[string]place
}

// maxFiles is how many files a packed image can have; each pack has 32 MiB.
const maxFiles = 1 << 18

// tarFiles lists what a tar holds, by name.
func tarFiles(r io.ReaderAt, size int64) (map[string]place, error) {
	section := io.NewSectionReader(r, 0, size)
	files := map[string]place{}
	for t := tar.NewReader(section); ; {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return files, nil
		}
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrNotBundle, err)
		}
		at, _ := section.Seek(0, io.SeekCurrent)
		if len(files) == maxFiles || h.Size < 0 || h.Size > size-at {
			return nil, fmt.Errorf("%w: more than %d files, or one of %d bytes", ErrNotBundle, maxFiles, h.Size)
		}
		files[h.Name] = place{at, h.Size}
	}
}

func (a archive) read(name string, limit int64) ([]byte, error) {
	p, ok := a.files[name]
	if !ok {
		return nil, fmt.Errorf("%w: %s is missing", ErrNotBundle, name)
	}
	if p.length > limit {
		return nil, fmt.Errorf("%w: %s has %d bytes", ErrNotBundle, name, p.length)
	}
	b := make([]byte, p.length)
	if n, err := a.r.ReadAt(b, p.start); n < len(b) {
		return nil, err
	}
	return b, nil
}

func (a archive) json(name string, v any) error {
	text, err := a.read(name, image.MaxManifest)
	if err == nil {
		err = json.Unmarshal(text, v)
	}
	if err != nil && !errors.Is(err, ErrNotBundle) {
		err = fmt.Errorf("%w: %s: %w", ErrNotBundle, name, err)
	}
	return err
}

// Pack is Source's.
func (a archive) Pack(d oci.Descriptor) (io.ReaderAt, error) {
	at, ok := a.files["blobs/sha256/"+d.Digest.Encoded()]
	if !ok || at.length != d.Size {
		return nil, fmt.Errorf("%w: a pack of slabs is missing or cut off", ErrNotBundle)
	}
	return io.NewSectionReader(a.r, at.start, at.length), nil
}

// Blob is Source's.
func (a archive) Blob(d oci.Descriptor, limit int64) ([]byte, error) {
	if err := d.Digest.Validate(); err != nil || d.Digest.Algorithm() != digest.SHA256 {
		return nil, fmt.Errorf("%w: a blob named %q", ErrNotBundle, d.Digest)
	}
	b, err := a.read("blobs/sha256/"+d.Digest.Encoded(), limit)
	if err != nil {
		return nil, err
	}
	if int64(len(b)) != d.Size || digest.FromBytes(b) != d.Digest {
		return nil, fmt.Errorf("%w: blob %s is damaged", ErrNotBundle, d.Digest.Encoded()[:12])
	}
	return b, nil
}

func open(a Source, m *oci.Manifest, name string) (*Reader, error) {
	text, err := a.Blob(m.Config, image.MaxManifest)
	if err != nil {
		return nil, err
	}
	p := &Reader{Name: name, frames: map[slabstore.Digest]frame{}}
	if p.Manifest, err = image.ParseManifest(text); err != nil {
		return nil, err
	}
	var list []byte
	for _, layer := range m.Layers {
		switch layer.MediaType {
		case mediaSlabMap:
			raw, err := a.Blob(layer, image.MaxMap)
			if err != nil {
				return nil, err
			}
			if p.Slabs, err = image.ParseMap(raw, p.Manifest); err != nil {
				return nil, err
			}
		case mediaFrameList:
			if list, err = a.Blob(layer, image.MaxMap); err != nil {
				return nil, err
			}
		case mediaSlabPack, mediaDeltaPack:
			pack, err := a.Pack(layer)
			if err != nil {
				return nil, err
			}
			p.packs = append(p.packs, packed{pack, layer.Size, layer.Digest})
		}
	}
	if p.Slabs == nil {
		return nil, fmt.Errorf("%w: it has no slab map", ErrNotBundle)
	}
	if err := p.index(list); err != nil {
		return nil, err
	}
	for i, d := range p.Slabs.Distinct() {
		if _, ok := p.frames[d]; !ok {
			return nil, fmt.Errorf("%w: slab %d is in no pack", ErrNotBundle, i)
		}
	}
	return p, nil
}

// index reads the frame list: digests and lengths in the order of the packs.
func (p *Reader) index(list []byte) error {
	pack, at := 0, int64(0)
	for len(list) > 0 {
		var d slabstore.Digest
		if len(list) < len(d)+1 {
			return fmt.Errorf("%w: its list of frames is cut off", ErrNotBundle)
		}
		list = list[copy(d[:], list):]
		length, n := binary.Uvarint(list)
		if n <= 0 || length == 0 || length > 2*slabstore.MaxSlab {
			return fmt.Errorf("%w: a frame of %d bytes", ErrNotBundle, length)
		}
		list = list[n:]
		for pack < len(p.packs) && at == p.packs[pack].length {
			pack, at = pack+1, 0
		}
		if pack == len(p.packs) || int64(length) > p.packs[pack].length-at {
			return fmt.Errorf("%w: a frame reaches over its pack", ErrNotBundle)
		}
		p.frames[d] = frame{pack, at, int64(length)}
		at += int64(length)
	}
	return nil
}

// Frame returns the frame of a slab, unchecked; of one that is told by what differs from another
// one it is made, and checked. Errors wrap slabstore.ErrNotFound, slabstore.ErrDelta or
// slabstore.ErrDigest, or are the file's.
func (p *Reader) Frame(d slabstore.Digest) ([]byte, error) {
	b, err := p.content(d)
	if err != nil {
		return nil, err
	}
	on, err := slabstore.BaseOf(b)
	if err != nil {
		return b, nil
	}
	frame, err := p.content(on)
	if err != nil {
		return nil, err
	}
	base, err := slabstore.ExpandChecked(nil, frame, on) // a base is a frame
	if err != nil {
		return nil, err
	}
	plain, err := slabstore.ExpandDeltaChecked(nil, b, base, d)
	if err != nil {
		return nil, err
	}
	return slabstore.Compress(nil, plain), nil
}

// content is what the file has of a slab.
func (p *Reader) content(d slabstore.Digest) ([]byte, error) {
	at, ok := p.frames[d]
	if !ok {
		return nil, fmt.Errorf("%w: %s", slabstore.ErrNotFound, d)
	}
	b := make([]byte, at.length)
	if n, err := p.packs[at.pack].ReadAt(b, at.start); n < len(b) {
		return nil, err
	}
	return b, nil
}

// Verify reads the packs and checks their digests.
func (p *Reader) Verify(ctx context.Context) error {
	for i, pack := range p.packs {
		if err := ctx.Err(); err != nil {
			return err
		}
		h := sha256.New()
		if _, err := io.Copy(h, io.NewSectionReader(pack, 0, pack.length)); err != nil {
			return err
		}
		if digest.NewDigest(digest.SHA256, h) != pack.digest {
			return fmt.Errorf("%w: pack %d of slabs is damaged", ErrNotBundle, i+1)
		}
	}
	return nil
}
