package builds_test

import (
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/driver"
	"jugate/core/environment/builds"
	"jugate/core/kmod"
	"jugate/core/slabstore"
	"jugate/demo/madeup"
)

var Created = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)

// corvid are the modules of a made-up disk controller, and how to open their files.
func Corvid(t *testing.T) builds.Drivers {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, madeup.WriteModules(dir))
	l, err := driver.OpenLibrary(t.TempDir())
	require.NoError(t, err)
	found, _, err := driver.Find(os.DirFS(dir))
	require.NoError(t, err)
	p, err := l.Add(os.DirFS(dir), found[0], "samples", Created)
	require.NoError(t, err)
	modules, err := driver.Bring([]driver.Choice{{Package: p, Modules: []string{"corvid_raid"}}}, l.Packages(), madeup.Kernel, nil)
	require.NoError(t, err)
	return builds.Drivers{Set: "corvid", Modules: modules, Open: func(p *driver.Package, name string) (io.ReadCloser, error) { return l.Open(p, name) }}
}

// gardenBuild is a build with the made-up kernel.
func GardenBuild(t *testing.T, s *builds.Store, number int) *builds.Build {
	t.Helper()
	root := System(t)
	require.NoError(t, madeup.WriteKernel(root))
	o := Options(t, number)
	o.Kernel, o.Leave = madeup.Kernel, []string{"brindlenet"}
	b, err := s.Make(t.Context(), Source(t, root), o)
	require.NoError(t, err)
	return b
}

// unpacked gives an initrd to zstd and cpio, segment by segment, as the kernel does.
func Unpacked(t *testing.T, s *builds.Store, b *builds.Build, more ...builds.Part) string {
	t.Helper()
	dir := t.TempDir()
	path := filepath.Join(dir, "initrd")
	c, err := s.OpenInitrd(b, slabstore.Digest{}, more...)
	require.NoError(t, err)
	defer c.Close()
	whole, err := io.ReadAll(io.NewSectionReader(c, 0, c.Size))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, whole, 0o644))
	out := filepath.Join(dir, "root")
	require.NoError(t, os.Mkdir(out, 0o755))
	at := 0
	for _, part := range append(Parts(b), more...) {
		require.NoError(t, os.WriteFile(path, whole[at:at+int(part.Size)], 0o644))
		cmd := exec.CommandContext(t.Context(), "sh", "-c", "zstd -dcq "+path+" | cpio -idmu --quiet --no-absolute-filenames -D "+out)
		said, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", said)
		at += (int(part.Size) + 3) &^ 3
	}
	return out
}

func Parts(b *builds.Build) (all []builds.Part) {
	for _, l := range b.Layers {
		all = append(all, l.Part)
	}
	return all
}

func TestADriverLayer(t *testing.T) {
	s, err := builds.Open(t.TempDir())
	require.NoError(t, err)
	one := GardenBuild(t, s, 1)
	in, err := s.Inside(one)
	require.NoError(t, err)
	disk, err := driver.ParseModalias(madeup.CorvidDisk)
	require.NoError(t, err)
	assert.Empty(t, in.DrivenBy(disk))
	net, err := driver.ParseModalias(madeup.BrindleNetwork)
	require.NoError(t, err)
	assert.Empty(t, in.DrivenBy(net), "it was left out")

	two, err := s.Extend(one, builds.Extension{Number: 2, Created: Created, Drivers: []builds.Drivers{Corvid(t)}})
	require.NoError(t, err)
	require.Len(t, two.Layers, 3)
	assert.Equal(t, []string{"base", "drivers corvid", "settings"}, []string{two.Layers[0].Name, two.Layers[1].Name, two.Layers[2].Name})
	assert.Equal(t, one.Layers[0], two.Layers[0], "no other layer is made anew")
	assert.Equal(t, []string{"corvid_raid 2.0.1"}, two.Layers[1].Packages)
	assert.Equal(t, one.Modules+2, two.Modules)
	in, err = s.Inside(two)
	require.NoError(t, err)
	assert.Equal(t, "corvid_raid", in.DrivenBy(disk))
	var changed []string
	for _, c := range builds.Diff(one, two) {
		changed = append(changed, c.What+" "+c.Path)
	}
	modules := "/lib/modules/" + madeup.Kernel + "/"
	assert.Equal(t, []string{"added /lib/firmware/corvid/raid.bin", "changed " + modules + "modules.alias", "changed " + modules + "modules.dep",
		"added " + modules + "updates/corvid_lib.ko", "added " + modules + "updates/corvid_raid.ko", "changed modules.json"}, changed)

	// The same set again takes the place of its layer.
	three, err := s.Extend(two, builds.Extension{Number: 3, Created: Created, Drivers: []builds.Drivers{Corvid(t)}})
	require.NoError(t, err)
	assert.Len(t, three.Layers, 3)
	assert.Equal(t, two.Modules, three.Modules)

	// depmod judges the list of aliases, over the files that the kernel would unpack.
	root := Unpacked(t, s, two)
	assert.FileExists(t, filepath.Join(root, "lib/firmware/corvid/raid.bin"))
	judged, err := exec.CommandContext(t.Context(), "depmod", "-n", "-b", root, madeup.Kernel).Output()
	require.NoError(t, err)
	ours, err := os.ReadFile(filepath.Join(root, "lib/modules", madeup.Kernel, "modules.alias"))
	require.NoError(t, err)
	assert.ElementsMatch(t, PciAliases(string(judged)), PciAliases(string(ours)))
	assert.Len(t, PciAliases(string(ours)), 3)
}

func PciAliases(text string) (all []string) {
	for l := range strings.Lines(text) {
		if strings.HasPrefix(l, "alias pci:") {
			all = append(all, strings.TrimSpace(l))
		}
	}
	return all
}

// What one workstation's model needs is a segment more behind the build's own.
func TestALayerForOneModel(t *testing.T) {
	s, err := builds.Open(t.TempDir())
	require.NoError(t, err)
	b := GardenBuild(t, s, 1)
	part, err := s.Compose(b, Corvid(t))
	require.NoError(t, err)
	assert.NoFileExists(t, filepath.Join(Unpacked(t, s, b), "lib/modules", madeup.Kernel, "updates/corvid_raid.ko"))
	root := Unpacked(t, s, b, part)
	assert.FileExists(t, filepath.Join(root, "lib/modules", madeup.Kernel, "updates/corvid_raid.ko"))
	dep, err := os.Open(filepath.Join(root, "lib/modules", madeup.Kernel, "modules.dep"))
	require.NoError(t, err)
	defer dep.Close()
	alias, err := os.Open(filepath.Join(root, "lib/modules", madeup.Kernel, "modules.alias"))
	require.NoError(t, err)
	defer alias.Close()
	x, err := kmod.ReadIndex(dep, alias)
	require.NoError(t, err)
	order, err := x.Order("corvid_raid")
	require.NoError(t, err)
	assert.Equal(t, "corvid_lib", order[0].Name)
	again, err := s.Compose(b, Corvid(t))
	require.NoError(t, err)
	assert.Equal(t, part, again, "the same layer is the same part")
}

func TestDriversThatDoNotFit(t *testing.T) {
	s, err := builds.Open(t.TempDir())
	require.NoError(t, err)
	other, err := s.Make(t.Context(), Source(t, System(t)), Options(t, 1))
	require.NoError(t, err)
	_, err = s.Extend(other, builds.Extension{Number: 2, Created: Created, Drivers: []builds.Drivers{Corvid(t)}})
	assert.ErrorContains(t, err, "corvid_lib of corvid_raid 2.0.1 is for kernel 6.1.0-9-garden on amd64, not for 6.1.0-9-test on amd64")
	garden := GardenBuild(t, s, 3)
	lacking := Corvid(t)
	lacking.Modules = slices.DeleteFunc(lacking.Modules, func(b driver.Brought) bool { return b.Module.Name == "corvid_lib" })
	_, err = s.Extend(garden, builds.Extension{Number: 4, Created: Created, Drivers: []builds.Drivers{lacking}})
	assert.ErrorIs(t, err, builds.ErrIncomplete)
	assert.ErrorContains(t, err, "corvid_lib, which corvid_raid needs")
	numbers, err := s.Builds()
	require.NoError(t, err)
	assert.Equal(t, []int{1, 3}, numbers, "what cannot be made is not there")

	delete(garden.Parts, "modules.json")
	_, err = s.Inside(garden)
	assert.ErrorIs(t, err, builds.ErrOldBuild)
}

// What few machines have is in a layer of its own, which a machine is spared whose devices do without, by what modules need, too.
func TestARareLayer(t *testing.T) {
	root := System(t)
	modules := "lib/modules/6.1.0-9-test/"
	kernel := modules + "kernel/drivers/"
	Put(t, root, kernel+"net/ethernet/brocade/bale.ko", "name=bale", "depends=bale-core,seed-lib", "alias=pci:v0000FE05d00005000*")
	Put(t, root, kernel+"infiniband/bale-core.ko", "name=bale_core", "firmware=bale/a.fw")
	Put(t, root, "lib/firmware/bale/a.fw")
	s, err := builds.Open(t.TempDir())
	require.NoError(t, err)
	b, err := s.Make(t.Context(), Source(t, root), Options(t, 7))
	require.NoError(t, err)
	require.Len(t, b.Layers, 3)
	rare := b.Layers[1]
	assert.Equal(t, []string{builds.BaseLayer, builds.RareLayer, builds.SettingsLayer}, []string{b.Layers[0].Name, rare.Name, b.Layers[2].Name})
	var files []string
	for _, f := range rare.Files {
		files = append(files, f.Path)
	}
	assert.Equal(t, []string{"lib/firmware/bale/a.fw", kernel + "infiniband/bale-core.ko", kernel + "net/ethernet/brocade/bale.ko", modules + "modules.alias", modules + "modules.dep"}, files)
	assert.Equal(t, 4, b.Modules)

	dep, err := os.ReadFile(filepath.Join(Unpacked(t, s, b), modules, "modules.dep"))
	require.NoError(t, err)
	assert.Contains(t, string(dep), "brocade/bale.ko: kernel/", "the last list is of all")
	lean, err := s.OpenInitrd(b, rare.Part.Digest)
	require.NoError(t, err)
	defer lean.Close()
	first, err := s.Parts.Open(b.Layers[0].Part, b.Layers[2].Part)
	require.NoError(t, err)
	defer first.Close()
	assert.Equal(t, first.Size, lean.Size)

	in, err := s.Inside(b)
	require.NoError(t, err)
	device := func(modalias string) driver.Device {
		d, err := driver.ParseModalias(modalias)
		require.NoError(t, err)
		return d
	}
	plain, bale := device("pci:v00001AF4d00001000sv00001AF4sd00000001bc02sc00i00"), device("pci:v0000FE05d00005000sv0000FE05sd00000001bc02sc00i00")
	assert.Equal(t, rare, in.Spared(b, []driver.Device{plain}, nil))
	assert.Zero(t, in.Spared(b, []driver.Device{plain, bale}, nil))
	own := func(needs ...string) []driver.Brought {
		return []driver.Brought{{Module: driver.Module{Info: kmod.Info{Name: "own", Needs: needs}}}}
	}
	assert.Equal(t, rare, in.Spared(b, []driver.Device{plain}, own("seed_lib")))
	assert.Zero(t, in.Spared(b, []driver.Device{plain}, own("seed_lib", "bale_core")), "a module of its own needs one of these")
	one, err := s.Make(t.Context(), Source(t, System(t)), Options(t, 8))
	require.NoError(t, err)
	in, err = s.Inside(one)
	require.NoError(t, err)
	assert.Zero(t, in.Spared(one, []driver.Device{plain}, nil), "a build that has nothing rare")
}
