package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"time"

	"jugate/bench/steps"
	"jugate/core/disk"
	"jugate/core/slabstore"
	"jugate/core/volume"
	"jugate/demo/golddisk"
)

const mib = 1 << 20

// bench is a golden disk of two volumes, ext4 and NTFS, filled with this machine's
// own programs and sources.
type bench struct {
	dir  string
	size int64
	gold string
	vols [2]vol
}

type vol struct {
	path, tool string
	start      int64
}

func (b *bench) build(ctx context.Context) error {
	b.gold = path(b.dir, "gold")
	half := (b.size/2 - 2*mib) / mib * mib
	b.vols = [2]vol{{path(b.dir, "ext4"), "ext4", mib}, {path(b.dir, "ntfs"), "ntfs", mib + half}}
	if err := golddisk.Blank(b.gold, b.size); err != nil {
		return err
	}
	script := fmt.Sprintf("label: gpt\nstart=1M, size=%dM, type=linux\nsize=%dM, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7\n", half/mib, half/mib)
	if err := golddisk.Partition(ctx, b.gold, 512, script); err != nil {
		return err
	}
	goroot, err := exec.CommandContext(ctx, "go", "env", "GOROOT").Output()
	if err != nil {
		return err
	}
	roots := [2]string{"/usr", strings.TrimSpace(string(goroot))}
	for i, mkfs := range [][]string{{"mkfs.ext4", "-q", "-F", "-E", "lazy_itable_init=0,lazy_journal_init=0"}, {"mkfs.ntfs", "-q", "-F", "-f"}} {
		left := b.size * 5 / 16
		err := golddisk.BuildVolume(ctx, golddisk.VolumeSpec{Path: b.vols[i].path, Size: half, Mkfs: mkfs, Fill: func(dir string) error {
			for _, root := range []string{roots[i], roots[1-i]} {
				if err := fillFrom(root, path(dir, fmt.Sprint(len(root))), &left); err != nil {
					return err
				}
			}
			return nil
		}})
		if err != nil {
			return err
		}
		if err := golddisk.Put(b.gold, b.vols[i].start, b.vols[i].path); err != nil {
			return err
		}
	}
	return nil
}

// fillFrom copies files until so many bytes are reached.
func fillFrom(from, to string, left *int64) error {
	return fs.WalkDir(os.DirFS(from), ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil || *left <= 0 {
			return nil // what cannot be read is left out
		}
		if e.IsDir() {
			return os.MkdirAll(path(to, name), 0o755)
		}
		if !e.Type().IsRegular() {
			return nil
		}
		content, err := os.ReadFile(path(from, name))
		if err != nil || int64(len(content)) > *left {
			return nil
		}
		*left -= int64(len(content))
		return os.WriteFile(path(to, name), content, 0o644)
	})
}

// change overwrites files of both volumes until a share of the used bytes is other
// than before, and tells how many that are.
func (b *bench) change(ctx context.Context, share float64, used int64) (changed int64, err error) {
	noise := rand.NewChaCha8([32]byte{9})
	left := int64(share * float64(used) / 2)
	for _, v := range b.vols {
		todo := left
		err := golddisk.Mounted(ctx, v.path, v.tool, false, func(dir string) error {
			return fs.WalkDir(os.DirFS(dir), ".", func(name string, e fs.DirEntry, err error) error {
				if err != nil || todo <= 0 || !e.Type().IsRegular() {
					return nil
				}
				info, err := e.Info()
				if err != nil || info.Size() < mib || info.Size() > 8*mib { // as with an update of programs
					return err
				}
				content := make([]byte, info.Size())
				noise.Read(content)
				todo -= info.Size()
				changed += info.Size()
				f, err := os.OpenFile(path(dir, name), os.O_WRONLY, 0)
				if err != nil {
					return err
				}
				_, err = f.Write(content)
				return errors.Join(err, f.Close())
			})
		})
		if err != nil {
			return changed, err
		}
		if err := overwrite(b.gold, v.start, v.path); err != nil {
			return changed, err
		}
	}
	return changed, nil
}

func overwrite(disk string, at int64, volume string) error {
	in, err := os.Open(volume)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(disk, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = io.Copy(io.NewOffsetWriter(out, at), in)
	return errors.Join(err, out.Close())
}

// timed runs a command and tells how many seconds it took as a whole process.
func timed(cmd *exec.Cmd) (out []byte, seconds float64, err error) {
	var b bytes.Buffer
	cmd.Stdout = &b
	start := time.Now()
	err = cmd.Run()
	return b.Bytes(), time.Since(start).Seconds(), err
}

func shell(ctx context.Context, script string) (float64, error) {
	_, u, err := timed(exec.CommandContext(ctx, "bash", "-c", "set -o pipefail; "+script))
	if err != nil {
		err = fmt.Errorf("%s: %w", script, err)
	}
	return u, err
}

// disk measures all that docs/performance.md says of one disk.
func (b *bench) disk(ctx context.Context) error {
	used, err := b.writeUsed(path(b.dir, "used"))
	if err != nil {
		return err
	}
	fmt.Printf("disk: %.1f GiB, %.2f GiB in use, ext4 and NTFS\n", gib(b.size), gib(used))
	const rounds = 3
	var rows [][]string
	row := func(what string, ours, theirs []float64, rule string, peak int64) {
		o, t := median(ours), median(theirs)
		rows = append(rows, []string{what, span(ours), span(theirs), fmt.Sprintf("%.2f", o/t), rule, fmt.Sprintf("%d MiB", peak/mib)})
	}

	var pipe, pipeB3, first, second, copies, synced, restores, writes []float64
	var peaks [3]int64
	var added, changed steps.Result
	for round := range rounds {
		forget()
		u, err := shell(ctx, fmt.Sprintf("tee >(sha256sum > %[1]s/sum) < %[1]s/used | zstd -1 -T0 -q -f -o %[1]s/used.zst; sync %[1]s/used.zst; rm %[1]s/used.zst", b.dir))
		if err != nil {
			return err
		}
		pipe = append(pipe, u)
		if _, err := exec.LookPath("b3sum"); err != nil {
			fmt.Fprintln(os.Stderr, "without b3sum")
		} else if forget(); err == nil {
			if u, err = shell(ctx, fmt.Sprintf("tee >(b3sum > %[1]s/sum) < %[1]s/used | zstd -1 -T0 -q -f -o %[1]s/used.zst; sync %[1]s/used.zst; rm %[1]s/used.zst", b.dir)); err != nil {
				return err
			}
			pipeB3 = append(pipeB3, u)
		}
		store := path(b.dir, fmt.Sprint("store", round))
		forget()
		took, r, err := step(ctx, "capture", b.gold, store, "garden-desk@1")
		if err != nil {
			return err
		}
		first, peaks[0] = append(first, took), max(peaks[0], r.Peak)
		used = r.Used

		target := path(b.dir, "target")
		if err := golddisk.Blank(target, b.size); err != nil {
			return err
		}
		forget()
		if took, r, err = step(ctx, "restore", store, "garden-desk@1", target); err != nil {
			return err
		}
		restores, writes, peaks[1] = append(restores, took), append(writes, r.Written), max(peaks[1], r.Peak)
		if err := os.Remove(target); err != nil {
			return err
		}
		forget()
		if u, err = shell(ctx, fmt.Sprintf("cp --sparse=always %s %s", b.gold, target)); err != nil {
			return err
		}
		copies = append(copies, u)
		if u2, err := shell(ctx, "sync "+target); err != nil {
			return err
		} else {
			synced = append(synced, u+u2)
		}
		os.Remove(target)
		if round < rounds-1 {
			os.RemoveAll(store)
		}
	}
	// The change is made once, so the second capture is measured once into each of
	// the stores that have the first: here, the last one.
	store := path(b.dir, fmt.Sprint("store", rounds-1))
	overwritten, err := b.change(ctx, 0.05, used)
	if err != nil {
		return err
	}
	forget()
	took, r, err := step(ctx, "capture", b.gold, store, "garden-desk@2")
	if err != nil {
		return err
	}
	second, peaks[2], added = append(second, took), r.Peak, r
	if changed, err = compareVersions(store); err != nil {
		return err
	}

	lean, leaned, err := step(ctx, "lean", store, "garden-desk@1", "garden-desk@2")
	if err != nil {
		return err
	}

	row("capture into an empty store / the used bytes through `tee >(sha256sum) \\| zstd -1 -T0`", first, pipe, "at most 1", peaks[0])
	if len(pipeB3) > 0 {
		row("the same / with `b3sum` for the digest", first, pipeB3, "at most 0.9", peaks[0])
	}
	row("second capture, 5 % changed / first capture", second, first, "under 0.25", peaks[2])
	row("restore onto an empty disk file, written / `cp --sparse=always` of the raw disk", writes, copies, "at most 1.2", peaks[1])
	row("the same, synced and every byte read back / `cp --sparse=always` and `sync`", restores, synced, "at most 1.5", peaks[1])
	fmt.Println("\n| measured | seconds | beside it | ratio | wanted | peak memory |\n|---|---|---|---|---|---|")
	for _, r := range rows {
		fmt.Println("| " + strings.Join(r, " | ") + " |")
	}
	fmt.Printf("\n%d bytes of files were overwritten. The second version adds %d bytes to the store, %.2f of that (at most 1.15 wanted): %d of its %d new slabs lean on others, which took %.1f s with %d MiB.\n",
		overwritten, added.NewBytes+leaned.NewBytes, float64(added.NewBytes+leaned.NewBytes)/float64(overwritten), leaned.NewSlabs, added.NewSlabs, lean, leaned.Peak/mib)
	fmt.Printf("\nThe second capture stored %d slabs; %d slabs had changed: ratio %.2f (at most 1.1 wanted). It added %.0f MiB of plain bytes, %.1f %% of those in use.\n",
		added.NewSlabs, changed.NewSlabs, float64(added.NewSlabs)/float64(max(changed.NewSlabs, 1)), float64(changed.NewBytes)/mib, 100*float64(changed.NewBytes)/float64(used))
	return nil
}

// forget empties the page cache, so that all begin with reading the disk.
func forget() {
	syscall.Sync()
	if err := os.WriteFile("/proc/sys/vm/drop_caches", []byte("3"), 0o200); err != nil {
		fmt.Fprintln(os.Stderr, "the page cache stays:", err)
	}
}

func gib(n int64) float64 { return float64(n) / (1 << 30) }

// writeUsed writes the bytes in use one after the other into a file.
func (b *bench) writeUsed(name string) (int64, error) {
	d, err := disk.Open(b.gold, disk.Options{})
	if err != nil {
		return 0, err
	}
	defer d.Close()
	out, err := os.Create(name)
	if err != nil {
		return 0, err
	}
	var sum int64
	for i, v := range b.vols {
		info, err := os.Stat(v.path)
		if err != nil {
			return 0, err
		}
		r := io.NewSectionReader(d, b.vols[i].start, info.Size())
		opened, err := volume.Open(r, info.Size())
		if err != nil {
			return 0, err
		}
		for e, err := range opened.Used() {
			if err != nil {
				return 0, err
			}
			n, err := io.Copy(out, io.NewSectionReader(r, e.Start, e.Length))
			if sum += n; err != nil {
				return 0, err
			}
		}
	}
	return sum, out.Close()
}

// compareVersions counts the slabs of the second version that differ from those at
// the same place in the first.
func compareVersions(dir string) (steps.Result, error) {
	_, a, err := steps.Load(dir, "garden-desk@1")
	if err != nil {
		return steps.Result{}, err
	}
	_, b, err := steps.Load(dir, "garden-desk@2")
	if err != nil {
		return steps.Result{}, err
	}
	type at struct {
		area  int
		start int64
	}
	was := map[at]slabstore.Digest{}
	for i := range a.Len() {
		s := a.Slab(i)
		was[at{s.Area, s.Start}] = s.Digest
	}
	var r steps.Result
	for i := range b.Len() {
		if s := b.Slab(i); !s.Zero && was[at{s.Area, s.Start}] != s.Digest {
			r.NewSlabs++
			r.NewBytes += s.Length()
		}
	}
	return r, nil
}
