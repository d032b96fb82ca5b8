package sites

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"slices"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/image"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/records"
)

// Versions are those of images.
type Versions interface {
	Load(v *records.Version) (*image.Manifest, *image.Map, error)
}

const (
	// beforeAtMost is how many slabs of the version before are told; an outpost fetches the list, of some 50 bytes a slab.
	beforeAtMost = 100_000
	// filesAtMost is how many versions' files are remembered, and deltasAtMost how many slabs told by others: many outposts ask for
	// the same at the same time.
	filesAtMost, deltasAtMost = 64, 64
)

// leaning is a slab that is told by another one.
type leaning struct{ slab, on slabstore.Digest }

// files are what outposts get of a version beside its slabs.
type files struct {
	api.OutpostVersion
	before []byte
}

// version is a version with its files, by the digest of its manifest; its image may have got another name since it was looked at.
func (s *Sites) version(ctx context.Context, name string, number int, digest string) (files, error) {
	f, err := s.files.Get(digest, func() (files, error) { return s.look(ctx, roster.Ref{Image: name, Version: number}) })
	f.Image, f.Version = name, number
	return f, err
}

// look finds out what a version has beside its slabs.
func (s *Sites) look(ctx context.Context, ref roster.Ref) (files, error) {
	v, err := s.Records.Version(ctx, ref)
	if err != nil {
		return files{}, err
	}
	man, slabs, err := s.Versions.Load(v)
	if err != nil {
		return files{}, err
	}
	out := files{OutpostVersion: api.OutpostVersion{Image: v.Image, Version: v.Number, Map: api.OutpostFile{Digest: man.MapDigest, Size: man.MapSize}}}
	if out.Manifest.Digest, err = slabstore.ParseDigest(v.Digest); err != nil {
		return files{}, err
	}
	path, _ := s.Files.Paths(ref)
	info, err := os.Stat(path)
	if err != nil {
		return files{}, err
	}
	out.Manifest.Size = info.Size()
	if was, err := s.versionBefore(ctx, v, man); err != nil {
		return files{}, err
	} else if was != nil {
		if bases := image.Bases(was, slabs, beforeAtMost); bases.Len() > 0 {
			out.before = bases.Bytes()
			out.Before = &api.OutpostFile{Digest: slabstore.Sum(out.before), Size: int64(len(out.before))}
		}
	}
	return out, nil
}

// versionBefore is the slab map of the version before one, if that is laid out alike; else nil.
func (s *Sites) versionBefore(ctx context.Context, v *records.Version, man *image.Manifest) (*image.Map, error) {
	all, err := s.Records.Versions(ctx, v.Image)
	if err != nil {
		return nil, err
	}
	var before *records.Version
	for i := range all {
		if o := &all[i]; o.Number < v.Number && !o.Pruned.Valid && (before == nil || o.Number > before.Number) {
			before = o
		}
	}
	if before == nil {
		return nil, nil
	}
	was, slabs, err := s.Versions.Load(before)
	if err != nil || !was.LiesLike(man) {
		return nil, nil // all of it is sent
	}
	return slabs, nil
}

// versionFile opens a file of a version that an outpost holds or delivers.
func (s *Sites) versionFile(ctx context.Context, name string, d slabstore.Digest) (io.ReadSeekCloser, error) {
	work, err := s.work(ctx, name)
	if err != nil {
		return nil, err
	}
	all := slices.Clone(work.Versions)
	for _, p := range work.Deliveries {
		all = append(all, p.OutpostVersion)
	}
	for _, v := range all {
		manifest, slabs := s.Files.Paths(roster.Ref{Image: v.Image, Version: v.Version})
		switch {
		case v.Manifest.Digest == d:
			return os.Open(manifest)
		case v.Map.Digest == d:
			return os.Open(slabs)
		case v.Before != nil && v.Before.Digest == d:
			f, err := s.version(ctx, v.Image, v.Version, v.Manifest.Digest.String())
			return content{bytes.NewReader(f.before), io.NopCloser(nil)}, err
		}
	}
	return nil, fault.NotFound.Errorf("there is no such file any more")
}

// placed are the versions that a placement means now, the newest first.
func (s *Sites) placed(ctx context.Context, p records.Placement) (all []records.Version, err error) {
	images := []string{p.Image}
	if p.GroupID.Valid {
		if images, err = s.Records.ImagesOfGroup(ctx, p.GroupID.Int64); err != nil {
			return nil, err
		}
	}
	for _, name := range images {
		versions, err := s.Records.Versions(ctx, name)
		if err != nil && !errors.Is(err, fault.NotFound) {
			return nil, err
		}
		versions = slices.DeleteFunc(versions, func(v records.Version) bool { return v.Pruned.Valid || p.Version > 0 && v.Number != p.Version })
		slices.SortFunc(versions, func(a, b records.Version) int { return b.Number - a.Number })
		if p.Newest > 0 {
			versions = versions[:min(p.Newest, len(versions))]
		}
		all = append(all, versions...)
	}
	return all, nil
}

// ahead are the versions that an outpost is to hold, each once.
func (s *Sites) ahead(ctx context.Context, name string) (all []api.OutpostVersion, err error) {
	placements, err := s.Records.Placements(ctx, name)
	if err != nil {
		return nil, err
	}
	for _, p := range placements {
		versions, err := s.placed(ctx, p)
		if err != nil {
			return nil, err
		}
		for _, v := range versions {
			if slices.ContainsFunc(all, func(o api.OutpostVersion) bool {
				return o.Image == v.Image && o.Version == v.Number
			}) {
				continue
			}
			f, err := s.version(ctx, v.Image, v.Number, v.Digest)
			if err != nil {
				s.Log.Warn("a version cannot be placed", "outpost", name, "image", v.Ref(), "error", err)
				continue
			}
			all = append(all, f.OutpostVersion)
		}
	}
	return all, nil
}

// Place has an outpost hold versions ahead of time.
func (s *Sites) Place(ctx context.Context, name string, in api.NewPlacement) (api.Outpost, error) {
	row, err := s.Records.Outpost(ctx, name)
	if err != nil {
		return api.Outpost{}, err
	}
	p := records.Placement{Outpost: row.Name, Image: in.Image, Version: in.Version, Newest: in.Newest, Placed: s.Now(), By: actor.From(ctx).String()}
	p.Group.String, p.Group.Valid = in.Group, in.Group != ""
	switch {
	case (in.Image == "") == (in.Group == ""):
		return api.Outpost{}, fault.Invalid.Errorf("say an image, or a group whose images are meant")
	case in.Version > 0 && (in.Newest > 0 || in.Image == ""):
		return api.Outpost{}, fault.Invalid.Errorf("a version is one of an image; how many of the newest is said without it")
	case in.Version == 0:
		p.Newest = max(p.Newest, 1)
	}
	if in.Image != "" {
		v, err := s.Records.Version(ctx, roster.Ref{Image: in.Image, Version: in.Version})
		if err != nil {
			return api.Outpost{}, err
		}
		p.Image = v.Image
	}
	if err := s.Records.AddPlacement(ctx, p); err != nil {
		return api.Outpost{}, err
	}
	s.Log.Info("placed at an outpost", "outpost", row.Name, "image", in.Image, "version", in.Version, "newest", p.Newest, "group", in.Group, "by", actor.From(ctx))
	s.Ring()
	s.Publish(api.SitesChanged{})
	return s.Show(ctx, row.Name)
}

// Unplace ends a placement; what is there stays until its room is needed.
func (s *Sites) Unplace(ctx context.Context, name string, id int64) error {
	row, err := s.Records.Outpost(ctx, name)
	if err != nil {
		return err
	}
	if err := s.Records.RemovePlacement(ctx, row.Name, id); err != nil {
		return err
	}
	s.Ring()
	s.Publish(api.SitesChanged{})
	return nil
}

// Change changes how the line of an outpost may be used, and its note.
func (s *Sites) Change(ctx context.Context, name string, in api.OutpostChange) (api.Outpost, error) {
	row, err := s.Records.Outpost(ctx, name)
	if err != nil {
		return api.Outpost{}, err
	}
	settings, err := row.Settings()
	if err != nil {
		return api.Outpost{}, err
	}
	if in.Note != nil {
		row.Note = *in.Note
	}
	if in.LineRate != nil {
		settings.LineRate = *in.LineRate
	}
	if in.Hours != nil {
		settings.Hours = *in.Hours
	}
	if in.Sealed != nil {
		settings.Sealed = *in.Sealed
	}
	if in.SignIn != nil {
		settings.SignIn = *in.SignIn
	}
	if err := s.Records.SetOutpost(ctx, row.Name, row.Note, settings); err != nil {
		return api.Outpost{}, err
	}
	s.Log.Info("outpost changed", "outpost", row.Name, "line_rate", settings.LineRate, "ahead_hours", settings.Hours, "sealed", settings.Sealed, "sign_in_hours", settings.SignIn, "by", actor.From(ctx))
	s.Ring()
	s.Publish(api.SitesChanged{})
	return s.Show(ctx, row.Name)
}

// placements are those of an outpost, with how much of each is there.
func (s *Sites) placements(ctx context.Context, name string, told []api.PlacedVersion) ([]api.Placement, error) {
	rows, err := s.Records.Placements(ctx, name)
	if err != nil {
		return nil, err
	}
	var all []api.Placement
	for _, row := range rows {
		out := api.Placement{ID: row.ID, Image: row.Image, Version: row.Version, Newest: row.Newest, Group: row.Group.String, Versions: []api.PlacedVersion{}}
		versions, err := s.placed(ctx, row)
		if err != nil {
			return nil, err
		}
		for _, v := range versions {
			one := api.PlacedVersion{Image: v.Image, Version: v.Number}
			if i := slices.IndexFunc(told, func(p api.PlacedVersion) bool { return p.Image == v.Image && p.Version == v.Number }); i >= 0 {
				one = told[i]
			}
			out.Versions = append(out.Versions, one)
		}
		all = append(all, out)
	}
	return all, nil
}
