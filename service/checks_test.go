package service_test

import (
	"bytes"
	"fmt"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/check"
	"jugate/core/delivery"
	"jugate/core/disk"
	"jugate/core/errand"
	"jugate/core/hwaddr"
	"jugate/core/order"
	"jugate/core/wipe"
	"jugate/demo/golddisk"
	"jugate/sim"
)

// errandEnded is an errand once it is over.
func (h *house) errandEnded(id int64) (e api.Errand) {
	h.t.Helper()
	h.eventually(func() bool {
		var err error
		e, err = h.client.Errand(h.t.Context(), id)
		return err == nil && e.Ended != nil
	})
	return e
}

// simulated is a workstation that can be at fault.
func simulated(n int, disk string) *sim.Workstation {
	return &sim.Workstation{Addresses: []hwaddr.Address{address(n)}, Maker: "Alder Works", Model: "A310", Serial: "AW-" + address(n).String(), Memory: 8 << 30, Interface: "lo", Disks: []string{disk}}
}

// words are findings as people read them.
func found(c api.Check) (all []string) {
	for _, f := range c.Findings {
		all = append(all, string(f.About)+" is "+string(f.Verdict)+": "+f.Text)
	}
	return all
}

func TestWorkstationsCheckThemselves(t *testing.T) {
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.groups("herbarium")
	sound := simulated(1, blank(t, 16*golddisk.MiB))
	sound.Says = &disk.Vitals{Hours: 4000, Wrong: []string{}, Odd: []string{}}
	h.startMachine(sound, "herb-01", "herbarium")
	broken := simulated(2, blank(t, 16*golddisk.MiB))
	broken.BadBytes, broken.StuckBit, broken.Loss = [2]int64{5 * golddisk.MiB, 5*golddisk.MiB + 512}, true, 0.2
	h.startMachine(broken, "herb-02", "herbarium")

	_, err := h.client.Check(ctx, api.NewCheck{To: []string{"herbarium"}})
	assert.ErrorContains(t, err, "say what is to be checked")
	errands, err := h.client.Check(ctx, api.NewCheck{To: []string{"herbarium"}, CheckOptions: api.CheckOptions{Memory: "quick", Surface: "whole", Health: true, Network: true}})
	require.NoError(t, err)
	require.Len(t, errands, 2)
	for _, e := range errands {
		assert.Equal(t, errand.Done, h.errandEnded(e.ID).State)
	}
	of := func(workstation string) api.Check {
		page, err := h.client.Checks(ctx, apiclient.List{Filter: map[string]string{"workstation": workstation}})
		require.NoError(t, err)
		require.NotEmpty(t, page.Items)
		one, err := h.client.CheckNumbered(ctx, page.Items[0].ID)
		require.NoError(t, err)
		return one
	}
	good := of("herb-01")
	assert.Equal(t, check.Good, good.Verdict, "%v", found(good))
	assert.Equal(t, []any{"administrator", "Alder Works", "A310"}, []any{good.OrderedBy, good.Maker, good.Model})
	require.NotNil(t, good.Result)
	assert.Equal(t, []any{400, 400, int64(32 << 20)}, []any{good.Result.Network.Sent, good.Result.Network.Heard, good.Result.Network.Bytes})
	bad := of("herb-02")
	assert.Equal(t, check.Bad, bad.Verdict)
	text := found(bad)
	assert.Contains(t, text, "memory is bad: 1 words did not keep what was written, the first at physical address 0x140009338: replace the module")
	assert.Contains(t, text, "surface is bad: 512 B in one place cannot be read, the first at byte 5242880; all of it was read")
	assert.Contains(t, text, "health is good: nothing is known: the disk does not say how it is")
	assert.InDelta(t, 320, bad.Result.Network.Heard, 60, "a fifth is lost")

	t.Log("# defects that grow show beside the check before")
	sound.Become(func() { sound.Says = &disk.Vitals{Hours: 4100, Defects: 7, Wrong: []string{}, Odd: []string{}} })
	errands, err = h.client.Check(ctx, api.NewCheck{To: []string{"herb-01"}, CheckOptions: api.CheckOptions{Health: true}})
	require.NoError(t, err)
	h.errandEnded(errands[0].ID)
	assert.Equal(t, []string{"health is bad: 7 more defects than at the check before (0, now 7): it is failing"}, found(of("herb-01")))
	page, err := h.client.Checks(ctx, apiclient.List{Filter: map[string]string{"model": "alder works a*", "verdict": "bad"}})
	require.NoError(t, err)
	assert.Len(t, page.Items, 2)
}

// A check that fails takes its workstation out, and the others do not wait for it; the run goes on for it when it is mended.
func TestACheckTakesOutWhoWouldHoldTheOthersBack(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.groups("herbarium")
	golden := gold(t)
	h.start(1, golden.Path, 0, "desk-gold")
	h.capture("desk-gold", "garden-desk")
	h.startMachine(simulated(2, blank(t, 300*golddisk.MiB)), "herb-01", "herbarium")
	broken := simulated(3, blank(t, 300*golddisk.MiB))
	broken.StuckBit = true
	h.startMachine(broken, "herb-02", "herbarium")
	_, err := h.client.SaveOrder(ctx, api.Order{Name: "night", Check: &api.PreparedCheck{NewCheck: api.NewCheck{To: []string{"herbarium"}, CheckOptions: api.CheckOptions{Memory: "quick"}}, Require: []string{"memory >= 4GiB"}},
		Deliver: &api.PreparedDelivery{NewDelivery: api.NewDelivery{Image: "garden-desk", To: []string{"herbarium"}}}})
	require.NoError(t, err)
	run, err := h.client.RunOrder(ctx, "night")
	require.NoError(t, err)
	run = h.ended(run.ID)
	assert.Equal(t, order.Failed, run.State)
	assert.Contains(t, run.Reason, "check: herb-02: 1 words did not keep what was written")
	require.Len(t, run.Parts, 2)
	assert.Equal(t, []order.State{order.Done, order.Done}, []order.State{run.Parts[0].State, run.Parts[1].State})
	require.Len(t, run.Parts[0].LeftOut, 1)
	assert.Equal(t, "herb-02", run.Parts[0].LeftOut[0].Workstation)
	receipts := h.receipts(run.Parts[1].Deliveries[0])
	assert.Len(t, receipts, 1)
	assert.Equal(t, delivery.Delivered, receipts["herb-01"].Outcome)

	t.Log("# the module is replaced, and the run goes on for that one")
	broken.Become(func() { broken.StuckBit = false })
	next, err := h.client.GoOn(ctx, run.ID)
	require.NoError(t, err)
	next = h.ended(next.ID)
	assert.Equal(t, []any{order.Done, []string{"herb-02"}, run.ID}, []any{next.State, next.Only, next.Continues}, next.Reason)
	w, err := h.client.Workstation(ctx, "herb-02")
	require.NoError(t, err)
	assert.Equal(t, "garden-desk@1", w.Image)

	t.Log("# a condition that a workstation does not fit takes it out, too; with nobody left nothing is delivered")
	_, err = h.client.SaveOrder(ctx, api.Order{Name: "strict", Check: &api.PreparedCheck{NewCheck: api.NewCheck{To: []string{"herb-01"}, CheckOptions: api.CheckOptions{Memory: "quick"}}, Require: []string{"memory >= 64GiB"}},
		Deliver: &api.PreparedDelivery{NewDelivery: api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}}}})
	require.NoError(t, err)
	run, err = h.client.RunOrder(ctx, "strict")
	require.NoError(t, err)
	run = h.ended(run.ID)
	assert.Equal(t, order.Failed, run.State)
	assert.Contains(t, run.Reason, "herb-01: it does not fit: memory >= 64GiB")
	assert.Empty(t, run.Parts[1].Deliveries)
}

func TestADiskIsWipedWithAReceipt(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.groups("kiosks")
	path := blank(t, 8*golddisk.MiB)
	full := bytes.Repeat([]byte("a list of people and their keys. "), 8*golddisk.MiB/33+1)[:8*golddisk.MiB]
	require.NoError(t, os.WriteFile(path, full, 0o600))
	machine := simulated(3, path)
	h.startMachine(machine, "kiosk-03", "kiosks")
	_, err := h.client.Wipe(ctx, api.NewWipe{Workstations: []string{"kiosks"}})
	assert.ErrorContains(t, err, "kiosks is a group; name each workstation")

	errands, err := h.client.Wipe(ctx, api.NewWipe{Workstations: []string{"kiosk-03"}, WipeOptions: api.WipeOptions{Method: "purge"}})
	require.NoError(t, err)
	e := h.errandEnded(errands[0].ID)
	assert.Equal(t, errand.Failed, e.State)
	assert.Contains(t, e.Error, "the disk offers no purge")
	content, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, full, content, "what cannot be purged is not cleared in its place")

	errands, err = h.client.Wipe(ctx, api.NewWipe{Workstations: []string{"kiosk-03"}, Retire: true, WipeOptions: api.WipeOptions{Verify: "whole", WhenDone: "power-off"}})
	require.NoError(t, err)
	assert.Equal(t, errand.Done, h.errandEnded(errands[0].ID).State)
	content, err = os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, make([]byte, len(full)), content)
	page, err := h.client.Receipts(ctx, apiclient.List{})
	require.NoError(t, err)
	require.Len(t, page.Items, 2)
	r := page.Items[0]
	require.NotNil(t, r.Wipe)
	assert.Equal(t, []any{delivery.Wiped, true, "administrator", "kiosk-03", int64(0)}, []any{r.Outcome, r.Verified, r.OrderedBy, r.Workstation, r.Delivery})
	assert.Equal(t, []any{int64(len(full)), int64(len(full)), machine.Serial + "-D1"}, []any{r.Wipe.Size, r.Wipe.Read, r.Wipe.Serial})
	assert.Equal(t, []any{delivery.Failed, false}, []any{page.Items[1].Outcome, page.Items[1].Wipe.Began})
	assert.True(t, h.check().Sound, "receipts of wipes are leaves of the tree, too")
	h.eventually(func() bool {
		w, err := h.client.Workstation(ctx, "kiosk-03")
		return err == nil && w.State == "retired" && machine.Left() == "power-off"
	})

	t.Log("# another disk than the one that was seen is not wiped")
	other := simulated(4, blank(t, 8*golddisk.MiB))
	h.startMachine(other, "kiosk-04")
	other.Become(func() { other.Serial = "exchanged" })
	errands, err = h.client.Wipe(ctx, api.NewWipe{Workstations: []string{"kiosk-04"}})
	require.NoError(t, err)
	assert.Contains(t, h.errandEnded(errands[0].ID).Error, "somebody has exchanged it")
}

// What an agent says of a check or a wipe has bounds, and is about its own errand.
func TestAHostileAgentChecksAndWipes(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	clients := h.ready(2, 3)
	mine, other := clients["herb-02"], clients["herb-03"]
	order := func() int64 {
		errands, err := h.client.Check(ctx, api.NewCheck{To: []string{"herb-02"}, CheckOptions: api.CheckOptions{Network: true}})
		require.NoError(t, err)
		return errands[0].ID
	}
	id := order()
	none := check.Result{Problems: []string{}}
	told := func(_ any, err error) error { return err }
	assert.ErrorContains(t, told(mine.Checked(ctx, id, none)), "is waiting", "it has not been given out yet")
	standing, err := mine.Standing(ctx)
	require.NoError(t, err)
	require.NotNil(t, standing.Errand.Check)
	assert.ErrorContains(t, told(other.Checked(ctx, id, none)), "not a check of this workstation")
	assert.ErrorContains(t, other.UnderErrand(ctx, id, api.Activity{}), "of this workstation")
	assert.ErrorContains(t, told(other.Trial(ctx, id)), "not a check of this workstation")
	assert.Error(t, told(other.TrialBytes(ctx, id, 1)))
	assert.ErrorContains(t, told(mine.TrialBytes(ctx, id, 1<<40)), "a trial has from 1 to")
	assert.ErrorContains(t, mine.Wiped(ctx, id, api.Wiped{Report: wipe.Report{Method: wipe.Clear, Verify: wipe.Whole, Remarks: []string{}}}), "not a wipe of this workstation")
	many := check.Result{Problems: []string{}, Surface: &check.SurfaceReport{Speeds: make([]float64, 257), Unreadable: []check.Stretch{}}}
	assert.Error(t, told(mine.Checked(ctx, id, many)), "more parts than a disk has")
	backwards := check.Result{Problems: []string{}, Surface: &check.SurfaceReport{Speeds: []float64{-1}, Unreadable: []check.Stretch{}}}
	assert.ErrorContains(t, told(mine.Checked(ctx, id, backwards)), "a speed below 0")
	odd := check.Result{Problems: []string{}, Surface: &check.SurfaceReport{Lost: 7, Speeds: []float64{0}, Unreadable: []check.Stretch{}}}
	judged, err := mine.Checked(ctx, id, odd)
	require.NoError(t, err)
	assert.Equal(t, check.Bad, judged.Verdict)
	assert.ErrorContains(t, told(mine.Checked(ctx, id, none)), "is done", "once")

	t.Log("# an errand that was stopped is not done any more, and a wipe that may have begun leaves a receipt that says so")
	errands, err := h.client.Wipe(ctx, api.NewWipe{Workstations: []string{"herb-02"}})
	require.NoError(t, err)
	_, err = mine.Standing(ctx)
	require.NoError(t, err)
	_, err = h.client.StopErrand(ctx, errands[0].ID)
	require.NoError(t, err)
	assert.ErrorContains(t, mine.UnderErrand(ctx, errands[0].ID, api.Activity{}), "is stopped")
	assert.ErrorContains(t, mine.Wiped(ctx, errands[0].ID, api.Wiped{Report: wipe.Report{Method: wipe.Clear, Verify: wipe.Whole, Remarks: []string{}}}), "is stopped")
	page, err := h.client.Receipts(ctx, apiclient.List{})
	require.NoError(t, err)
	require.Len(t, page.Items, 1)
	assert.Equal(t, []any{delivery.WasStopped, false, true}, []any{page.Items[0].Outcome, page.Items[0].Verified, page.Items[0].Wipe.Began})
}

// An order takes out a machine whose firmware is set otherwise, that runs by its battery, or whose disk nobody has tested for long.
func TestConditionsOfFirmwarePowerAndTestedDisks(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.groups("herbarium")
	mains, battery, percent := true, false, 12
	for n, also := range map[int]func(inv *api.Inventory){
		2: func(inv *api.Inventory) {
			inv.FirmwareVersion, inv.Settings, inv.Mains = "1.14", map[string]string{"SecureBoot": "Enabled", "Wake on LAN": "LAN only"}, &mains
		},
		3: func(inv *api.Inventory) {
			inv.FirmwareVersion, inv.Settings, inv.Mains, inv.Battery = "1.02", map[string]string{"SecureBoot": "Disabled"}, &battery, &percent
		},
		4: nil,
	} {
		w := twoDisks(n, blank(t, 8<<20))
		w.Also = also
		h.startMachine(w, fmt.Sprintf("herb-%02d", n), "herbarium")
	}
	where := func(condition string) (names []string) {
		page, err := h.client.Workstations(ctx, apiclient.List{Filter: map[string]string{"where": condition}, Sort: "name"})
		require.NoError(t, err, condition)
		for _, w := range page.Items {
			names = append(names, w.Name)
		}
		return names
	}
	for condition, want := range map[string][]string{
		`setting["SecureBoot"] == "Enabled"`:       {"herb-02"},
		`setting["Wake on LAN"] contains "LAN"`:    {"herb-02"},
		`setting["SecureBoot"] == ""`:              {"herb-04"},
		`firmware_version in ["1.14", "1.15"]`:     {"herb-02"},
		`not mains or battery < 20`:                {"herb-03"},
		`mains and battery == 100`:                 {"herb-02", "herb-04"},
		`tested < 365`:                             nil,
		`tested > 365 and "herbarium" in groups`:   {"herb-02", "herb-03", "herb-04"},
		`firmware_version == "" and tested > 3000`: {"herb-04"},
	} {
		assert.Equal(t, want, where(condition), condition)
	}
	_, err := h.client.AddGroup(ctx, api.NewGroup{Name: "tested", Where: "tested < 30"})
	assert.ErrorContains(t, err, "tested")

	_, err = h.client.SaveOrder(ctx, api.Order{Name: "strict", Check: &api.PreparedCheck{NewCheck: api.NewCheck{To: []string{"herbarium"}, CheckOptions: api.CheckOptions{Surface: "whole"}},
		Require: []string{`setting["SecureBoot"] == "Enabled"`, "mains", "tested < 30"}}})
	require.NoError(t, err)
	run, err := h.client.RunOrder(ctx, "strict")
	require.NoError(t, err)
	run = h.ended(run.ID)
	out := map[string]string{}
	for _, l := range run.Parts[0].LeftOut {
		out[l.Workstation] = l.Reason
	}
	assert.Equal(t, map[string]string{
		"herb-03": `it does not fit: setting["SecureBoot"] == "Enabled"; it does not fit: mains`,
		"herb-04": `it does not fit: setting["SecureBoot"] == "Enabled"`,
	}, out, "what the run has tested just now counts")
	assert.Len(t, where("tested == 0"), 3)
}
