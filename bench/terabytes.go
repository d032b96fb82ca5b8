package main

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"jugate/bench/steps"
	"jugate/core/slabstore"
	"jugate/demo/golddisk"
)

// terabytes measures what grows with the size of disks and of the store, at up to a
// quarter of what is wanted, and says what follows for the whole.
func terabytes(ctx context.Context, dir string) error {
	fmt.Println("\nA disk with half of it in use: the metadata are real, the files are allocated and were never written, so all slabs are zeros and none is stored.")
	fmt.Printf("%-10s %-10s %10s %10s %12s %10s %12s\n", "disk", "in use", "slabs", "capture s", "memory MiB", "restore s", "memory MiB")
	var measured []huge
	for _, gib := range []int64{20, 200, 500} {
		h, err := hugeDisk(ctx, path(dir, fmt.Sprint(gib)), gib<<30)
		if err != nil {
			return err
		}
		measured = append(measured, h)
	}
	const whole = 2000.0 / 500
	before, last := measured[len(measured)-2], measured[len(measured)-1]
	grows := func(before, last steps.Result) float64 { // MiB for the rest of the whole
		return float64(last.Peak-before.Peak) / float64(last.Slabs-before.Slabs) * float64(last.Slabs) * (whole - 1) / mib
	}
	fmt.Printf("2 TB with 1 TB in use would take %.0f times the last line: %.0f s and %.0f s; growing on as between the last two lines, %.0f MiB and %.0f MiB.\n", whole,
		whole*last.captured, whole*last.restored, float64(last.capture.Peak)/mib+grows(before.capture, last.capture), float64(last.restore.Peak)/mib+grows(before.restore, last.restore))
	const slabs = 1 << 20
	took, planned, err := step(ctx, "plan", fmt.Sprint(slabs))
	if err != nil {
		return err
	}
	fmt.Printf("A version of %d slabs, all different (1 TiB): read, planned onto a disk and said what is missing of it in %.1f s with %d MiB.\n", planned.Slabs, took, planned.Peak>>20)
	return manySlabs(ctx, path(dir, "many"))
}

// huge is what capturing and restoring one disk took, in seconds and memory.
type huge struct {
	captured, restored float64
	capture, restore   steps.Result
}

// hugeDisk captures and restores a disk of size bytes of which half is in use.
func hugeDisk(ctx context.Context, dir string, size int64) (h huge, err error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return h, err
	}
	gold, part := path(dir, "gold"), path(dir, "part")
	defer os.RemoveAll(dir)
	const gib = 1 << 30
	err = golddisk.BuildVolume(ctx, golddisk.VolumeSpec{Path: part, Size: size - 2*mib, Mkfs: []string{"mkfs.ext4", "-q", "-F"}, Fill: func(mounted string) error {
		for n := range size / 2 / gib {
			f, err := os.Create(path(mounted, fmt.Sprintf("specimens-%04d", n)))
			if err != nil {
				return err
			}
			if err := errors.Join(unix.Fallocate(int(f.Fd()), 0, 0, gib), f.Close()); err != nil {
				return err
			}
		}
		return nil
	}})
	if err != nil {
		return h, err
	}
	if err := golddisk.Blank(gold, size); err != nil {
		return h, err
	}
	if err := golddisk.Partition(ctx, gold, 512, "label: gpt\nstart=1M, type=linux\n"); err != nil {
		return h, err
	}
	// dd keeps the holes of the volume.
	if out, err := exec.CommandContext(ctx, "dd", "if="+part, "of="+gold, "bs=1M", "seek=1", "conv=notrunc,sparse", "status=none").CombinedOutput(); err != nil {
		return h, fmt.Errorf("dd: %w: %s", err, out)
	}
	if err := os.Remove(part); err != nil {
		return h, err
	}
	if h.captured, h.capture, err = step(ctx, "capture", gold, dir, "garden-desk@1"); err != nil {
		return h, err
	}
	target := path(dir, "target")
	if err := golddisk.Blank(target, size); err != nil {
		return h, err
	}
	if h.restored, h.restore, err = step(ctx, "restore", dir, "garden-desk@1", target); err != nil {
		return h, err
	}
	fmt.Printf("%-10s %-10s %10d %10.1f %12d %10.1f %12d\n", fmt.Sprintf("%d GiB", size>>30), fmt.Sprintf("%d GiB", h.capture.Used>>30), h.capture.Slabs, h.captured, h.capture.Peak>>20, h.restored, h.restore.Peak>>20)
	return h, nil
}

// manySlabs keeps half a million slabs in a folder.
func manySlabs(ctx context.Context, dir string) error {
	const slabs = 500_000
	store, err := slabstore.Open(dir)
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	since := func(from time.Time) float64 { return time.Since(from).Seconds() }
	digest := func(n int) (slabstore.Digest, []byte) {
		plain := binary.BigEndian.AppendUint64(make([]byte, 0, 64), uint64(n))
		plain = append(plain, make([]byte, 56)...)
		return slabstore.Sum(plain), plain
	}
	began := time.Now()
	for n := range slabs {
		d, plain := digest(n)
		if _, err := store.Put(d, slabstore.Compress(nil, plain)); err != nil {
			return err
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	if err := store.Flush(); err != nil {
		return err
	}
	filled := since(began)
	began = time.Now()
	if store, err = slabstore.Open(dir); err != nil {
		return err
	}
	opened := since(began)
	began = time.Now()
	for n := range 10_000 {
		if d, _ := digest(n * 37); !store.Has(d) {
			return fmt.Errorf("slab %d is not there", n*37)
		}
	}
	asked := since(began) / 10_000
	began = time.Now()
	var bytes int64
	count := 0
	for s, err := range store.All() {
		if err != nil {
			return err
		}
		count++
		bytes += s.Size
	}
	walked := since(began)
	took, _ := exec.CommandContext(ctx, "du", "-s", "--block-size=1", dir).Output()
	began = time.Now()
	for n := range 20_000 {
		d, _ := digest(n)
		if err := store.Remove(d); err != nil {
			return err
		}
	}
	removed := since(began) / 20_000
	fmt.Printf("\nA store of %d small slabs (the folder takes %s bytes for %d bytes of frames): filled at %.0f a second; opened in %.3f s; whether one is there %.0f µs; all gone through, as a prune does, in %.1f s; one removed in %.0f µs.\n",
		count, strings.Fields(string(took))[0], bytes, slabs/filled, opened, asked*1e6, walked, removed*1e6)
	fmt.Printf("Five million would be gone through in %.0f s, and a prune that removes half of them would take %.0f min; that is a folder's price, and grows with the number of slabs alone.\n", 10*walked, (10*walked+2.5e6*removed)/60)
	return nil
}
