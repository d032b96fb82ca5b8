package restore_test

import (
	"bytes"
	"errors"
	"os"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/capture"
	"jugate/core/image"
	"jugate/core/partition"
	"jugate/core/restore"
	"jugate/demo/golddisk"
	"jugate/demo/goldimage"
)

// A desk's disk: where people have their files, and what else there was.
var desks = map[string]struct {
	scheme partition.Scheme
	script string
	data   Part
	grown  bool // the image fills what is free up to the end of the disk
}{
	"at the end":    {partition.GPT, "label: gpt\nstart=1M, size=100M, type=linux\nstart=200M, size=64M, type=linux\n", Part{2, 200 * Mib, 64 * Mib, "mkfs.ext4 -q -F -L DATA", 20 * Mib, true}, false},
	"in the middle": {partition.GPT, "label: gpt\nstart=1M, size=40M, type=linux\nstart=48M, size=64M, type=linux\n", Part{2, 48 * Mib, 64 * Mib, "mkfs.ext4 -q -F -L DATA", 20 * Mib, true}, true},
	"in front":      {partition.GPT, "label: gpt\nstart=1M, size=64M, type=linux\n", Part{1, Mib, 64 * Mib, "mkfs.ntfs -q -F -f -L DATA", 20 * Mib, true}, true},
	"of an MBR":     {partition.MBR, "label: dos\nlabel-id: 0x5eed0002\nstart=1M, size=100M, type=83\nstart=200M, size=64M, type=83\n", Part{2, 200 * Mib, 64 * Mib, "mkfs.ext4 -q -F -L DATA", 20 * Mib, true}, false},
}

// deskImage is an image with an own EFI partition and system, or of an MBR with logical ones.
func deskImage(t *testing.T, scheme partition.Scheme) (*Golden, *goldimage.Sink, *image.Manifest, *image.Map) {
	t.Helper()
	gold := func() *Golden {
		if scheme == partition.MBR {
			return Compose(t, 130*Mib, 512, "label: dos\nlabel-id: 0x5eed0001\nstart=1M, size=60M, type=7, bootable\nstart=61M, size=68M, type=5\nstart=62M, size=64M, type=83\n",
				Part{1, Mib, 60 * Mib, "mkfs.ntfs -q -F -f -p 2048", 8 * Mib, true}, Part{5, 62 * Mib, 64 * Mib, "mkfs.ext4 -q -F", 8 * Mib, true})
		}
		return Compose(t, 130*Mib, 512, "label: gpt\nstart=1M, size=40M, type=uefi\nsize=80M, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7\n",
			Part{1, Mib, 40 * Mib, "mkfs.vfat -F 32 -s 1 -h 2048", 0, false}, Part{2, 41 * Mib, 80 * Mib, "mkfs.ntfs -q -F -f -p 83968", 8 * Mib, true})
	}()
	sink, man, slabs, err := Packed(t, gold)
	require.NoError(t, err)
	return gold, sink, man, slabs
}

// judgeData lets other tools say that people's files are all there, in partition number.
func judgeData(t *testing.T, desk *Golden, path string, number int) {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	table, err := partition.Read(f, desk.Size, desk.SectorSize)
	require.NoError(t, err)
	require.Empty(t, table.Findings)
	p, there := table.Partition(number)
	require.True(t, there, "the entry of what is kept is in the table")
	data := desk.Parts[0]
	require.Equal(t, data.Start, table.Start(p))
	require.Equal(t, data.Size, table.Size(p))
	files, err := golddisk.PartitionFiles(t.Context(), path, data.Start, data.Size, data.Tool())
	require.NoError(t, err)
	require.Equal(t, desk.Files[data.Number], files)
}

func TestADataPartitionIsKept(t *testing.T) {
	for name, c := range desks {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			gold, sink, man, slabs := deskImage(t, c.scheme)
			desk := Compose(t, 300*Mib, 512, c.script, c.data)
			target, err := os.OpenFile(desk.Path, os.O_RDWR, 0)
			require.NoError(t, err)
			defer target.Close()
			keep, err := partition.ParseRef("label=data")
			require.NoError(t, err)
			options := restore.Options{Grow: partition.GrowSystem, Keep: []partition.Ref{keep}, Trim: true, Label: "garden-desk@3", Nonce: []byte("today")}
			r, err := restore.New(man, slabs, forgetful{target}, desk.Size, 512, options)
			require.NoError(t, err)
			require.Len(t, r.Kept(), 1)
			assert.Empty(t, r.LeftOut())
			_, err = r.Begin(t.Context(), nil)
			require.NoError(t, err)

			t.Log("# meanwhile it is all that is on the disk, which starts nothing")
			judgeData(t, desk, desk.Path, c.data.Number)
			survey, err := capture.Look(target, desk.Size, 512, capture.LookOptions{})
			require.NoError(t, err)
			require.NotNil(t, survey.Unfinished)
			assert.Len(t, survey.Table.Partitions, 1)
			assert.NotContains(t, survey.Table.StartsBy(), partition.UEFI)
			assert.Equal(t, "\xCD\x18", string(survey.Table.BootCode[:2]), "a BIOS is sent on to the next disk")
			unfinished, err := restore.Unfinished(man, target, desk.Size, 512, options)
			require.NoError(t, err)
			assert.True(t, unfinished, "the same delivery goes on")

			require.NoError(t, r.Fill(t.Context(), sink, nil))
			require.NoError(t, r.Finish(t.Context(), nil))
			assert.Equal(t, slabs.Proof([]byte("today")), r.Proof())
			gold.Judge(t, desk.Path, r.Plan(), c.grown)
			judgeData(t, desk, desk.Path, r.Kept()[0].Number)
		})
	}
}

// forgetful is a disk on which anything can be once it was told that nobody needs it.
type forgetful struct{ *os.File }

func (f forgetful) Trim(off, n int64) error {
	noise := bytes.Repeat([]byte("anything at all "), 4096)
	for ; n > 0; n -= int64(len(noise)) {
		b := noise[:min(int64(len(noise)), n)]
		if _, err := f.WriteAt(b, off); err != nil {
			return err
		}
		off += int64(len(b))
	}
	return nil
}

// failing is a disk whose power goes after so many writes.
type failing struct {
	*os.File
	left atomic.Int64
}

var errPower = errors.New("the power is gone")

func (f *failing) WriteAt(b []byte, at int64) (int, error) {
	if f.left.Add(-1) < 0 {
		return 0, errPower
	}
	return f.File.WriteAt(b, at)
}

// Wherever the power goes: the entry of what is kept is found, its files are whole, and the
// next try ends well.
func TestWhatIsKeptIsNeverHidden(t *testing.T) {
	for name, c := range desks {
		if name == "in front" || name == "in the middle" {
			continue // the writes are those of a disk that has it at the end
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			gold, sink, man, slabs := deskImage(t, c.scheme)
			fresh := Compose(t, 300*Mib, 512, c.script, c.data)
			again := func(writes int) (made int) {
				desk := *fresh
				desk.Path = t.TempDir() + "/desk"
				Tool(t, "cp", "--sparse=always", fresh.Path, desk.Path)
				defer os.Remove(desk.Path)
				f, err := os.OpenFile(desk.Path, os.O_RDWR, 0)
				require.NoError(t, err)
				defer f.Close()
				keep, err := partition.ParseRef("label=DATA")
				require.NoError(t, err)
				try := func(onto restore.Target) (*restore.Restore, error) {
					r, err := restore.New(man, slabs, onto, desk.Size, 512, restore.Options{Grow: partition.GrowSystem, Keep: []partition.Ref{keep}})
					require.NoError(t, err)
					if _, err := r.Begin(t.Context(), nil); err != nil {
						return r, err
					}
					if err := r.Fill(t.Context(), sink, nil); err != nil {
						return r, err
					}
					return r, r.Finish(t.Context(), nil)
				}
				power := &failing{File: f}
				power.left.Store(int64(writes))
				r, err := try(power)
				if err != nil {
					require.ErrorIs(t, err, errPower)
					where, err := partition.Read(f, desk.Size, 512)
					require.NoError(t, err, "after %d writes", writes)
					found := false
					for _, p := range where.Partitions {
						found = found || where.Start(p) == c.data.Start && where.Size(p) == c.data.Size
					}
					require.True(t, found, "after %d writes: %+v", writes, where.Partitions)
					r, err = try(f)
					require.NoError(t, err, "after %d writes", writes)
					gold.Judge(t, desk.Path, r.Plan(), c.grown)
				}
				judgeData(t, &desk, desk.Path, r.Kept()[0].Number)
				return writes - int(power.left.Load())
			}
			const never = 1 << 30
			all := again(never)
			require.Greater(t, all, 20)
			cuts := 6 // as many writes as a GPT takes, and one more
			if c.scheme == partition.MBR {
				cuts = 2
			}
			for n := range cuts { // of taking the old table
				again(n)
			}
			again(all / 2)
			for n := range cuts { // of writing the new one
				again(all - n)
			}
		})
	}
}

func TestOnePartitionGoesOntoOneOfADisk(t *testing.T) {
	gold, sink, man, slabs := deskImage(t, partition.GPT)
	for name, c := range map[string]struct {
		script string
		at     int64
		size   int64
	}{
		"of the same size": {"label: gpt\nstart=1M, size=60M, type=linux\nstart=100M, size=80M, type=linux\nstart=200M, size=64M, type=linux\n", 100 * Mib, 80 * Mib},
		"of a longer one":  {"label: dos\nstart=1M, size=60M, type=83\nstart=90M, size=100M, type=7\nstart=200M, size=64M, type=83\n", 90 * Mib, 100 * Mib},
	} {
		t.Run(name, func(t *testing.T) {
			data := Part{3, 200 * Mib, 64 * Mib, "mkfs.ext4 -q -F -L DATA", 20 * Mib, true}
			desk := Compose(t, 300*Mib, 512, c.script, data)
			before := Tool(t, "sfdisk", "--dump", desk.Path)
			target, err := os.OpenFile(desk.Path, os.O_RDWR, 0)
			require.NoError(t, err)
			defer target.Close()
			onto := restore.Section(target, c.at, c.size)
			options := restore.Options{Part: &restore.Part{Number: 2, First: uint64(c.at / 512)}, Label: "garden-desk@3", Nonce: []byte("today")}
			r, err := restore.New(man, slabs, onto, c.size, 512, options)
			require.NoError(t, err)
			assert.Equal(t, []int{0, 1}, r.LeftOut())
			_, err = r.Begin(t.Context(), nil)
			require.NoError(t, err)
			unfinished, err := restore.Unfinished(man, onto, c.size, 512, options)
			require.NoError(t, err)
			assert.True(t, unfinished)
			require.NoError(t, r.Fill(t.Context(), sink, nil))
			require.NoError(t, r.Finish(t.Context(), nil))
			assert.Equal(t, slabs.Proof([]byte("today"), 0, 1), r.Proof())
			assert.Equal(t, before, Tool(t, "sfdisk", "--dump", desk.Path), "the table is as it was")
			judgeData(t, desk, desk.Path, 3)
			alone := &Golden{Path: gold.Path, Size: gold.Size, SectorSize: 512, Parts: gold.Parts[1:], Files: gold.Files}
			table, err := partition.Read(target, desk.Size, 512)
			require.NoError(t, err)
			alone.Judge(t, desk.Path, table, false)
		})
	}
	_, err := restore.New(man, slabs, nil, 80*Mib, 512, restore.Options{Part: &restore.Part{Number: 7}})
	assert.ErrorContains(t, err, "no partition 7")
	_, err = restore.New(man, slabs, nil, Mib, 512, restore.Options{Part: &restore.Part{Number: 2}})
	var small *partition.TooSmallError
	assert.ErrorAs(t, err, &small)
	_, err = restore.New(man, slabs, nil, 80*Mib, 4096, restore.Options{Part: &restore.Part{Number: 2}})
	assert.ErrorIs(t, err, partition.ErrSectorSize)
}

func TestAPartitionWritesNothingBeyondItself(t *testing.T) {
	f := goldimage.Open(t, Mib)
	s := restore.Section(f, 4096, 8192)
	for _, at := range []int64{-1, 8192, 8000} {
		_, err := s.WriteAt(make([]byte, 512), at)
		assert.Error(t, err, "%d", at)
	}
	_, err := s.WriteAt([]byte("here"), 8188)
	require.NoError(t, err)
	b := make([]byte, 4)
	_, err = f.ReadAt(b, 4096+8188)
	require.NoError(t, err)
	assert.Equal(t, "here", string(b))
}

func TestPartitionsAreLeftOutOfACapture(t *testing.T) {
	gold := Compose(t, 200*Mib, 512, "label: gpt\nstart=1M, size=40M, type=uefi\nsize=80M, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7\nsize=64M, type=linux, name=people\n",
		Part{1, Mib, 40 * Mib, "mkfs.vfat -F 32 -s 1 -h 2048", 0, false}, Part{2, 41 * Mib, 80 * Mib, "mkfs.ntfs -q -F -f -p 83968 -L SYSTEM", 8 * Mib, true}, Part{3, 121 * Mib, 64 * Mib, "mkfs.ext4 -q -F", 20 * Mib, true})
	f, err := os.Open(gold.Path)
	require.NoError(t, err)
	defer f.Close()
	taken := func(o capture.LookOptions) (*goldimage.Sink, *image.Manifest, *image.Map) {
		survey, err := capture.Look(f, gold.Size, 512, o)
		require.NoError(t, err)
		require.NoError(t, survey.Blocking())
		sink := goldimage.NewSink(t)
		man, slabs, err := capture.Run(t.Context(), f, survey, sink, capture.Options{})
		require.NoError(t, err)
		text, err := man.Encode()
		require.NoError(t, err)
		again, err := image.ParseManifest(text)
		require.NoError(t, err)
		slabs, err = image.ParseMap(slabs.Bytes(), again)
		require.NoError(t, err)
		return sink, again, slabs
	}
	names := func(texts ...string) []partition.Ref {
		all, err := partition.ParseRefs(texts)
		require.NoError(t, err)
		return all
	}
	numbers := func(man *image.Manifest) (all []int) {
		for _, a := range man.Areas {
			all = append(all, a.Partition)
		}
		return all
	}

	t.Log("# all but people's files, onto a smaller disk")
	sink, man, slabs := taken(capture.LookOptions{Without: names("label=people")})
	assert.Equal(t, []int{0, 1, 2}, numbers(man))
	assert.Len(t, man.Table.Partitions, 2)
	size := man.LeastDisk()
	assert.Less(t, size, 130*int64(Mib))
	target := goldimage.Open(t, size)
	r, err := restore.New(man, slabs, target, size, 512, restore.Options{})
	require.NoError(t, err)
	_, err = r.Begin(t.Context(), nil)
	require.NoError(t, err)
	require.NoError(t, r.Fill(t.Context(), sink, nil))
	require.NoError(t, r.Finish(t.Context(), nil))
	(&Golden{Size: gold.Size, SectorSize: 512, Parts: gold.Parts[:2], Files: gold.Files}).Judge(t, target.Name(), r.Plan(), false)

	t.Log("# one partition alone, without the boot code in front of the first")
	sink, man, slabs = taken(capture.LookOptions{Only: names("label=SYSTEM")})
	assert.Equal(t, []int{2}, numbers(man))
	desk := Compose(t, 200*Mib, 512, "label: gpt\nstart=10M, size=80M, type=linux\nstart=100M, size=80M, type=linux\n")
	onto, err := os.OpenFile(desk.Path, os.O_RDWR, 0)
	require.NoError(t, err)
	defer onto.Close()
	r, err = restore.New(man, slabs, restore.Section(onto, 100*Mib, 80*Mib), 80*Mib, 512, restore.Options{Part: &restore.Part{Number: 2, First: 100 * Mib / 512}})
	require.NoError(t, err)
	_, err = r.Begin(t.Context(), nil)
	require.NoError(t, err)
	require.NoError(t, r.Fill(t.Context(), sink, nil))
	require.NoError(t, r.Finish(t.Context(), nil))
	table, err := partition.Read(onto, desk.Size, 512)
	require.NoError(t, err)
	(&Golden{Size: gold.Size, SectorSize: 512, Parts: gold.Parts[1:2], Files: gold.Files}).Judge(t, desk.Path, table, false)

	for text, o := range map[string]capture.LookOptions{
		"no partition 9":           {Without: names("9")},
		"no partition label=music": {Only: names("label=music")},
		"nothing of the disk":      {Without: names("1", "2", "3")},
	} {
		_, err := capture.Look(f, gold.Size, 512, o)
		assert.ErrorContains(t, err, text)
	}
}
