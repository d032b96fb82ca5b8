package restore_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"jugate/demo/goldimage"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/capture"
	"jugate/core/image"
	"jugate/core/partition"
	"jugate/core/readiness"
	"jugate/core/restore"
	"jugate/demo/golddisk"
)

const Mib = golddisk.MiB

// Part is a partition of a test disk: where it begins and what mkfs makes of it.
type Part struct {
	Number int
	Start  int64 // bytes
	Size   int64
	Mkfs   string
	Data   int64
	Mixed  bool // fragmented
}

func (p Part) Tool() string { return strings.TrimPrefix(strings.Fields(p.Mkfs)[0], "mkfs.") }

// Golden is a disk of several volumes, and what its files are.
type Golden struct {
	Path       string
	Size       int64
	SectorSize int
	Parts      []Part
	Files      map[int]map[string]string
}

// Compose makes a disk. script is sfdisk's; without one the disk has no table.
func Compose(t *testing.T, size int64, sectorSize int, script string, parts ...Part) *Golden {
	t.Helper()
	dir := t.TempDir()
	g := &Golden{Path: filepath.Join(dir, "gold"), Size: size, SectorSize: sectorSize, Parts: parts, Files: map[int]map[string]string{}}
	require.NoError(t, golddisk.Blank(g.Path, size))
	if script != "" {
		require.NoError(t, golddisk.Partition(t.Context(), g.Path, sectorSize, script))
	}
	for i, p := range parts {
		vol := filepath.Join(dir, fmt.Sprint("volume", i))
		require.NoError(t, golddisk.BuildVolume(t.Context(), golddisk.VolumeSpec{
			Path: vol, Size: p.Size, Mkfs: strings.Fields(p.Mkfs), Data: p.Data, Seed: uint64(i), Fragmented: p.Mixed}))
		if p.Tool() != "mkswap" && p.Tool() != "vfat" {
			files, err := golddisk.VolumeFiles(t.Context(), vol, p.Tool())
			require.NoError(t, err)
			g.Files[p.Number] = files
		}
		require.NoError(t, golddisk.Put(g.Path, p.Start, vol))
	}
	return g
}

// Shapes are disks as people have them. The sizes tried are the golden disk's own
// and others, with the partition that grows.
var Shapes = map[string]struct {
	build  func(t *testing.T) *Golden
	onto   map[int64]partition.Grow
	scheme partition.Scheme
}{
	"GPT with a recovery partition behind": {
		func(t *testing.T) *Golden {
			return Compose(t, 300*Mib, 512, `label: gpt
start=2048, size=40M, type=uefi
size=16M, type=E3C9E316-0B5C-4DB8-817D-F92DF00215AE
size=120M, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7, name="desk", attrs="RequiredPartition"
size=30M, type=DE94BBA4-06D1-4D40-A16A-BFD50179D6AC
`,
				Part{1, Mib, 40 * Mib, "mkfs.vfat -F 32 -s 1 -h 2048", 0, false},
				Part{3, 57 * Mib, 120 * Mib, "mkfs.ntfs -q -F -f -p 116736 -L desk", 40 * Mib, true},
				Part{4, 177 * Mib, 30 * Mib, "mkfs.ntfs -q -F -f -p 362496 -c 1024", 22 * Mib, false})
		},
		map[int64]partition.Grow{300 * Mib: partition.GrowLast, 500 * Mib: 3, 400*Mib + 512: partition.GrowLast, 208 * Mib: partition.GrowLast},
		partition.GPT,
	},
	"GPT with many kinds": {
		func(t *testing.T) *Golden {
			return Compose(t, 1100*Mib, 512, `label: gpt
start=1M, size=100M, type=linux, name="boot"
size=8M, type=swap
size=310M, type=linux
size=200M, type=linux
size=100M, type=linux
`,
				Part{1, Mib, 100 * Mib, "mkfs.ext4 -q -F -O bigalloc -C 65536", 30 * Mib, true},
				Part{2, 101 * Mib, 8 * Mib, "mkswap -q", 0, false},
				Part{3, 109 * Mib, 310 * Mib, "mkfs.xfs -q -f", 40 * Mib, true},
				Part{4, 419 * Mib, 200 * Mib, "mkfs.btrfs -q -f -m single", 30 * Mib, true},
				Part{5, 619 * Mib, 100 * Mib, "mkfs.exfat -L notes", 20 * Mib, true})
		},
		map[int64]partition.Grow{1100 * Mib: partition.GrowNone, 1500 * Mib: 3, 721 * Mib: partition.GrowLast},
		partition.GPT,
	},
	"MBR with logical partitions": {
		func(t *testing.T) *Golden {
			return Compose(t, 300*Mib, 512, `label: dos
label-id: 0x5eedba4c
start=2048, size=204800, type=7, bootable
start=206848, size=380000, type=f
start=208896, size=131072, type=83
start=342016, size=131072, type=7
`,
				Part{1, Mib, 100 * Mib, "mkfs.ntfs -q -F -f -p 2048 -c 65536", 30 * Mib, true},
				Part{5, 102 * Mib, 64 * Mib, "mkfs.ext4 -q -F -b 1024 -m 0", 50 * Mib, false},
				Part{6, 167 * Mib, 64 * Mib, "mkfs.exfat -c 4K", 10 * Mib, true})
		},
		map[int64]partition.Grow{300 * Mib: partition.GrowNone, 500 * Mib: 5, 450 * Mib: 1, 232 * Mib: partition.GrowLast},
		partition.MBR,
	},
	"NTFS that moves and shrinks at once": {
		func(t *testing.T) *Golden {
			return Compose(t, 152*Mib, 512, `label: gpt
start=1M, size=10M, type=linux
start=50M, size=100M, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7
`,
				Part{1, Mib, 10 * Mib, "mkfs.ext4 -q -F", Mib, false},
				Part{2, 50 * Mib, 100 * Mib, "mkfs.ntfs -q -F -f -p 102400", 6 * Mib, true})
		},
		map[int64]partition.Grow{},
		partition.GPT,
	},
	"no table, one file system": {
		func(t *testing.T) *Golden {
			return Compose(t, 64*Mib, 512, "", Part{0, 0, 64 * Mib, "mkfs.ext4 -q -F -b 4096", 20 * Mib, true})
		},
		map[int64]partition.Grow{64 * Mib: partition.GrowLast, 100 * Mib: partition.GrowLast},
		partition.None,
	},
	"sectors of 4096 bytes": {
		func(t *testing.T) *Golden {
			return Compose(t, 200*Mib, 4096, `label: gpt
start=256, size=16384, type=linux
size=16384, type=linux
`,
				Part{1, Mib, 64 * Mib, "mkfs.ntfs -q -F -f -s 4096", 20 * Mib, true},
				Part{2, 65 * Mib, 64 * Mib, "mkfs.ext4 -q -F -b 4096", 20 * Mib, true})
		},
		map[int64]partition.Grow{200 * Mib: partition.GrowLast, 300 * Mib: 1, 130 * Mib: partition.GrowLast},
		partition.GPT,
	},
}

func TestDisksAsPeopleHaveThem(t *testing.T) {
	for name, shape := range Shapes {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			gold := shape.build(t)
			f, err := os.Open(gold.Path)
			require.NoError(t, err)
			defer f.Close()
			survey, err := capture.Look(f, gold.Size, gold.SectorSize, capture.LookOptions{})
			require.NoError(t, err)
			require.NoError(t, survey.Blocking())
			assert.Equal(t, shape.scheme, survey.Table.Scheme)
			sink := goldimage.NewSink(t)
			man, slabs, err := capture.Run(t.Context(), f, survey, sink, capture.Options{})
			require.NoError(t, err)
			text, err := man.Encode()
			require.NoError(t, err)
			man, err = image.ParseManifest(text)
			require.NoError(t, err)
			slabs, err = image.ParseMap(slabs.Bytes(), man)
			require.NoError(t, err)

			shape.onto[man.LeastDisk()] = partition.GrowNone
			for size, grow := range shape.onto {
				t.Run(fmt.Sprintf("%d MiB, %s grows", size/Mib, grow), func(t *testing.T) {
					target := goldimage.Open(t, size)
					r, err := restore.New(man, slabs, target, size, gold.SectorSize, restore.Options{Grow: grow})
					require.NoError(t, err)
					_, err = r.Begin(t.Context(), nil)
					require.NoError(t, err)
					require.NoError(t, r.Fill(t.Context(), sink, nil))
					require.NoError(t, r.Finish(t.Context(), nil))
					gold.Judge(t, target.Name(), r.Plan(), size > gold.Size && grow != partition.GrowNone)
				})
			}
			least := man.LeastDisk()
			_, err = restore.New(man, slabs, nil, least-1, gold.SectorSize, restore.Options{})
			var small *partition.TooSmallError
			require.ErrorAs(t, err, &small)
			assert.Equal(t, least, small.Need)
			_, err = restore.New(man, slabs, nil, least, gold.SectorSize, restore.Options{})
			assert.NoError(t, err)
		})
	}
}

// Judge lets sfdisk, the checkers of the file systems and the digests of all files
// say whether a disk is right.
func (g *Golden) Judge(t *testing.T, path string, table *partition.Table, grown bool) {
	if table.Scheme != partition.None {
		require.NoError(t, golddisk.VerifyPartitions(t.Context(), path, g.SectorSize))
		assert.Equal(t, grown, table.Sectors > uint64(g.Size)/uint64(g.SectorSize) && LastEnds(table))
	}
	disk := golddisk.Disk{Path: path}
	for _, p := range g.Parts {
		start, size := int64(0), p.Size
		if entry, ok := table.Partition(p.Number); ok {
			start, size = table.Start(entry), table.Size(entry)
		}
		vol, err := disk.Extract(start, size)
		require.NoError(t, err)
		defer os.Remove(vol)
		if p.Tool() != "mkswap" {
			assert.NoError(t, golddisk.CheckVolume(t.Context(), vol, p.Tool()), "partition %d", p.Number)
		}
		if want, ok := g.Files[p.Number]; ok {
			got, err := golddisk.VolumeFiles(t.Context(), vol, p.Tool())
			require.NoError(t, err)
			assert.Equal(t, want, got, "partition %d", p.Number)
		}
		if p.Tool() == "ntfs" || p.Tool() == "vfat" {
			b := make([]byte, 512)
			f, err := os.Open(vol)
			require.NoError(t, err)
			_, err = f.ReadAt(b, 0)
			require.NoError(t, err)
			require.NoError(t, f.Close())
			if hidden := int64(b[0x1C]) | int64(b[0x1D])<<8 | int64(b[0x1E])<<16 | int64(b[0x1F])<<24; hidden != 0 {
				assert.Equal(t, start/int64(g.SectorSize), hidden, "partition %d knows where it begins", p.Number)
			}
		}
	}
}

// LastEnds tells whether less than 1 MiB is left behind the last partition.
func LastEnds(t *partition.Table) bool {
	end := uint64(0)
	for _, p := range t.Partitions {
		end = max(end, p.Last)
	}
	return (t.LastUsable-end)*uint64(t.SectorSize) < Mib
}

func TestARestoreThatWasCutOffGoesOn(t *testing.T) {
	for name, gold := range map[string]*Golden{
		"with a table": Compose(t, 100*Mib, 512, "label: gpt\nstart=2048, size=64M, type=linux\n", Part{1, Mib, 64 * Mib, "mkfs.ext4 -q -F", 30 * Mib, true}),
		"without":      Compose(t, 64*Mib, 512, "", Part{0, 0, 64 * Mib, "mkfs.ext4 -q -F", 30 * Mib, true}),
	} {
		t.Run(name, func(t *testing.T) {
			f, err := os.Open(gold.Path)
			require.NoError(t, err)
			defer f.Close()
			survey, err := capture.Look(f, gold.Size, 512, capture.LookOptions{})
			require.NoError(t, err)
			sink := goldimage.NewSink(t)
			man, slabs, err := capture.Run(t.Context(), f, survey, sink, capture.Options{})
			require.NoError(t, err)
			target := goldimage.Open(t, gold.Size)
			begin := func() (*restore.Restore, int64) {
				r, err := restore.New(man, slabs, target, gold.Size, 512, restore.Options{Label: "garden-desk@3"})
				require.NoError(t, err)
				found, err := r.Begin(t.Context(), nil)
				require.NoError(t, err)
				return r, found
			}
			t.Log("# half of the slabs come, then the power fails")
			r, found := begin()
			assert.Zero(t, found)
			missing := slices.Collect(r.Missing().All())
			for _, i := range missing[:len(missing)/2] {
				frame, err := sink.Frame(slabs.Slab(i).Digest)
				require.NoError(t, err)
				_, err = r.WriteFrame(i, frame)
				require.NoError(t, err)
			}
			after, err := capture.Look(target, gold.Size, 512, capture.LookOptions{})
			require.NoError(t, err)
			require.NotNil(t, after.Unfinished)
			assert.Equal(t, "garden-desk@3", after.Unfinished.Label)
			assert.Equal(t, partition.None, after.Table.Scheme)
			assert.Len(t, after.Areas, 1, "no file system is found on it")
			assert.EqualValues(t, "unknown", string(after.Areas[0].Kind))

			t.Log("# one of the slabs is damaged before the next try")
			_, err = target.WriteAt([]byte("other"), survey.Table.GapEnd()%gold.Size+20*Mib)
			require.NoError(t, err)
			r, found = begin()
			assert.Greater(t, found, man.UsedBytes/4)
			assert.Less(t, r.Left(), len(missing))
			assert.GreaterOrEqual(t, r.Left(), len(missing)/2)
			require.NoError(t, r.Fill(t.Context(), sink, nil))
			require.NoError(t, r.Finish(t.Context(), nil))
			gold.Judge(t, target.Name(), r.Plan(), false)

			t.Log("# another image begins from the start")
			other := *man
			other.Captured = other.Captured.AddDate(0, 0, 1)
			r2, err := restore.New(&other, slabs, target, gold.Size, 512, restore.Options{})
			require.NoError(t, err)
			found, err = r2.Begin(t.Context(), nil)
			require.NoError(t, err)
			assert.Zero(t, found)
		})
	}
}

// Worn is a disk that cannot read some of its bytes.
type Worn struct {
	*os.File
	Bad [][2]int64 // start and end
}

func (w Worn) ReadAt(b []byte, off int64) (int, error) {
	for _, e := range w.Bad {
		if off < e[1] && off+int64(len(b)) > e[0] {
			n := max(e[0]-off, 0)
			return int(n), fmt.Errorf("input/output error")
		}
	}
	return w.File.ReadAt(b, off)
}

func TestBadSectorsAreNamedOrStopTheCapture(t *testing.T) {
	gold := Compose(t, 40*Mib, 512, "label: gpt\nstart=2048, size=32M, type=linux\n", Part{1, Mib, 32 * Mib, "mkfs.ext4 -q -F -b 4096", 21 * Mib, false})
	f, err := os.Open(gold.Path)
	require.NoError(t, err)
	defer f.Close()
	survey, err := capture.Look(f, gold.Size, 512, capture.LookOptions{})
	require.NoError(t, err)
	at := int64(4 * Mib) // mkfs puts files elsewhere each time
	for b := make([]byte, 8192); bytes.Count(b, []byte{0}) > 1000; at += 64 << 10 {
		_, err = f.ReadAt(b, at+64<<10)
		require.NoError(t, err)
	}
	disk := Worn{f, [][2]int64{{at + 1000, at + 1001}, {at + 512*6, at + 512*9}}}
	_, _, err = capture.Run(t.Context(), disk, survey, goldimage.NewSink(t), capture.Options{})
	assert.ErrorContains(t, err, "at byte")
	assert.ErrorContains(t, err, "input/output error")

	sink := goldimage.NewSink(t)
	man, slabs, err := capture.Run(t.Context(), disk, survey, sink, capture.Options{PastBadSectors: true})
	require.NoError(t, err)
	assert.Equal(t, []image.Unreadable{{Partition: 1, Start: at - Mib + 512, Length: 512}, {Partition: 1, Start: at - Mib + 512*6, Length: 512 * 3}}, man.Unreadable)
	assert.EqualValues(t, 2048, man.UnreadableBytes())
	target := goldimage.Open(t, gold.Size)
	require.NoError(t, restored(t, man, slabs, sink.Store, target, gold.Size))
	want, got := make([]byte, 8192), make([]byte, 8192)
	_, err = f.ReadAt(want, at)
	require.NoError(t, err)
	_, err = target.ReadAt(got, at)
	require.NoError(t, err)
	clear(want[512:1024])
	clear(want[512*6 : 512*9])
	assert.Equal(t, want, got, "zeros where nothing could be read, all else as it was")
}

func TestWhatIsDoubtedIsCopiedWholeOrNotAtAll(t *testing.T) {
	gold := Compose(t, 40*Mib, 512, "label: gpt\nstart=2048, size=32M, type=linux\n", Part{1, Mib, 32 * Mib, "mkfs.ext4 -q -F -b 4096", 8 * Mib, false})
	f, err := os.OpenFile(gold.Path, os.O_RDWR, 0)
	require.NoError(t, err)
	defer f.Close()
	_, err = f.WriteAt([]byte{0}, Mib+1024+0x3A) // neither clean nor with errors
	require.NoError(t, err)
	look := func() *capture.Survey {
		survey, err := capture.Look(f, gold.Size, 512, capture.LookOptions{})
		require.NoError(t, err)
		return survey
	}
	_, _, err = capture.Run(t.Context(), f, look(), goldimage.NewSink(t), capture.Options{Despite: &image.Override{}})
	var unfit *capture.NotFitError
	require.ErrorAs(t, err, &unfit, "an empty reason is none")
	man, slabs, err := capture.Run(t.Context(), f, look(), goldimage.NewSink(t), capture.Options{Despite: &image.Override{Reason: "the machine is dying", By: "rowan"}})
	require.NoError(t, err)
	assert.Equal(t, "the machine is dying", man.Despite.Reason)
	assert.True(t, man.Areas[1].Whole)
	assert.True(t, man.Areas[1].Dirty)
	assert.EqualValues(t, 32*Mib, man.Areas[1].UsedBytes)
	var sum int64
	for i := range slabs.Len() {
		if s := slabs.Slab(i); s.Area == 1 {
			sum += s.Length()
		}
	}
	assert.EqualValues(t, 32*Mib, sum)
	codes := []string{}
	for _, found := range man.Findings {
		if found.Severity == readiness.Blocking {
			codes = append(codes, found.Code)
		}
	}
	assert.Equal(t, []string{"unclean"}, codes, "the version keeps what was found")

	t.Log("# a bitmap that contradicts itself")
	_, err = f.WriteAt([]byte{1}, Mib+1024+0x3A)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte{0x7F}, Mib+4096+3) // the bitmap of group 0, said to lie behind the end
	require.NoError(t, err)
	assert.ErrorContains(t, look().Blocking(), "damaged")
}
