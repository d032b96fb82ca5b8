package restore_test

import (
	"bytes"
	"errors"
	"math/rand/v2"
	"os"
	"slices"
	"sync/atomic"
	"testing"

	"jugate/demo/goldimage"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/capture"
	"jugate/core/image"
	"jugate/core/partition"
	"jugate/core/restore"
	"jugate/core/slabstore"
	"jugate/demo/golddisk"
)

func restored(t *testing.T, man *image.Manifest, slabs *image.Map, store *slabstore.Store, target *os.File, size int64) error {
	t.Helper()
	r, err := restore.New(man, slabs, target, size, 512, restore.Options{})
	if err != nil {
		return err
	}
	_, err = r.Begin(t.Context(), nil)
	require.NoError(t, err)
	missing := slices.Collect(r.Missing().All())
	rand.Shuffle(len(missing), func(i, j int) { missing[i], missing[j] = missing[j], missing[i] })
	for _, i := range missing {
		frame, err := store.Frame(slabs.Slab(i).Digest)
		require.NoError(t, err)
		_, err = r.WriteFrame(i, frame)
		require.NoError(t, err)
	}
	return r.Finish(t.Context(), nil)
}

// least is the smallest disk that holds all partitions where they are: behind the
// last one 32 sectors of entries and a header.
func least(d *golddisk.Disk) int64 { return d.RootStart + d.RootSize + d.OtherSize + 33*512 }

func TestARestoredDiskIsTheGoldenOne(t *testing.T) {
	gold := goldimage.Build(t, golddisk.Spec{ESP: 33 * golddisk.MiB, Other: bytes.Repeat([]byte("no file system! "), 3*golddisk.MiB/16)})
	sink := goldimage.NewSink(t)
	man, slabs, err := goldimage.Capture(t, gold, sink)
	require.NoError(t, err)
	assert.Len(t, man.Areas, 4, "the gap and three partitions")
	assert.Less(t, man.UsedBytes, gold.Size*3/4)
	assert.Less(t, sink.Puts, man.Slabs-man.ZeroSlabs, "the third partition repeats itself")

	// Both halves of a version survive their own formats.
	text, err := man.Encode()
	require.NoError(t, err)
	man, err = image.ParseManifest(text)
	require.NoError(t, err)
	slabs, err = image.ParseMap(slabs.Bytes(), man)
	require.NoError(t, err)

	wantDump, err := gold.Dump(t.Context())
	require.NoError(t, err)
	wantFiles, err := gold.Files(t.Context())
	require.NoError(t, err)
	for name, size := range map[string]int64{"same size": gold.Size, "larger": gold.Size + 30*golddisk.MiB, "just fits": least(gold)} {
		t.Run(name, func(t *testing.T) {
			target := goldimage.Open(t, size)
			require.NoError(t, restored(t, man, slabs, sink.Store, target, size))
			got := gold.On(target.Name())
			dump, err := got.Dump(t.Context())
			require.NoError(t, err)
			assert.Equal(t, wantDump, dump)
			assert.NoError(t, got.VerifyTable(t.Context()))
			assert.NoError(t, got.Check(t.Context()))
			files, err := got.Files(t.Context())
			require.NoError(t, err)
			assert.Equal(t, wantFiles, files)
		})
	}

	small := least(gold) - 1
	var tooSmall *partition.TooSmallError
	require.ErrorAs(t, restored(t, man, slabs, sink.Store, goldimage.Open(t, small), small), &tooSmall)
	assert.Equal(t, least(gold), tooSmall.Need)
}

func TestCapturingAgainStoresJustTheChange(t *testing.T) {
	gold := goldimage.Build(t, golddisk.Spec{})
	sink := goldimage.NewSink(t)
	first, _, err := goldimage.Capture(t, gold, sink)
	require.NoError(t, err)
	stored := sink.Puts
	assert.Greater(t, stored, 8)
	assert.LessOrEqual(t, stored, first.Slabs-first.ZeroSlabs, "equal slabs are stored once")

	_, again, err := goldimage.Capture(t, gold, sink)
	require.NoError(t, err)
	assert.Equal(t, stored, sink.Puts, "an unchanged disk has no new slab")
	assert.Equal(t, first.MapDigest, slabstore.Sum(again.Bytes()))

	require.NoError(t, gold.AddFile(t.Context(), "added-later", []byte("one more label")))
	second, _, err := goldimage.Capture(t, gold, sink)
	require.NoError(t, err)
	assert.Greater(t, sink.Puts, stored)
	assert.LessOrEqual(t, sink.Puts-stored, 6, "a small file touches a few slabs")
	assert.NotEqual(t, first.MapDigest, second.MapDigest)
}

func TestACutCaptureGoesOnWhereItStopped(t *testing.T) {
	gold := goldimage.Build(t, golddisk.Spec{})
	sink := goldimage.NewSink(t)
	sink.Fail, sink.Left = errors.New("the cable is out"), 5
	_, _, err := goldimage.Capture(t, gold, sink)
	require.ErrorIs(t, err, sink.Fail)
	assert.Equal(t, 5, sink.Puts)

	sink.Fail = nil
	man, _, err := goldimage.Capture(t, gold, sink)
	require.NoError(t, err)
	whole := goldimage.NewSink(t)
	_, _, err = goldimage.Capture(t, gold, whole)
	require.NoError(t, err)
	assert.Equal(t, whole.Puts, sink.Puts, "the two tries together sent each slab once")
	assert.NotZero(t, man.Slabs)
}

func TestAnUncleanVolumeIsNotCaptured(t *testing.T) {
	gold := goldimage.Build(t, golddisk.Spec{})
	f, err := os.OpenFile(gold.Path, os.O_RDWR, 0)
	require.NoError(t, err)
	defer f.Close()
	_, err = f.WriteAt([]byte{0}, gold.RootStart+1024+0x3A) // s_state: neither clean nor with errors
	require.NoError(t, err)
	sink := goldimage.NewSink(t)
	_, _, err = goldimage.Capture(t, gold, sink)
	var unfit *capture.NotFitError
	require.ErrorAs(t, err, &unfit)
	assert.ErrorContains(t, err, "partition 2 (desk root)")
	assert.ErrorContains(t, err, "not shut down cleanly")
	assert.Zero(t, sink.Puts)
}

func TestAnUnfinishedRestoreIsNotBootable(t *testing.T) {
	gold := goldimage.Build(t, golddisk.Spec{})
	sink := goldimage.NewSink(t)
	man, slabs, err := goldimage.Capture(t, gold, sink)
	require.NoError(t, err)
	target := goldimage.Open(t, gold.Size)
	require.NoError(t, restored(t, man, slabs, sink.Store, target, gold.Size)) // an older delivery

	r, err := restore.New(man, slabs, target, gold.Size, 512, restore.Options{})
	require.NoError(t, err)
	_, err = r.Begin(t.Context(), nil)
	require.NoError(t, err)
	frame, err := sink.Frame(slabs.Slab(FirstStored(slabs)).Digest)
	require.NoError(t, err)
	_, err = r.WriteFrame(FirstStored(slabs), frame)
	require.NoError(t, err)
	assert.ErrorIs(t, r.Finish(t.Context(), nil), restore.ErrIncomplete)
	table, err := partition.Read(target, gold.Size, 512)
	require.NoError(t, err)
	assert.Equal(t, partition.None, table.Scheme)
	survey, err := capture.Look(target, gold.Size, 512, capture.LookOptions{})
	require.NoError(t, err)
	assert.NotNil(t, survey.Unfinished)
	assert.ErrorContains(t, survey.Blocking(), "a restore onto it was cut off")
}

func FirstStored(slabs *image.Map) int {
	for i := range slabs.Len() {
		if !slabs.Slab(i).Zero {
			return i
		}
	}
	return -1
}

func TestAWrongFrameIsNotWritten(t *testing.T) {
	gold := goldimage.Build(t, golddisk.Spec{})
	sink := goldimage.NewSink(t)
	man, slabs, err := goldimage.Capture(t, gold, sink)
	require.NoError(t, err)
	target := goldimage.Open(t, gold.Size)
	before, err := os.ReadFile(target.Name())
	require.NoError(t, err)
	r, err := restore.New(man, slabs, target, gold.Size, 512, restore.Options{})
	require.NoError(t, err)
	other := slabstore.Compress(nil, []byte("from somewhere else"))
	assert.ErrorIs(t, wrote(r.WriteFrame(FirstStored(slabs), other)), slabstore.ErrDigest)
	assert.ErrorIs(t, wrote(r.WriteFrame(FirstStored(slabs), []byte("noise"))), slabstore.ErrFrame)
	assert.ErrorIs(t, wrote(r.WriteFrame(slabs.Len(), other)), image.ErrManifest)
	after, err := os.ReadFile(target.Name())
	require.NoError(t, err)
	assert.Equal(t, slabstore.Sum(before), slabstore.Sum(after))
}

// Forgetful is a disk that loses what is written behind a certain byte.
type Forgetful struct {
	*os.File
	From int64
}

func (f Forgetful) WriteAt(b []byte, off int64) (int, error) {
	if off >= f.From {
		return len(b), nil
	}
	return f.File.WriteAt(b, off)
}

func TestADiskThatForgetsIsFoundOut(t *testing.T) {
	gold := goldimage.Build(t, golddisk.Spec{})
	sink := goldimage.NewSink(t)
	man, slabs, err := goldimage.Capture(t, gold, sink)
	require.NoError(t, err)
	target := Forgetful{goldimage.Open(t, gold.Size), gold.RootStart + 4*golddisk.MiB}
	r, err := restore.New(man, slabs, target, gold.Size, 512, restore.Options{})
	require.NoError(t, err)
	for i := range r.Missing().All() {
		frame, err := sink.Frame(slabs.Slab(i).Digest)
		require.NoError(t, err)
		_, err = r.WriteFrame(i, frame)
		require.NoError(t, err)
	}
	var mismatch *restore.MismatchError
	require.ErrorAs(t, r.Finish(t.Context(), nil), &mismatch)
	assert.GreaterOrEqual(t, mismatch.First, target.From-image.SlabSize)
	assert.NotEmpty(t, mismatch.Slabs)
}

func TestManifestsThatLieAreRefused(t *testing.T) {
	gold := goldimage.Build(t, golddisk.Spec{Data: golddisk.MiB})
	man, slabs, err := goldimage.Capture(t, gold, goldimage.NewSink(t))
	require.NoError(t, err)
	for name, lie := range map[string]func(m *image.Manifest){
		"another format":        func(m *image.Manifest) { m.Format = "other" },
		"no table":              func(m *image.Manifest) { m.Table = nil },
		"slab size":             func(m *image.Manifest) { m.SlabSize = 1 << 40 },
		"area without a place":  func(m *image.Manifest) { m.Areas[1].Partition = 9 },
		"area of another size":  func(m *image.Manifest) { m.Areas[1].Size++ },
		"area twice":            func(m *image.Manifest) { m.Areas[1] = m.Areas[2] },
		"partition off the end": func(m *image.Manifest) { m.Table.Partitions[1].Last = 1 << 60 },
		"map size":              func(m *image.Manifest) { m.MapSize = image.MaxMap + 1 },
	} {
		text, err := man.Encode()
		require.NoError(t, err)
		m, err := image.ParseManifest(text)
		require.NoError(t, err)
		lie(m)
		text, err = m.Encode()
		require.NoError(t, err)
		_, err = image.ParseManifest(text)
		assert.ErrorIs(t, err, image.ErrManifest, name)
	}
	harmed := append([]byte(nil), slabs.Bytes()...)
	harmed[len(harmed)/2] ^= 1
	_, err = image.ParseMap(harmed, man)
	assert.ErrorIs(t, err, image.ErrManifest)
}

func FuzzParseMap(f *testing.F) {
	man := image.Manifest{SlabSize: image.SlabSize, Areas: []image.Area{{Size: 4 << 20, Needs: 4 << 20}, {Partition: 1, Size: 64 << 20, Needs: 60 << 20}}}
	f.Add([]byte("JUGMAP1\n\x00\x00\x03\x00\x80\x20"), 1, 1, int64(4096))
	f.Fuzz(func(t *testing.T, raw []byte, slabs, zeros int, used int64) {
		m := man
		m.Slabs, m.ZeroSlabs, m.UsedBytes = slabs, zeros, used
		m.MapSize, m.MapDigest = int64(len(raw)), slabstore.Sum(raw)
		parsed, err := image.ParseMap(raw, &m)
		if err != nil {
			return
		}
		for i := range parsed.Len() {
			s := parsed.Slab(i)
			for _, e := range s.Extents {
				if e.Start < s.Start || e.End() > m.Areas[s.Area].Needs || e.End() > s.Start+m.SlabSize {
					t.Fatalf("slab %d: %+v", i, s)
				}
			}
		}
	})
}

func wrote(_ bool, err error) error { return err }

// slowly is a disk on which the first write waits until another is done.
type slowly struct {
	*os.File
	begins        atomic.Bool
	begun, goesOn chan struct{}
}

func (s *slowly) WriteAt(b []byte, at int64) (int, error) {
	if s.begins.CompareAndSwap(false, true) {
		close(s.begun)
		<-s.goesOn
	}
	return s.File.WriteAt(b, at)
}

// A slab that is fetched while the stream brings it is counted once.
func TestASlabThatComesInTwoWaysAtOnceWasLackingOnce(t *testing.T) {
	gold := goldimage.Build(t, golddisk.Spec{})
	sink := goldimage.NewSink(t)
	man, slabs, err := goldimage.Capture(t, gold, sink)
	require.NoError(t, err)
	target := &slowly{File: goldimage.Open(t, gold.Size), begun: make(chan struct{}), goesOn: make(chan struct{})}
	r, err := restore.New(man, slabs, target, gold.Size, 512, restore.Options{})
	require.NoError(t, err)
	slab := FirstStored(slabs)
	frame, err := sink.Frame(slabs.Slab(slab).Digest)
	require.NoError(t, err)
	bring := func() bool {
		lacked, err := r.WriteFrame(slab, frame)
		assert.NoError(t, err)
		return lacked
	}
	slow := make(chan bool)
	go func() { slow <- bring() }()
	<-target.begun
	fast := make(chan bool)
	go func() { fast <- bring() }()
	if !assert.True(t, <-fast) {
		return
	}
	close(target.goesOn)
	assert.False(t, <-slow)
	assert.False(t, bring())
}
