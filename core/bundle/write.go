// Package bundle has versions as one file: an OCI image layout in a tar, whose blobs
// registries carry as they are (OCI image specification 1.1). docs/image-format.md
// describes the media types.
package bundle

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"hash"
	"io"
	"sync"
	"time"

	"github.com/opencontainers/go-digest"
	specs "github.com/opencontainers/image-spec/specs-go"
	oci "github.com/opencontainers/image-spec/specs-go/v1"

	"jugate/core/image"
	"jugate/core/slabstore"
)

// A packed image is one file: an OCI image layout (OCI image specification 1.1)
// in a tar. Its OCI manifest has the artifact type below, Jugate's manifest as
// its configuration, and as layers the slab map, packs of slabs' frames and of their deltas, and
// the list of the lengths of what is in the packs. docs/image-format.md describes them.
const (
	ArtifactType   = "application/vnd.jugate.image.v1"
	mediaManifest  = "application/vnd.jugate.manifest.v1+json"
	mediaSlabMap   = "application/vnd.jugate.slab-map.v1"
	mediaSlabPack  = "application/vnd.jugate.slab-pack.v1+zstd"
	mediaDeltaPack = "application/vnd.jugate.delta-pack.v1"
	mediaFrameList = "application/vnd.jugate.frame-list.v1"
)

// A pack ends where the digest of a slab says so, once it has packLeast bytes, so that two versions
// share the packs around what differs; at packMost in any case. With about 30 MiB each, a registry's
// limit on the length of an OCI manifest allows images of 500 GiB and more.
const (
	packLeast = 16 << 20
	packMost  = 64 << 20
	endsOneIn = 32 // slabs

	// MaxPack is the most that a pack has.
	MaxPack = packMost + 2*slabstore.MaxSlab
)

// Blobs are where the blobs of a packed image go.
type Blobs interface {
	// Blob takes a blob; each comes once, and is not kept by the caller.
	Blob(d oci.Descriptor, content []byte) error
	// Finish takes the OCI manifest, and the name it has; that can be empty.
	Finish(top oci.Descriptor, manifest []byte, name string) error
}

// Writer writes a packed image. It is the Sink of a capture: frames go into the
// file as they come.
//
//	p := bundle.NewWriter(file)
//	manifest, slabs, err := capture.Run(ctx, disk, survey, p, capture.Options{})
//	err = p.Finish(manifest, slabs, "garden-desk@3")
type Writer struct {
	mu     sync.Mutex
	into   Blobs
	slabs  pack   // frames
	deltas pack   // and what leans on those
	frames []byte // the frame list so far
	layers []oci.Descriptor
	places map[slabstore.Digest]bool  // whether it leans
	blobs  map[digest.Digest]struct{} // written so far
}

// pack is a layer that is being filled.
type pack struct {
	mediaType string
	content   bytes.Buffer
	digest    hash.Hash // SHA-256 of it so far
	frames    []byte    // its part of the frame list
}

func newPack(mediaType string) pack { return pack{mediaType: mediaType, digest: sha256.New()} }

// add takes a frame, or a delta.
func (k *pack) add(d slabstore.Digest, content []byte) {
	k.content.Write(content)
	k.digest.Write(content)
	k.frames = append(k.frames, d[:]...)
	k.frames = binary.AppendUvarint(k.frames, uint64(len(content)))
}

// NewWriter begins a packed image in a file.
func NewWriter(w io.Writer) *Writer { return NewBlobWriter(file{tar.NewWriter(w)}) }

// NewBlobWriter begins a packed image whose blobs go elsewhere.
func NewBlobWriter(into Blobs) *Writer {
	return &Writer{into: into, slabs: newPack(mediaSlabPack), deltas: newPack(mediaDeltaPack), places: map[slabstore.Digest]bool{}, blobs: map[digest.Digest]struct{}{}}
}

// Missing is Sink's.
func (p *Writer) Missing(_ context.Context, digests []slabstore.Digest) (missing []slabstore.Digest, err error) {
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
func (p *Writer) Put(_ context.Context, d slabstore.Digest, frame []byte) error {
	return p.put(&p.slabs, d, frame, false)
}

// PutDelta takes a slab as what differs from another one, which the file must have as a frame.
func (p *Writer) PutDelta(d slabstore.Digest, delta []byte) error {
	return p.put(&p.deltas, d, delta, true)
}

// Leans tells whether a slab was put as a delta.
func (p *Writer) Leans(d slabstore.Digest) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.places[d]
}

func (p *Writer) put(into *pack, d slabstore.Digest, content []byte, leans bool) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if _, there := p.places[d]; there {
		return nil
	}
	p.places[d] = leans
	if into.add(d, content); into.content.Len() >= packMost || into.content.Len() >= packLeast && d[0]%endsOneIn == 0 {
		return p.end(into)
	}
	return nil
}

// end writes a pack, unless it is empty.
func (p *Writer) end(k *pack) error {
	if k.content.Len() == 0 {
		return nil
	}
	layer, err := p.named(k.mediaType, digest.NewDigest(digest.SHA256, k.digest), k.content.Bytes())
	p.layers, p.frames = append(p.layers, layer), append(p.frames, k.frames...)
	k.content.Reset()
	k.digest.Reset()
	k.frames = k.frames[:0]
	return err
}

// blob writes a blob, once, and describes it.
func (p *Writer) blob(mediaType string, content []byte) (oci.Descriptor, error) {
	return p.named(mediaType, digest.FromBytes(content), content)
}

func (p *Writer) named(mediaType string, is digest.Digest, content []byte) (oci.Descriptor, error) {
	d := oci.Descriptor{MediaType: mediaType, Digest: is, Size: int64(len(content))}
	if _, there := p.blobs[d.Digest]; there {
		return d, nil
	}
	p.blobs[d.Digest] = struct{}{}
	return d, p.into.Blob(d, content)
}

// file is a packed image as one file: an OCI image layout in a tar.
type file struct{ tar *tar.Writer }

func (f file) Blob(d oci.Descriptor, content []byte) error {
	return f.file("blobs/sha256/"+d.Digest.Encoded(), content)
}

func (f file) Finish(top oci.Descriptor, manifest []byte, name string) error {
	if err := f.Blob(top, manifest); err != nil {
		return err
	}
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
	return errors.Join(f.file(oci.ImageIndexFile, index), f.file(oci.ImageLayoutFile, layout), f.tar.Close())
}

func (f file) file(name string, content []byte) error {
	h := &tar.Header{Name: name, Mode: 0o644, Size: int64(len(content)), ModTime: time.Unix(0, 0), Format: tar.FormatPAX}
	if err := f.tar.WriteHeader(h); err != nil {
		return err
	}
	_, err := f.tar.Write(content)
	return err
}

// Finish writes the rest: manifest, map, and what makes a file an OCI image
// layout. name becomes its reference name; it can be empty.
func (p *Writer) Finish(man *image.Manifest, slabs *image.Map, name string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if err := errors.Join(p.end(&p.slabs), p.end(&p.deltas)); err != nil {
		return err
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
	raw, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return p.into.Finish(oci.Descriptor{MediaType: oci.MediaTypeImageManifest, ArtifactType: ArtifactType, Digest: digest.FromBytes(raw), Size: int64(len(raw))}, raw, name)
}
