package main

import (
	"context"
	"fmt"
	"math"
	"os"
	"runtime"
	"slices"
	"sync"
	"time"

	"github.com/klauspost/compress/s2"
	"github.com/klauspost/compress/zstd"

	"jugate/core/slabstore"
)

// slabs measures slab sizes and compressions on the bytes in use of the disk: how
// small they make the store, how fast they are on all cores, and how much more
// must be stored after 5 % of the disk have changed.
func (b *bench) slabs(ctx context.Context) error {
	before, after := path(b.dir, "before"), path(b.dir, "after")
	used, err := b.writeUsed(before)
	if err != nil {
		return err
	}
	if _, err := b.change(ctx, 0.05, used); err != nil {
		return err
	}
	if _, err := b.writeUsed(after); err != nil {
		return err
	}
	old, err := os.ReadFile(before)
	if err != nil {
		return err
	}
	fmt.Printf("bytes in use: %.2f GiB\n\n| slabs of | how many | stored twice | after 5 %% changed, new |\n|---|---|---|---|\n", gib(used))
	changed, err := os.ReadFile(after)
	if err != nil {
		return err
	}
	sizes := []int{256 << 10, 512 << 10, 1 << 20, 2 << 20, 4 << 20}
	for _, size := range sizes {
		has := map[slabstore.Digest]bool{}
		twice, total := 0, 0
		for piece := range slices.Chunk(old, size) {
			d := slabstore.Sum(piece)
			if total++; has[d] {
				twice++
			}
			has[d] = true
		}
		added := 0
		for piece := range slices.Chunk(changed, size) {
			if d := slabstore.Sum(piece); !has[d] {
				has[d] = true
				added += len(piece)
			}
		}
		fmt.Printf("| %d KiB | %d | %.1f %% | %.1f %% |\n", size>>10, total, 100*float64(twice)/float64(total), 100*float64(added)/float64(len(changed)))
	}
	fmt.Println("\n| compression | slabs of | stored / plain | compress, MB/s | expand, MB/s |\n|---|---|---|---|---|")
	sample := old[:min(len(old), 1<<30)]
	for _, c := range codecs() {
		for _, size := range sizes {
			if size != 1<<20 && c.name != "zstd fastest" {
				continue
			}
			ratio, in, out := c.measure(sample, size)
			fmt.Printf("| %s | %d KiB | %.3f | %.0f | %.0f |\n", c.name, size>>10, ratio, in, out)
		}
	}
	return nil
}

type codec struct {
	name     string
	compress func(dst, src []byte) []byte
	expand   func(dst, src []byte) []byte
}

func codecs() []codec {
	decoder, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(0))
	if err != nil {
		panic(err)
	}
	var all []codec
	for _, level := range []zstd.EncoderLevel{zstd.SpeedFastest, zstd.SpeedDefault, zstd.SpeedBetterCompression} {
		encoder, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(level), zstd.WithEncoderCRC(false), zstd.WithSingleSegment(true))
		if err != nil {
			panic(err)
		}
		all = append(all, codec{"zstd " + level.String(),
			func(dst, src []byte) []byte { return encoder.EncodeAll(src, dst) },
			func(dst, src []byte) []byte {
				plain, err := decoder.DecodeAll(src, dst)
				if err != nil {
					panic(err)
				}
				return plain
			}})
	}
	return append(all, codec{"S2 (for comparison; no open standard)",
		func(dst, src []byte) []byte { return s2.Encode(dst[:cap(dst)], src) },
		func(dst, src []byte) []byte {
			plain, err := s2.Decode(dst[:cap(dst)], src)
			if err != nil {
				panic(err)
			}
			return plain
		}})
}

// measure uses all cores, as a capture does. Rates count plain bytes.
func (c codec) measure(sample []byte, size int) (ratio, compress, expand float64) {
	pieces := slices.Collect(slices.Chunk(sample, size))
	frames := make([][]byte, len(pieces))
	start := time.Now()
	onAllCores(len(pieces), func(i int, scratch []byte) []byte {
		scratch = c.compress(scratch[:0], pieces[i])
		frames[i] = slices.Clone(scratch)
		return scratch
	})
	in := time.Since(start)
	stored := 0
	for _, f := range frames {
		stored += len(f)
	}
	start = time.Now()
	onAllCores(len(pieces), func(i int, scratch []byte) []byte { return c.expand(scratch[:0], frames[i]) })
	out := time.Since(start)
	mb := float64(len(sample)) / 1e6
	return float64(stored) / float64(len(sample)), mb / in.Seconds(), mb / out.Seconds()
}

func onAllCores(n int, f func(i int, scratch []byte) []byte) {
	var wg sync.WaitGroup
	next := make(chan int)
	for range runtime.NumCPU() {
		wg.Go(func() {
			scratch := make([]byte, 0, 9<<20)
			for i := range next {
				if s := f(i, scratch); cap(s) > cap(scratch) {
					scratch = s
				}
			}
		})
	}
	for i := range n {
		next <- i
	}
	close(next)
	wg.Wait()
}

func median(v []float64) float64 {
	if len(v) == 0 {
		return math.NaN()
	}
	s := slices.Sorted(slices.Values(v))
	return s[len(s)/2]
}

// span is the median and, of several, the smallest and the largest.
func span(v []float64) string {
	if len(v) == 1 {
		return fmt.Sprintf("%.1f", v[0])
	}
	return fmt.Sprintf("%.1f (%.1f–%.1f)", median(v), slices.Min(v), slices.Max(v))
}
