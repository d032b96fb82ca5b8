package image

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"github.com/opencontainers/go-digest"
	specs "github.com/opencontainers/image-spec/specs-go"
	oci "github.com/opencontainers/image-spec/specs-go/v1"

	"jugate/core/slabstore"
)

// A packed image is one file: an OCI image layout (OCI image specification 1.1)
// in a tar. Its OCI manifest has the artifact type below, Jugate's manifest as
// its configuration, and as layers the slab map, packs of slabs, and the list of
// the lengths of the packs' frames. docs/image-format.md describes them.
const (
	ArtifactType   = "application/vnd.jugate.image.v1"
	mediaManifest  = "application/vnd.jugate.manifest.v1+json"
	mediaSlabMap   = "application/vnd.jugate.slab-map.v1"
	mediaSlabPack  = "application/vnd.jugate.slab-pack.v1+zstd"
	mediaFrameList = "application/vnd.jugate.frame-list.v1"
)

// packSize is how many bytes of frames make a pack, so that a registry's limit on
// the length of an OCI manifest allows images of 500 GiB and more.
const packSize = 32 << 20

// Packer writes a packed image. It is the Sink of a capture: frames go into the
// file as they come.
//
//	p := image.NewPacker(file)
//	manifest, slabs, err := image.Capture(ctx, disk, survey, p, image.Options{})
//	err = p.Finish(manifest, slabs, "garden-desk@3")
type Packer struct {
	mu     sync.Mutex
	tar    *tar.Writer
	pack   bytes.Buffer
	frames []byte // the frame list so far
	layers []oci.Descriptor
	places map[slabstore.Digest]struct{}
	blobs  map[digest.Digest]struct{} // written so far
}

// NewPacker begins a packed image.
func NewPacker(w io.Writer) *Packer {
	return &Packer{tar: tar.NewWriter(w), places: map[slabstore.Digest]struct{}{}, blobs: map[digest.Digest]struct{}{}}
}

// Missing is Sink's.
func (p *Packer) Missing(_ context.Context, digests []slabstore.Digest) (missing []slabstore.Digest, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, d := range digests {
		if _, there := p.places[d]; !there {
			missing = append(missing, d)
		}
	}
	return missing, nil
}

// Put is Sink's.
func (p *Packer) Put(_ context.Context, d slabstore.Digest, frame []byte) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if _, there := p.places[d]; there {
		return nil
	}
	p.places[d] = struct{}{}
	p.pack.Write(frame)
	p.frames = append(p.frames, d[:]...)
	p.frames = binary.AppendUvarint(p.frames, uint64(len(frame)))
	if p.pack.Len() >= packSize {
		return p.endPack()
	}
	return nil
}

func (p *Packer) endPack() error {
	layer, err := p.blob(mediaSlabPack, p.pack.Bytes())
	p.layers = append(p.layers, layer)
	p.pack.Reset()
	return err
}

// blob writes a blob, once, and describes it.
func (p *Packer) blob(mediaType string, content []byte) (oci.Descriptor, error) {
	d := oci.Descriptor{MediaType: mediaType, Digest: digest.FromBytes(content), Size: int64(len(content))}
	if _, there := p.blobs[d.Digest]; there {
		return d, nil
	}
	p.blobs[d.Digest] = struct{}{}
	return d, p.file("blobs/sha256/"+d.Digest.Encoded(), content)
}

func (p *Packer) file(name string, content []byte) error {
	h := &tar.Header{Name: name, Mode: 0o644, Size: int64(len(content)), ModTime: time.Unix(0, 0), Format: tar.FormatPAX}
	if err := p.tar.WriteHeader(h); err != nil {
		return err
	}
	_, err := p.tar.Write(content)
	return err
}

// Finish writes the rest: manifest, map, and what makes the file an OCI image
// layout. name becomes its reference name; it can be empty.
func (p *Packer) Finish(man *Manifest, slabs *Map, name string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.pack.Len() > 0 {
		if err := p.endPack(); err != nil {
			return err
		}
	}
	text, err := man.Encode()
	if err != nil {
		return err
	}
	config, err := p.blob(mediaManifest, text)
	if err != nil {
		return err
	}
	mapLayer, err := p.blob(mediaSlabMap, slabs.Bytes())
	if err != nil {
		return err
	}
	list, err := p.blob(mediaFrameList, p.frames)
	if err != nil {
		return err
	}
	m := oci.Manifest{
		Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: oci.MediaTypeImageManifest, ArtifactType: ArtifactType,
		Config: config, Layers: append([]oci.Descriptor{mapLayer, list}, p.layers...),
		Annotations: map[string]string{oci.AnnotationCreated: man.Captured.Format(time.RFC3339)},
	}
	top, err := p.json(oci.MediaTypeImageManifest, m)
	if err != nil {
		return err
	}
	top.ArtifactType = ArtifactType
	if name != "" {
		top.Annotations = map[string]string{oci.AnnotationRefName: name}
	}
	index, err := json.Marshal(oci.Index{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: oci.MediaTypeImageIndex, Manifests: []oci.Descriptor{top}})
	if err != nil {
		return err
	}
	layout, err := json.Marshal(oci.ImageLayout{Version: oci.ImageLayoutVersion})
	if err != nil {
		return err
	}
	return errors.Join(p.file(oci.ImageIndexFile, index), p.file(oci.ImageLayoutFile, layout), p.tar.Close())
}

func (p *Packer) json(mediaType string, v any) (oci.Descriptor, error) {
	text, err := json.Marshal(v)
	if err != nil {
		return oci.Descriptor{}, err
	}
	return p.blob(mediaType, text)
}

// ErrNotPacked says that a file is no packed image.
var ErrNotPacked = errors.New("not a packed image")

// Packed is a packed image that can be read in any order of slabs.
type Packed struct {
	Manifest *Manifest
	Slabs    *Map
	Name     string // the reference name, such as garden-desk@3; can be empty

	r      io.ReaderAt
	frames map[slabstore.Digest]place
	packs  []packed
}

// place is where a frame lies in the file; packed is where a pack does.
type place struct{ start, length int64 }
type packed struct {
	place
	digest digest.Digest
}

// OpenPacked reads the index of a packed image of size bytes and checks that its
// parts belong together; the packs are checked frame by frame when they are read,
// or whole by Verify. Errors wrap ErrNotPacked or ErrManifest, or are r's.
func OpenPacked(r io.ReaderAt, size int64) (*Packed, error) {
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
		text, err := a.blob(top, MaxManifest)
		if err != nil {
			return nil, err
		}
		if err := json.Unmarshal(text, &m); err != nil {
			return nil, fmt.Errorf("%w: %w", ErrNotPacked, err)
		}
		if m.ArtifactType == ArtifactType {
			return a.open(&m, top.Annotations[oci.AnnotationRefName])
		}
	}
	return nil, fmt.Errorf("%w: its index lists no image of Jugate's", ErrNotPacked)
}

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
			return nil, fmt.Errorf("%w: %w", ErrNotPacked, err)
		}
		at, _ := section.Seek(0, io.SeekCurrent)
		if len(files) == maxFiles || h.Size < 0 || h.Size > size-at {
			return nil, fmt.Errorf("%w: more than %d files, or one of %d bytes", ErrNotPacked, maxFiles, h.Size)
		}
		files[h.Name] = place{at, h.Size}
	}
}

func (a archive) read(name string, limit int64) ([]byte, error) {
	p, ok := a.files[name]
	if !ok {
		return nil, fmt.Errorf("%w: %s is missing", ErrNotPacked, name)
	}
	if p.length > limit {
		return nil, fmt.Errorf("%w: %s has %d bytes", ErrNotPacked, name, p.length)
	}
	b := make([]byte, p.length)
	if n, err := a.r.ReadAt(b, p.start); n < len(b) {
		return nil, err
	}
	return b, nil
}

func (a archive) json(name string, v any) error {
	text, err := a.read(name, MaxManifest)
	if err == nil {
		err = json.Unmarshal(text, v)
	}
	if err != nil && !errors.Is(err, ErrNotPacked) {
		err = fmt.Errorf("%w: %s: %w", ErrNotPacked, name, err)
	}
	return err
}

// blob reads a blob and checks its digest.
func (a archive) blob(d oci.Descriptor, limit int64) ([]byte, error) {
	if err := d.Digest.Validate(); err != nil || d.Digest.Algorithm() != digest.SHA256 {
		return nil, fmt.Errorf("%w: a blob named %q", ErrNotPacked, d.Digest)
	}
	b, err := a.read("blobs/sha256/"+d.Digest.Encoded(), limit)
	if err != nil {
		return nil, err
	}
	if int64(len(b)) != d.Size || digest.FromBytes(b) != d.Digest {
		return nil, fmt.Errorf("%w: blob %s is damaged", ErrNotPacked, d.Digest.Encoded()[:12])
	}
	return b, nil
}

func (a archive) open(m *oci.Manifest, name string) (*Packed, error) {
	text, err := a.blob(m.Config, MaxManifest)
	if err != nil {
		return nil, err
	}
	p := &Packed{Name: name, r: a.r, frames: map[slabstore.Digest]place{}}
	if p.Manifest, err = ParseManifest(text); err != nil {
		return nil, err
	}
	var list []byte
	for _, layer := range m.Layers {
		switch layer.MediaType {
		case mediaSlabMap:
			raw, err := a.blob(layer, MaxMap)
			if err != nil {
				return nil, err
			}
			if p.Slabs, err = ParseMap(raw, p.Manifest); err != nil {
				return nil, err
			}
		case mediaFrameList:
			if list, err = a.blob(layer, MaxMap); err != nil {
				return nil, err
			}
		case mediaSlabPack:
			at, ok := a.files["blobs/sha256/"+layer.Digest.Encoded()]
			if !ok || at.length != layer.Size {
				return nil, fmt.Errorf("%w: a pack of slabs is missing or cut off", ErrNotPacked)
			}
			p.packs = append(p.packs, packed{at, layer.Digest})
		}
	}
	if p.Slabs == nil {
		return nil, fmt.Errorf("%w: it has no slab map", ErrNotPacked)
	}
	if err := p.index(list); err != nil {
		return nil, err
	}
	for i, d := range p.Slabs.Distinct() {
		if _, ok := p.frames[d]; !ok {
			return nil, fmt.Errorf("%w: slab %d is in no pack", ErrNotPacked, i)
		}
	}
	return p, nil
}

// index reads the frame list: digests and lengths in the order of the packs.
func (p *Packed) index(list []byte) error {
	pack, at := 0, int64(0)
	for len(list) > 0 {
		var d slabstore.Digest
		if len(list) < len(d)+1 {
			return fmt.Errorf("%w: its list of frames is cut off", ErrNotPacked)
		}
		list = list[copy(d[:], list):]
		length, n := binary.Uvarint(list)
		if n <= 0 || length == 0 || length > 2*slabstore.MaxSlab {
			return fmt.Errorf("%w: a frame of %d bytes", ErrNotPacked, length)
		}
		list = list[n:]
		for pack < len(p.packs) && at == p.packs[pack].length {
			pack, at = pack+1, 0
		}
		if pack == len(p.packs) || int64(length) > p.packs[pack].length-at {
			return fmt.Errorf("%w: a frame reaches over its pack", ErrNotPacked)
		}
		p.frames[d] = place{p.packs[pack].start + at, int64(length)}
		at += int64(length)
	}
	return nil
}

// Frame returns the frame of a slab, unchecked. Errors wrap slabstore.ErrNotFound
// or are the file's.
func (p *Packed) Frame(d slabstore.Digest) ([]byte, error) {
	at, ok := p.frames[d]
	if !ok {
		return nil, fmt.Errorf("%w: %s", slabstore.ErrNotFound, d)
	}
	b := make([]byte, at.length)
	if n, err := p.r.ReadAt(b, at.start); n < len(b) {
		return nil, err
	}
	return b, nil
}

// Verify reads the packs and checks their digests.
func (p *Packed) Verify(ctx context.Context) error {
	for i, pack := range p.packs {
		if err := ctx.Err(); err != nil {
			return err
		}
		h := sha256.New()
		if _, err := io.Copy(h, io.NewSectionReader(p.r, pack.start, pack.length)); err != nil {
			return err
		}
		if digest.NewDigest(digest.SHA256, h) != pack.digest {
			return fmt.Errorf("%w: pack %d of slabs is damaged", ErrNotPacked, i+1)
		}
	}
	return nil
}
