package restore_test

import (
	"encoding/binary"
	"os"
	"strconv"
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
	"jugate/core/slabstore"
	"jugate/core/volume"
	"jugate/demo/golddisk"
)

func Tool(t *testing.T, argv ...string) string {
	t.Helper()
	out, err := golddisk.Run(t.Context(), argv...)
	require.NoError(t, err)
	return strings.TrimSpace(string(out))
}

// Signatures is what blkid finds in a stretch of a file; it fails where there are two.
func Signatures(t *testing.T, path string, start, size int64) string {
	t.Helper()
	return Tool(t, "blkid", "-p", "-s", "TYPE", "-o", "value", "-O", strconv.FormatInt(start, 10), "-S", strconv.FormatInt(size, 10), path)
}

func Look(t *testing.T, path string) *capture.Survey {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	st, err := f.Stat()
	require.NoError(t, err)
	s, err := capture.Look(f, st.Size(), 512, capture.LookOptions{})
	require.NoError(t, err)
	return s
}

func Codes(all []readiness.Finding) (Codes []string) {
	for _, f := range all {
		Codes = append(Codes, f.Code)
	}
	return Codes
}

func Write(t *testing.T, path string, at int64, b []byte) {
	t.Helper()
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt(b, at)
	require.NoError(t, err)
	require.NoError(t, f.Close())
}

func Packed(t *testing.T, g *Golden) (*goldimage.Sink, *image.Manifest, *image.Map, error) {
	t.Helper()
	s := Look(t, g.Path)
	f, err := os.Open(g.Path)
	require.NoError(t, err)
	defer f.Close()
	sink := goldimage.NewSink(t)
	man, slabs, err := capture.Run(t.Context(), f, s, sink, capture.Options{})
	return sink, man, slabs, err
}

// Md is the beginning of a superblock of Linux's software RAID.
func Md(major uint32) []byte {
	b := binary.LittleEndian.AppendUint32(nil, 0xa92b4efc)
	return append(binary.LittleEndian.AppendUint32(b, major), make([]byte, 248)...)
}

func TestOldSignaturesDoNotSurvive(t *testing.T) {
	gold := Compose(t, 300*Mib, 512, "label: gpt\nstart=1M, size=150M, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7\nsize=100M, type=swap\n",
		Part{1, Mib, 150 * Mib, "mkfs.ntfs -q -F -f -p 2048", 4 * Mib, false},
		Part{2, 151 * Mib, 100 * Mib, "mkswap -q", 0, false})
	sink, man, slabs, err := Packed(t, gold)
	require.NoError(t, err)

	for name, soil := range map[string]func(t *testing.T, path string){
		"btrfs over the whole disk": func(t *testing.T, path string) { Tool(t, "mkfs.btrfs", "-q", "-f", path) },
		"btrfs and ext4 in the partitions": func(t *testing.T, path string) {
			for i, mkfs := range []string{"mkfs.btrfs -q -f -m single", "mkfs.ext4 -q -F"} {
				vol := t.TempDir() + "/old"
				require.NoError(t, golddisk.Blank(vol, gold.Parts[i].Size))
				Tool(t, append(strings.Fields(mkfs), vol)...)
				require.NoError(t, golddisk.Put(path, gold.Parts[i].Start, vol))
			}
		},
		"LUKS and xfs": func(t *testing.T, path string) {
			luks := append([]byte("LUKS\xba\xbe\x00\x02"), make([]byte, 4088)...)
			Write(t, path, gold.Parts[1].Start, luks)
			Write(t, path, gold.Parts[1].Start+0x4000, append([]byte("SKUL\xba\xbe\x00\x02"), make([]byte, 4088)...))
			Write(t, path, gold.Parts[0].Start, append([]byte("XFSB"), make([]byte, 508)...))
		},
		"members of a RAID": func(t *testing.T, path string) {
			for _, p := range append(gold.Parts, Part{Start: 0, Size: gold.Size}) {
				Write(t, path, p.Start+(p.Size/512-16)&^7*512, Md(1))
				Write(t, path, p.Start+p.Size&^0xffff-0x10000, Md(0))
				Write(t, path, p.Start+4096, Md(1))
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			target := goldimage.Open(t, gold.Size)
			soil(t, target.Name())
			require.NoError(t, restored(t, man, slabs, sink.Store, target, gold.Size))
			assert.Equal(t, "ntfs", Signatures(t, target.Name(), gold.Parts[0].Start, gold.Parts[0].Size))
			assert.Equal(t, "swap", Signatures(t, target.Name(), gold.Parts[1].Start, gold.Parts[1].Size))
			assert.Equal(t, []string{"gpt", "gpt", "PMBR"}, strings.Fields(Tool(t, "wipefs", "--noheadings", "--output", "TYPE", target.Name())))
			gold.Judge(t, target.Name(), man.Table, false)
		})
	}
}

func TestALiveVolumeCountsMoreThanAForgottenTable(t *testing.T) {
	for kind, mkfs := range map[volume.Kind]string{volume.Ext: "mkfs.ext4 -q -F", volume.Swap: "mkswap -q"} {
		t.Run(string(kind), func(t *testing.T) {
			gold := Compose(t, 100*Mib, 512, "label: gpt\nstart=1M, size=50M, type=linux\n")
			Write(t, gold.Path, 0, make([]byte, Mib))
			argv := append(strings.Fields(mkfs), gold.Path)
			if kind == volume.Ext { // one that has the whole disk to itself clears the end, too
				argv = append(argv, "90M")
			}
			Tool(t, argv...)
			s := Look(t, gold.Path)
			assert.Equal(t, partition.None, s.Table.Scheme)
			assert.NotNil(t, s.Table.Partitions)
			assert.Contains(t, Codes(s.Findings), "stale-table")
			require.Len(t, s.Areas, 1)
			assert.Equal(t, kind, s.Areas[0].Kind)
		})
	}
	t.Run("a table that lost its first copy", func(t *testing.T) {
		gold := Compose(t, 100*Mib, 512, "label: gpt\nstart=1M, size=50M, type=linux\n", Part{1, Mib, 50 * Mib, "mkfs.ext4 -q -F", 0, false})
		Write(t, gold.Path, 0, make([]byte, 34*512))
		s := Look(t, gold.Path)
		assert.Equal(t, partition.GPT, s.Table.Scheme, "nothing else begins there")
		assert.NotContains(t, Codes(s.Findings), "stale-table")
	})
}

func TestMembersOfARAIDAreFound(t *testing.T) {
	gold := Compose(t, 100*Mib, 512, "label: gpt\nstart=1M, size=50M, type=linux\n", Part{1, Mib, 50 * Mib, "mkfs.ext4 -q -F", 0, false})
	require.NoError(t, Look(t, gold.Path).Blocking())
	Write(t, gold.Path, Mib+(50*Mib/512-16)&^7*512, Md(1))
	var unfit *capture.NotFitError
	require.ErrorAs(t, Look(t, gold.Path).Blocking(), &unfit)
	assert.Contains(t, Codes(unfit.Findings), "raid-member")
}

func TestWhatIsLeftOutIsSaid(t *testing.T) {
	gold := Compose(t, 100*Mib, 512, "label: dos\nstart=4096, size=40960, type=83, bootable\nstart=81920, size=40960, type=83\n",
		Part{1, 2 * Mib, 20 * Mib, "mkfs.ext4 -q -F", Mib, false}, Part{2, 40 * Mib, 20 * Mib, "mkfs.ext4 -q -F", Mib, false})
	assert.NotContains(t, Codes(Look(t, gold.Path).Findings), "data-between")
	Write(t, gold.Path, 444, []byte{0x5a, 0x5a})                             // protected against copying
	Write(t, gold.Path, 446+3*16, append([]byte{0x80}, make([]byte, 15)...)) // an entry without a type
	Write(t, gold.Path, 30*Mib, []byte("between"))
	label := make([]byte, 512)
	copy(label, "LABELONE")
	copy(label[24:], "LVM2 001")
	Write(t, gold.Path, 512, label) // left behind the table

	s := Look(t, gold.Path)
	found := Codes(s.Findings)
	assert.Contains(t, found, "data-between")
	assert.Contains(t, found, "table-fault")
	assert.NoError(t, s.Blocking())

	sink, man, slabs, err := Packed(t, gold)
	require.NoError(t, err)
	target := goldimage.Open(t, gold.Size)
	require.NoError(t, restored(t, man, slabs, sink.Store, target, gold.Size))
	b := make([]byte, 2)
	_, err = target.ReadAt(b, 444)
	require.NoError(t, err)
	assert.Equal(t, []byte{0x5a, 0x5a}, b)
	gold.Judge(t, target.Name(), man.Table, false)
}

// MarkDirty says in an NTFS volume, as a system does that was not shut down, that it
// needs a check: a bit of $VOLUME_INFORMATION in record 3 of $MFT and of its mirror.
func MarkDirty(t *testing.T, path string, start int64) {
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
				Write(t, path, record+int64(value)+10, []byte{b[value+10] | 1})
				break
			}
		}
	}
}

func TestTheSurveyNamesTheSizeThatThePackedVersionNeeds(t *testing.T) {
	gold := Compose(t, 150*Mib, 512, "label: gpt\nstart=1M, size=100M, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7\n",
		Part{1, Mib, 100 * Mib, "mkfs.ntfs -q -F -f -p 2048", 4 * Mib, false})
	MarkDirty(t, gold.Path, Mib)
	s := Look(t, gold.Path)
	require.Error(t, s.Blocking())
	f, err := os.Open(gold.Path)
	require.NoError(t, err)
	defer f.Close()
	man, _, err := capture.Run(t.Context(), f, s, goldimage.NewSink(t), capture.Options{Despite: &image.Override{Reason: "the shop knows it"}})
	require.NoError(t, err)
	seen := Look(t, gold.Path)
	assert.Equal(t, man.Areas[len(man.Areas)-1].Needs, seen.Areas[len(seen.Areas)-1].Needs)
	assert.EqualValues(t, 100*Mib, man.Areas[len(man.Areas)-1].Needs)
}

func TestTheSystemGetsTheRoom(t *testing.T) {
	gold := Compose(t, 200*Mib, 512, `label: gpt
start=1M, size=40M, type=uefi
size=16M, type=E3C9E316-0B5C-4DB8-817D-F92DF00215AE
size=80M, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7
size=30M, type=DE94BBA4-06D1-4D40-A16A-BFD50179D6AC
`,
		Part{1, Mib, 40 * Mib, "mkfs.vfat -F 32 -s 1 -h 2048", 0, false},
		Part{3, 57 * Mib, 80 * Mib, "mkfs.ntfs -q -F -f -p 116736", 8 * Mib, true},
		Part{4, 137 * Mib, 30 * Mib, "mkfs.ntfs -q -F -f -p 280576", 8 * Mib, false})
	sink, man, slabs, err := Packed(t, gold)
	require.NoError(t, err)
	grow, why := man.Growing(partition.GrowSystem)
	assert.Equal(t, partition.Grow(3), grow)
	assert.NotEmpty(t, why)

	target := goldimage.Open(t, 400*Mib)
	r, err := restore.New(man, slabs, target, 400*Mib, 512, restore.Options{Grow: partition.GrowSystem, Nonce: []byte("today")})
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
	gold.Judge(t, target.Name(), r.Plan(), true)

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
