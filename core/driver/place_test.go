package driver_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/driver"
	"jugate/core/kmod"
	"jugate/demo/madeup"
)

func places(all []driver.Placed) (to []string) {
	for _, p := range all {
		to = append(to, p.To)
	}
	return to
}

func TestWhereFilesGo(t *testing.T) {
	l, _ := samples(t)
	raid, err := l.Package("corvraid")
	require.NoError(t, err)
	folder := "Jugate/Drivers/corvraid-" + raid.ID
	assert.Equal(t, []string{folder + "/corvraid.inf", folder + "/x64/corvraid.sys"}, places(driver.PlaceINF([]driver.Choice{{Package: raid}, {Package: raid}})))

	modules, err := l.Package("corvid_raid")
	require.NoError(t, err)
	brought, err := driver.Bring([]driver.Choice{{Package: modules, Modules: []string{"corvid_raid"}}}, l.Packages(), madeup.Kernel, nil)
	require.NoError(t, err)
	updates := "lib/modules/" + madeup.Kernel + "/updates/jugate/"
	assert.Equal(t, []string{updates + "corvid_lib.ko", updates + "corvid_raid.ko", "lib/firmware/corvid/raid.bin"}, places(driver.PlaceModules(brought)))
}

func TestWhatHasToComeAlong(t *testing.T) {
	module := func(name string, needs ...string) driver.Module {
		return driver.Module{Info: kmod.Info{Name: name, Kernel: "6.1", Needs: needs, Path: "kernel/" + name + ".ko"}, Arch: "amd64", File: name + ".ko"}
	}
	own := &driver.Package{ID: "own", Kind: driver.Modules, Kernel: "6.1", Modules: []driver.Module{module("card", "lib", "crc"), module("lib")}}
	tree := &driver.Package{ID: "tree", Kind: driver.Modules, Kernel: "6.1", InTree: true, Builtin: []string{"crc"}, Modules: []driver.Module{module("lib", "old"), module("old"), module("card2", "gone")}}
	names := func(all []driver.Brought) (out []string) {
		for _, b := range all {
			out = append(out, b.Package.ID+" "+b.Module.Name)
		}
		return out
	}
	library := []*driver.Package{tree, own}
	all, err := driver.Bring([]driver.Choice{{Package: own, Modules: []string{"card"}}}, library, "6.1", nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"own lib", "own card"}, names(all), "its own companions come before those of the tree")
	all, err = driver.Bring([]driver.Choice{{Package: own, Modules: []string{"card"}}}, library, "6.1", []string{"lib", "card"})
	require.NoError(t, err)
	assert.Equal(t, []string{"own card"}, names(all), "what is there stays, but for what was chosen")
	_, err = driver.Bring([]driver.Choice{{Package: tree, Modules: []string{"card2"}}}, library, "6.1", nil)
	assert.ErrorIs(t, err, kmod.ErrMissing)
	assert.ErrorContains(t, err, "gone, which card2 needs")
	_, err = driver.Bring([]driver.Choice{{Package: own, Modules: []string{"card"}}}, library, "6.2", nil)
	assert.ErrorContains(t, err, "for kernel 6.1, not for 6.2")
	all, err = driver.Bring(nil, library, "6.1", nil)
	assert.NoError(t, err)
	assert.Empty(t, all)
}

func TestWhoIsServed(t *testing.T) {
	l, _ := samples(t)
	var parser driver.Parser
	parse := func(modalias string) driver.Device {
		d, err := parser.Parse(modalias, 1)
		require.NoError(t, err)
		return d
	}
	machines := []driver.Machine{
		{Name: "herb-01", Model: "A310", Devices: []driver.Device{parse(madeup.AlderNetwork)}},
		{Name: "seed-01", Model: "A520", Devices: []driver.Device{parse(madeup.AlderNetwork), parse(madeup.CorvidDisk)}},
		{Name: "seed-02", Model: "A520", Devices: []driver.Device{parse(madeup.CorvidDisk)}},
		{Name: "blank"},
	}
	served := driver.Served(machines, l.Index())
	id := func(ref string) string {
		p, err := l.Package(ref)
		require.NoError(t, err)
		return p.ID
	}
	assert.Equal(t, []string{"seed-01", "seed-02"}, served[id("corvid_raid")])
	assert.Equal(t, []string{"herb-01", "seed-01"}, served[l.Packages()[0].ID], "the newer one of two")
	assert.Empty(t, served[l.Packages()[1].ID])
	fleet := driver.FleetOf(machines)
	assert.Len(t, fleet["A520"], 2, "each device of a model once")
	_, err := parser.Parse("nonsense", 0)
	assert.ErrorIs(t, err, driver.ErrDevice)
}

func TestWindowsAndVirtio(t *testing.T) {
	in := &driver.Inside{System: driver.Windows, Arch: "amd64"}
	in.Prepare()
	v := driver.Judge(device(t, "virtio:d00000002v00001AF4"), in, nil, driver.NewIndex(nil))
	assert.Equal(t, driver.NotNeeded, v.State)
	assert.Equal(t, driver.Board, device(t, "pci:v00001AF4d00001042sv00001AF4sd00001100bc01sc00i00").Class)
}
