package kmod_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/kmod"
)

// object is an object file with a section .modinfo, from the machine's assembler.
func object(t *testing.T, entries ...string) []byte {
	t.Helper()
	source := ".section .modinfo,\"a\"\n"
	for _, e := range entries {
		source += "\t.asciz \"" + e + "\"\n"
	}
	path := filepath.Join(t.TempDir(), "module.o")
	cmd := exec.CommandContext(t.Context(), "as", "-o", path)
	cmd.Stdin = strings.NewReader(source)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	return b
}

func TestReadInfo(t *testing.T) {
	m, err := kmod.ReadInfo(bytes.NewReader(object(t,
		"license=GPL", "name=seed_net", "vermagic=6.1.0-test SMP preempt mod_unload modversions ", "depends=mii,seed-lib",
		"softdep=pre: crc32c post: other", "alias=pci:v00001AF4d00001000sv*sd*bc*sc*i*", "alias=seed", "firmware=seed/a.fw")))
	require.NoError(t, err)
	assert.Equal(t, kmod.Info{Name: "seed_net", Kernel: "6.1.0-test", Needs: []string{"mii", "seed_lib"}, Before: []string{"crc32c"},
		Aliases: []string{"pci:v00001AF4d00001000sv*sd*bc*sc*i*", "seed"}, Firmware: []string{"seed/a.fw"}}, m)
	for name, bad := range map[string][]byte{"nothing": nil, "text": []byte("#!/bin/sh\n"), "no name": object(t, "license=GPL"), "cut off": object(t, "name=a")[:80]} {
		_, err := kmod.ReadInfo(bytes.NewReader(bad))
		assert.ErrorIs(t, err, kmod.ErrModule, name)
	}
}

func index() *kmod.Index {
	return kmod.NewIndex([]kmod.Info{
		{Name: "seed_net", Path: "kernel/net/seed-net.ko", Needs: []string{"mii", "seed_lib", "inside"}, Before: []string{"helper", "absent"},
			Aliases: []string{"pci:v00001AF4d00001000sv*sd*bc*sc*i*", "of:N*T*Cseed/net*"}},
		{Name: "seed_lib", Path: "kernel/lib/seed_lib.ko", Needs: []string{"mii"}},
		{Name: "mii", Path: "kernel/net/mii.ko"},
		{Name: "helper", Path: "kernel/lib/helper.ko", Aliases: []string{"crypto-seed"}},
		{Name: "torn", Path: "kernel/torn.ko", Needs: []string{"gone"}},
		{Name: "a", Needs: []string{"b"}}, {Name: "b", Needs: []string{"a"}}, // damaged: needs itself
	}, []string{"kernel/lib/inside.ko"})
}

func names(all []kmod.Info) (n []string) {
	for _, m := range all {
		n = append(n, m.Name)
	}
	return n
}

func TestWhatIsNeededComesFirst(t *testing.T) {
	order, err := index().Order("seed-net")
	require.NoError(t, err)
	assert.Equal(t, []string{"helper", "mii", "seed_lib", "seed_net"}, names(order))
	order, err = index().Order("torn", "mii")
	assert.ErrorIs(t, err, kmod.ErrMissing)
	assert.ErrorContains(t, err, "gone, which torn needs")
	assert.Equal(t, []string{"torn", "mii"}, names(order))
	_, err = index().Order("a")
	assert.NoError(t, err, "it ends")
}

func TestDevicesFindTheirModules(t *testing.T) {
	x := index()
	assert.Equal(t, []string{"seed_net"}, x.Match("pci:v00001AF4d00001000sv00001AF4sd00000001bc02sc00i00"))
	assert.Equal(t, []string{"seed_net"}, x.Match("of:NethernetT(null)Cseed/net-7"))
	assert.Equal(t, []string{"helper"}, x.Match("crypto-seed"))
	assert.Empty(t, x.Match("pci:v00001AF4d00001001sv0sd0bc02sc00i00"))
	assert.True(t, kmod.Fits("hid:b0003g*v0000046[DE]p*", "hid:b0003g0001v0000046Dp0000C52B"))
}

// depmod, from Debian's package kmod, writes the same files.
func TestTheIndexIsReadBack(t *testing.T) {
	var dep, aliases bytes.Buffer
	good := kmod.NewIndex(func() (good []kmod.Info) {
		for _, m := range index().Modules() {
			if m.Path != "" && m.Name != "torn" {
				good = append(good, m)
			}
		}
		return good
	}(), []string{"inside"})
	require.NoError(t, good.WriteDep(&dep))
	require.NoError(t, good.WriteAlias(&aliases))
	assert.Contains(t, dep.String(), "kernel/net/seed-net.ko: kernel/lib/seed_lib.ko kernel/net/mii.ko kernel/lib/helper.ko\n")
	x, err := kmod.ReadIndex(&dep, &aliases)
	require.NoError(t, err)
	order, err := x.Order("seed_net")
	require.NoError(t, err)
	assert.Equal(t, []string{"helper", "mii", "seed_lib", "seed_net"}, names(order))
	assert.Equal(t, []string{"seed_net"}, x.Match("pci:v00001AF4d00001000sv00001AF4sd00000001bc02sc00i00"))
}

func FuzzReadInfo(f *testing.F) {
	f.Add([]byte("\x7fELF\x02\x01\x01"))
	f.Fuzz(func(t *testing.T, b []byte) {
		if m, err := kmod.ReadInfo(bytes.NewReader(b)); err == nil {
			assert.NotEmpty(t, m.Name)
		}
	})
}

func TestWhatTheKernelHasInside(t *testing.T) {
	text := "ahci.license=GPL\x00ahci.alias=pci:v*d*sv*sd*bc01sc06i01*\x00ahci.alias=pci:v00001002d*\x00usb-core.file=drivers/usb/core\x00nonsense\x00=\x00.alias=x\x00"
	all, err := kmod.ReadBuiltin(strings.NewReader(text))
	require.NoError(t, err)
	assert.Equal(t, []kmod.Info{{Name: "ahci", Aliases: []string{"pci:v*d*sv*sd*bc01sc06i01*", "pci:v00001002d*"}}, {Name: "usb_core"}}, all)
}

// Every pattern is found that Fits alone would find.
func TestPatternsLoseNothing(t *testing.T) {
	texts := []string{"", "*", "pci:v*", "pci:v00008086d*", "pci:v00008086d000010D3sv*", "pci:v0000[18]*", "usb:v0BDA?*", "acpi*:PNP0A08:*", `pci:v0000808\6*`, "pci:v00008086d000010D3", "pci:v00008086d000010D3"}
	var p kmod.Patterns[int]
	for i, text := range texts {
		p.Add(text, i)
	}
	for _, modalias := range []string{"", "pci:v00008086d000010D3", "pci:v00008086d000010D3sv1", "usb:v0BDAp8153", "acpi:PNP0A03:PNP0A08:", "x"} {
		var want, got []int
		for i, text := range texts {
			if kmod.Fits(text, modalias) {
				want = append(want, i)
			}
		}
		p.Match(modalias, func(pattern string, i int) {
			assert.Equal(t, texts[i], pattern)
			got = append(got, i)
		})
		assert.ElementsMatch(t, want, got, modalias)
	}
}

func TestAnIndexWithMore(t *testing.T) {
	x := index().With([]kmod.Info{{Name: "mii", Path: "updates/mii.ko", Aliases: []string{"pci:v0000AAAA*"}}})
	m, there := x.Module("mii")
	require.True(t, there)
	assert.Equal(t, "updates/mii.ko", m.Path, "it takes the place of the other")
	assert.Equal(t, []string{"mii"}, x.Match("pci:v0000AAAAd1"))
	order, err := x.Order("seed_net")
	require.NoError(t, err, "what the kernel has inside is still there")
	assert.Len(t, order, 4)
}
