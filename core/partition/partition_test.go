package partition_test

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/partition"
	"jugate/demo/golddisk"
)

func build(t *testing.T) (*golddisk.Disk, *os.File) {
	t.Helper()
	d, err := golddisk.Build(t.Context(), golddisk.Spec{Path: filepath.Join(t.TempDir(), "gold"), Size: 64 * golddisk.MiB, Data: golddisk.MiB})
	require.NoError(t, err)
	f, err := os.OpenFile(d.Path, os.O_RDWR, 0)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	return d, f
}

func TestReadAgreesWithSfdisk(t *testing.T) {
	d, f := build(t)
	table, err := partition.Read(f, d.Size, 512)
	require.NoError(t, err)
	assert.Empty(t, table.Findings)
	require.Len(t, table.Partitions, 2)
	esp, root := table.Partitions[0], table.Partitions[1]
	assert.Equal(t, partition.EFISystem, esp.Type)
	assert.Equal(t, "EFI system", esp.Name)
	assert.Equal(t, d.ESPStart, table.Start(esp))
	assert.Equal(t, d.RootStart, table.Start(root))
	assert.Equal(t, d.RootSize, table.Size(root))

	// sfdisk prints the same identities.
	dump, err := d.Dump(t.Context())
	require.NoError(t, err)
	for _, id := range []uuid.UUID{table.DiskID, esp.ID, root.ID} {
		assert.Contains(t, strings.ToLower(dump), id.String())
	}
}

func TestWriteIsReadBySfdisk(t *testing.T) {
	d, f := build(t)
	want, err := d.Dump(t.Context())
	require.NoError(t, err)
	table, err := partition.Read(f, d.Size, 512)
	require.NoError(t, err)
	table.BootCode = bytes.Repeat([]byte{0x90}, 440)

	for name, size := range map[string]int64{
		"same size":     d.Size,
		"larger":        d.Size + 17*golddisk.MiB,
		"just fits":     d.RootStart + d.RootSize + 33*512,
		"odd last byte": d.Size + 100,
	} {
		t.Run(name, func(t *testing.T) {
			moved, err := table.Onto(size, 512, partition.Fit{})
			require.NoError(t, err)
			path := filepath.Join(t.TempDir(), "target")
			require.NoError(t, golddisk.Blank(path, size))
			target, err := os.OpenFile(path, os.O_RDWR, 0)
			require.NoError(t, err)
			defer target.Close()
			require.NoError(t, moved.Write(target))

			copied := d.On(path)
			got, err := copied.Dump(t.Context())
			require.NoError(t, err)
			assert.Equal(t, want, got)
			assert.NoError(t, copied.VerifyTable(t.Context()))
			again, err := partition.Read(target, size, 512)
			require.NoError(t, err)
			assert.Equal(t, moved, again)
		})
	}
}

func TestReadTellsWhatIsWrong(t *testing.T) {
	d, _ := build(t)
	sound, err := os.ReadFile(d.Path)
	require.NoError(t, err)
	for name, c := range map[string]struct {
		harm    func(b []byte) []byte
		want    error
		finding string
	}{
		"empty file":             {func(b []byte) []byte { return nil }, partition.ErrDamaged, ""},
		"cut behind the header":  {func(b []byte) []byte { return b[:40*512] }, partition.ErrDamaged, ""},
		"cut at half":            {func(b []byte) []byte { return b[:len(b)/2] }, partition.ErrDamaged, ""},
		"both headers":           {func(b []byte) []byte { b[512+40] ^= 1; b[len(b)-512+40] ^= 1; return b }, partition.ErrDamaged, ""},
		"headers wiped, MBR not": {func(b []byte) []byte { clear(b[512:1024]); clear(b[len(b)-512:]); return b }, partition.ErrDamaged, ""},
		"primary header":         {func(b []byte) []byte { b[512+40] ^= 1; return b }, nil, "primary"},
		"primary entries":        {func(b []byte) []byte { b[1024+40] ^= 1; return b }, nil, "primary"},
		"backup header":          {func(b []byte) []byte { b[len(b)-512+40] ^= 1; return b }, nil, "backup"},
		"disk enlarged":          {func(b []byte) []byte { return append(b, make([]byte, 1<<20)...) }, nil, "enlarged"},
		"records beside the GPT": {func(b []byte) []byte { b[446+16+4], b[446+16+8], b[446+16+12] = 0x83, 1, 1; return b }, nil, "of its own"},
	} {
		t.Run(name, func(t *testing.T) {
			b := c.harm(bytes.Clone(sound))
			table, err := partition.Read(bytes.NewReader(b), int64(len(b)), 512)
			if c.want != nil {
				require.ErrorIs(t, err, c.want)
				return
			}
			require.NoError(t, err)
			require.Len(t, table.Findings, 1)
			assert.Contains(t, table.Findings[0], c.finding)
		})
	}
}

func TestWipeLeavesNoTable(t *testing.T) {
	d, f := build(t)
	require.NoError(t, partition.Wipe(f, d.Size, 512))
	table, err := partition.Read(f, d.Size, 512)
	require.NoError(t, err)
	assert.Equal(t, partition.None, table.Scheme)
	assert.Equal(t, d.Size, table.GapEnd()-table.GapStart(), "the whole disk is one volume")
}

func FuzzRead(f *testing.F) {
	table := partition.Table{Scheme: partition.GPT, SectorSize: 512, Sectors: 128, FirstUsable: 34, LastUsable: 94, Slots: 128,
		Partitions: []partition.Partition{{Number: 1, Type: partition.EFISystem, ID: uuid.New(), First: 40, Last: 50, Name: "EFI"}}}
	disk := &memory{b: make([]byte, 128*512)}
	if err := table.Write(disk); err != nil {
		f.Fatal(err)
	}
	f.Add(disk.b)
	f.Add([]byte("EFI PART"))
	mbr := &memory{b: make([]byte, 128*512)}
	if err := mbrTable(128).Write(mbr); err != nil {
		f.Fatal(err)
	}
	f.Add(mbr.b)
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, sector := range []int{512, 4096} {
			table, err := partition.Read(bytes.NewReader(b), int64(len(b)), sector)
			if err != nil {
				continue
			}
			disk := &memory{b: make([]byte, len(b))}
			if err := table.Write(disk); err != nil {
				t.Fatal(err)
			}
			if again, err := partition.Read(bytes.NewReader(disk.b), int64(len(b)), sector); err != nil || again.Scheme != table.Scheme || len(again.Partitions) != len(table.Partitions) {
				t.Fatalf("%+v was written and reads back as %+v, %v", table, again, err)
			}
			for _, p := range table.Partitions {
				if end := table.Start(p) + table.Size(p); end > int64(len(b)) || table.Start(p) < 0 {
					t.Fatalf("partition %+v ends at %d of %d", p, end, len(b))
				}
			}
			if err := table.Check(); err != nil {
				t.Fatal(err)
			}
		}
	})
}

type memory struct{ b []byte }

func (m *memory) WriteAt(p []byte, off int64) (int, error) { return copy(m.b[off:], p), nil }

func TestSectorsOf4096Bytes(t *testing.T) {
	const size = 64 << 20
	table := partition.Table{Scheme: partition.GPT, SectorSize: 4096, Sectors: size / 4096, DiskID: uuid.New(), FirstUsable: 6, LastUsable: size/4096 - 6, Slots: 128,
		Partitions: []partition.Partition{{Number: 3, Type: partition.EFISystem, ID: uuid.New(), First: 256, Last: 511, Name: "EFI system", Attributes: 1 << 63}}}
	disk := &memory{b: make([]byte, size)}
	require.NoError(t, table.Write(disk))
	got, err := partition.Read(bytes.NewReader(disk.b), size, 4096)
	require.NoError(t, err)
	assert.Equal(t, &table, got)
	assert.EqualValues(t, 1<<20, got.Start(got.Partitions[0]))
	assert.EqualValues(t, 6*4096, got.GapStart())
	assert.EqualValues(t, 1<<20, got.GapEnd())
	_, err = partition.Read(bytes.NewReader(disk.b), size, 512)
	assert.ErrorIs(t, err, partition.ErrDamaged, "read with the wrong sector size, it is announced and not there")
	_, err = partition.Read(bytes.NewReader(disk.b), size, 520)
	assert.ErrorContains(t, err, "520")
}

// The EFI System partition's type as the UEFI specification prints it and as it
// must lie on the disk, its first three fields turned round.
func TestIdentitiesAreMixedEndian(t *testing.T) {
	table := partition.Table{Scheme: partition.GPT, SectorSize: 512, Sectors: 128, FirstUsable: 34, LastUsable: 94, Slots: 128,
		Partitions: []partition.Partition{{Number: 1, Type: uuid.MustParse("C12A7328-F81F-11D2-BA4B-00A0C93EC93B"), First: 40, Last: 50, Name: "Fröhlich 🌿"}}}
	disk := &memory{b: make([]byte, 128*512)}
	require.NoError(t, table.Write(disk))
	assert.Equal(t, []byte{0x28, 0x73, 0x2A, 0xC1, 0x1F, 0xF8, 0xD2, 0x11, 0xBA, 0x4B, 0x00, 0xA0, 0xC9, 0x3E, 0xC9, 0x3B}, disk.b[1024:1040])
	got, err := partition.Read(bytes.NewReader(disk.b), 128*512, 512)
	require.NoError(t, err)
	assert.Equal(t, "Fröhlich 🌿", got.Partitions[0].Name, "names are UTF-16")
}

func TestCheckRefusesWhatCannotBe(t *testing.T) {
	for name, lie := range map[string]func(t *partition.Table){
		"scheme":           func(t *partition.Table) { t.Scheme = "other" },
		"sector size":      func(t *partition.Table) { t.SectorSize = 1 },
		"no slots":         func(t *partition.Table) { t.Slots = 0 },
		"too many slots":   func(t *partition.Table) { t.Slots = 1 << 30 },
		"overflow":         func(t *partition.Table) { t.Sectors, t.LastUsable = 1<<63, 1<<62 },
		"usable backwards": func(t *partition.Table) { t.FirstUsable = t.LastUsable + 1 },
		"usable too early": func(t *partition.Table) { t.FirstUsable = 2 },
		"slot zero":        func(t *partition.Table) { t.Partitions[0].Number = 0 },
		"slot behind":      func(t *partition.Table) { t.Partitions[0].Number = 129 },
		"slot twice":       func(t *partition.Table) { t.Partitions[0].Number = 2 },
		"backwards":        func(t *partition.Table) { t.Partitions[0].First = 51 },
		"overlap":          func(t *partition.Table) { t.Partitions[0].Last = 60 },
		"before":           func(t *partition.Table) { t.Partitions[0].First = 33 },
		"behind":           func(t *partition.Table) { t.Partitions[1].Last = 95 },
		"long boot code":   func(t *partition.Table) { t.BootCode = make([]byte, 441) },
	} {
		table := &partition.Table{Scheme: partition.GPT, SectorSize: 512, Sectors: 128, FirstUsable: 34, LastUsable: 94, Slots: 128,
			Partitions: []partition.Partition{{Number: 1, First: 40, Last: 50}, {Number: 2, First: 60, Last: 70}}}
		require.NoError(t, table.Check())
		lie(table)
		assert.ErrorIs(t, table.Check(), partition.ErrDamaged, name)
		assert.Error(t, table.Write(&memory{b: make([]byte, 128*512)}), name)
	}
}
