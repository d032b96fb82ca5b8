package service_test

import (
	"context"
	"log/slog"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/agent"
	"jugate/api"
	"jugate/apiclient"
	"jugate/core/order"
	"jugate/core/rights"
	"jugate/core/roster"
	"jugate/demo/golddisk"
)

// stranger is a machine that nobody has admitted, with its agent, until the returned function is called.
func (h *house) stranger(n int, disk string) (a *agent.Agent, address string, stop func()) {
	h.t.Helper()
	w := simulated(n, disk)
	shelled(w, map[string]string{"true": "fine\n"})
	nobody, err := apiclient.ForAgent(h.url, h.service.Authority())
	require.NoError(h.t, err)
	in := make(chan struct{})
	came := sync.OnceFunc(func() { close(in) })
	show := func(s agent.Status) {
		if strings.HasPrefix(s.Text, "new here") {
			came()
		}
	}
	a = agent.New(nobody, w, agent.Options{Boot: "one", Show: show, Log: slog.New(slog.NewTextHandler(h.agents, nil))})
	ctx, cancel := context.WithCancel(context.Background())
	var done sync.WaitGroup
	done.Go(func() { a.Run(ctx) })
	stop = sync.OnceFunc(func() { cancel(); done.Wait() })
	h.t.Cleanup(stop)
	address = w.Addresses[0].String()
	<-in
	return a, address, stop
}

// At a repair bench a machine that nobody admits receives an image and orders, by whoever has signed in at it. Its receipt says what
// machine that was, and for which job; the roster stays as it was.
func TestARepairBench(t *testing.T) {
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	disk := gold(t)
	h.start(1, disk.Path, 0, "desk-gold")
	h.capture("desk-gold", "garden-desk")
	require.NoError(t, h.set("service", map[string]any{"time_zone": "Europe/Vienna"}))
	h.person("wren", everything("engineer"))
	h.person("tomas", everything("reader"))
	path := blank(t, 300*golddisk.MiB)
	machine, address, leave := h.stranger(7, path)
	bench := api.Order{Name: "repairs", Bench: true, Note: "whatever stands there",
		Check:    &api.PreparedCheck{NewCheck: api.NewCheck{CheckOptions: api.CheckOptions{Memory: "quick"}}},
		Deliver:  &api.PreparedDelivery{NewDelivery: api.NewDelivery{Image: "garden-desk"}},
		Commands: []api.PreparedCommand{{Command: api.Command{Name: "fine", Script: "true", Place: "boot-environment"}}}}
	_, err := h.client.SaveOrder(ctx, bench)
	require.NoError(t, err)

	t.Log("# nobody helps himself, and whoever may not deliver gets nothing")
	receive := api.Wish{Kind: "receive", Image: "garden-desk", Job: "4711, Ms Alder"}
	assert.ErrorContains(t, machine.Wish(ctx, receive), "sign in first")
	in, err := machine.SignIn(ctx, api.Typed{Name: "tomas", Password: password})
	require.NoError(t, err)
	assert.True(t, in.Bench)
	assert.Empty(t, in.Orders)
	assert.ErrorContains(t, machine.Wish(ctx, receive), string(rights.Deliver))
	w, err := h.client.Workstation(ctx, address)
	require.NoError(t, err)
	assert.Equal(t, roster.Newcomer, w.State)

	for n, released := range []string{"everybody", "reader"} { // who is released for it runs it, but nobody who has not signed in
		bench.Released = []string{released}
		_, err = h.client.SaveOrder(ctx, bench)
		require.NoError(t, err)
		stranger, _, leave := h.stranger(8+n, blank(t, golddisk.MiB))
		assert.ErrorContains(t, stranger.Wish(ctx, api.Wish{Kind: "order", Name: "repairs"}), "sign in first")
		in, err = stranger.SignIn(ctx, api.Typed{Name: "tomas", Password: password})
		require.NoError(t, err)
		assert.Equal(t, []string{"repairs"}, in.Orders)
		leave()
	}
	bench.Released = nil
	_, err = h.client.SaveOrder(ctx, bench)
	require.NoError(t, err)

	t.Log("# an image")
	in, err = machine.SignIn(ctx, api.Typed{Name: "wren", Password: password})
	require.NoError(t, err)
	assert.Equal(t, []string{"repairs"}, in.Orders)
	require.NoError(t, machine.Wish(ctx, receive))
	h.eventually(func() bool { return len(h.all()) == 1 })
	r := h.all()[0]
	assert.EqualValues(t, "delivered", r.Outcome, r.Reason)
	assert.Equal(t, []string{address, address, "Alder Works", "A310", "AW-" + address, "4711, Ms Alder", "wren"}, []string{r.Workstation, r.Address, r.Maker, r.Model, r.Serial, r.Job, r.OrderedBy})
	assert.Nil(t, r.Arrival, "a machine without a name takes no answers")
	got, err := disk.On(path).Files(ctx)
	require.NoError(t, err)
	want, err := disk.Files(ctx)
	require.NoError(t, err)
	assert.Equal(t, want, got)

	t.Log("# it comes again, for another job, and is given an order")
	leave()
	machine, _, _ = h.stranger(7, path)
	w, err = h.client.Workstation(ctx, address)
	require.NoError(t, err)
	assert.Equal(t, []any{roster.Newcomer, ""}, []any{w.State, w.Job})
	_, err = machine.SignIn(ctx, api.Typed{Name: "wren", Password: password})
	require.NoError(t, err)
	require.NoError(t, machine.Wish(ctx, api.Wish{Kind: "order", Name: "repairs", Job: "4712"}))
	var runs api.Page[api.OrderRun]
	h.eventually(func() bool {
		runs, err = h.client.Runs(ctx, apiclient.List{})
		return err == nil && len(runs.Items) == 1 && runs.Items[0].State.Over()
	})
	assert.Equal(t, order.Done, runs.Items[0].State, runs.Items[0].Reason)
	all := h.all()
	require.Len(t, all, 2)
	assert.Equal(t, []string{address, "4712"}, []string{all[0].Workstation, all[0].Job})
	w, err = h.client.Workstation(ctx, address)
	require.NoError(t, err)
	assert.Equal(t, roster.Visiting, w.State, "until it comes again")
	assert.True(t, h.check().Sound)

	t.Log("# the roster is as it was, also for those who look at it")
	page, err := h.client.Workstations(ctx, apiclient.List{Filter: map[string]string{"state": "admitted"}})
	require.NoError(t, err)
	require.Len(t, page.Items, 1)
	assert.Equal(t, "desk-gold", page.Items[0].Name)
	_, err = h.client.RunOrder(ctx, "repairs")
	assert.ErrorContains(t, err, "is for machines at a bench")
	for says, in := range map[string]api.Order{
		"has no capture":         {Capture: &api.NewCapture{Workstation: "desk-gold", Image: "garden-desk"}},
		"does not run by itself": {Deliver: bench.Deliver, Schedule: &api.OrderSchedule{When: "daily 06:00"}},
		"have no helper":         {Deliver: bench.Deliver, Afterwards: "power-off"},
	} {
		in.Name, in.Bench = "odd", true
		_, err := h.client.SaveOrder(ctx, in)
		assert.ErrorContains(t, err, says)
	}
	h.groups("herbarium")
	ines := h.person("ines", api.Grant{Role: "helper", On: "group:herbarium"})
	_, err = ines.SaveOrder(ctx, bench)
	assert.Error(t, err, "machines at a bench are in no group")
}

// all are all receipts, the newest first.
func (h *house) all() []api.Receipt {
	h.t.Helper()
	page, err := h.client.Receipts(h.t.Context(), apiclient.List{})
	require.NoError(h.t, err)
	return page.Items
}
