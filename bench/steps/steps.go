// Package steps are the steps that are measured in a process of their own: for its
// memory, a program that has little else in it. Each prints a Result.
package steps

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"jugate/core/capture"
	"jugate/core/disk"
	"jugate/core/image"
	"jugate/core/readiness"
	"jugate/core/restore"
	"jugate/core/roster"
	"jugate/core/slabstore"
)

// Result is what a step reports of itself.
type Result struct {
	Slabs    int   `json:"slabs"`
	Used     int64 `json:"used"`
	NewSlabs int   `json:"new_slabs"`
	NewBytes int64 `json:"new_bytes"`
	Peak     int64 `json:"peak"` // bytes of memory
	// Written is after how many seconds everything was handed to the system.
	Written float64 `json:"written"`
}

// peak is the most memory this process has had, in bytes, as the kernel counts it.
func peak() int64 {
	text, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return 0
	}
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			var kib int64
			fmt.Sscan(rest, &kib)
			return kib << 10
		}
	}
	return 0
}

// counted is a store that counts what it is given.
type counted struct {
	*slabstore.Store
	mu     sync.Mutex
	result Result
}

func (s *counted) Missing(_ context.Context, digests []slabstore.Digest) (missing []slabstore.Digest, err error) {
	for _, d := range digests {
		if !s.Has(d) {
			missing = append(missing, d)
		}
	}
	return missing, nil
}

func (s *counted) Put(_ context.Context, d slabstore.Digest, frame []byte) error {
	added, err := s.Store.Keep(d, frame)
	if added {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.result.NewSlabs++
		s.result.NewBytes += int64(len(frame))
	}
	return err
}

// Capture is a capture from the survey to files that survive a loss of power.
func Capture(ctx context.Context, from, dir, ref string) error {
	d, err := disk.Open(from, disk.Options{})
	if err != nil {
		return err
	}
	defer d.Close()
	store, err := slabstore.Open(filepath.Join(dir, "slabs"))
	if err != nil {
		return err
	}
	survey, err := capture.Look(d, d.Size(), d.SectorSize(), capture.LookOptions{Rules: readiness.Rules{IdentityFiles: []string{}}})
	if err != nil {
		return err
	}
	sink := &counted{Store: store}
	man, slabs, err := capture.Run(ctx, d, survey, sink, capture.Options{Despite: &image.Override{Reason: "measured"}})
	if err != nil {
		return err
	}
	text, err := man.Encode()
	if err != nil {
		return err
	}
	version, err := roster.ParseRef(ref)
	if err != nil {
		return err
	}
	if err := errors.Join(store.Flush(), (image.Files{Dir: filepath.Join(dir, "images")}).Save(version, text, slabs.Bytes())); err != nil {
		return err
	}
	sink.result.Slabs, sink.result.Used = man.Slabs, man.UsedBytes
	return report(sink.result)
}

func Load(dir, ref string) (*image.Manifest, *image.Map, error) {
	version, err := roster.ParseRef(ref)
	if err != nil {
		return nil, nil, err
	}
	files := image.Files{Dir: filepath.Join(dir, "images")}
	name, _ := files.Paths(version)
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, nil, err
	}
	return files.Load(version, slabstore.Sum(text))
}

// Restore restores a version, reading every byte back.
func Restore(ctx context.Context, dir, ref, onto string) error {
	man, slabs, err := Load(dir, ref)
	if err != nil {
		return err
	}
	store, err := slabstore.Open(filepath.Join(dir, "slabs"))
	if err != nil {
		return err
	}
	d, err := disk.Open(onto, disk.Options{Write: true})
	if err != nil {
		return err
	}
	defer d.Close()
	r, err := restore.New(man, slabs, d, d.Size(), d.SectorSize(), restore.Options{})
	if err != nil {
		return err
	}
	if _, err := r.Begin(ctx, nil); err != nil {
		return err
	}
	start := time.Now()
	if err := r.Fill(ctx, store, nil); err != nil {
		return err
	}
	written := time.Since(start).Seconds()
	if err := r.Finish(ctx, nil); err != nil {
		return err
	}
	return report(Result{Slabs: man.Slabs, Used: man.UsedBytes, Written: written})
}

func report(r Result) error {
	r.Peak = peak()
	return json.NewEncoder(os.Stdout).Encode(r)
}
