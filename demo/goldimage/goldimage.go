// Package goldimage makes golden disks and captures them, for the tests of rooms that
// need a version.
package goldimage

import (
	"context"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"jugate/core/capture"
	"jugate/core/image"
	"jugate/core/slabstore"
	"jugate/demo/golddisk"
)

// Sink puts slabs straight into a store and counts them.
type Sink struct {
	*slabstore.Store
	mu   sync.Mutex
	Puts int
	Fail error // what Put returns after Left more slabs
	Left int
}

// Missing is capture.Sink's.
func (s *Sink) Missing(_ context.Context, digests []slabstore.Digest) (missing []slabstore.Digest, err error) {
	for _, d := range digests {
		if !s.Has(d) {
			missing = append(missing, d)
		}
	}
	return missing, nil
}

// Put is capture.Sink's.
func (s *Sink) Put(_ context.Context, d slabstore.Digest, frame []byte) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.Fail != nil {
		if s.Left--; s.Left < 0 {
			return s.Fail
		}
	}
	s.Puts++
	_, err := s.Store.Put(d, frame)
	return err
}

// NewSink has an empty store.
func NewSink(t *testing.T) *Sink {
	t.Helper()
	store, err := slabstore.Open(t.TempDir())
	require.NoError(t, err)
	return &Sink{Store: store}
}

// Build makes a golden disk; without a size of the EFI partition a small one.
func Build(t *testing.T, spec golddisk.Spec) *golddisk.Disk {
	t.Helper()
	if spec.ESP == 0 {
		spec.ESP, spec.FATBits, spec.Size, spec.Data = 3*golddisk.MiB, 12, 36*golddisk.MiB, 8*golddisk.MiB
	}
	spec.Path = filepath.Join(t.TempDir(), "gold")
	d, err := golddisk.Build(t.Context(), spec)
	require.NoError(t, err)
	return d
}

// Capture captures a golden disk.
func Capture(t *testing.T, d *golddisk.Disk, sink capture.Sink) (*image.Manifest, *image.Map, error) {
	t.Helper()
	f, err := os.Open(d.Path)
	require.NoError(t, err)
	defer f.Close()
	survey, err := capture.Look(f, d.Size, 512, capture.LookOptions{})
	require.NoError(t, err)
	return capture.Run(t.Context(), f, survey, sink, capture.Options{})
}

// Open makes a disk file full of old noise, as a workstation that was in use has it.
func Open(t *testing.T, size int64) *os.File {
	t.Helper()
	path := filepath.Join(t.TempDir(), "target")
	f, err := os.Create(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	b := make([]byte, golddisk.MiB)
	rand.NewChaCha8([32]byte{1}).Read(b)
	for off := int64(0); off < size; off += golddisk.MiB {
		_, err = f.WriteAt(b[:min(golddisk.MiB, size-off)], off)
		require.NoError(t, err)
	}
	return f
}
