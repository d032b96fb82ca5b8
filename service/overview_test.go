package service_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/hwaddr"
	"jugate/demo/golddisk"
	"jugate/sim"
)

func (h *house) needs() map[string]api.Need {
	h.t.Helper()
	now, err := h.client.Overview(h.t.Context())
	require.NoError(h.t, err)
	all := map[string]api.Need{}
	for _, n := range now.Needs {
		all[n.Kind] = n
	}
	return all
}

func (h *house) part(name string) api.PartState {
	h.t.Helper()
	now, err := h.client.Overview(h.t.Context())
	require.NoError(h.t, err)
	i := slices.IndexFunc(now.Parts, func(p api.PartState) bool { return p.Part == name })
	if i < 0 {
		return api.PartState{}
	}
	return now.Parts[i]
}

// What needs somebody is told from when it does until it is mended.
func TestTheOverviewTellsWhatNeedsSomebody(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	assert.Empty(t, h.needs())
	assert.Equal(t, "good", h.part("records").State)
	assert.Equal(t, "warning", h.part("backups").State)
	assert.Equal(t, "good", h.part("store folder").State)

	w := h.called(7, "A310")
	assert.Equal(t, 1, h.needs()["newcomers"].Count)
	assert.Contains(t, h.needs()["newcomers"].Names[0], w.Addresses[0])
	_, err := h.client.Admit(ctx, w.Addresses[0], api.Admission{Name: "herb-07"})
	require.NoError(t, err)
	assert.NotContains(t, h.needs(), "newcomers")

	h.start(1, linuxDisk(t), 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	disk := blank(t, 66<<20)
	h.start(2, disk, 0, "herb-01")
	t.Log("# a delivery that waits for somebody")
	d, err := h.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-01", "herb-07"}})
	require.NoError(t, err)
	h.eventually(func() bool {
		n := h.needs()["deliveries"]
		return len(n.Names) == 1 && strings.Contains(n.Names[0], "1 awaited (herb-07)")
	})
	now, err := h.client.Overview(ctx)
	require.NoError(t, err)
	assert.Len(t, now.Deliveries, 1)
	assert.Equal(t, 2, now.Errands)
	assert.Equal(t, 3, now.Workstations)
	_, err = h.client.StopDelivery(ctx, d.ID)
	require.NoError(t, err)
	h.eventually(func() bool { _, is := h.needs()["deliveries"]; return !is })

	t.Log("# one that has failed, until it has succeeded")
	broken := &sim.Workstation{Addresses: []hwaddr.Address{address(3)}, Disks: []string{blank(t, 66<<20)}, Interface: "lo", Memory: 8 << 30, BadBytes: [2]int64{5 * golddisk.MiB, 5*golddisk.MiB + 512}}
	h.startMachine(broken, "herb-02")
	failed := h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-02"}})
	require.EqualValues(t, "failed", h.receipts(failed.ID)["herb-02"].Outcome)
	assert.Equal(t, []string{"herb-02"}, h.needs()["failures"].Names)
	broken.Become(func() { broken.BadBytes = [2]int64{} })
	h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-02"}})
	assert.NotContains(t, h.needs(), "failures")

	t.Log("# one that is not fit, by its check, until it is")
	broken.Become(func() { broken.BadBytes = [2]int64{5 * golddisk.MiB, 5*golddisk.MiB + 512} })
	checked := func() {
		t.Helper()
		errands, err := h.client.Check(ctx, api.NewCheck{To: []string{"herb-02"}, CheckOptions: api.CheckOptions{Surface: "whole", Disk: "only"}})
		require.NoError(t, err)
		h.eventually(func() bool {
			e, err := h.client.Errand(ctx, errands[0].ID)
			return err == nil && e.Ended != nil
		})
	}
	checked()
	assert.Equal(t, []string{"herb-02"}, h.needs()["checks"].Names)
	broken.Become(func() { broken.BadBytes = [2]int64{} })
	checked()
	assert.NotContains(t, h.needs(), "checks")

	t.Log("# an outpost that has not joined; media are no worry")
	_, err = h.client.AddOutpost(ctx, api.NewOutpost{Name: "alpine"})
	require.NoError(t, err)
	assert.Equal(t, "it has not joined yet", h.part("outpost alpine").What)
	require.NoError(t, h.client.RemoveOutpost(ctx, "alpine"))
	assert.Empty(t, h.part("outpost alpine").What)
}
