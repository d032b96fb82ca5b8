package stock

import (
	"cmp"
	"context"
	"io/fs"

	"jugate/core/answers"
	"jugate/core/driver"
	"jugate/core/fault"
	"jugate/core/fileview"
	"jugate/core/image"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/records"
)

// Answerable says what of a version takes answers.
func (k *Stock) Answerable(ctx context.Context, v *records.Version) answers.Target {
	st, err := k.systemOf(ctx, v)
	switch {
	case err != nil:
		return answers.Target{None: err.Error()}
	case st.Inside != nil && st.Inside.System == driver.Windows:
		return answers.Target{Partition: st.Inside.Volume, Windows: st.Inside.Arch, Broken: st.Broken}
	case st.Linux != 0:
		return answers.Target{Partition: st.Linux}
	}
	return answers.Target{None: cmp.Or(st.Why, "there is no operating system on it that is known here")}
}

// System returns the files of an image's system, of a Windows its architecture, and what it is
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
	to := k.Answerable(ctx, v)
	if to.None != "" {
		return nil, "", "", fault.Conflict.Errorf("%s: %s", v.Ref(), to.None)
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
		if a.Partition != to.Partition {
			continue
		}
		view, err := image.NewView(man, slabs, to.Partition, k.Slabs)
		if err != nil {
			return nil, "", "", err
		}
		files, err = fileview.Open(view, a.Size, a.Kind)
		return files, to.Windows, st.words(), err
	}
	return nil, "", "", fault.Conflict.Errorf("%s has no partition %d", v.Ref(), to.Partition)
}
