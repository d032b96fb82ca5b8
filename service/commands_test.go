package service_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/errand"
	"jugate/core/order"
	"jugate/core/rights"
	"jugate/demo/golddisk"
	"jugate/sim"
)

// shelled gives a simulated workstation a boot environment in which scripts say something.
func shelled(w *sim.Workstation, says map[string]string) (ran func() []string) {
	var mu sync.Mutex
	var all []string
	w.Runs = func(ctx context.Context, script string, env []string) (string, int) {
		mu.Lock()
		defer mu.Unlock()
		all = append(all, script+" as "+strings.Join(env, " "))
		said, known := says[script]
		if !known {
			return script + ": not found\n", 127
		}
		return said, 0
	}
	return func() []string {
		mu.Lock()
		defer mu.Unlock()
		return slices.Clone(all)
	}
}

// An order runs commands before its delivery; what they say is kept, decides what comes, and takes out who fails.
func TestCommandsOfOnesOwn(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.start(1, gold(t).Path, 0, "desk-gold")
	h.capture("desk-gold", "garden-desk")
	h.groups("herbarium")
	old, fresh, broken := simulated(2, blank(t, 300*golddisk.MiB)), simulated(3, blank(t, 300*golddisk.MiB)), simulated(4, blank(t, 300*golddisk.MiB))
	ranOld := shelled(old, map[string]string{"scanner-firmware": "found one\nF1.07\n", "reset-scanner": "done\n"})
	ranFresh := shelled(fresh, map[string]string{"scanner-firmware": "found one\n\x1b[1mF2.00\x1b[0m\r\n \n", "reset-scanner": "done\n"})
	shelled(broken, nil)
	h.startMachine(old, "herb-01", "herbarium")
	h.startMachine(fresh, "herb-02", "herbarium")
	h.startMachine(broken, "herb-03", "herbarium")
	in := api.Order{Name: "scanners", Deliver: &api.PreparedDelivery{NewDelivery: api.NewDelivery{Image: "garden-desk", To: []string{"herbarium"}}},
		Commands: []api.PreparedCommand{
			{Command: api.Command{Name: "firmware", Script: "scanner-firmware", Place: "boot-environment"}, Before: "deliver"},
			{Command: api.Command{Name: "reset", Script: "reset-scanner", Place: "boot-environment"}},
		},
		OnlyIf: map[string]string{"deliver": `said["firmware"] == "F1.07"`, "reset": `passed["firmware"] and version == 1`}}
	saved, err := h.client.SaveOrder(ctx, in)
	require.NoError(t, err)
	assert.Equal(t, []order.Work{"command firmware", "deliver", "command reset"}, saved.Order.Work)

	run, err := h.client.RunOrder(ctx, "scanners")
	require.NoError(t, err)
	run = h.ended(run.ID)
	require.Equal(t, order.Failed, run.State, "for the one that has no such command")
	require.Len(t, run.Parts, 3)
	first := run.Parts[0]
	require.Len(t, first.LeftOut, 1)
	assert.Equal(t, "herb-03", first.LeftOut[0].Workstation)
	assert.Equal(t, "firmware ended with 127: scanner-firmware: not found", first.LeftOut[0].Reason)
	said := map[string]string{}
	for _, e := range first.Commands {
		require.NotNil(t, e.Command.Ended)
		assert.Empty(t, e.Command.Ended.Output, "of a single errand alone")
		said[e.Workstation] = fmt.Sprint(e.State, " ", e.Command.Ended.Status, " ", e.Command.LastLine)
	}
	assert.Equal(t, map[string]string{"herb-01": "done 0 F1.07", "herb-02": "done 0 [1mF2.00 [0m", "herb-03": "failed 127 scanner-firmware: not found"}, said)
	one, err := h.client.Errand(ctx, first.Errands[0])
	require.NoError(t, err)
	assert.Equal(t, []any{errand.Command, "firmware"}, []any{one.Kind, one.Command.Name})
	assert.Equal(t, "found one\nF1.07\n", one.Command.Ended.Output)
	receipts, err := h.client.Receipts(ctx, apiclient.List{})
	require.NoError(t, err)
	require.Len(t, receipts.Items, 1)
	assert.Equal(t, "herb-01", receipts.Items[0].Workstation)
	assert.Equal(t, []string{"scanner-firmware as JUGATE_WORKSTATION=herb-01", "reset-scanner as JUGATE_WORKSTATION=herb-01"}, ranOld())
	assert.Equal(t, []string{"scanner-firmware as JUGATE_WORKSTATION=herb-02"}, ranFresh())

	t.Log("# nobody whom the condition fits is no failure")
	in.Name, in.OnlyIf["deliver"], in.Commands = "nobody", `said["firmware"] == "F0.01"`, in.Commands[:1]
	delete(in.OnlyIf, "reset")
	in.Commands[0].MayFail = true
	_, err = h.client.SaveOrder(ctx, in)
	require.NoError(t, err)
	run, err = h.client.RunOrder(ctx, "nobody")
	require.NoError(t, err)
	run = h.ended(run.ID)
	assert.Equal(t, order.Done, run.State, run.Reason)
	assert.Equal(t, "there was nothing to do: its condition fits none of 3", run.Parts[1].Reason)
	page, err := h.client.Workstations(ctx, apiclient.List{Filter: map[string]string{"where": `said["firmware"] startsWith "F1"`}})
	require.NoError(t, err)
	require.Len(t, page.Items, 1)
	assert.Equal(t, "herb-01", page.Items[0].Name)

	t.Log("# a command in the system on a disk that has none")
	in.Name, in.Deliver, in.OnlyIf = "inside", nil, nil
	in.Commands = []api.PreparedCommand{{Command: api.Command{Name: "inside", Script: "true"}, To: []string{"herb-03"}}}
	_, err = h.client.SaveOrder(ctx, in)
	require.NoError(t, err)
	run, err = h.client.RunOrder(ctx, "inside")
	require.NoError(t, err)
	run = h.ended(run.ID)
	assert.Equal(t, order.Failed, run.State)
	assert.Contains(t, run.Reason, "the command inside could not be run")
}

// Orders with commands that make no sense are refused, and so is whoever may not change what workstations become.
func TestCommandsThatMakeNoSense(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.groups("herbarium")
	h.start(1, blank(t, golddisk.MiB), 0, "herb-01", "herbarium")
	check := &api.PreparedCheck{NewCheck: api.NewCheck{To: []string{"herbarium"}, CheckOptions: api.CheckOptions{Health: true}}}
	named := func(name string) api.PreparedCommand {
		return api.PreparedCommand{Command: api.Command{Name: name, Script: "true"}}
	}
	before := named("scanner")
	before.Before = "wipe"
	disk := named("scanner")
	disk.Disk = "the big one"
	for says, in := range map[string]api.Order{
		"say at which workstations this is done": {Commands: []api.PreparedCommand{named("scanner")}},
		"two commands of the order are called":   {Check: check, Commands: []api.PreparedCommand{named("scanner"), named("Scanner")}},
		"a command cannot be called check":       {Check: check, Commands: []api.PreparedCommand{named("check")}},
		"a part that the order does not have":    {Check: check, Commands: []api.PreparedCommand{before}},
		"which is no part of the order":          {Check: check, OnlyIf: map[string]string{"deliver": "true"}},
		"only_if of check: the condition":        {Check: check, OnlyIf: map[string]string{"check": "memory"}},
		"the command scanner":                    {Check: check, Commands: []api.PreparedCommand{disk}},
		"after the delivery workstations leave":  {Deliver: &api.PreparedDelivery{NewDelivery: api.NewDelivery{Image: "garden-desk", To: []string{"herbarium"}, WhenDone: "restart"}}, Commands: []api.PreparedCommand{named("scanner")}},
		"has nothing to do":                      {},
	} {
		in.Name = "odd"
		_, err := h.client.SaveOrder(ctx, in)
		assert.ErrorContains(t, err, says)
	}
	wren := h.person("wren", everything("helper"))
	_, err := wren.SaveOrder(ctx, api.Order{Name: "mine", Check: check})
	require.NoError(t, err, "who may deliver may check")
	_, err = wren.SaveOrder(ctx, api.Order{Name: "mine", Check: check, Commands: []api.PreparedCommand{named("scanner")}})
	assert.ErrorContains(t, err, string(rights.Answer))
}
