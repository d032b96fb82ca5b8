package service_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
)

// Reports are held against what happened.
func TestReportsTellWhatHappened(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	disk := gold(t)
	h.start(1, disk.Path, 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	_, err := h.client.AddGroup(ctx, api.NewGroup{Name: "herbarium"})
	require.NoError(t, err)
	for n, name := range []string{"herb-01", "herb-02", "herb-03"} {
		h.start(10+n, blank(t, disk.Size), 0, name, "herbarium")
	}
	_, err = h.client.SetGroupImage(ctx, "herbarium", "garden-desk")
	require.NoError(t, err)
	d := h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01", "herb-03"}, Rate: 80_000_000})
	require.EqualValues(t, "finished", d.State)

	rooms, err := h.client.RoomReport(ctx)
	require.NoError(t, err)
	assert.Equal(t, []api.RoomReport{
		{Group: "herbarium", Image: "garden-desk@1", Count: 2, Should: "garden-desk@1", Workstations: []string{"herb-01", "herb-03"}},
		{Group: "herbarium", Count: 1, Should: "garden-desk@1", Behind: true, Workstations: []string{"herb-02"}},
	}, rooms.Items)

	savings, err := h.client.SavingsReport(ctx, time.Now().Add(-time.Hour), time.Time{})
	require.NoError(t, err)
	require.Len(t, savings.Items, 1)
	var received int64
	for _, r := range h.receipts(d.ID) {
		received += r.Multicast + r.Unicast
	}
	d, err = h.client.Delivery(ctx, d.ID)
	require.NoError(t, err)
	one := savings.Items[0]
	assert.Equal(t, []int64{d.ID, 2, received, d.WireBytes, max(0, received-d.WireBytes)}, []int64{one.Delivery, int64(one.Count), one.Received, one.Wire, one.Saved})
	assert.Positive(t, one.Saved, "two have heard the same")
	assert.InDelta(t, float64(one.Saved)*8/80e6, one.Seconds, 1e-9)

	failures, err := h.client.FailureReport(ctx, time.Time{}, time.Time{})
	require.NoError(t, err)
	assert.Empty(t, failures.Items)

	t.Log("# the receipts of a period")
	page, err := h.client.Receipts(ctx, apiclient.List{Filter: map[string]string{"since": time.Now().Add(-time.Hour).Format(time.RFC3339)}})
	require.NoError(t, err)
	assert.Len(t, page.Items, 2)
	page, err = h.client.Receipts(ctx, apiclient.List{Filter: map[string]string{"until": time.Now().Add(-time.Hour).Format(time.RFC3339)}})
	require.NoError(t, err)
	assert.Empty(t, page.Items)

	t.Log("# as tables")
	_, kind, text := h.as("text/csv", "/reports/rooms")
	assert.Equal(t, "text/csv; charset=utf-8", kind)
	assert.Equal(t, "group,image,unfinished,workstation_count,should_have,behind,workstations\nherbarium,garden-desk@1,false,2,garden-desk@1,false,herb-01;herb-03\nherbarium,,false,1,garden-desk@1,true,herb-02\n", text)
	status, _, _ := h.as("text/csv", "/reports/savings?since=2026-03-02T00:00:00Z&until=2026-03-01T00:00:00Z")
	assert.Equal(t, 422, status)
}

// What was on disks already did not have to come, and is counted.
func TestTheReportTellsWhatWasReused(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	disk := gold(t)
	h.start(1, disk.Path, 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	h.start(2, blank(t, disk.Size), 0, "herb-01")
	first := h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}, Answers: "none"})
	assert.Zero(t, first.ReusedBytes, "the disk was blank")
	again := h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}, Reuse: true, Answers: "none"})
	require.EqualValues(t, "finished", again.State)
	assert.Positive(t, again.ReusedBytes)
	assert.LessOrEqual(t, again.ReusedBytes, again.UsedBytes)
	assert.Greater(t, 10*again.ReusedBytes, 7*again.UsedBytes, "nearly all of it was there; what is in it twice counts once")
	assert.Contains(t, strings.Join(again.Story, "\n"), "were on disks already")
	savings, err := h.client.SavingsReport(t.Context(), time.Time{}, time.Time{})
	require.NoError(t, err)
	assert.Equal(t, again.ReusedBytes, savings.Items[0].Reused)
}

// Licences and domains are told by what counts for each workstation, of a key the end alone.
func TestTheReportOfLicences(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	none, err := h.client.LicenceReport(ctx)
	require.NoError(t, err)
	assert.Empty(t, none.Items)
	h.groups("herbarium")
	for n, name := range []string{"herb-01", "herb-02", "kiosk-01"} {
		w := h.called(n+1, "A310")
		var groups []string
		if name != "kiosk-01" {
			groups = []string{"herbarium"}
		}
		_, err := h.client.Admit(ctx, w.Addresses[0], api.Admission{Name: name, Groups: groups})
		require.NoError(t, err)
	}
	require.NoError(t, h.set("herbarium", map[string]any{"product_key": "AAAAA-BBBBB-CCCCC-DDDDD-EEEEE"}))
	require.NoError(t, h.set("herb-02", map[string]any{"product_key": "AAAAA-BBBBB-CCCCC-DDDDD-FFFFF"}))
	page, err := h.client.LicenceReport(ctx)
	require.NoError(t, err)
	assert.Equal(t, []api.LicenceReport{
		{Workstation: "herb-01", Model: "A310", Key: "EEEEE", KeyFrom: "the group herbarium"},
		{Workstation: "herb-02", Model: "A310", Key: "FFFFF", KeyFrom: "herb-02"},
	}, page.Items, "nothing is given to kiosk-01")
	_, _, text := h.as("text/csv", "/reports/licences")
	assert.NotContains(t, text, "DDDDD")
	drivers, err := h.client.DriverReport(ctx, "")
	require.NoError(t, err)
	assert.Empty(t, drivers.Items, "nobody has told of devices")
}
