package cli_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/demo/madeup"
)

func TestDriversAtTheCommandLine(t *testing.T) {
	root, agent := kernelFolder(t)
	require.NoError(t, os.RemoveAll(filepath.Join(root, "lib/modules/6.1.0-9-amd64")))
	require.NoError(t, madeup.WriteKernel(root))
	d := openDesk(t, "--agent", agent)
	client := d.stranger()
	for address, devices := range map[string][]string{"00:00:5e:00:53:11": {madeup.AlderNetwork, madeup.AlderDisk}, "00:00:5e:00:53:21": {madeup.AlderNetwork, madeup.CorvidDisk, madeup.WrenSound}} {
		inv := api.Inventory{Maker: "Alder Works", Model: map[int]string{2: "A310", 3: "A520"}[len(devices)], Disks: []api.Disk{}, Cards: []api.Card{}}
		for _, id := range devices {
			inv.Devices = append(inv.Devices, api.Device{ID: id})
		}
		_, err := client.CheckIn(t.Context(), api.CheckIn{Boot: "boot", Addresses: []string{address}, Inventory: inv})
		require.NoError(t, err)
	}
	d.must("group", "add", "seed-bank-lab")
	d.must("workstation", "admit", "00:00:5e:00:53:21", "seed-01", "--group", "seed-bank-lab")
	d.must("workstation", "admit", "00:00:5e:00:53:11", "herb-01")
	d.must("environment", "build", "--from", root, "--kernel", madeup.Kernel, "--offer")

	t.Log("# a folder is added; what is broken in it is told, and the same again is there already")
	disc := t.TempDir()
	require.NoError(t, madeup.WriteINF(disc))
	text := d.must("driver", "add", disc)
	for _, want := range []string{"aldernet", "1.6.2.0", "Alder Works (made up)", "left out: broken/wren.inf: it has no section [Version]", "warning: corvraid 2.0.1.0: not signed"} {
		assert.Contains(t, text, want)
	}
	assert.Contains(t, d.must("driver", "add", disc), "was there")
	for _, bad := range []string{t.TempDir(), filepath.Join(disc, "readme.txt"), "/nonexistent"} {
		_, code := d.run("driver", "add", bad)
		assert.Equal(t, 1, code, bad)
	}

	t.Log("# scripts learn by the exit code that a model lacks a driver")
	text, code := d.run("driver", "coverage", "--group", "seed-bank-lab", "--exit-code")
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "Alder Works A520: its disk controller pci fe03:3000 has no driver in build 1; no package of the library drives it")
	assert.Contains(t, text, "1 of 1 models lack")
	text, code = d.run("driver", "coverage", "herb-01", "--exit-code")
	assert.Equal(t, 0, code, text)
	assert.NotContains(t, text, "sound")
	assert.Contains(t, d.must("driver", "coverage", "--all"), "sound")
	cover := read[api.Coverage](d, "driver", "coverage", "--model", "*A520")
	require.Len(t, cover.Models, 1)
	assert.Equal(t, []string{"seed-01"}, cover.Models[0].Workstations)

	t.Log("# the modules are added, and a build has them by one command")
	modules := t.TempDir()
	require.NoError(t, madeup.WriteModules(modules))
	added := read[api.DriversAdded](d, "driver", "add", modules)
	require.Len(t, added.Packages, 1)
	assert.Contains(t, d.must("driver", "show", "corvid_raid"), "Corvid RAID controller (made up)")
	d.must("driver", "set", "save", "corvid", "--for", "linux", "--rule", "package=corvid*,class=storage")
	assert.Contains(t, d.must("driver", "set", "list"), "class=storage,package=corvid*")
	assert.Contains(t, d.must("driver", "set", "try", "corvid", "--model", "*A520"), "pci fe03:3000")
	text = d.must("environment", "build", "--drivers", "corvid", "--offer")
	assert.Regexp(t, `drivers corvid\s+5`, text)
	assert.Contains(t, text, "corvid_raid 2.0.1")
	assert.Contains(t, d.must("environment", "diff", "1", "2"), "updates/corvid_raid.ko")
	_, code = d.run("driver", "coverage", "--exit-code")
	assert.Equal(t, 0, code)
	_, code = d.run("environment", "build", "--cover", "seed-01")
	assert.Equal(t, 1, code, "there is nothing left to cover")

	t.Log("# explained, in every form")
	text = d.must("driver", "explain", "seed-01", "--device", "fe01:1000")
	assert.Contains(t, text, "boot environment: covered by aldernet")
	assert.Regexp(t, `\* \w{12}  aldernet 1.6.2.0`, text)
	assert.Contains(t, text, "behind aldernet 1.6.2.0: the later date wins (2026-02-11, not 2024-05-20)")
	assert.NotContains(t, text, "fe03")
	assert.Contains(t, d.must("driver", "explain", "seed-01", "-o", "csv"), "pci fe03:3000,")
	assert.Len(t, read[[]api.DriverExplained](d, "driver", "explain", "seed-01"), 3)

	for _, c := range []struct {
		code int
		args []string
	}{
		{1, []string{"driver", "install", "--to", "seed-01"}}, {1, []string{"driver", "show", "nobody"}}, {1, []string{"driver", "remove", "nobody"}}, {1, []string{"driver", "set", "try", "nobody"}},
		{2, []string{"driver", "set", "save", "a", "--for", "linux", "--rule", "colour=red"}}, {1, []string{"driver", "set", "save", "a", "--for", "linux", "--rule", "class=net"}},
		{2, []string{"driver", "add"}}, {1, []string{"environment", "build", "--drivers", "nobody"}}, {1, []string{"driver", "coverage", "nobody"}},
	} {
		text, code := d.run(c.args...)
		assert.Equal(t, c.code, code, "%v: %s", c.args, text)
	}
	d.must("driver", "remove", added.Packages[0].ID)
	d.must("driver", "set", "remove", "corvid")
	list := read[[]api.DriverPackage](d, "driver", "list", "--class", "storage")
	require.Len(t, list, 1)
	assert.Equal(t, "corvraid", list[0].Name)
}
