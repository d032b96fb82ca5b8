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
		"just fits":     table.MinSize(),
		"odd last byte": d.Size + 100,
	} {
		t.Run(name, func(t *testing.T) {
			moved, err := table.Onto(size, 512)
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

func TestOntoRefusesWithTheBytesItNeeds(t *testing.T) {
	d, f := build(t)
	table, err := partition.Read(f, d.Size, 512)
	require.NoError(t, err)

	_, err = table.Onto(table.MinSize()-1, 512)
	var small *partition.TooSmallError
	require.ErrorAs(t, err, &small)
	assert.Equal(t, table.MinSize(), small.Need)
	assert.Equal(t, d.RootStart+d.RootSize+33*512, small.Need, "the root volume, 32 sectors of entries and a header")

	_, err = table.Onto(d.Size, 4096)
	assert.ErrorIs(t, err, partition.ErrSectorSize)
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
		"empty file":             {func(b []byte) []byte { return nil }, partition.ErrNoTable, ""},
		"blank disk":             {func(b []byte) []byte { return make([]byte, len(b)) }, partition.ErrNoTable, ""},
		"cut behind the header":  {func(b []byte) []byte { return b[:40*512] }, partition.ErrDamaged, ""},
		"cut at half":            {func(b []byte) []byte { return b[:len(b)/2] }, partition.ErrDamaged, ""},
		"both headers":           {func(b []byte) []byte { b[512+40] ^= 1; b[len(b)-512+40] ^= 1; return b }, partition.ErrDamaged, ""},
		"headers wiped, MBR not": {func(b []byte) []byte { clear(b[512:1024]); clear(b[len(b)-512:]); return b }, partition.ErrDamaged, ""},
		"primary header":         {func(b []byte) []byte { b[512+40] ^= 1; return b }, nil, "primary"},
		"primary entries":        {func(b []byte) []byte { b[1024+40] ^= 1; return b }, nil, "primary"},
		"backup header":          {func(b []byte) []byte { b[len(b)-512+40] ^= 1; return b }, nil, "backup"},
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
	_, err := partition.Read(f, d.Size, 512)
	assert.ErrorIs(t, err, partition.ErrNoTable)
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
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, sector := range []int{512, 4096} {
			table, err := partition.Read(bytes.NewReader(b), int64(len(b)), sector)
			if err != nil {
				continue
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
