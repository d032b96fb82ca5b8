package service_test

import (
	"context"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/agent"
	"jugate/api"
	"jugate/apiclient"
	"jugate/core/order"
	"jugate/sim"
)

// office is a system on which a helper stays; nobody is signed in.
type office struct {
	mu  sync.Mutex
	did []string
}

func (o *office) do(what string) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.did = append(o.did, what)
	return nil
}

func (o *office) Did() []string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return append([]string{}, o.did...)
}

func (o *office) SignedIn() int   { return 0 }
func (o *office) Warn(string)     { o.do("warn") }
func (o *office) Restart() error  { return o.do("restart") }
func (o *office) PowerOff() error { return o.do("off") }

// starts is the first start of a workstation's copy; the helper that stays runs until the function is called.
func (h *house) starts(w *sim.Workstation, boot string) (*office, func()) {
	h.t.Helper()
	sys := &office{}
	ctx, cancel := context.WithCancel(context.Background())
	var done sync.WaitGroup
	done.Go(func() { w.Stay(ctx, h.url, h.service.Authority(), boot, sys) })
	stop := sync.OnceFunc(func() { cancel(); done.Wait() })
	h.t.Cleanup(stop)
	return sys, stop
}

// A system on which the helper stays restarts for a run and is switched off after it; one without is left alone, and a helper hears
// nothing of another's.
func TestSystemsThatAreOnAreReached(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.groups("herbarium")
	h.start(1, linuxDisk(t), 0, "desk-gold")
	h.capture("desk-gold", "garden-desk")
	var machines []*sim.Workstation
	var leave []func() // the boot environment
	for n, name := range []string{"herb-01", "herb-02", "herb-03"} {
		w := twoDisks(n+2, blank(t, 66<<20))
		machines, leave = append(machines, w), append(leave, h.startMachine(w, name, "herbarium"))
	}
	require.NoError(t, h.set("herbarium", map[string]any{"helper": true}))
	require.NoError(t, h.set("herb-03", map[string]any{"helper": false}))
	d := h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herbarium"}})
	for name, r := range h.receipts(d.ID) {
		require.EqualValues(t, "delivered", r.Outcome, "%s: %s", name, r.Reason)
	}
	for i, w := range machines {
		leave[i]()
		require.NoError(t, w.FirstStart(ctx))
	}
	helper := func(name string) api.Helper {
		w, err := h.client.Workstation(ctx, name)
		require.NoError(t, err)
		if w.Helper == nil {
			return api.Helper{}
		}
		return *w.Helper
	}
	one, stop := h.starts(machines[0], "boot 1")
	two, _ := h.starts(machines[1], "boot 1")
	h.eventually(func() bool { return helper("herb-01").Running && helper("herb-02").Running })
	page, err := h.client.Workstations(ctx, apiclient.List{Filter: map[string]string{"where": "running"}})
	require.NoError(t, err)
	assert.Equal(t, 2, page.Total)

	t.Log("# told to restart, it does; to the service that is over when it starts again")
	told, err := h.client.Tell(ctx, api.Telling{To: []string{"herb-01", "herb-03"}, Verb: api.TellRestart})
	require.NoError(t, err)
	assert.Equal(t, api.Told{Told: []string{"herb-01"}, Without: []string{"herb-03"}, Off: []string{}}, told)
	h.eventually(func() bool { return len(one.Did()) == 1 })
	assert.Equal(t, []string{"restart"}, one.Did())
	assert.Equal(t, api.TellRestart, helper("herb-01").Verb)
	stop()
	one, stop = h.starts(machines[0], "boot 2")
	h.eventually(func() bool { return helper("herb-01").Verb == "" })
	assert.Empty(t, one.Did())
	assert.Empty(t, two.Did())
	told, err = h.client.Tell(ctx, api.Telling{To: []string{"herb-01"}, Verb: "nothing"})
	require.NoError(t, err)
	assert.Empty(t, told.Told, "there is nothing to take back")

	t.Log("# an order restarts who is on, waits for the arrivals, and leaves who was off before off")
	_, err = h.client.SaveOrder(ctx, api.Order{Name: "night", Restart: true, Afterwards: "as-before", Wake: true,
		Deliver: &api.PreparedDelivery{NewDelivery: api.NewDelivery{Image: "garden-desk", To: []string{"herb-01", "herb-02"}, Reuse: true}, Await: true}})
	require.NoError(t, err)
	run, err := h.client.RunOrder(ctx, "night")
	require.NoError(t, err)
	h.eventually(func() bool { return len(one.Did()) == 1 && len(two.Did()) == 1 })
	stop()
	for i, w := range machines[:2] {
		leave[i] = h.startMachine(w, "")
	}
	h.eventually(func() bool {
		run, err = h.client.Run(ctx, run.ID)
		return err == nil && run.Parts[1].State == order.Running
	})
	assert.False(t, helper("herb-01").Running, "it is in the boot environment")
	for i, w := range machines[:2] {
		leave[i]()
		require.NoError(t, w.FirstStart(ctx))
	}
	run = h.ended(run.ID)
	assert.Equal(t, order.Done, run.State, run.Reason)
	fresh, stop := h.starts(machines[0], "boot 3")
	h.eventually(func() bool { return helper("herb-01").Running })
	assert.Empty(t, fresh.Did(), "it was on before")
	assert.Empty(t, helper("herb-01").Verb)
	stop()

	_, err = h.client.SaveOrder(ctx, api.Order{Name: "night", Afterwards: "power-off",
		Deliver: &api.PreparedDelivery{NewDelivery: api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}, Reuse: true}}})
	require.NoError(t, err)
	run, err = h.client.RunOrder(ctx, "night")
	require.NoError(t, err)
	leave[0] = h.startMachine(machines[0], "")
	h.ended(run.ID)
	leave[0]()
	require.NoError(t, machines[0].FirstStart(ctx))
	off, _ := h.starts(machines[0], "boot 4")
	h.eventually(func() bool { return len(off.Did()) == 1 })
	assert.Equal(t, []string{"off"}, off.Did(), "by the helper of the new system, told what the old one had not heard")

	t.Log("# a key that is not known hears nothing")
	stranger := twoDisks(9, blank(t, 1<<20))
	assert.ErrorIs(t, stranger.Stay(ctx, h.url, h.service.Authority(), "boot 1", &office{}), agent.ErrReplaced)
	_, err = h.client.WithToken("").HelperWish(ctx, "boot 1", 0)
	assert.True(t, apiclient.IsUnauthorized(err))
}
