package image_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/image"
	"jugate/core/partition"
	"jugate/core/readiness"
	"jugate/demo/golddisk"
)

const mib = golddisk.MiB

// part is a partition of a test disk: where it begins and what mkfs makes of it.
type part struct {
	number int
	start  int64 // bytes
	size   int64
	mkfs   string
	data   int64
	mixed  bool // fragmented
}

func (p part) tool() string { return strings.TrimPrefix(strings.Fields(p.mkfs)[0], "mkfs.") }

// golden is a disk of several volumes, and what its files are.
type golden struct {
	path       string
	size       int64
	sectorSize int
	parts      []part
	files      map[int]map[string]string
}

// compose makes a disk. script is sfdisk's; without one the disk has no table.
func compose(t *testing.T, size int64, sectorSize int, script string, parts ...part) *golden {
	t.Helper()
	dir := t.TempDir()
	g := &golden{path: filepath.Join(dir, "gold"), size: size, sectorSize: sectorSize, parts: parts, files: map[int]map[string]string{}}
	require.NoError(t, golddisk.Blank(g.path, size))
	if script != "" {
		require.NoError(t, golddisk.Partition(t.Context(), g.path, sectorSize, script))
	}
	for i, p := range parts {
		vol := filepath.Join(dir, fmt.Sprint("volume", i))
		require.NoError(t, golddisk.BuildVolume(t.Context(), golddisk.VolumeSpec{
			Path: vol, Size: p.size, Mkfs: strings.Fields(p.mkfs), Data: p.data, Seed: uint64(i), Fragmented: p.mixed}))
		if p.tool() != "mkswap" && p.tool() != "vfat" {
			files, err := golddisk.VolumeFiles(t.Context(), vol, p.tool())
			require.NoError(t, err)
			g.files[p.number] = files
		}
		require.NoError(t, golddisk.Put(g.path, p.start, vol))
	}
	return g
}

// shapes are disks as people have them. The sizes tried are the golden disk's own
// and others, with the partition that grows.
var shapes = map[string]struct {
	build  func(t *testing.T) *golden
	onto   map[int64]partition.Grow
	scheme partition.Scheme
}{
	"GPT with a recovery partition behind": {
		func(t *testing.T) *golden {
			return compose(t, 300*mib, 512, `label: gpt
start=2048, size=40M, type=uefi
size=16M, type=E3C9E316-0B5C-4DB8-817D-F92DF00215AE
size=120M, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7, name="desk", attrs="RequiredPartition"
size=30M, type=DE94BBA4-06D1-4D40-A16A-BFD50179D6AC
`,
				part{1, mib, 40 * mib, "mkfs.vfat -F 32 -s 1 -h 2048", 0, false},
				part{3, 57 * mib, 120 * mib, "mkfs.ntfs -q -F -f -p 116736 -L desk", 40 * mib, true},
				part{4, 177 * mib, 30 * mib, "mkfs.ntfs -q -F -f -p 362496 -c 1024", 22 * mib, false})
		},
		map[int64]partition.Grow{300 * mib: partition.GrowLast, 500 * mib: 3, 400*mib + 512: partition.GrowLast, 208 * mib: partition.GrowLast},
		partition.GPT,
	},
	"GPT with many kinds": {
		func(t *testing.T) *golden {
			return compose(t, 1100*mib, 512, `label: gpt
start=1M, size=100M, type=linux, name="boot"
size=8M, type=swap
size=310M, type=linux
size=200M, type=linux
size=100M, type=linux
`,
				part{1, mib, 100 * mib, "mkfs.ext4 -q -F -O bigalloc -C 65536", 30 * mib, true},
				part{2, 101 * mib, 8 * mib, "mkswap -q", 0, false},
				part{3, 109 * mib, 310 * mib, "mkfs.xfs -q -f", 40 * mib, true},
				part{4, 419 * mib, 200 * mib, "mkfs.btrfs -q -f -m single", 30 * mib, true},
				part{5, 619 * mib, 100 * mib, "mkfs.exfat -L notes", 20 * mib, true})
		},
		map[int64]partition.Grow{1100 * mib: partition.GrowNone, 1500 * mib: 3, 721 * mib: partition.GrowLast},
		partition.GPT,
	},
	"MBR with logical partitions": {
		func(t *testing.T) *golden {
			return compose(t, 300*mib, 512, `label: dos
label-id: 0x5eedba4c
start=2048, size=204800, type=7, bootable
start=206848, size=380000, type=f
start=208896, size=131072, type=83
start=342016, size=131072, type=7
`,
				part{1, mib, 100 * mib, "mkfs.ntfs -q -F -f -p 2048 -c 65536", 30 * mib, true},
				part{5, 102 * mib, 64 * mib, "mkfs.ext4 -q -F -b 1024 -m 0", 50 * mib, false},
				part{6, 167 * mib, 64 * mib, "mkfs.exfat -c 4K", 10 * mib, true})
		},
		map[int64]partition.Grow{300 * mib: partition.GrowNone, 500 * mib: 5, 450 * mib: 1, 232 * mib: partition.GrowLast},
		partition.MBR,
	},
	"NTFS that moves and shrinks at once": {
		func(t *testing.T) *golden {
			return compose(t, 152*mib, 512, `label: gpt
start=1M, size=10M, type=linux
start=50M, size=100M, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7
`,
				part{1, mib, 10 * mib, "mkfs.ext4 -q -F", mib, false},
				part{2, 50 * mib, 100 * mib, "mkfs.ntfs -q -F -f -p 102400", 6 * mib, true})
		},
		map[int64]partition.Grow{},
		partition.GPT,
	},
	"no table, one file system": {
		func(t *testing.T) *golden {
			return compose(t, 64*mib, 512, "", part{0, 0, 64 * mib, "mkfs.ext4 -q -F -b 4096", 20 * mib, true})
		},
		map[int64]partition.Grow{64 * mib: partition.GrowLast, 100 * mib: partition.GrowLast},
		partition.None,
	},
	"sectors of 4096 bytes": {
		func(t *testing.T) *golden {
			return compose(t, 200*mib, 4096, `label: gpt
start=256, size=16384, type=linux
size=16384, type=linux
`,
				part{1, mib, 64 * mib, "mkfs.ntfs -q -F -f -s 4096", 20 * mib, true},
				part{2, 65 * mib, 64 * mib, "mkfs.ext4 -q -F -b 4096", 20 * mib, true})
		},
		map[int64]partition.Grow{200 * mib: partition.GrowLast, 300 * mib: 1, 130 * mib: partition.GrowLast},
		partition.GPT,
	},
}

func TestDisksAsPeopleHaveThem(t *testing.T) {
	for name, shape := range shapes {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			gold := shape.build(t)
			f, err := os.Open(gold.path)
			require.NoError(t, err)
			defer f.Close()
			survey, err := image.Look(f, gold.size, gold.sectorSize, image.LookOptions{})
			require.NoError(t, err)
			require.NoError(t, survey.Blocking())
			assert.Equal(t, shape.scheme, survey.Table.Scheme)
			sink := newSink(t)
			man, slabs, err := image.Capture(t.Context(), f, survey, sink, image.Options{})
			require.NoError(t, err)
			text, err := man.Encode()
			require.NoError(t, err)
			man, err = image.ParseManifest(text)
			require.NoError(t, err)
			slabs, err = image.ParseMap(slabs.Bytes(), man)
			require.NoError(t, err)

			shape.onto[man.LeastDisk()] = partition.GrowNone
			for size, grow := range shape.onto {
				t.Run(fmt.Sprintf("%d MiB, %s grows", size/mib, grow), func(t *testing.T) {
					target := open(t, size)
					r, err := image.NewRestore(man, slabs, target, size, gold.sectorSize, image.RestoreOptions{Grow: grow})
					require.NoError(t, err)
					_, err = r.Begin(t.Context(), nil)
					require.NoError(t, err)
					require.NoError(t, r.Fill(t.Context(), sink, nil))
					require.NoError(t, r.Finish(t.Context(), nil))
					gold.judge(t, target.Name(), r.Plan(), size > gold.size && grow != partition.GrowNone)
				})
			}
			least := man.LeastDisk()
			_, err = image.NewRestore(man, slabs, nil, least-1, gold.sectorSize, image.RestoreOptions{})
			var small *partition.TooSmallError
			require.ErrorAs(t, err, &small)
			assert.Equal(t, least, small.Need)
			_, err = image.NewRestore(man, slabs, nil, least, gold.sectorSize, image.RestoreOptions{})
			assert.NoError(t, err)
		})
	}
}

// judge lets sfdisk, the checkers of the file systems and the digests of all files
// say whether a disk is right.
func (g *golden) judge(t *testing.T, path string, table *partition.Table, grown bool) {
	if table.Scheme != partition.None {
		require.NoError(t, golddisk.VerifyPartitions(t.Context(), path, g.sectorSize))
		assert.Equal(t, grown, table.Sectors > uint64(g.size)/uint64(g.sectorSize) && lastEnds(table))
	}
	disk := golddisk.Disk{Path: path}
	for _, p := range g.parts {
		start, size := int64(0), p.size
		if entry, ok := table.Partition(p.number); ok {
			start, size = table.Start(entry), table.Size(entry)
		}
		vol, err := disk.Extract(start, size)
		require.NoError(t, err)
		defer os.Remove(vol)
		if p.tool() != "mkswap" {
			assert.NoError(t, golddisk.CheckVolume(t.Context(), vol, p.tool()), "partition %d", p.number)
		}
		if want, ok := g.files[p.number]; ok {
			got, err := golddisk.VolumeFiles(t.Context(), vol, p.tool())
			require.NoError(t, err)
			assert.Equal(t, want, got, "partition %d", p.number)
		}
		if p.tool() == "ntfs" || p.tool() == "vfat" {
			b := make([]byte, 512)
			f, err := os.Open(vol)
			require.NoError(t, err)
			_, err = f.ReadAt(b, 0)
			require.NoError(t, err)
			require.NoError(t, f.Close())
			if hidden := int64(b[0x1C]) | int64(b[0x1D])<<8 | int64(b[0x1E])<<16 | int64(b[0x1F])<<24; hidden != 0 {
				assert.Equal(t, start/int64(g.sectorSize), hidden, "partition %d knows where it begins", p.number)
			}
		}
	}
}

// lastEnds tells whether less than 1 MiB is left behind the last partition.
func lastEnds(t *partition.Table) bool {
	end := uint64(0)
	for _, p := range t.Partitions {
		end = max(end, p.Last)
	}
	return (t.LastUsable-end)*uint64(t.SectorSize) < mib
}

func TestARestoreThatWasCutOffGoesOn(t *testing.T) {
	for name, gold := range map[string]*golden{
		"with a table": compose(t, 100*mib, 512, "label: gpt\nstart=2048, size=64M, type=linux\n", part{1, mib, 64 * mib, "mkfs.ext4 -q -F", 30 * mib, true}),
		"without":      compose(t, 64*mib, 512, "", part{0, 0, 64 * mib, "mkfs.ext4 -q -F", 30 * mib, true}),
	} {
		t.Run(name, func(t *testing.T) {
			f, err := os.Open(gold.path)
			require.NoError(t, err)
			defer f.Close()
			survey, err := image.Look(f, gold.size, 512, image.LookOptions{})
			require.NoError(t, err)
			sink := newSink(t)
			man, slabs, err := image.Capture(t.Context(), f, survey, sink, image.Options{})
			require.NoError(t, err)
			target := open(t, gold.size)
			begin := func() (*image.Restore, int64) {
				r, err := image.NewRestore(man, slabs, target, gold.size, 512, image.RestoreOptions{Label: "garden-desk@3"})
				require.NoError(t, err)
				found, err := r.Begin(t.Context(), nil)
				require.NoError(t, err)
				return r, found
			}
			t.Log("# half of the slabs come, then the power fails")
			r, found := begin()
			assert.Zero(t, found)
			missing := r.Missing()
			for _, i := range missing[:len(missing)/2] {
				frame, err := sink.Frame(slabs.Slab(i).Digest)
				require.NoError(t, err)
				require.NoError(t, r.WriteFrame(i, frame))
			}
			after, err := image.Look(target, gold.size, 512, image.LookOptions{})
			require.NoError(t, err)
			require.NotNil(t, after.Unfinished)
			assert.Equal(t, "garden-desk@3", after.Unfinished.Label)
			assert.Equal(t, partition.None, after.Table.Scheme)
			assert.Len(t, after.Areas, 1, "no file system is found on it")
			assert.Equal(t, "unknown", string(after.Areas[0].Kind))

			t.Log("# one of the slabs is damaged before the next try")
			_, err = target.WriteAt([]byte("other"), survey.Table.GapEnd()%gold.size+20*mib)
			require.NoError(t, err)
			r, found = begin()
			assert.Greater(t, found, man.UsedBytes/4)
			assert.Less(t, r.Left(), len(missing))
			assert.GreaterOrEqual(t, r.Left(), len(missing)/2)
			require.NoError(t, r.Fill(t.Context(), sink, nil))
			require.NoError(t, r.Finish(t.Context(), nil))
			gold.judge(t, target.Name(), r.Plan(), false)

			t.Log("# another image begins from the start")
			other := *man
			other.Captured = other.Captured.AddDate(0, 0, 1)
			r2, err := image.NewRestore(&other, slabs, target, gold.size, 512, image.RestoreOptions{})
			require.NoError(t, err)
			found, err = r2.Begin(t.Context(), nil)
			require.NoError(t, err)
			assert.Zero(t, found)
		})
	}
}

// worn is a disk that cannot read some of its bytes.
type worn struct {
	*os.File
	bad [][2]int64 // start and end
}

func (w worn) ReadAt(b []byte, off int64) (int, error) {
	for _, e := range w.bad {
		if off < e[1] && off+int64(len(b)) > e[0] {
			n := max(e[0]-off, 0)
			return int(n), fmt.Errorf("input/output error")
		}
	}
	return w.File.ReadAt(b, off)
}

func TestBadSectorsAreNamedOrStopTheCapture(t *testing.T) {
	gold := compose(t, 40*mib, 512, "label: gpt\nstart=2048, size=32M, type=linux\n", part{1, mib, 32 * mib, "mkfs.ext4 -q -F -b 4096", 21 * mib, false})
	f, err := os.Open(gold.path)
	require.NoError(t, err)
	defer f.Close()
	survey, err := image.Look(f, gold.size, 512, image.LookOptions{})
	require.NoError(t, err)
	at := int64(4 * mib) // mkfs puts files elsewhere each time
	for b := make([]byte, 8192); bytes.Count(b, []byte{0}) > 1000; at += 64 << 10 {
		_, err = f.ReadAt(b, at+64<<10)
		require.NoError(t, err)
	}
	disk := worn{f, [][2]int64{{at + 1000, at + 1001}, {at + 512*6, at + 512*9}}}
	_, _, err = image.Capture(t.Context(), disk, survey, newSink(t), image.Options{})
	assert.ErrorContains(t, err, "at byte")
	assert.ErrorContains(t, err, "input/output error")

	sink := newSink(t)
	man, slabs, err := image.Capture(t.Context(), disk, survey, sink, image.Options{PastBadSectors: true})
	require.NoError(t, err)
	assert.Equal(t, []image.Unreadable{{Partition: 1, Start: at - mib + 512, Length: 512}, {Partition: 1, Start: at - mib + 512*6, Length: 512 * 3}}, man.Unreadable)
	assert.EqualValues(t, 2048, man.UnreadableBytes())
	target := open(t, gold.size)
	require.NoError(t, restore(t, man, slabs, sink.Store, target, gold.size))
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
	gold := compose(t, 40*mib, 512, "label: gpt\nstart=2048, size=32M, type=linux\n", part{1, mib, 32 * mib, "mkfs.ext4 -q -F -b 4096", 8 * mib, false})
	f, err := os.OpenFile(gold.path, os.O_RDWR, 0)
	require.NoError(t, err)
	defer f.Close()
	_, err = f.WriteAt([]byte{0}, mib+1024+0x3A) // neither clean nor with errors
	require.NoError(t, err)
	look := func() *image.Survey {
		survey, err := image.Look(f, gold.size, 512, image.LookOptions{})
		require.NoError(t, err)
		return survey
	}
	_, _, err = image.Capture(t.Context(), f, look(), newSink(t), image.Options{Despite: &image.Override{}})
	var unfit *image.NotFitError
	require.ErrorAs(t, err, &unfit, "an empty reason is none")
	man, slabs, err := image.Capture(t.Context(), f, look(), newSink(t), image.Options{Despite: &image.Override{Reason: "the machine is dying", By: "rowan"}})
	require.NoError(t, err)
	assert.Equal(t, "the machine is dying", man.Despite.Reason)
	assert.True(t, man.Areas[1].Whole)
	assert.True(t, man.Areas[1].Dirty)
	assert.EqualValues(t, 32*mib, man.Areas[1].UsedBytes)
	var sum int64
	for i := range slabs.Len() {
		if s := slabs.Slab(i); s.Area == 1 {
			sum += s.Length()
		}
	}
	assert.EqualValues(t, 32*mib, sum)
	codes := []string{}
	for _, found := range man.Findings {
		if found.Severity == readiness.Blocking {
			codes = append(codes, found.Code)
		}
	}
	assert.Equal(t, []string{"unclean"}, codes, "the version keeps what was found")

	t.Log("# a bitmap that contradicts itself")
	_, err = f.WriteAt([]byte{1}, mib+1024+0x3A)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte{0x7F}, mib+4096+3) // the bitmap of group 0, said to lie behind the end
	require.NoError(t, err)
	assert.ErrorContains(t, look().Blocking(), "damaged")
}
