package steps

import (
	"context"
	"encoding/binary"
	"fmt"
	"path/filepath"

	"jugate/core/image"
	"jugate/core/leaning"
	"jugate/core/partition"
	"jugate/core/restore"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/core/volume"
)

// Lean has the second version lean on the first, as the service does after a capture, and
// tells how many bytes the store has less.
func Lean(ctx context.Context, dir, before, after string) error {
	store, err := slabstore.Open(filepath.Join(dir, "slabs"))
	if err != nil {
		return err
	}
	one, err := versionOf(dir, before)
	if err != nil {
		return err
	}
	other, err := versionOf(dir, after)
	if err != nil {
		return err
	}
	done, err := leaning.Run(ctx, store, one, other, nil)
	if err != nil {
		return err
	}
	return report(Result{NewSlabs: done.Slabs, NewBytes: -done.Bytes})
}

func versionOf(dir, ref string) (leaning.Version, error) {
	_, slabs, err := Load(dir, ref)
	if err != nil {
		return leaning.Version{}, err
	}
	version, err := roster.ParseRef(ref)
	return leaning.Version{Slabs: slabs, Sketches: (image.Files{Dir: filepath.Join(dir, "images")}).Sketches(version)}, err
}

// Plan does for a version of so many slabs, all different, what a workstation does
// before anything comes: it reads the map, plans, and says what is missing.
func Plan(slabs int) error {
	m := image.NewMap(image.SlabSize)
	for i := range slabs {
		at := int64(i) * image.SlabSize
		m.Add(image.Slab{Start: at, Extents: []volume.Extent{{Start: at, Length: image.SlabSize}},
			Digest: slabstore.Sum(binary.BigEndian.AppendUint64(nil, uint64(i)))})
	}
	size := int64(slabs) * image.SlabSize
	man := &image.Manifest{Format: image.Format, Table: partition.Bare(size, 512), SlabSize: image.SlabSize, Slabs: slabs, UsedBytes: size,
		Areas: []image.Area{{Size: size, Needs: size, UsedBytes: size, Kind: volume.Unknown}}, MapSize: int64(len(m.Bytes())), MapDigest: slabstore.Sum(m.Bytes())}
	m, err := image.ParseMap(m.Bytes(), man)
	if err != nil {
		return err
	}
	r, err := restore.New(man, m, nil, size, 512, restore.Options{})
	if err != nil {
		return err
	}
	if n := r.Missing().Len(); n != slabs {
		return fmt.Errorf("%d slabs are missing of %d", n, slabs)
	}
	return report(Result{Slabs: slabs})
}
