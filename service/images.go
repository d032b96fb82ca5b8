package service

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/core/image"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/records"
)

func version(v records.Version) api.Version {
	return api.Version{
		Image: v.Image, Version: v.Number, Digest: v.Digest, Captured: v.Captured, Workstation: v.Workstation, Note: v.Note,
		DiskBytes: v.DiskBytes, UsedBytes: v.UsedBytes, Slabs: v.Slabs, NewSlabs: v.NewSlabs, StoredBytes: v.StoredBytes,
	}
}

// load reads the files of a version and holds them against the records.
func (s *Service) load(v *records.Version) (*image.Manifest, *image.Map, error) {
	digest, err := slabstore.ParseDigest(v.Digest)
	if err != nil {
		return nil, nil, err
	}
	return s.files.Load(v.Ref(), digest)
}

func (s *Service) imageRoutes(h huma.API) {
	tags := []string{"images"}
	huma.Register(h, huma.Operation{
		OperationID: "list-images", Method: http.MethodGet, Path: "/images", Tags: tags, Summary: "List images, the newest version of each; sort by name or captured",
	}, func(ctx context.Context, in *struct{ Paging }) (*reply[api.Page[api.Version]], error) {
		rows, total, err := s.records.Images(ctx, in.page())
		return items(rows, total, err, version)
	})

	huma.Register(h, huma.Operation{
		OperationID: "list-versions", Method: http.MethodGet, Path: "/images/{image}/versions", Tags: tags, Summary: "List the versions of an image, the newest first",
	}, func(ctx context.Context, in *struct {
		Image string `path:"image"`
	}) (*reply[api.Page[api.Version]], error) {
		rows, err := s.records.Versions(ctx, in.Image)
		return items(rows, len(rows), err, version)
	})

	huma.Register(h, huma.Operation{
		OperationID: "get-version", Method: http.MethodGet, Path: "/versions/{ref}", Tags: tags, Summary: "Show one version and what its disk holds",
	}, func(ctx context.Context, in *struct {
		Ref string `path:"ref" doc:"NAME@VERSION, or NAME for the newest"`
	}) (*reply[api.Version], error) {
		ref, err := roster.ParseRef(in.Ref)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		row, err := s.records.Version(ctx, ref)
		if err != nil {
			return nil, problem(err)
		}
		man, _, err := s.load(row)
		if err != nil {
			return nil, problem(err)
		}
		v := version(*row)
		v.NeedBytes, v.Areas = man.LeastDisk(), api.Areas(man.Table, man.Areas)
		return answer(v, nil)
	})
}
