package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/order"
	"jugate/core/rights"
	"jugate/demo/golddisk"
)

// ended is a run once it is over.
func (h *house) ended(id int64) (run api.OrderRun) {
	h.t.Helper()
	h.eventually(func() bool {
		var err error
		run, err = h.client.Run(h.t.Context(), id)
		return err == nil && run.State.Over()
	})
	return run
}

// The golden machine is captured, and others get what it has: in one order, again and again, and although the service is killed
// in the middle.
func TestCloneInOneOrder(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	h := open(t, data, "127.0.0.1:0")
	ctx := t.Context()
	h.start(1, gold(t).Path, 0, "desk-gold")
	disk := blank(t, 300*golddisk.MiB)
	stop := h.start(2, disk, 0, "herb-01")
	clone := api.Order{Name: "clone", Capture: &api.NewCapture{Workstation: "desk-gold", Image: "garden-desk"},
		Deliver: &api.PreparedDelivery{NewDelivery: api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}}, Wait: 30}}
	saved, err := h.client.SaveOrder(ctx, clone)
	require.NoError(t, err)
	assert.Equal(t, []order.Work{order.Capture, order.Deliver}, saved.Order.Work)

	run, err := h.client.RunOrder(ctx, "clone")
	require.NoError(t, err)
	run = h.ended(run.ID)
	require.Equal(t, order.Done, run.State, run.Reason)
	require.Len(t, run.Parts, 2)
	assert.Len(t, run.Parts[0].Errands, 1)
	require.Len(t, run.Parts[1].Deliveries, 1)
	receipts, err := h.client.Receipts(ctx, apiclient.List{})
	require.NoError(t, err)
	require.Len(t, receipts.Items, 1)
	assert.Equal(t, []any{"herb-01", "garden-desk", 1, "administrator"}, []any{receipts.Items[0].Workstation, receipts.Items[0].Image, receipts.Items[0].Version, receipts.Items[0].OrderedBy})

	t.Log("# the service is gone while the delivery waits for its workstation, and goes on when it is back")
	stop()
	clone.Capture.KeepEqual = true
	_, err = h.client.SaveOrder(ctx, clone)
	require.NoError(t, err)
	run, err = h.client.RunOrder(ctx, "clone")
	require.NoError(t, err)
	h.eventually(func() bool {
		r, err := h.client.Run(ctx, run.ID)
		return err == nil && len(r.Parts[1].Deliveries) == 1
	})
	h.stop()
	h = open(t, data, "127.0.0.1:0")
	h.start(2, disk, 0, "")
	again := h.ended(run.ID)
	assert.Equal(t, order.Done, again.State, again.Reason)
	require.Len(t, again.Parts[1].Deliveries, 1, "it was not ordered twice")
	all, err := h.client.Runs(ctx, apiclient.List{Filter: map[string]string{"order": "clone"}})
	require.NoError(t, err)
	assert.Len(t, all.Items, 2)

	t.Log("# somebody else may run what was released for their role, as it stands")
	wren := h.person("wren", everything("helper"))
	_, err = wren.RunOrder(ctx, "clone")
	assert.ErrorContains(t, err, string(rights.Capture))
	clone.Released = []string{"helper"}
	_, err = h.client.SaveOrder(ctx, clone)
	require.NoError(t, err)
	run, err = wren.RunOrder(ctx, "clone")
	require.NoError(t, err)
	assert.Equal(t, "wren", run.OrderedBy)
	stopped, err := wren.StopRun(ctx, run.ID)
	require.NoError(t, err)
	assert.Equal(t, order.Stopped, stopped.State)
}
