package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/order"
	"jugate/demo/golddisk"
)

// A group says what its workstations should have. Who is behind is the same everywhere, and an order brings it to those that appear:
// also to one that was only expected, and once, even if it fails.
func TestWhoAppearsAndIsBehindGetsItsImageUnasked(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.start(1, gold(t).Path, 0, "desk-gold")
	h.capture("desk-gold", "garden-desk")
	_, err := h.client.AddGroup(ctx, api.NewGroup{Name: "herbarium"})
	require.NoError(t, err)
	for n, name := range []string{"herb-01", "herb-02"} {
		_, err = h.client.Admit(ctx, address(n+2).String(), api.Admission{Name: name, Groups: []string{"herbarium"}})
		require.NoError(t, err)
	}
	_, err = h.client.SetGroupImage(ctx, "herbarium", "garden-desk@7")
	assert.ErrorContains(t, err, "there is no")
	g, err := h.client.SetGroupImage(ctx, "herbarium", "garden-desk")
	require.NoError(t, err)
	assert.Equal(t, []any{"garden-desk", 2}, []any{g.Image, g.Behind})
	behind := func() []string {
		page, err := h.client.Workstations(ctx, apiclient.List{Filter: map[string]string{"where": "behind"}, Sort: "name"})
		require.NoError(t, err)
		var names []string
		for _, w := range page.Items {
			names = append(names, w.Name)
			assert.Equal(t, []string{"garden-desk@1"}, w.Wanted)
		}
		return names
	}
	assert.Equal(t, []string{"herb-01", "herb-02"}, behind())

	_, err = h.client.SaveOrder(ctx, api.Order{Name: "wrong", WhenBehind: true, Capture: &api.NewCapture{Workstation: "desk-gold", Image: "garden-desk"}})
	assert.ErrorContains(t, err, "has a delivery, and no capture")
	_, err = h.client.SaveOrder(ctx, api.Order{Name: "new-desks", WhenBehind: true, Deliver: &api.PreparedDelivery{NewDelivery: api.NewDelivery{Image: "garden-desk", To: []string{"herbarium"}}}})
	require.NoError(t, err)
	h.start(2, blank(t, 300*golddisk.MiB), 0, "")
	h.eventually(func() bool {
		w, err := h.client.Workstation(ctx, "herb-01")
		return err == nil && w.Image == "garden-desk@1" && !w.Behind
	})
	assert.Equal(t, []string{"herb-02"}, behind())
	runs, err := h.client.Runs(ctx, apiclient.List{Filter: map[string]string{"order": "new-desks"}})
	require.NoError(t, err)
	require.Len(t, runs.Items, 1)
	run := h.ended(runs.Items[0].ID)
	assert.Equal(t, []any{order.Done, []string{"herb-01"}, "the order new-desks for workstations that are behind, saved by administrator"}, []any{run.State, run.Only, run.OrderedBy})
	lines, err := h.client.Lines(ctx, apiclient.List{Filter: map[string]string{"operation": "run-order"}})
	require.NoError(t, err)
	require.Len(t, lines.Items, 1)
	assert.Equal(t, "order new-desks", lines.Items[0].Subject)

	t.Log("# a disk that is too small is tried once for a version")
	h.start(3, blank(t, 16*golddisk.MiB), 0, "")
	h.eventually(func() bool {
		runs, err = h.client.Runs(ctx, apiclient.List{Filter: map[string]string{"order": "new-desks"}})
		return err == nil && len(runs.Items) == 2 && runs.Items[0].State.Over()
	})
	assert.Equal(t, order.Failed, runs.Items[0].State)
	assert.Contains(t, runs.Items[0].Reason, "cannot be delivered")
	assert.Equal(t, []string{"herb-02"}, behind())
	_, err = h.client.SetGroupImage(ctx, "herbarium", "garden-desk@1") // the same: everybody looks again
	require.NoError(t, err)
	h.eventually(func() bool {
		w, err := h.client.Workstation(ctx, "herb-02")
		return err == nil && w.Online && w.Activity == ""
	})
	runs, err = h.client.Runs(ctx, apiclient.List{Filter: map[string]string{"order": "new-desks"}})
	require.NoError(t, err)
	assert.Len(t, runs.Items, 2)
}

// Whoever has signed in at a workstation sees the orders that may be run there, for that one alone; one that was released for everybody
// needs nobody.
func TestOrdersAtAWorkstation(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.start(1, gold(t).Path, 0, "desk-gold")
	h.capture("desk-gold", "garden-desk")
	h.groups("herbarium", "seeds")
	admitted := func(n int, name, group string) *apiclient.Client {
		c, a := h.machine(n, "A310")
		_, err := h.client.Admit(ctx, a, api.Admission{Name: name, Groups: []string{group}})
		require.NoError(t, err)
		return c
	}
	herb, seed := admitted(2, "herb-01", "herbarium"), admitted(3, "seed-01", "seeds")
	admitted(4, "herb-02", "herbarium")
	to := func(group string) *api.PreparedDelivery {
		return &api.PreparedDelivery{NewDelivery: api.NewDelivery{Image: "garden-desk", To: []string{group}}}
	}
	for _, in := range []api.Order{{Name: "herbarium-again", Deliver: to("herbarium")}, {Name: "anyone", Deliver: to("herbarium"), Released: []string{"everybody"}}, {Name: "seeds-again", Deliver: to("seeds"), Released: []string{"reader"}}} {
		_, err := h.client.SaveOrder(ctx, in)
		require.NoError(t, err)
	}
	h.person("wren", everything("reader"))
	assert.ErrorContains(t, herb.Wish(ctx, api.Wish{Kind: "order", Name: "herbarium-again"}), "sign in first")
	assert.ErrorContains(t, seed.Wish(ctx, api.Wish{Kind: "order", Name: "anyone"}), "sign in first", "it is not for this one")
	in, err := herb.SignIn(ctx, api.Typed{Name: "wren", Password: password})
	require.NoError(t, err)
	assert.Equal(t, []string{"anyone"}, in.Orders, "she may not deliver, and nothing else was released for her here")
	assert.ErrorContains(t, herb.Wish(ctx, api.Wish{Kind: "order", Name: "herbarium-again"}), "right to deliver")
	in, err = seed.SignIn(ctx, api.Typed{Name: "wren", Password: password})
	require.NoError(t, err)
	assert.Equal(t, []string{"seeds-again"}, in.Orders)
	require.NoError(t, seed.Wish(ctx, api.Wish{Kind: "order", Name: "seeds-again"}))
	h.person("ines", everything("engineer"))
	in, err = herb.SignIn(ctx, api.Typed{Name: "ines", Password: password})
	require.NoError(t, err)
	assert.Equal(t, []string{"anyone", "herbarium-again"}, in.Orders)
	assert.ErrorContains(t, herb.Wish(ctx, api.Wish{Kind: "order", Name: "seeds-again"}), "is not for herb-01")
	require.NoError(t, herb.Wish(ctx, api.Wish{Kind: "order", Name: "herbarium-again"}))

	runs, err := h.client.Runs(ctx, apiclient.List{})
	require.NoError(t, err)
	require.Len(t, runs.Items, 2)
	for i, want := range [][]string{{"herbarium-again", "ines", "herb-01"}, {"seeds-again", "wren", "seed-01"}} {
		run, err := h.client.Run(ctx, runs.Items[i].ID)
		require.NoError(t, err)
		assert.Equal(t, want, append([]string{run.Order, run.OrderedBy}, run.Only...), run.Reason)
		require.Len(t, run.Parts[0].Deliveries, 1, "%s %s", run.State, run.Reason)
		d, err := h.client.Delivery(ctx, run.Parts[0].Deliveries[0])
		require.NoError(t, err)
		assert.Len(t, d.Members, 1)
	}
}

// Those that appear while such a delivery is under way join it, so that a room that is switched on together gets one stream.
func TestThoseThatAppearTogetherShareADelivery(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.start(1, gold(t).Path, 0, "desk-gold")
	h.capture("desk-gold", "garden-desk")
	h.groups("herbarium")
	for n, name := range []string{"herb-01", "herb-02"} {
		_, err := h.client.Admit(ctx, address(n+2).String(), api.Admission{Name: name, Groups: []string{"herbarium"}})
		require.NoError(t, err)
	}
	_, err := h.client.SetGroupImage(ctx, "herbarium", "garden-desk")
	require.NoError(t, err)
	slow := api.NewDelivery{Image: "garden-desk", To: []string{"herbarium"}, Rate: 64_000} // minutes
	_, err = h.client.SaveOrder(ctx, api.Order{Name: "new-desks", WhenBehind: true, Deliver: &api.PreparedDelivery{NewDelivery: slow}})
	require.NoError(t, err)
	h.start(2, blank(t, 300*golddisk.MiB), 0, "")
	var run api.OrderRun
	only := func() []string {
		runs, err := h.client.Runs(ctx, apiclient.List{})
		require.NoError(t, err)
		if len(runs.Items) == 0 {
			return nil
		}
		require.Len(t, runs.Items, 1)
		run, err = h.client.Run(ctx, runs.Items[0].ID)
		require.NoError(t, err)
		return run.Only
	}
	h.eventually(func() bool { return len(only()) == 1 && len(run.Parts[0].Deliveries) == 1 })
	h.start(3, blank(t, 300*golddisk.MiB), 0, "")
	h.eventually(func() bool { return len(only()) == 2 })
	_, err = h.client.SetDeliveryRate(ctx, run.Parts[0].Deliveries[0], 100_000_000)
	require.NoError(t, err)
	run = h.ended(run.ID)
	assert.Equal(t, []any{order.Done, []string{"herb-01", "herb-02"}}, []any{run.State, run.Only}, run.Reason)
	assert.Len(t, h.receipts(run.Parts[0].Deliveries[0]), 2)
}

// A workstation whose build cannot ask for a confirmation is told a reason that it understands, and writes nothing.
func TestAnOldAgentDoesNotPassAConfirmationBy(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.start(1, gold(t).Path, 0, "desk-gold")
	h.capture("desk-gold", "garden-desk")
	for n, version := range map[int]string{2: "0.3.0", 3: "0.4.0"} {
		nobody := h.client.WithToken("")
		in, err := nobody.CheckIn(ctx, api.CheckIn{Boot: "boot", AgentVersion: version, Addresses: []string{address(n).String()}, Inventory: api.Inventory{Model: "A310", Disks: []api.Disk{{Size: 1 << 30, SectorSize: 512}}, Cards: []api.Card{}}})
		require.NoError(t, err)
		_, err = h.client.Admit(ctx, address(n).String(), api.Admission{Name: "v" + version})
		require.NoError(t, err)
		_, err = h.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"v" + version}, RestoreOptions: api.RestoreOptions{Confirm: "Are all files saved?"}})
		require.NoError(t, err)
		standing, err := nobody.WithToken(in.Pass).Standing(ctx)
		require.NoError(t, err)
		require.NotNil(t, standing.Errand)
		if to := standing.Errand.Receive; version == "0.3.0" {
			assert.Contains(t, to.Answer.Problem, "cannot ask for a confirmation")
		} else {
			assert.Equal(t, "Are all files saved?", to.Confirm)
			assert.Nil(t, to.Answer)
		}
	}
}
