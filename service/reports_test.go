package service_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
)

// Reports are held against what happened.
func TestReportsTellWhatHappened(t *testing.T) {
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
