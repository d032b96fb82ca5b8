package lab_test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/demo/golddisk"
	"jugate/lab"
)

// handIn copies what is on the volume for data of a stick, and has it handed in where the service is.
func (r *room) handIn(stick string) string {
	r.t.Helper()
	out, err := exec.CommandContext(r.ctx, "sfdisk", "--json", stick).Output()
	require.NoError(r.t, err)
	var table struct {
		Table struct {
			Partitions []struct{ Start int64 }
		} `json:"partitiontable"`
	}
	require.NoError(r.t, json.Unmarshal(out, &table))
	require.Len(r.t, table.Table.Partitions, 2)
	data := r.t.TempDir()
	mcopy := exec.CommandContext(r.ctx, "mcopy", "-s", "-n", "-Q", "-i", fmt.Sprintf("%s@@%d", stick, table.Table.Partitions[1].Start*512), "::*", data)
	mcopy.Env = append(os.Environ(), "MTOOLS_SKIP_CHECK=1")
	said, err := mcopy.CombinedOutput()
	require.NoError(r.t, err, "%s", said)
	said, err = r.desk.Command(r.ctx, filepath.Join(r.bin, "jugate-outpost"), "--data", data, "--hand-in").Output()
	require.NoError(r.t, err)
	return string(said)
}

// Rooms without any line: one machine after the other is started from a stick with the image on it; or one that is started from a
// stick is the outpost of its neighbours. Receipts are handed in afterwards.
func TestSticksDeliver(t *testing.T) {
	t.Parallel()
	r := newRoom(t, nil, "--netboot", "eth0=off", "--tickets", "yes")
	far, err := lab.NewNetwork(r.ctx)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, far.Close()) })
	gold, err := golddisk.Build(r.ctx, golddisk.Spec{Path: filepath.Join(t.TempDir(), "gold"), Size: 96 * mib, Data: 20 * mib})
	require.NoError(t, err)
	r.jugate(nil, "image", "import", gold.Path, "--as", "garden-desk", "--despite", "a disk of the lab, which nobody uses")
	for name, address := range map[string]string{"kiosk-01": "00:00:5e:00:53:71", "alpine-01": "00:00:5e:00:53:72", "alpine-02": "00:00:5e:00:53:73"} {
		r.jugate(nil, "workstation", "admit", address, name)
	}
	alone, shared := filepath.Join(t.TempDir(), "alone.img"), filepath.Join(t.TempDir(), "shared.img")
	r.jugate(nil, "environment", "media", "--into", alone, "--service", "https://192.0.2.1:7460", "--image", "garden-desk@1", "--to", "kiosk-01", "--yes", "--despite-firmware")
	r.jugate(nil, "environment", "media", "--into", shared, "--service", "https://192.0.2.1:7460", "--image", "garden-desk@1", "--to", "alpine-01,alpine-02", "--yes", "--despite-firmware", "--start", "all",
		"--outpost", "alpine", "--netboot", "whole", "--address", "198.51.100.1/24", "--pool", "198.51.100.100-198.51.100.150/24")
	r.done("two sticks made")
	on := func(o lab.MachineOptions) *lab.Machine {
		o.Disk, o.Dir = r.disk(o.Name, gib), r.keep
		m, err := far.PowerOn(r.ctx, o)
		require.NoError(t, err)
		t.Cleanup(func() { assert.NoError(t, m.Off()) })
		return m
	}
	first := on(lab.MachineOptions{Name: "alpine-01", Address: "00:00:5e:00:53:72", Firmware: lab.UEFI, Media: shared, Written: true, Memory: 768})
	kiosk := on(lab.MachineOptions{Name: "kiosk-01", Address: "00:00:5e:00:53:71", Firmware: lab.UEFI, Media: alone, Written: true})
	r.expect(first, slow, "the fixed address of these media")
	r.expect(first, slow, "alpine-01: ready, waiting for the others")
	r.shot(first, "outpost-of-its-room")
	r.done("from the stick: power button to an outpost that waits for its room")
	r.expect(kiosk, slow, "kiosk-01: ")
	require.NoError(t, kiosk.Ended(r.ctx))
	r.done("from the stick with the image: power button to off, with the image on the disk")
	second := on(lab.MachineOptions{Name: "alpine-02", Address: "00:00:5e:00:53:73", Firmware: lab.UEFI})
	for _, m := range []*lab.Machine{second, first} {
		require.NoError(t, m.Ended(r.ctx))
	}
	r.done("both have the image, and are off")
	assert.Contains(t, r.handIn(shared), "alpine: ")
	assert.Contains(t, r.handIn(alone), "media-1: ")
	r.done("receipts handed in")
	var all []api.Receipt
	r.jugate(&all, "receipt", "list")
	for _, one := range all {
		assert.EqualValues(t, "delivered", one.Outcome, "%s: %s", one.Workstation, one.Reason)
		assert.True(t, one.Verified)
	}
	require.Len(t, all, 3)
	assert.NotZero(t, all[0].Multicast+all[1].Multicast+all[2].Multicast, "the stream was heard")
}
