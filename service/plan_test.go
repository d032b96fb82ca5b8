package service_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/hwaddr"
	"jugate/core/partition"
	"jugate/demo/golddisk"
	"jugate/sim"
)

func TestADeliveryIsPlannedBeforeAnythingIsOrdered(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	disk := gold(t)
	h.start(1, disk.Path, 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	put := func(n int, name string, w *sim.Workstation) {
		w.Addresses, w.Interface, w.Maker, w.Model = []hwaddr.Address{address(n)}, "lo", "Alder Works", "A310"
		h.startMachine(w, name)
	}
	put(2, "herb-01", &sim.Workstation{Disks: []string{blank(t, disk.Size)}, Firmware: "UEFI"})
	put(3, "too-small", &sim.Workstation{Disks: []string{blank(t, 20*golddisk.MiB)}})
	put(4, "no-disk", &sim.Workstation{})
	put(5, "two-disks", &sim.Workstation{Disks: []string{blank(t, disk.Size), blank(t, disk.Size)}})
	put(6, "other-sectors", &sim.Workstation{Disks: []string{blank(t, disk.Size)}, SectorSize: 4096})
	put(7, "by-bios", &sim.Workstation{Disks: []string{blank(t, disk.Size)}, Firmware: "BIOS"})
	_, err := h.client.Admit(ctx, address(8).String(), api.Admission{Name: "never-seen"})
	require.NoError(t, err)

	order := api.NewDelivery{Image: "garden-desk", To: []string{"herb-01", "too-small", "no-disk", "two-disks", "other-sectors", "by-bios", "never-seen"}}
	plan, err := h.client.PlanDelivery(ctx, order)
	require.NoError(t, err)
	assert.EqualValues(t, "garden-desk", plan.Image)
	assert.Equal(t, 1, plan.Version)
	assert.Equal(t, []partition.Firmware{partition.UEFI}, plan.StartsBy)
	assert.Zero(t, plan.Earlier, "nothing was delivered yet")
	assert.Contains(t, plan.Refused, "leave out those that are named")
	said := map[string]api.PlannedWorkstation{}
	for _, w := range plan.Members {
		said[w.Workstation] = w
	}
	for name, want := range map[string]string{
		"too-small": "the disk is too small", "no-disk": "has no disk", "two-disks": "2 disks",
		"other-sectors": "sectors of 512 bytes, the disk of 4096", "by-bios": "it starts by BIOS, and the system of garden-desk@1 by UEFI",
	} {
		require.Len(t, said[name].Problems, 1, name)
		assert.Contains(t, said[name].Problems[0], want)
	}
	assert.Empty(t, said["herb-01"].Problems)
	assert.True(t, said["herb-01"].Online)
	assert.Equal(t, disk.Size, said["herb-01"].Disk.Size)
	assert.Empty(t, said["herb-01"].Image)
	assert.Contains(t, said["never-seen"].Warnings[0], "its disks were never seen")
	assert.False(t, said["never-seen"].Online)

	t.Log("# the order is refused for the same reasons, each with its workstation and model, and nothing is ordered")
	_, err = h.client.Deliver(ctx, order)
	require.Error(t, err)
	for _, want := range []string{"too-small (Alder Works A310): the disk is too small", "by-bios (Alder Works A310): it starts by BIOS", "--despite-firmware"} {
		assert.Contains(t, err.Error(), want)
	}
	assert.NotContains(t, err.Error(), "herb-01")
	page, err := h.client.Deliveries(ctx, apiclient.List{})
	require.NoError(t, err)
	assert.Empty(t, page.Items)

	t.Log("# what was delivered shows in the next plan, and what it says of the firmware can be overruled")
	h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}})
	plan, err = h.client.PlanDelivery(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-01", "by-bios"}, DespiteFirmware: true})
	require.NoError(t, err)
	assert.Empty(t, plan.Refused)
	assert.Equal(t, "garden-desk@1", plan.Members[1].Image)
	assert.Equal(t, 1, plan.Earlier)
	assert.Positive(t, plan.Seconds)
	assert.True(t, strings.HasPrefix(plan.Members[0].Warnings[0], "it starts by BIOS"))
	w, err := h.client.Workstation(ctx, "herb-01")
	require.NoError(t, err)
	assert.Equal(t, "garden-desk@1", w.Image)
	assert.False(t, w.Unfinished)
}

func TestADiskWithHalfACopyIsUnfinished(t *testing.T) {
	t.Parallel()
	r := newRoom(t)
	r.put(2, "herb-01", nil)
	d, err := r.client.Deliver(t.Context(), api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}, Rate: 4_000_000})
	require.NoError(t, err)
	r.until(d.ID, func(d api.Delivery) bool { return d.Members[0].Multicast+d.Members[0].Unicast > 0 })
	w, err := r.client.Workstation(t.Context(), "herb-01")
	require.NoError(t, err)
	assert.Equal(t, "receiving garden-desk@1", w.Activity, "the list says what it really does")
	_, err = r.client.StopDelivery(t.Context(), d.ID)
	require.NoError(t, err)
	r.until(d.ID, over)
	w, err = r.client.Workstation(t.Context(), "herb-01")
	require.NoError(t, err)
	assert.Equal(t, "garden-desk@1", w.Image)
	assert.True(t, w.Unfinished)
	_, err = r.client.InstallDrivers(t.Context(), api.InstallDrivers{To: []string{"herb-01"}, Disk: "only"})
	assert.ErrorContains(t, err, "the copy of garden-desk@1 on herb-01 is unfinished")
}
