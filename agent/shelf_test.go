package agent

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/bundle"
	"jugate/core/disk"
	"jugate/demo/golddisk"
)

// offline is a machine with one disk and no network.
type offline struct {
	Machine
	disk string
}

func (m offline) Inventory() (api.Inventory, error) {
	return api.Inventory{Disks: []api.Disk{{Serial: "AL 2601/D1"}}}, nil
}

func (m offline) OpenDisk(int) (Disk, error) {
	d, err := disk.Open(m.disk, disk.Options{})
	return hardwareDisk{d}, err
}

// Where no network is, a disk goes into a file on another one: whole, beside what is there, and for the reason that is given.
func TestADiskIsCapturedOntoAnother(t *testing.T) {
	gold, err := golddisk.Build(t.Context(), golddisk.Spec{Path: filepath.Join(t.TempDir(), "gold"), Size: 36 * mib, ESP: 3 * mib, FATBits: 12, Data: 6 * mib,
		Also: func(root string) error {
			return os.WriteFile(filepath.Join(root, "etc/machine-id"), []byte("7f3a1c0d5e6b4a798f0e1d2c3b4a5968\n"), 0o444)
		}})
	require.NoError(t, err)
	path, vol := filepath.Join(t.TempDir(), "second"), filepath.Join(t.TempDir(), "volume")
	require.NoError(t, golddisk.Blank(path, 80*mib))
	require.NoError(t, golddisk.Partition(t.Context(), path, 512, "label: gpt\nstart=1M, size=3M, type=uefi\nsize=60M, type=linux, name=shelf\n"))
	require.NoError(t, golddisk.BuildVolume(t.Context(), golddisk.VolumeSpec{Path: vol, Size: 60 * mib, Mkfs: []string{"mkfs.ext4", "-q", "-F"},
		Fill: func(dir string) error {
			return os.WriteFile(filepath.Join(dir, "field-desk-AL-2601-D1.jugate"), []byte("an earlier one"), 0o644)
		}}))
	require.NoError(t, golddisk.Put(path, 4*mib, vol))
	second, err := disk.Open(path, disk.Options{})
	require.NoError(t, err)
	defer second.Close()
	shelves := shelvesOf(second, "a second disk", func() (*disk.Disk, error) { return disk.Open(path, disk.Options{Write: true}) })
	require.Len(t, shelves, 1, "what firmware starts from is none")
	assert.Equal(t, "partition 2 (shelf), 60 MiB ext4 of a second disk", shelves[0].Words)

	a := New(nil, offline{disk: gold.Path}, Options{})
	_, err = a.CaptureOnto(t.Context(), 0, shelves[0], "field-desk", "")
	var blocked *BlockedError
	require.ErrorAs(t, err, &blocked)
	assert.ErrorContains(t, err, "machine-id")
	file, err := a.CaptureOnto(t.Context(), 0, shelves[0], "field-desk", "a desk of the field station")
	require.NoError(t, err)
	assert.Equal(t, "field-desk-AL-2601-D1-2.jugate", file)

	f, err := os.OpenFile(path, os.O_RDWR, 0)
	require.NoError(t, err)
	defer f.Close()
	m, err := mount(f, 4*mib, 60*mib, "ext4", "noload")
	require.NoError(t, err)
	defer m.Close()
	earlier, err := m.root.ReadFile("field-desk-AL-2601-D1.jugate")
	require.NoError(t, err)
	assert.Equal(t, "an earlier one", string(earlier))
	packed, err := m.root.Open(file)
	require.NoError(t, err)
	defer packed.Close()
	info, err := packed.Stat()
	require.NoError(t, err)
	r, err := bundle.Open(packed, info.Size())
	require.NoError(t, err)
	require.NoError(t, r.Verify(t.Context()))

	t.Log("# one that is too small has nothing of it")
	_, err = a.CaptureOnto(t.Context(), 0, Shelf{Open: func() (SystemVolume, error) { return full{}, nil }}, "field-desk", "a desk")
	assert.ErrorIs(t, err, errFull)
}

var errFull = errors.New("no space left on device")

// full is a volume without room.
type full struct{ SystemVolume }

func (full) Open(string) (fs.File, error)           { return nil, fs.ErrNotExist }
func (full) WriteFile(_ string, in io.Reader) error { return errFull }
func (full) Close() error                           { return nil }
