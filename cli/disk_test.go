package cli_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/demo/golddisk"
)

func smallGold(t *testing.T) *golddisk.Disk {
	t.Helper()
	gold, err := golddisk.Build(t.Context(), golddisk.Spec{Path: filepath.Join(t.TempDir(), "gold"), Size: 40 * golddisk.MiB, ESP: 3 * golddisk.MiB, FATBits: 12, Data: 6 * golddisk.MiB})
	require.NoError(t, err)
	return gold
}

func sameFiles(t *testing.T, want, got *golddisk.Disk) {
	t.Helper()
	require.NoError(t, got.Check(t.Context()))
	require.NoError(t, got.VerifyTable(t.Context()))
	a, err := want.Files(t.Context())
	require.NoError(t, err)
	b, err := got.Files(t.Context())
	require.NoError(t, err)
	assert.Equal(t, a, b)
}

func TestDisksWithoutAService(t *testing.T) {
	d := desk{t: t}
	gold := smallGold(t)
	packed := filepath.Join(t.TempDir(), "garden-desk.tar")

	text := d.must("disk", "survey", gold.Path)
	assert.Contains(t, text, "ext4")
	assert.Contains(t, text, "fit to be a golden image: nothing speaks against it")
	survey := read[struct {
		Areas    []struct{ Kind string }
		Findings []struct{ Code, Severity string }
	}](d, "disk", "survey", gold.Path)
	require.Len(t, survey.Areas, 3)
	assert.Equal(t, "ext4", survey.Areas[2].Kind)

	t.Log("# an agent's identity stands in the way, until a reason is given")
	require.NoError(t, gold.AddFile(t.Context(), "etc-agent", []byte("7f3a")))
	text, code := d.run("disk", "pack", gold.Path, "--into", packed, "--identity-files", "etc-agent")
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "an agent's identity is on it (etc-agent)")
	assert.Contains(t, text, "--despite")
	assert.NoFileExists(t, packed)
	left, err := filepath.Glob(filepath.Join(filepath.Dir(packed), ".*"))
	require.NoError(t, err)
	assert.Empty(t, left, "nothing half done is left")
	d.must("disk", "pack", gold.Path, "--into", packed, "--name", "garden-desk@1", "--identity-files", "etc-agent", "--despite", "for one room only")

	t.Log("# the plan is shown and nothing written, then it is carried out")
	target := filepath.Join(t.TempDir(), "target")
	require.NoError(t, golddisk.Blank(target, gold.Size+20*golddisk.MiB))
	text = d.must("disk", "unpack", packed, "--onto", target, "--grow", "1", "--dry-run")
	assert.Contains(t, text, "partition 1 grows by 20 MiB")
	assert.Contains(t, text, "partition 2 moves from sector")
	b, err := os.ReadFile(target)
	require.NoError(t, err)
	assert.Equal(t, make([]byte, 4096), b[:4096])
	text = d.must("disk", "unpack", packed, "--onto", target, "--grow", "1")
	assert.Contains(t, text, "every byte of it was read back and compared")
	got := gold.On(target)
	got.RootStart += 20 * golddisk.MiB
	sameFiles(t, gold, got)

	t.Log("# a disk that is not there is made; one that is too small is refused to the byte")
	fresh := filepath.Join(t.TempDir(), "fresh")
	u := read[struct {
		Verified bool
		Changes  []string
	}](d, "disk", "unpack", packed, "--onto", fresh)
	assert.True(t, u.Verified)
	assert.Equal(t, []string{"all partitions stay where they are"}, u.Changes)
	sameFiles(t, gold, gold.On(fresh))
	require.NoError(t, golddisk.Blank(fresh, golddisk.MiB))
	text, code = d.run("disk", "unpack", packed, "--onto", fresh)
	assert.Equal(t, 1, code)
	assert.Regexp(t, `it has 1048576 bytes and needs \d+`, text)

	t.Log("# comparing disks and files")
	assert.False(t, read[api.Comparison](d, "disk", "compare", gold.Path, packed).Different)
	require.NoError(t, gold.AddFile(t.Context(), "later", []byte("more")))
	c := read[api.Comparison](d, "disk", "compare", packed, gold.Path)
	assert.True(t, c.Different)
	text, code = d.run("disk", "compare", packed, gold.Path, "--exit-code")
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "they differ")
	d.must("disk", "compare", gold.Path, gold.Path, "--exit-code")
	d.must("disk", "survey", gold.Path, "--exit-code")
	assert.Positive(t, c.Areas[2].Changed)
	assert.Contains(t, d.must("disk", "compare", packed, gold.Path), "the same partitions, other content")

	for _, wrong := range [][]string{
		{"disk", "unpack", gold.Path, "--onto", target}, // a disk is not a packed image
		{"disk", "survey", filepath.Join(t.TempDir(), "none")},
		{"disk", "survey", packed},
	} {
		_, code := d.run(wrong...)
		assert.Equal(t, 1, code, wrong)
	}
	_, code = d.run("disk", "unpack", packed, "--onto", target, "--grow", "first")
	assert.Equal(t, 2, code)
}

func TestImagesComeFromFilesAndGoIntoThem(t *testing.T) {
	d := openDesk(t)
	gold := smallGold(t)
	dir := t.TempDir()

	t.Log("# the disk file of a virtual machine is the shortest way in")
	var refs []string
	for format, options := range map[string][]string{
		"qcow2": {"-O", "qcow2", "-c"}, "vhd": {"-O", "vpc", "-o", "force_size=on"}, "vhdx": {"-O", "vhdx"}, "raw": {"-O", "raw"},
	} {
		file := filepath.Join(dir, "desk."+format)
		_, err := golddisk.Run(t.Context(), append(append([]string{"qemu-img", "convert", "-f", "raw"}, options...), gold.Path, file)...)
		require.NoError(t, err)
		v := read[api.Version](d, "image", "import", file, "--as", "garden-desk", "--note", "from "+format, "--keep-equal")
		assert.Equal(t, "file desk."+format, v.Workstation)
		if len(refs) > 0 {
			assert.Zero(t, v.NewSlabs, "the same disk in another wrapping brings nothing new")
		}
		refs = append(refs, v.Note)
	}
	text, code := d.run("image", "import", filepath.Join(dir, "desk.raw"), "--as", "garden-desk")
	assert.Zero(t, code, text)
	assert.Regexp(t, "nothing has changed since garden-desk@4, so no version was made", text)
	assert.False(t, read[api.Comparison](d, "image", "diff", "garden-desk@1", "garden-desk@4").Different)
	text = d.must("image", "show", "garden-desk@1")
	assert.Contains(t, text, "│")
	assert.Contains(t, text, "ext4")

	t.Log("# a version goes into a file and comes back, elsewhere, as the same")
	packed := filepath.Join(dir, "garden-desk.tar")
	d.must("image", "export", "garden-desk@2", "--into", packed)
	was := read[api.Version](d, "image", "show", "garden-desk@2")
	other := openDesk(t)
	back := read[api.Version](other, "image", "import", packed, "--as", "lab-desk", "--note", "from the garden")
	assert.Equal(t, was.Digest, back.Digest)
	assert.Equal(t, 1, back.Version)
	assert.Contains(t, other.must("image", "verify", "lab-desk"), "is sound")
	target := filepath.Join(dir, "target")
	other.must("disk", "unpack", packed, "--onto", target)
	sameFiles(t, gold, gold.On(target))

	t.Log("# and what is kept of it")
	other.must("image", "note", "lab-desk@1", "spring")
	other.must("image", "rename", "lab-desk", "seed-desk")
	assert.Contains(t, other.must("image", "retire", "seed-desk@1"), "retired")
	assert.Contains(t, other.must("image", "readmit", "seed-desk@1"), "in use")
	other.must("image", "retire", "seed-desk@1")
	assert.Contains(t, other.must("image", "prune", "--dry-run"), "would be removed")
	assert.Contains(t, other.must("image", "prune"), "seed-desk@1 was pruned: its slabs go")
	text, code = other.run("image", "verify", "seed-desk@1")
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "was pruned")
	assert.Contains(t, other.must("image", "rescan"), "1 versions were known")
	_, code = other.run("image", "retire", "seed-desk")
	assert.Equal(t, 2, code, "which version?")
}
