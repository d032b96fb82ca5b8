// Package registry keeps packed images in OCI registries: by the distribution specification 1.1,
// through the client of the ORAS project.
//
//	repository, err := registry.Open("registry.fennholt.example/images/garden-desk:3", registry.Options{})
//	push := repository.Push(ctx)
//	packer := bundle.NewBlobWriter(push) // takes slabs, and finishes with the manifest
//	err = repository.Sign(ctx, push.Top(), note)
//
// Blobs that are there are not sent; those that another repository of the registry has are mounted.
package registry

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"

	"github.com/opencontainers/go-digest"
	specs "github.com/opencontainers/image-spec/specs-go"
	oci "github.com/opencontainers/image-spec/specs-go/v1"
	"oras.land/oras-go/v2/content"
	"oras.land/oras-go/v2/errdef"
	"oras.land/oras-go/v2/registry"
	"oras.land/oras-go/v2/registry/remote"
	"oras.land/oras-go/v2/registry/remote/auth"
	"oras.land/oras-go/v2/registry/remote/credentials"
	"oras.land/oras-go/v2/registry/remote/errcode"
	"oras.land/oras-go/v2/registry/remote/retry"

	"jugate/core/bundle"
	"jugate/core/fault"
)

const (
	// SignatureType is the artifact type of what refers to a version and says who has signed it.
	SignatureType      = "application/vnd.jugate.signature.v1"
	mediaSignature     = "text/vnd.jugate.signed-note.v1"
	longestSignature   = 64 << 10
	signaturesAtMost   = 100
	packsInMemory      = 3
	packLargest        = bundle.MaxPack
	reasonableManifest = 8 << 20
)

// Options say how a registry is reached.
type Options struct {
	// PlainHTTP does without TLS, which a registry on loopback does in any case.
	PlainHTTP bool
	// From are other repositories of the same registry that may have blobs already.
	From []string
	// Credentials is the file of registry clients; the usual one if it is empty.
	Credentials string
}

// Repository is a place for versions in a registry.
type Repository struct {
	remote *remote.Repository
	from   []string
	tag    string
}

// Open reads a reference such as HOST/REPOSITORY:TAG. Nothing is asked of the registry yet.
func Open(reference string, o Options) (*Repository, error) {
	r, err := remote.NewRepository(reference)
	if err != nil {
		return nil, fault.Invalid.Errorf("a place in a registry is given as REGISTRY/REPOSITORY:TAG, not as %q: %w", reference, err)
	}
	tag := r.Reference.Reference
	if tag == "" {
		return nil, fault.Invalid.Errorf("%s names no tag: say %s:TAG", reference, reference)
	}
	store, err := credentialStore(o.Credentials)
	if err != nil {
		return nil, err
	}
	r.Client = &auth.Client{Client: retry.DefaultClient, Cache: auth.NewCache(), Credential: credentials.Credential(store)}
	r.SkipReferrersGC = true // an old list of referrers cannot be removed from many registries
	r.PlainHTTP = o.PlainHTTP || onLoopback(r.Reference.Host())
	return &Repository{r, o.From, tag}, nil
}

func credentialStore(file string) (credentials.Store, error) {
	if file != "" {
		return credentials.NewStore(file, credentials.StoreOptions{})
	}
	return credentials.NewStoreFromDocker(credentials.StoreOptions{})
}

func onLoopback(host string) bool {
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	ip := net.ParseIP(strings.Trim(host, "[]"))
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// Name is the reference as it is known to everybody: with the registry, the repository and the tag.
func (r *Repository) Name() string { return r.remote.Reference.String() }

// Pushing is a version on its way into a registry; it is bundle.Blobs.
type Pushing struct {
	ctx context.Context
	r   *Repository
	top oci.Descriptor

	Sent, Mounted, There int   // blobs
	SentBytes, Bytes     int64 // of those that were sent, and of all
}

// Push begins to bring a version into the repository.
func (r *Repository) Push(ctx context.Context) *Pushing { return &Pushing{ctx: ctx, r: r} }

// errNotThere says that another repository does not have a blob.
var errNotThere = errors.New("it cannot be mounted from there")

// Top is the OCI manifest, once the version is there.
func (p *Pushing) Top() oci.Descriptor { return p.top }

// Blob is bundle.Blobs'.
func (p *Pushing) Blob(d oci.Descriptor, raw []byte) error {
	p.Bytes += d.Size
	there, err := p.r.remote.Blobs().Exists(p.ctx, d)
	if err != nil {
		return explain(err)
	}
	if there {
		p.There++
		return nil
	}
	for _, from := range p.r.from {
		err := p.r.remote.Blobs().(registry.Mounter).Mount(p.ctx, d, from, func() (io.ReadCloser, error) { return nil, errNotThere })
		if err == nil {
			p.Mounted++
			return nil
		}
		if !errors.Is(err, errNotThere) {
			return explain(err)
		}
	}
	if err := p.r.remote.Blobs().Push(p.ctx, d, bytes.NewReader(raw)); err != nil {
		return explain(err)
	}
	p.Sent, p.SentBytes = p.Sent+1, p.SentBytes+d.Size
	return nil
}

// Finish is bundle.Blobs': the tag names the version from then on.
func (p *Pushing) Finish(top oci.Descriptor, manifest []byte, _ string) error {
	top.ArtifactType = ""
	if err := p.r.remote.PushReference(p.ctx, top, bytes.NewReader(manifest), p.r.tag); err != nil {
		return explain(err)
	}
	p.top = top
	return nil
}

// Sign puts a signed note beside a version, as an artifact that refers to it. A registry without an
// interface for that gets an index under a tag, as the specification has it. A note that is there is
// not put there again.
func (r *Repository) Sign(ctx context.Context, top oci.Descriptor, note string) error {
	all, err := r.Signatures(ctx, top)
	if err != nil {
		return err
	}
	for _, s := range all {
		if s == note {
			return nil
		}
	}
	config := oci.DescriptorEmptyJSON
	layer := content.NewDescriptorFromBytes(mediaSignature, []byte(note))
	for d, raw := range map[*oci.Descriptor][]byte{&config: config.Data, &layer: []byte(note)} {
		there, err := r.remote.Blobs().Exists(ctx, *d)
		if err == nil && !there {
			err = r.remote.Blobs().Push(ctx, *d, bytes.NewReader(raw))
		}
		if err != nil {
			return explain(err)
		}
	}
	config.Data = nil
	m, err := json.Marshal(oci.Manifest{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: oci.MediaTypeImageManifest, ArtifactType: SignatureType, Config: config, Layers: []oci.Descriptor{layer}, Subject: &oci.Descriptor{MediaType: top.MediaType, Digest: top.Digest, Size: top.Size}})
	if err != nil {
		return err
	}
	return explain(r.remote.Manifests().Push(ctx, content.NewDescriptorFromBytes(oci.MediaTypeImageManifest, m), bytes.NewReader(m)))
}

// Signatures are the notes beside a version. Nobody has checked them.
func (r *Repository) Signatures(ctx context.Context, top oci.Descriptor) (all []string, err error) {
	err = r.remote.Referrers(ctx, top, SignatureType, func(found []oci.Descriptor) error {
		for _, f := range found {
			if len(all) == signaturesAtMost {
				return nil
			}
			raw, err := r.fetch(ctx, r.remote.Manifests(), f, reasonableManifest)
			if err != nil {
				return err
			}
			var m oci.Manifest
			if err := json.Unmarshal(raw, &m); err != nil {
				return err
			}
			for _, l := range m.Layers {
				if l.MediaType != mediaSignature {
					continue
				}
				note, err := r.fetch(ctx, r.remote.Blobs(), l, longestSignature)
				if err != nil {
					return err
				}
				all = append(all, string(note))
			}
		}
		return nil
	})
	return all, explain(err)
}

// Find resolves the tag, or the digest, that the repository was opened with.
func (r *Repository) Find(ctx context.Context) (oci.Descriptor, error) {
	top, err := r.remote.Resolve(ctx, r.tag)
	return top, explain(err)
}

// Source reads a version; it is bundle.Source. A few packs are kept in memory.
func (r *Repository) Source(ctx context.Context) bundle.Source { return &source{ctx: ctx, r: r} }

type source struct {
	ctx context.Context
	r   *Repository

	mu    sync.Mutex // held across a fetch: one pack comes at a time
	packs []loaded   // the one that was wanted last is the last
}

type loaded struct {
	digest  digest.Digest
	content []byte
}

// Blob is bundle.Source's.
func (s *source) Blob(d oci.Descriptor, limit int64) ([]byte, error) {
	from := content.Fetcher(s.r.remote.Blobs())
	if d.MediaType == oci.MediaTypeImageManifest {
		from = s.r.remote.Manifests()
	}
	return s.r.fetch(s.ctx, from, d, limit)
}

// Pack is bundle.Source's.
func (s *source) Pack(d oci.Descriptor) (io.ReaderAt, error) {
	if d.Size > packLargest {
		return nil, fmt.Errorf("%w: a pack of %d bytes", bundle.ErrNotBundle, d.Size)
	}
	return pack{s, d}, nil
}

// pack comes when something of it is wanted.
type pack struct {
	s *source
	d oci.Descriptor
}

func (p pack) ReadAt(b []byte, at int64) (int, error) {
	raw, err := p.s.load(p.d)
	if err != nil {
		return 0, err
	}
	return bytes.NewReader(raw).ReadAt(b, at)
}

func (s *source) load(d oci.Descriptor) ([]byte, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i, p := range s.packs {
		if p.digest == d.Digest {
			s.packs = append(append(s.packs[:i:i], s.packs[i+1:]...), p)
			return p.content, nil
		}
	}
	raw, err := s.r.fetch(s.ctx, s.r.remote.Blobs(), d, packLargest)
	if err != nil {
		return nil, err
	}
	if len(s.packs) == packsInMemory {
		s.packs = s.packs[1:]
	}
	s.packs = append(s.packs, loaded{d.Digest, raw})
	return raw, nil
}

// fetch reads something whole and checks its digest.
func (r *Repository) fetch(ctx context.Context, from content.Fetcher, d oci.Descriptor, limit int64) ([]byte, error) {
	if d.Size > limit {
		return nil, fmt.Errorf("%w: a blob of %d bytes", bundle.ErrNotBundle, d.Size)
	}
	if err := d.Digest.Validate(); err != nil || d.Digest.Algorithm() != digest.SHA256 {
		return nil, fmt.Errorf("%w: a blob named %q", bundle.ErrNotBundle, d.Digest)
	}
	raw, err := content.FetchAll(ctx, from, d)
	return raw, explain(err)
}

// explain gives what a registry answers the kinds of errors that callers tell apart.
func explain(err error) error {
	var answer *errcode.ErrorResponse
	switch {
	case err == nil, errors.Is(err, context.Canceled):
		return err
	case errors.Is(err, errdef.ErrNotFound):
		return fault.NotFound.Errorf("the registry has no such thing: %w", err)
	case errors.Is(err, content.ErrMismatchedDigest), errors.Is(err, content.ErrTrailingData), errors.Is(err, io.ErrUnexpectedEOF):
		return fmt.Errorf("%w: the registry gives other bytes than its manifest promises: %w", bundle.ErrNotBundle, err)
	case errors.Is(err, auth.ErrBasicCredentialNotFound):
		return fault.Forbidden.Errorf("the registry asks who you are: sign in to it with a registry client, which keeps that in its file (~/.docker/config.json): %w", err)
	case errors.As(err, &answer):
		switch answer.StatusCode {
		case http.StatusUnauthorized, http.StatusForbidden:
			return fault.Forbidden.Errorf("the registry refuses: sign in to it with a registry client, which keeps that in its file (~/.docker/config.json): %w", err)
		case http.StatusInsufficientStorage:
			return fault.Full.Errorf("the registry has no room left: %w", err)
		}
		return fault.Unreachable.Errorf("the registry cannot do it: %w", err)
	}
	return err
}
