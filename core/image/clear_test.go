package image_test

import (
	"encoding/binary"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/image"
	"jugate/core/partition"
	"jugate/core/readiness"
	"jugate/core/slabstore"
	"jugate/core/volume"
	"jugate/demo/golddisk"
)

func tool(t *testing.T, argv ...string) string {
	t.Helper()
	out, err := golddisk.Run(t.Context(), argv...)
	require.NoError(t, err)
	return strings.TrimSpace(string(out))
}

// signatures is what blkid finds in a stretch of a file; it fails where there are two.
func signatures(t *testing.T, path string, start, size int64) string {
	t.Helper()
	return tool(t, "blkid", "-p", "-s", "TYPE", "-o", "value", "-O", strconv.FormatInt(start, 10), "-S", strconv.FormatInt(size, 10), path)
}

func look(t *testing.T, path string) *image.Survey {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	st, err := f.Stat()
	require.NoError(t, err)
	s, err := image.Look(f, st.Size(), 512, image.LookOptions{})
	require.NoError(t, err)
	return s
}

func codes(all []readiness.Finding) (codes []string) {
	for _, f := range all {
		codes = append(codes, f.Code)
	}
	return codes
}

func write(t *testing.T, path string, at int64, b []byte) {
	t.Helper()
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt(b, at)
	require.NoError(t, err)
	require.NoError(t, f.Close())
}

func packed(t *testing.T, g *golden) (*storeSink, *image.Manifest, *image.Map, error) {
	t.Helper()
	s := look(t, g.path)
	f, err := os.Open(g.path)
	require.NoError(t, err)
	defer f.Close()
	sink := newSink(t)
	man, slabs, err := image.Capture(t.Context(), f, s, sink, image.Options{})
	return sink, man, slabs, err
}

// md is the beginning of a superblock of Linux's software RAID.
func md(major uint32) []byte {
	b := binary.LittleEndian.AppendUint32(nil, 0xa92b4efc)
	return append(binary.LittleEndian.AppendUint32(b, major), make([]byte, 248)...)
}

func TestOldSignaturesDoNotSurvive(t *testing.T) {
	gold := compose(t, 300*mib, 512, "label: gpt\nstart=1M, size=150M, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7\nsize=100M, type=swap\n",
		part{1, mib, 150 * mib, "mkfs.ntfs -q -F -f -p 2048", 4 * mib, false},
		part{2, 151 * mib, 100 * mib, "mkswap -q", 0, false})
	sink, man, slabs, err := packed(t, gold)
	require.NoError(t, err)

	for name, soil := range map[string]func(t *testing.T, path string){
		"btrfs over the whole disk": func(t *testing.T, path string) { tool(t, "mkfs.btrfs", "-q", "-f", path) },
		"btrfs and ext4 in the partitions": func(t *testing.T, path string) {
			for i, mkfs := range []string{"mkfs.btrfs -q -f -m single", "mkfs.ext4 -q -F"} {
				vol := t.TempDir() + "/old"
				require.NoError(t, golddisk.Blank(vol, gold.parts[i].size))
				tool(t, append(strings.Fields(mkfs), vol)...)
				require.NoError(t, golddisk.Put(path, gold.parts[i].start, vol))
			}
		},
		"LUKS and xfs": func(t *testing.T, path string) {
			luks := append([]byte("LUKS\xba\xbe\x00\x02"), make([]byte, 4088)...)
			write(t, path, gold.parts[1].start, luks)
			write(t, path, gold.parts[1].start+0x4000, append([]byte("SKUL\xba\xbe\x00\x02"), make([]byte, 4088)...))
			write(t, path, gold.parts[0].start, append([]byte("XFSB"), make([]byte, 508)...))
		},
		"members of a RAID": func(t *testing.T, path string) {
			for _, p := range append(gold.parts, part{start: 0, size: gold.size}) {
				write(t, path, p.start+(p.size/512-16)&^7*512, md(1))
				write(t, path, p.start+p.size&^0xffff-0x10000, md(0))
				write(t, path, p.start+4096, md(1))
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			target := open(t, gold.size)
			soil(t, target.Name())
			require.NoError(t, restore(t, man, slabs, sink.Store, target, gold.size))
			assert.Equal(t, "ntfs", signatures(t, target.Name(), gold.parts[0].start, gold.parts[0].size))
			assert.Equal(t, "swap", signatures(t, target.Name(), gold.parts[1].start, gold.parts[1].size))
			assert.Equal(t, []string{"gpt", "gpt", "PMBR"}, strings.Fields(tool(t, "wipefs", "--noheadings", "--output", "TYPE", target.Name())))
			gold.judge(t, target.Name(), man.Table, false)
		})
	}
}

func TestALiveVolumeCountsMoreThanAForgottenTable(t *testing.T) {
	for kind, mkfs := range map[volume.Kind]string{volume.Ext: "mkfs.ext4 -q -F", volume.Swap: "mkswap -q"} {
		t.Run(string(kind), func(t *testing.T) {
			gold := compose(t, 100*mib, 512, "label: gpt\nstart=1M, size=50M, type=linux\n")
			write(t, gold.path, 0, make([]byte, mib))
			argv := append(strings.Fields(mkfs), gold.path)
			if kind == volume.Ext { // one that has the whole disk to itself clears the end, too
				argv = append(argv, "90M")
			}
			tool(t, argv...)
			s := look(t, gold.path)
			assert.Equal(t, partition.None, s.Table.Scheme)
			assert.NotNil(t, s.Table.Partitions)
			assert.Contains(t, codes(s.Findings), "stale-table")
			require.Len(t, s.Areas, 1)
			assert.Equal(t, kind, s.Areas[0].Kind)
		})
	}
	t.Run("a table that lost its first copy", func(t *testing.T) {
		gold := compose(t, 100*mib, 512, "label: gpt\nstart=1M, size=50M, type=linux\n", part{1, mib, 50 * mib, "mkfs.ext4 -q -F", 0, false})
		write(t, gold.path, 0, make([]byte, 34*512))
		s := look(t, gold.path)
		assert.Equal(t, partition.GPT, s.Table.Scheme, "nothing else begins there")
		assert.NotContains(t, codes(s.Findings), "stale-table")
	})
}

func TestMembersOfARAIDAreFound(t *testing.T) {
	gold := compose(t, 100*mib, 512, "label: gpt\nstart=1M, size=50M, type=linux\n", part{1, mib, 50 * mib, "mkfs.ext4 -q -F", 0, false})
	require.NoError(t, look(t, gold.path).Blocking())
	write(t, gold.path, mib+(50*mib/512-16)&^7*512, md(1))
	var unfit *image.NotFitError
	require.ErrorAs(t, look(t, gold.path).Blocking(), &unfit)
	assert.Contains(t, codes(unfit.Findings), "raid-member")
}

func TestWhatIsLeftOutIsSaid(t *testing.T) {
	gold := compose(t, 100*mib, 512, "label: dos\nstart=4096, size=40960, type=83, bootable\nstart=81920, size=40960, type=83\n",
		part{1, 2 * mib, 20 * mib, "mkfs.ext4 -q -F", mib, false}, part{2, 40 * mib, 20 * mib, "mkfs.ext4 -q -F", mib, false})
	assert.NotContains(t, codes(look(t, gold.path).Findings), "data-between")
	write(t, gold.path, 444, []byte{0x5a, 0x5a})                             // protected against copying
	write(t, gold.path, 446+3*16, append([]byte{0x80}, make([]byte, 15)...)) // an entry without a type
	write(t, gold.path, 30*mib, []byte("between"))
	label := make([]byte, 512)
	copy(label, "LABELONE")
	copy(label[24:], "LVM2 001")
	write(t, gold.path, 512, label) // left behind the table

	s := look(t, gold.path)
	found := codes(s.Findings)
	assert.Contains(t, found, "data-between")
	assert.Contains(t, found, "table-fault")
	assert.NoError(t, s.Blocking())

	sink, man, slabs, err := packed(t, gold)
	require.NoError(t, err)
	target := open(t, gold.size)
	require.NoError(t, restore(t, man, slabs, sink.Store, target, gold.size))
	b := make([]byte, 2)
	_, err = target.ReadAt(b, 444)
	require.NoError(t, err)
	assert.Equal(t, []byte{0x5a, 0x5a}, b)
	gold.judge(t, target.Name(), man.Table, false)
}

// markDirty says in an NTFS volume, as a system does that was not shut down, that it
// needs a check: a bit of $VOLUME_INFORMATION in record 3 of $MFT and of its mirror.
func markDirty(t *testing.T, path string, start int64) {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	boot := make([]byte, 512)
	_, err = f.ReadAt(boot, start)
	require.NoError(t, err)
	cluster := int64(binary.LittleEndian.Uint16(boot[11:])) * int64(boot[13])
	for _, at := range []int{0x30, 0x38} {
		record := start + int64(binary.LittleEndian.Uint64(boot[at:]))*cluster + 3*1024
		b := make([]byte, 1024)
		_, err = f.ReadAt(b, record)
		require.NoError(t, err)
		for off := int(binary.LittleEndian.Uint16(b[20:])); ; off += int(binary.LittleEndian.Uint32(b[off+4:])) {
			kind := binary.LittleEndian.Uint32(b[off:])
			require.NotEqual(t, uint32(0xffffffff), kind)
			if kind == 0x70 {
				value := off + int(binary.LittleEndian.Uint16(b[off+20:]))
				write(t, path, record+int64(value)+10, []byte{b[value+10] | 1})
				break
			}
		}
	}
}

func TestTheSurveyNamesTheSizeThatThePackedVersionNeeds(t *testing.T) {
	gold := compose(t, 150*mib, 512, "label: gpt\nstart=1M, size=100M, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7\n",
		part{1, mib, 100 * mib, "mkfs.ntfs -q -F -f -p 2048", 4 * mib, false})
	markDirty(t, gold.path, mib)
	s := look(t, gold.path)
	require.Error(t, s.Blocking())
	f, err := os.Open(gold.path)
	require.NoError(t, err)
	defer f.Close()
	man, _, err := image.Capture(t.Context(), f, s, newSink(t), image.Options{Despite: &image.Override{Reason: "the shop knows it"}})
	require.NoError(t, err)
	seen := look(t, gold.path)
	assert.Equal(t, man.Areas[len(man.Areas)-1].Needs, seen.Areas[len(seen.Areas)-1].Needs)
	assert.EqualValues(t, 100*mib, man.Areas[len(man.Areas)-1].Needs)
}

func TestTheSystemGetsTheRoom(t *testing.T) {
	gold := compose(t, 200*mib, 512, `label: gpt
start=1M, size=40M, type=uefi
size=16M, type=E3C9E316-0B5C-4DB8-817D-F92DF00215AE
size=80M, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7
size=30M, type=DE94BBA4-06D1-4D40-A16A-BFD50179D6AC
`,
		part{1, mib, 40 * mib, "mkfs.vfat -F 32 -s 1 -h 2048", 0, false},
		part{3, 57 * mib, 80 * mib, "mkfs.ntfs -q -F -f -p 116736", 8 * mib, true},
		part{4, 137 * mib, 30 * mib, "mkfs.ntfs -q -F -f -p 280576", 8 * mib, false})
	sink, man, slabs, err := packed(t, gold)
	require.NoError(t, err)
	grow, why := man.Growing(partition.GrowSystem)
	assert.Equal(t, partition.Grow(3), grow)
	assert.NotEmpty(t, why)

	target := open(t, 400*mib)
	r, err := image.NewRestore(man, slabs, target, 400*mib, 512, image.RestoreOptions{Grow: partition.GrowSystem, Nonce: []byte("today")})
	require.NoError(t, err)
	was, _ := man.Table.Partition(4)
	is, _ := r.Plan().Partition(4)
	assert.Greater(t, is.First, was.First, "the recovery partition makes room")
	longer := r.Longer()
	require.Len(t, longer, 1)
	assert.Equal(t, 3, longer[0].Partition)
	assert.True(t, longer[0].Fits)
	_, err = r.Begin(t.Context(), nil)
	require.NoError(t, err)
	require.NoError(t, r.Fill(t.Context(), sink, nil))
	require.NoError(t, r.Finish(t.Context(), nil))
	gold.judge(t, target.Name(), r.Plan(), true)

	assert.Equal(t, slabs.Proof([]byte("today")), r.Proof())
	assert.NotEqual(t, slabs.Proof([]byte("yesterday")), r.Proof())
	for i := range slabs.Len() {
		if s := slabs.Slab(i); !s.Zero {
			assert.True(t, slabs.Has(s.Digest))
		}
	}
	var other slabstore.Digest
	assert.False(t, slabs.Has(other))
}
