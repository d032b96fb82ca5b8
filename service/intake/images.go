package intake

import (
	"context"
	"fmt"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/image"
	"jugate/core/rights"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/records"
)

// VersionOf is what is told of a version.
func VersionOf(v records.Version) api.Version {
	return api.Version{
		Image: v.Image, Version: v.Number, Digest: v.Digest, Captured: v.Captured, Workstation: v.Workstation, Note: v.Note,
		DiskBytes: v.DiskBytes, UsedBytes: v.UsedBytes, Slabs: v.Slabs, NewSlabs: v.NewSlabs, StoredBytes: v.StoredBytes,
		Despite: v.Despite, Unreadable: v.Unreadable, State: versionState(v), Expires: records.TimeOf(v.Expires), Leaned: records.TimeOf(v.Leaned), Settled: records.TimeOf(v.Settled),
		Store: v.Store, MovesTo: v.MovesTo,
	}
}

func versionState(v records.Version) image.Standing {
	switch {
	case v.Pruned.Valid:
		return image.Pruned
	case v.Retired.Valid:
		return image.Retired
	}
	return image.InUse
}

// versionWithContent is a version with what its manifest says.
func versionWithContent(row records.Version, man *image.Manifest) api.Version {
	v := VersionOf(row)
	v.NeedBytes, v.Areas, v.Layout, v.StartsBy = man.LeastDisk(), api.Areas(man.Table, man.Areas), man.Layout(), man.Table.StartsBy()
	for _, f := range man.Findings {
		v.Findings = append(v.Findings, api.Finding{Code: f.Code, Severity: f.Severity, Where: f.Where, What: f.What, Means: f.Means, Do: f.Do})
	}
	return v
}

// named finds a version by what a person calls it.
func (k *Intake) named(ctx context.Context, text string) (*records.Version, error) {
	ref, err := roster.ParseRef(text)
	if err != nil {
		return nil, err
	}
	v, err := k.Records.Version(ctx, ref)
	if err != nil {
		return nil, err
	}
	return v, maySeeSaved(ctx, v)
}

// maySeeSaved refuses what somebody's disk had on it before it was erased to whoever may not capture disks.
func maySeeSaved(ctx context.Context, v *records.Version) error {
	if v.PrivateOf == 0 {
		return nil
	}
	return rights.CheckEverything(ctx, rights.Capture)
}

// opened is named, with the version's files.
func (k *Intake) opened(ctx context.Context, text string) (*records.Version, *image.Manifest, *image.Map, error) {
	row, err := k.named(ctx, text)
	if err != nil {
		return nil, nil, nil, err
	}
	man, slabs, err := k.Load(row)
	return row, man, slabs, err
}

// Load reads the files of a version and holds them against the records.
func (k *Intake) Load(v *records.Version) (*image.Manifest, *image.Map, error) {
	digest, err := slabstore.ParseDigest(v.Digest)
	if err != nil {
		return nil, nil, err
	}
	return k.Files.Load(v.Ref(), digest)
}

// Images lists images, the newest version of each: of golden disks, or of those that were saved before they were erased.
func (k *Intake) Images(ctx context.Context, saved bool, p records.Page) ([]api.Version, int, error) {
	if saved {
		if err := rights.CheckEverything(ctx, rights.Capture); err != nil {
			return nil, 0, err
		}
	}
	rows, total, err := k.Records.Images(ctx, rights.From(ctx).Images(rights.See), saved, p)
	return versionsOf(rows), total, err
}

func versionsOf(rows []records.Version) []api.Version {
	all := make([]api.Version, len(rows))
	for i, r := range rows {
		all[i] = VersionOf(r)
	}
	return all
}

// Versions lists the versions of an image, the newest first.
func (k *Intake) Versions(ctx context.Context, image string) ([]api.Version, error) {
	image, err := k.Records.ImageName(ctx, image)
	if err != nil {
		return nil, err
	}
	rows, err := k.Records.Versions(ctx, image)
	if err == nil {
		err = maySeeSaved(ctx, &rows[0])
	}
	if err != nil {
		return nil, err
	}
	return versionsOf(rows), nil
}

// Version shows a version and what its disk holds.
func (k *Intake) Version(ctx context.Context, ref string) (api.Version, error) {
	row, man, slabs, err := k.opened(ctx, ref)
	if err != nil {
		return api.Version{}, err
	}
	v := versionWithContent(*row, man)
	for _, d := range slabs.Distinct() {
		if k.Slabs.Leans(d) {
			v.Leaning++
		}
	}
	return v, nil
}

// Compare tells what differs between two versions.
func (k *Intake) Compare(ctx context.Context, one, other string) (api.Comparison, error) {
	_, a, aSlabs, err := k.opened(ctx, one)
	if err != nil {
		return api.Comparison{}, err
	}
	_, b, bSlabs, err := k.opened(ctx, other)
	if err != nil {
		return api.Comparison{}, err
	}
	return api.Compared(image.Compare(a, aSlabs, b, bSlabs)), nil
}

// Paths are the files of a version: its manifest and its slab map.
func (k *Intake) Paths(ctx context.Context, ref string) (manifest, slabs string, err error) {
	v, err := k.named(ctx, ref)
	if err != nil {
		return "", "", err
	}
	manifest, slabs = k.Files.Paths(v.Ref())
	return manifest, slabs, nil
}

// Note replaces what is said of a version.
func (k *Intake) Note(ctx context.Context, ref, note string) (api.Version, error) {
	return k.alter(ctx, ref, func(v *records.Version) error { return k.Records.SetNote(ctx, v.Ref(), note) })
}

// Retire takes a version out of use; a prune may give up its slabs then.
func (k *Intake) Retire(ctx context.Context, ref string) (api.Version, error) {
	return k.alter(ctx, ref, func(v *records.Version) error { return k.Records.RetireVersion(ctx, k.Now(), v.Ref()) })
}

// Readmit takes a retired version back into use, as long as its slabs are there.
func (k *Intake) Readmit(ctx context.Context, ref string) (api.Version, error) {
	return k.alter(ctx, ref, func(v *records.Version) error { return k.Records.ReadmitVersion(ctx, v.Ref()) })
}

// Changed tells everybody of a version that was changed.
func (k *Intake) Changed(ctx context.Context, ref roster.Ref) {
	if v, err := k.Records.Version(ctx, ref); err == nil {
		k.Publish(VersionOf(*v))
	}
}

// alter changes a version in the records and tells how it is then.
func (k *Intake) alter(ctx context.Context, ref string, change func(v *records.Version) error) (api.Version, error) {
	v, err := k.named(ctx, ref)
	if err != nil {
		return api.Version{}, err
	}
	if err := change(v); err != nil {
		return api.Version{}, err
	}
	if err := k.keepState(ctx, v.Ref()); err != nil {
		return api.Version{}, err
	}
	if v, err = k.Records.Version(ctx, v.Ref()); err != nil {
		return api.Version{}, err
	}
	k.Publish(VersionOf(*v))
	return VersionOf(*v), nil
}

// Rename gives an image another name, and returns its versions; receipts keep the name
// it had.
func (k *Intake) Rename(ctx context.Context, from, to string) ([]api.Version, error) {
	if err := roster.CheckName("an image", to); err != nil {
		return nil, err
	}
	k.captures.commit.Lock()
	defer k.captures.commit.Unlock()
	from, err := k.Records.ImageName(ctx, from)
	if err != nil {
		return nil, err
	}
	if from == to {
		return nil, fault.Conflict.Errorf("the image is called %s already", to)
	}
	if err := k.Records.RenameImage(ctx, from, to, func() error { return k.Files.Link(from, to) }); err != nil {
		return nil, err
	}
	if err := k.Files.Remove(from); err != nil {
		return nil, err
	}
	k.Log.Info("image renamed", "image", to, "was", from, "by", actor.From(ctx))
	return k.Versions(ctx, to)
}

// Frame is the frame of a slab; in doubt, it is checked first, and one that is damaged is
// set aside.
func (k *Intake) Frame(d slabstore.Digest, doubt bool) ([]byte, error) {
	if doubt {
		if _, err := k.Slabs.Check(d); err != nil {
			k.Log.Error("a slab is damaged", "slab", d, "error", err)
			return nil, err
		}
	}
	frame, err := k.Slabs.Frame(d)
	if err != nil {
		return nil, fmt.Errorf("slab %s: %w", d.Short(), err)
	}
	return frame, nil
}
