package stock

import (
	"cmp"
	"context"
	"io/fs"

	"jugate/core/driver"
	"jugate/core/fault"
	"jugate/core/fileview"
	"jugate/core/image"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/records"
)

// Answerable says why the system of a version cannot take answers; empty if it can, with the
// number of the partition that it is on, and of a Windows its architecture.
func (k *Stock) Answerable(ctx context.Context, v *records.Version) (partition int, windows, why string) {
	st, err := k.systemOf(ctx, v)
	switch {
	case err != nil:
		return 0, "", err.Error()
	case st.Inside != nil && st.Inside.System == driver.Windows:
		return st.Inside.Volume, st.Inside.Arch, ""
	case st.Linux != 0:
		return st.Linux, "", ""
	}
	return 0, "", cmp.Or(st.Why, "there is no operating system on it that is known here")
}

// System returns the files of an image's system, the number of its partition, and what it is
// in words.
func (k *Stock) System(ctx context.Context, ref string) (files fs.FS, windows, words string, err error) {
	r, err := roster.ParseRef(ref)
	if err != nil {
		return nil, "", "", err
	}
	v, err := k.Records.Version(ctx, r)
	if err != nil {
		return nil, "", "", err
	}
	partition, windows, why := k.Answerable(ctx, v)
	if why != "" {
		return nil, "", "", fault.Conflict.Errorf("%s: %s", v.Ref(), why)
	}
	digest, err := slabstore.ParseDigest(v.Digest)
	if err != nil {
		return nil, "", "", err
	}
	man, slabs, err := k.Files.Load(v.Ref(), digest)
	if err != nil {
		return nil, "", "", err
	}
	st, err := k.systemOf(ctx, v)
	if err != nil {
		return nil, "", "", err
	}
	for _, a := range man.Areas {
		if a.Partition != partition {
			continue
		}
		view, err := image.NewView(man, slabs, partition, k.Slabs)
		if err != nil {
			return nil, "", "", err
		}
		files, err = fileview.Open(view, a.Size, a.Kind)
		return files, windows, st.words(), err
	}
	return nil, "", "", fault.Conflict.Errorf("%s has no partition %d", v.Ref(), partition)
}
