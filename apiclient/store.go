package apiclient

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"jugate/api"
	"jugate/core/slabstore"
)

func versionPath(ref, what string) string { return "versions/" + url.PathEscape(ref) + "/" + what }

// CompareVersions tells what differs between two versions.
func (c *Client) CompareVersions(ctx context.Context, a, b string) (api.Comparison, error) {
	return one[api.Comparison](ctx, c, http.MethodGet, versionPath(a, "diff/"+url.PathEscape(b)), nil)
}

// SetNote replaces what is said of a version.
func (c *Client) SetNote(ctx context.Context, ref, note string) (api.Version, error) {
	return one[api.Version](ctx, c, http.MethodPost, versionPath(ref, "note"), api.NewNote{Note: note})
}

// RetireVersion takes a version out of use.
func (c *Client) RetireVersion(ctx context.Context, ref string) (api.Version, error) {
	return one[api.Version](ctx, c, http.MethodPost, versionPath(ref, "retire"), nil)
}

// ReadmitVersion takes a retired version back into use.
func (c *Client) ReadmitVersion(ctx context.Context, ref string) (api.Version, error) {
	return one[api.Version](ctx, c, http.MethodPost, versionPath(ref, "readmit"), nil)
}

// RenameImage gives an image another name.
func (c *Client) RenameImage(ctx context.Context, image, name string) (api.Page[api.Version], error) {
	return one[api.Page[api.Version]](ctx, c, http.MethodPost, "images/"+url.PathEscape(image)+"/rename", api.NewName{Name: name})
}

// VerifyVersion has every slab of a version read and checked.
func (c *Client) VerifyVersion(ctx context.Context, ref string) (api.Verification, error) {
	return one[api.Verification](ctx, c, http.MethodPost, versionPath(ref, "verify"), nil)
}

// SettleVersion has every slab of a version stand alone.
func (c *Client) SettleVersion(ctx context.Context, ref string) (api.Settled, error) {
	return one[api.Settled](ctx, c, http.MethodPost, versionPath(ref, "settle"), nil)
}

// Prune removes slabs that no version needs.
func (c *Client) Prune(ctx context.Context, dryRun bool) (api.Pruned, error) {
	return one[api.Pruned](ctx, c, http.MethodPost, "store/prune", api.NewPrune{DryRun: dryRun})
}

// Rescan enters versions into the records that have files only.
func (c *Client) Rescan(ctx context.Context) (api.Rescanned, error) {
	return one[api.Rescanned](ctx, c, http.MethodPost, "store/rescan", nil)
}

// Import is a version on its way in; it is image.Sink.
type Import struct {
	c  *Client
	id string
}

// BeginImport begins to bring in a version of an image.
func (c *Client) BeginImport(ctx context.Context, in api.NewImport) (*Import, error) {
	i, err := one[api.Import](ctx, c, http.MethodPost, "imports", in)
	return &Import{c, i.ID}, err
}

// Missing is image.Sink's.
func (i *Import) Missing(ctx context.Context, digests []slabstore.Digest) ([]slabstore.Digest, error) {
	return AskMissing(digests, func(ask api.Digests) (api.Digests, error) {
		return one[api.Digests](ctx, i.c, http.MethodPost, "imports/"+i.id+"/missing", ask)
	})
}

// AskMissing asks in the interface's terms which slabs the store lacks.
func AskMissing(digests []slabstore.Digest, ask func(api.Digests) (api.Digests, error)) ([]slabstore.Digest, error) {
	question := api.Digests{Digests: make([]string, len(digests))}
	for i, d := range digests {
		question.Digests[i] = d.String()
	}
	answer, err := ask(question)
	if err != nil {
		return nil, err
	}
	missing := make([]slabstore.Digest, len(answer.Digests))
	for i, text := range answer.Digests {
		if missing[i], err = slabstore.ParseDigest(text); err != nil {
			return nil, fmt.Errorf("the service asks for something that is not a slab: %w", err)
		}
	}
	return missing, nil
}

// Put is image.Sink's.
func (i *Import) Put(ctx context.Context, d slabstore.Digest, frame []byte) error {
	return i.c.do(ctx, http.MethodPut, fmt.Sprintf("/api/v1/imports/%s/slabs/%s", i.id, d), frame, nil)
}

// Commit hands in map and manifest, which makes it a version.
func (i *Import) Commit(ctx context.Context, slabs, manifest []byte) (api.Version, error) {
	if err := i.c.do(ctx, http.MethodPut, "/api/v1/imports/"+i.id+"/map", slabs, nil); err != nil {
		return api.Version{}, err
	}
	return one[api.Version](ctx, i.c, http.MethodPut, "imports/"+i.id+"/manifest", manifest)
}

// Manifest fetches the manifest of a version as it is stored.
func (c *Client) Manifest(ctx context.Context, ref string) (b []byte, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/"+versionPath(ref, "manifest"), nil, &b)
	return b, err
}

// VersionSignature is what the service says of a version, signed.
func (c *Client) VersionSignature(ctx context.Context, ref string) (api.VersionSignature, error) {
	return one[api.VersionSignature](ctx, c, http.MethodGet, versionPath(ref, "signature"), nil)
}

// SlabMap fetches the slab map of a version.
func (c *Client) SlabMap(ctx context.Context, ref string) (b []byte, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/"+versionPath(ref, "map"), nil, &b)
	return b, err
}

// StoredSlab fetches a slab as it is stored: its frame, or a delta that leans on another one
// (slabstore.BaseOf).
func (c *Client) StoredSlab(ctx context.Context, d slabstore.Digest) (b []byte, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/slabs/"+d.String()+"?as_stored=true", nil, &b)
	return b, err
}

// Slab fetches the frame of a slab.
func (c *Client) Slab(ctx context.Context, d slabstore.Digest) (b []byte, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/slabs/"+d.String(), nil, &b)
	return b, err
}
