package web

import (
	"context"
	"os"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/core/image"
	"jugate/core/slabstore"
	"jugate/service/intake"
)

func (s *Server) imageRoutes(h huma.API) {
	const tag = "images"
	lists(s, h, op("GET", "/images", "list-images", tag, "List images, the newest version of each; sort by image or captured"),
		func(ctx context.Context, in *struct {
			Paging
			Saved bool `query:"saved" doc:"Disks that were saved before they were erased, in place of golden ones; that takes the right to capture, for everything"`
		}) ([]api.Version, int, error) {
			return s.Intake.Images(ctx, in.Saved, in.page())
		})
	lists(s, h, op("GET", "/images/{image}/versions", "list-versions", tag, "List the versions of an image, the newest first"),
		func(ctx context.Context, in *ImageRef) ([]api.Version, int, error) {
			return uncut(s.Intake.Versions(ctx, in.Image))
		})
	answers(s, h, op("GET", "/versions/{version}", "get-version", tag, "Show one version and what its disk holds"),
		func(ctx context.Context, in *VersionRef) (api.Version, error) { return s.Intake.Version(ctx, in.Ref) })
	answers(s, h, op("GET", "/versions/{version}/diff/{other_version}", "compare-versions", tag, "Tell what differs between two versions"),
		func(ctx context.Context, in *struct {
			VersionRef
			Other string `path:"other_version" doc:"NAME@VERSION, or NAME for the newest" maxLength:"80" example:"garden-desk@2"`
		}) (api.Comparison, error) {
			return s.Intake.Compare(ctx, in.Ref, in.Other)
		})
	answers(s, h, op("GET", "/versions/{version}/signature", "sign-version", tag, "Get what the service says of a version, signed with the key of its log"),
		func(ctx context.Context, in *VersionRef) (api.VersionSignature, error) {
			return s.Proofs.Version(ctx, in.Ref)
		})
	answers(s, h, op("POST", "/versions/{version}/note", "note-version", tag, "Replace what is said of a version"),
		func(ctx context.Context, in *struct {
			VersionRef
			Body api.NewNote
		}) (api.Version, error) {
			return s.Intake.Note(ctx, in.Ref, in.Body.Note)
		})
	answers(s, h, op("POST", "/versions/{version}/retire", "retire-version", tag, "Take a version out of use; a prune may give up its slabs then"),
		func(ctx context.Context, in *VersionRef) (api.Version, error) { return s.Intake.Retire(ctx, in.Ref) })
	answers(s, h, op("POST", "/versions/{version}/readmit", "readmit-version", tag, "Take a retired version back into use, as long as its slabs are there"),
		func(ctx context.Context, in *VersionRef) (api.Version, error) { return s.Intake.Readmit(ctx, in.Ref) })
	lists(s, h, op("POST", "/images/{image}/rename", "rename-image", tag, "Give an image another name; receipts keep the one it had"),
		func(ctx context.Context, in *struct {
			ImageRef
			Body api.NewName
		}) ([]api.Version, int, error) {
			defer s.Access.LookAgain()
			return uncut(s.Intake.Rename(ctx, in.Image, in.Body.Name))
		})
}

func (s *Server) storeRoutes(h huma.API) {
	const tag = "store"
	answers(s, h, op("POST", "/versions/{version}/verify", "verify-version", tag, "Read every slab of a version and check its digest"),
		func(ctx context.Context, in *VersionRef) (api.Verification, error) {
			return s.Intake.Verify(ctx, in.Ref)
		})
	answers(s, h, op("POST", "/versions/{version}/settle", "settle-version", tag, "Have every slab of a version stand alone"),
		func(ctx context.Context, in *VersionRef) (api.Settled, error) {
			return s.Intake.Settle(ctx, in.Ref)
		})
	answers(s, h, op("POST", "/store/prune", "prune", tag, "Remove the slabs that no version in use needs"),
		func(ctx context.Context, in *struct{ Body api.NewPrune }) (api.Pruned, error) {
			return s.Intake.Prune(ctx, in.Body.DryRun)
		})
	answers(s, h, op("POST", "/store/rescan", "rescan", tag, "Record the versions whose files are in the store and which the records lack"),
		func(ctx context.Context, _ *Nothing) (api.Rescanned, error) { return s.Intake.Rescan(ctx) })
}

// limited is an operation with a body of at most so many bytes.
func limited(o huma.Operation, bytes int64) huma.Operation {
	o.MaxBodyBytes = bytes
	return o
}

// ImportRef is an import in a path.
type ImportRef struct {
	ID string `path:"import" doc:"As its beginning told" maxLength:"100" example:"4f1f0a2c9d3b8e67"`
}

// importRoutes bring versions in from people's own machines, and out.
func (s *Server) importRoutes(h huma.API) {
	const tag = "store"
	answers(s, h, op("POST", "/imports", "begin-import", tag, "Begin to bring a version in from a file"),
		func(ctx context.Context, in *struct{ Body api.NewImport }) (api.Import, error) {
			return s.Intake.BeginImport(ctx, in.Body)
		})
	answers(s, h, op("POST", "/imports/{import}/missing", "import-missing", tag, "Tell which slabs the store lacks"),
		func(_ context.Context, in *struct {
			ImportRef
			Body api.Digests
		}) (api.Digests, error) {
			u, err := s.Intake.Import(in.ID)
			if err != nil {
				return api.Digests{}, err
			}
			return s.Intake.Missing(u, in.Body)
		})
	does(s, h, limited(op("PUT", "/imports/{import}/slabs/{digest}", "import-slab", tag, "Store the frame of a slab"), 2*slabstore.MaxSlab),
		func(ctx context.Context, in *struct {
			ImportRef
			Digest  string `path:"digest" doc:"BLAKE3-256 of the plain bytes, in hexadecimal" minLength:"64" maxLength:"64" example:"af1349b9f5f9a1a6a0404dea36dcc9499bcb25c9adc112b7cc9a93cae41f3262"`
			RawBody []byte `contentType:"application/zstd"`
		}) error {
			u, err := s.Intake.Import(in.ID)
			if err != nil {
				return err
			}
			d, err := slabstore.ParseDigest(in.Digest)
			if err != nil {
				return err
			}
			return s.Intake.Put(ctx, u, d, in.RawBody)
		})
	type rawImport struct {
		ImportRef
		RawBody []byte `contentType:"application/octet-stream"`
	}
	does(s, h, limited(op("PUT", "/imports/{import}/map", "import-map", tag, "Hand in the slab map"), image.MaxMap),
		func(_ context.Context, in *rawImport) error {
			u, err := s.Intake.Import(in.ID)
			if err != nil {
				return err
			}
			return s.Intake.PutMap(u, in.RawBody)
		})
	answers(s, h, limited(op("PUT", "/imports/{import}/manifest", "import-manifest", tag, "Hand in the manifest, which makes it a version"), image.MaxManifest),
		func(ctx context.Context, in *rawImport) (api.Version, error) {
			u, err := s.Intake.Import(in.ID)
			if err != nil {
				return api.Version{}, err
			}
			v, made, err := s.Intake.Commit(ctx, u, in.RawBody)
			if err != nil {
				return api.Version{}, err
			}
			out := intake.VersionOf(*v)
			out.Unchanged = !made
			return out, nil
		})

	export := func(what string, path func(manifest, slabs string) string) {
		huma.Register(h, op("GET", "/versions/{version}/"+what, "export-"+what, tag, "Fetch the "+what+" of a version as it is stored"),
			func(ctx context.Context, in *VersionRef) (*rawReply, error) {
				manifest, slabs, err := s.Intake.Paths(ctx, in.Ref)
				if err != nil {
					return nil, s.problem(err, "export-"+what)
				}
				b, err := os.ReadFile(path(manifest, slabs))
				if err != nil {
					return nil, s.problem(err, "export-"+what)
				}
				return &rawReply{"application/octet-stream", b}, nil
			})
	}
	export("manifest", func(manifest, _ string) string { return manifest })
	export("map", func(_, slabs string) string { return slabs })
	huma.Register(h, op("GET", "/slabs/{digest}", "export-slab", tag, "Fetch the frame of a slab"), func(_ context.Context, in *struct {
		AsStored bool   `query:"as_stored" doc:"As it is stored, which may be a delta (docs/image-format.md)"`
		Digest   string `path:"digest" doc:"BLAKE3-256 of the plain bytes, in hexadecimal" minLength:"64" maxLength:"64" example:"af1349b9f5f9a1a6a0404dea36dcc9499bcb25c9adc112b7cc9a93cae41f3262"`
	}) (*rawReply, error) {
		d, err := slabstore.ParseDigest(in.Digest)
		if err != nil {
			return nil, s.problem(err, "export-slab")
		}
		if in.AsStored {
			if delta, err := s.Intake.Slabs.Delta(d); err == nil {
				return &rawReply{"application/octet-stream", delta}, nil
			}
		}
		frame, err := s.Intake.Frame(d, false)
		if err != nil {
			return nil, s.problem(err, "export-slab")
		}
		return &rawReply{"application/zstd", frame}, nil
	})
}

// rawReply is an answer of plain bytes.
type rawReply struct {
	ContentType string `header:"Content-Type"`
	Body        []byte
}
