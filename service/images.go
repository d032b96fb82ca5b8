package service

import (
	"context"
	"net/http"

	"jugate/core/fault"

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
		Despite: v.Despite, Unreadable: v.Unreadable, State: versionState(v),
	}
}

func versionState(v records.Version) string {
	switch {
	case v.Swept.Valid:
		return "swept"
	case v.Retired.Valid:
		return "retired"
	}
	return "in use"
}

// wholeVersion is a version with what its manifest says.
func wholeVersion(row records.Version, man *image.Manifest) api.Version {
	v := version(row)
	v.NeedBytes, v.Areas = man.LeastDisk(), api.Areas(man.Table, man.Areas)
	for _, f := range man.Findings {
		v.Findings = append(v.Findings, api.Finding{Code: f.Code, Severity: string(f.Severity), Where: f.Where, What: f.What, Means: f.Means, Do: f.Do})
	}
	return v
}

// named finds a version by what a person calls it.
func (s *Service) named(ctx context.Context, text string) (*records.Version, error) {
	ref, err := roster.ParseRef(text)
	if err != nil {
		return nil, fault.Invalid.Mark(err)
	}
	return s.records.Version(ctx, ref)
}

// opened is named, with the version's files.
func (s *Service) opened(ctx context.Context, text string) (*records.Version, *image.Manifest, *image.Map, error) {
	row, err := s.named(ctx, text)
	if err != nil {
		return nil, nil, nil, err
	}
	man, slabs, err := s.load(row)
	return row, man, slabs, err
}

// VersionRef is a version in a path. (Exported for huma, see Paging.)
type VersionRef struct {
	Ref string `path:"ref" doc:"NAME@VERSION, or NAME for the newest"`
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
	}, func(ctx context.Context, in *VersionRef) (*reply[api.Version], error) {
		row, man, _, err := s.opened(ctx, in.Ref)
		if err != nil {
			return nil, problem(err)
		}
		return answer(wholeVersion(*row, man), nil)
	})

	huma.Register(h, huma.Operation{
		OperationID: "compare-versions", Method: http.MethodGet, Path: "/versions/{ref}/diff/{other}", Tags: tags, Summary: "Tell what differs between two versions",
	}, func(ctx context.Context, in *struct {
		VersionRef
		Other string `path:"other"`
	}) (*reply[api.Comparison], error) {
		_, a, aSlabs, err := s.opened(ctx, in.Ref)
		if err != nil {
			return nil, problem(err)
		}
		_, b, bSlabs, err := s.opened(ctx, in.Other)
		if err != nil {
			return nil, problem(err)
		}
		return answer(api.Compared(image.Compare(a, aSlabs, b, bSlabs)), nil)
	})

	huma.Register(h, huma.Operation{
		OperationID: "note-version", Method: http.MethodPost, Path: "/versions/{ref}/note", Tags: tags, Summary: "Replace what is said of a version",
	}, func(ctx context.Context, in *struct {
		VersionRef
		Body api.NewNote
	}) (*reply[api.Version], error) {
		return s.alter(ctx, in.Ref, func(v *records.Version) error { return s.records.SetNote(ctx, v.Ref(), in.Body.Note) })
	})

	huma.Register(h, huma.Operation{
		OperationID: "retire-version", Method: http.MethodPost, Path: "/versions/{ref}/retire", Tags: tags, Summary: "Take a version out of use; a prune may give up its slabs then",
	}, func(ctx context.Context, in *VersionRef) (*reply[api.Version], error) {
		return s.alter(ctx, in.Ref, func(v *records.Version) error { return s.records.RetireVersion(ctx, s.config.Now(), v.Ref()) })
	})

	huma.Register(h, huma.Operation{
		OperationID: "readmit-version", Method: http.MethodPost, Path: "/versions/{ref}/readmit", Tags: tags, Summary: "Take a retired version back into use, as long as its slabs are there",
	}, func(ctx context.Context, in *VersionRef) (*reply[api.Version], error) {
		return s.alter(ctx, in.Ref, func(v *records.Version) error { return s.records.ReadmitVersion(ctx, v.Ref()) })
	})

	huma.Register(h, huma.Operation{
		OperationID: "rename-image", Method: http.MethodPost, Path: "/images/{image}/rename", Tags: tags, Summary: "Give an image another name; receipts keep the one it had",
	}, func(ctx context.Context, in *struct {
		Image string `path:"image"`
		Body  api.NewName
	}) (*reply[api.Page[api.Version]], error) {
		if err := roster.CheckName("an image", in.Body.Name); err != nil {
			return nil, fault.Invalid.Mark(err)
		}
		s.captures.commit.Lock()
		defer s.captures.commit.Unlock()
		err := s.records.RenameImage(ctx, in.Image, in.Body.Name, func() error { return s.files.Link(in.Image, in.Body.Name) })
		if err != nil {
			return nil, problem(err)
		}
		if err := s.files.Remove(in.Image); err != nil {
			return nil, err
		}
		s.log.Info("image renamed", "image", in.Body.Name, "was", in.Image)
		rows, err := s.records.Versions(ctx, in.Body.Name)
		return items(rows, len(rows), err, version)
	})
}

// alter changes a version in the records and tells how it is then.
func (s *Service) alter(ctx context.Context, ref string, change func(v *records.Version) error) (*reply[api.Version], error) {
	v, err := s.named(ctx, ref)
	if err != nil {
		return nil, problem(err)
	}
	if err := change(v); err != nil {
		return nil, problem(err)
	}
	if err := s.keepState(ctx, v.Ref()); err != nil {
		return nil, problem(err)
	}
	if v, err = s.records.Version(ctx, v.Ref()); err != nil {
		return nil, problem(err)
	}
	s.events.publish(version(*v))
	return answer(version(*v), nil)
}
