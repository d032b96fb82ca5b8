package service_test

import (
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/order"
	"jugate/core/rights"
	"jugate/demo/golddisk"
)

// What was on a disk is saved before it is erased: for that workstation alone, out of everybody's sight, and until it expires.
func TestADiskIsSavedBeforeItIsErased(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	h := open(t, data, "127.0.0.1:0")
	ctx := t.Context()
	h.start(1, gold(t).Path, 0, "desk-gold")
	h.capture("desk-gold", "garden-desk")
	h.groups("herbarium")
	path, files := desk(t, 100*golddisk.MiB)
	h.start(2, path, 0, "herb-01", "herbarium")
	h.start(3, blank(t, 100*golddisk.MiB), 0, "herb-02")
	reader := h.person("tomas", everything("reader"))
	helper := h.person("wren", everything("helper"))
	in := api.Order{Name: "renewal", SaveDays: 14, Deliver: &api.PreparedDelivery{NewDelivery: api.NewDelivery{Image: "garden-desk", To: []string{"herbarium"}}}}
	_, err := helper.SaveOrder(ctx, in)
	assert.ErrorContains(t, err, string(rights.Capture), "who may not capture cannot save disks")
	saved, err := h.client.SaveOrder(ctx, in)
	require.NoError(t, err)
	assert.Equal(t, []order.Work{order.Save, order.Deliver}, saved.Order.Work)
	for range 2 { // the second time there is what the first has delivered
		run, err := h.client.RunOrder(ctx, "renewal")
		require.NoError(t, err)
		run = h.ended(run.ID)
		require.Equal(t, order.Done, run.State, run.Reason)
	}

	t.Log("# it is of that workstation alone")
	list := func(c *apiclient.Client, filter map[string]string) (names []string) {
		page, err := c.Images(ctx, apiclient.List{Filter: filter})
		require.NoError(t, err)
		for _, v := range page.Items {
			names = append(names, v.Image)
		}
		return names
	}
	only := map[string]string{"saved": "true"}
	assert.Equal(t, []string{"garden-desk"}, list(reader, nil))
	assert.Equal(t, []string{"disk-of-herb-01"}, list(h.client, only))
	_, err = reader.Images(ctx, apiclient.List{Filter: only})
	assert.ErrorContains(t, err, string(rights.Capture))
	_, err = reader.Version(ctx, "disk-of-herb-01@1")
	assert.ErrorContains(t, err, string(rights.Capture))
	_, err = reader.Versions(ctx, "disk-of-herb-01")
	assert.ErrorContains(t, err, string(rights.Capture))
	v, err := h.client.Version(ctx, "disk-of-herb-01@1")
	require.NoError(t, err)
	require.NotNil(t, v.Expires)
	assert.WithinDuration(t, time.Now().AddDate(0, 0, 14), *v.Expires, 10*time.Minute)
	_, err = h.client.Deliver(ctx, api.NewDelivery{Image: "disk-of-herb-01@1", To: []string{"herb-02"}})
	assert.ErrorContains(t, err, "does not go onto herb-02")

	t.Log("# and goes back onto it, as it was")
	require.NoError(t, h.set("herb-01", map[string]any{"time_zone": "Europe/Vienna"}))
	d := h.deliver(api.NewDelivery{Image: "disk-of-herb-01@1", To: []string{"herb-01"}})
	r := h.receipts(d.ID)["herb-01"]
	require.EqualValues(t, "delivered", r.Outcome, r.Reason)
	assert.Nil(t, r.Arrival, "no answers change it")
	assert.Equal(t, files, filesOf(t, path, 60*golddisk.MiB, 20*golddisk.MiB))

	t.Log("# until its time is over")
	h.stop()
	h = openIn(t, data, time.Now().AddDate(0, 0, 15))
	h.eventually(func() bool {
		v, err := h.client.Version(ctx, "disk-of-herb-01@1")
		return err == nil && v.State == "pruned"
	})
	check, err := h.client.VerifyVersion(ctx, "garden-desk@1")
	require.NoError(t, err)
	assert.Empty(t, check.Faults, "others keep what they need")
}

// Who cannot be saved is taken out, and its disk stays as it is.
func TestWhoCannotBeSavedIsNotErased(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.start(1, gold(t).Path, 0, "desk-gold")
	h.capture("desk-gold", "garden-desk")
	path, files := desk(t, 100*golddisk.MiB)
	w := simulated(2, path)
	w.Disks = append(w.Disks, blank(t, golddisk.MiB)) // which of them is meant?
	h.startMachine(w, "herb-01")
	h.start(3, blank(t, 100*golddisk.MiB), 0, "herb-02")
	_, err := h.client.SaveOrder(ctx, api.Order{Name: "renewal", SaveDays: 14, Deliver: &api.PreparedDelivery{NewDelivery: api.NewDelivery{Image: "garden-desk", To: []string{"herb-01", "herb-02"}}}})
	require.NoError(t, err)
	run, err := h.client.RunOrder(ctx, "renewal")
	require.NoError(t, err)
	run = h.ended(run.ID)
	assert.Equal(t, order.Failed, run.State)
	require.Len(t, run.Parts[0].LeftOut, 1, run.Reason)
	assert.Equal(t, "herb-01", run.Parts[0].LeftOut[0].Workstation)
	receipts, err := h.client.Receipts(ctx, apiclient.List{})
	require.NoError(t, err)
	require.Len(t, receipts.Items, 1)
	assert.Equal(t, "herb-02", receipts.Items[0].Workstation, "a blank disk has nothing to be saved")
	assert.Equal(t, files, filesOf(t, path, 60*golddisk.MiB, 20*golddisk.MiB))
	_, err = h.client.SaveOrder(ctx, api.Order{Name: "odd", SaveDays: 1, Capture: &api.NewCapture{Workstation: "desk-gold", Image: "garden-desk"}})
	assert.ErrorContains(t, err, "erases nothing")
}

// Chosen folders of a saved disk are on the new system afterwards. Who lacks one is taken out before anything is erased.
func TestPeoplesFoldersGoBack(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	disk := gold(t)
	h.start(1, disk.Path, 0, "desk-gold")
	h.capture("desk-gold", "garden-desk")
	h.groups("herbarium")
	path, files := desk(t, 100*golddisk.MiB)
	h.start(2, path, 0, "herb-01", "herbarium")
	h.start(3, blank(t, 100*golddisk.MiB), 0, "herb-02", "herbarium")
	other := filepath.Join(t.TempDir(), "other")
	require.NoError(t, golddisk.Blank(other, 100*golddisk.MiB))
	require.NoError(t, golddisk.Partition(ctx, other, 512, "label: gpt\nstart=1M, size=50M, type=linux\n"))
	h.start(4, other, 0, "herb-03", "herbarium")
	in := api.Order{Name: "renewal", SaveDays: 14, Folders: []string{peoples(files)}, Deliver: &api.PreparedDelivery{NewDelivery: api.NewDelivery{Image: "garden-desk", To: []string{"herbarium"}}}}
	saved, err := h.client.SaveOrder(ctx, in)
	require.NoError(t, err)
	assert.Equal(t, []order.Work{order.Save, order.Deliver, order.Folders}, saved.Order.Work)
	run, err := h.client.RunOrder(ctx, "renewal")
	require.NoError(t, err)
	run = h.ended(run.ID)
	require.Len(t, run.Parts, 3)
	require.Len(t, run.Parts[0].LeftOut, 1, run.Reason)
	assert.Equal(t, "herb-03", run.Parts[0].LeftOut[0].Workstation)
	assert.Contains(t, run.Parts[0].LeftOut[0].Reason, "the disk has no folder "+peoples(files))
	assert.Equal(t, order.Done, run.Parts[2].State, run.Parts[2].Reason)
	did := map[string]string{}
	for _, id := range run.Parts[2].Errands {
		e, err := h.client.Errand(ctx, id)
		require.NoError(t, err)
		did[e.Workstation] = strings.Join(e.Result, "; ")
	}
	assert.Equal(t, "0 files and folders are back", did["herb-02"], "its disk was blank")
	assert.Regexp(t, "^[1-9][0-9]* files and folders are back$", did["herb-01"])
	receipts, err := h.client.Receipts(ctx, apiclient.List{})
	require.NoError(t, err)
	assert.Len(t, receipts.Items, 2)

	table := tableOf(t, path)
	root := table.Partitions[1]
	now := filesOf(t, path, table.Start(root), table.Size(root)/4096*4096)
	for name, digest := range files {
		if strings.HasPrefix(name, peoples(files)+"/") {
			assert.Equal(t, digest, now[name], name)
		}
	}
	for says, wrong := range map[string]api.Order{
		"say save_days and deliver": {Folders: []string{"home"}, Deliver: in.Deliver},
		"workstations leave":        {SaveDays: 1, Folders: []string{"home"}, Deliver: &api.PreparedDelivery{NewDelivery: api.NewDelivery{Image: "garden-desk", To: []string{"herbarium"}, WhenDone: "restart"}}},
		`"/home" is no folder`:      {SaveDays: 1, Folders: []string{"/home"}, Deliver: in.Deliver},
		`"../etc" is no folder`:     {SaveDays: 1, Folders: []string{"../etc"}, Deliver: in.Deliver},
	} {
		wrong.Name = "odd"
		_, err := h.client.SaveOrder(ctx, wrong)
		assert.ErrorContains(t, err, says)
	}
}

// peoples is a folder that a disk has.
func peoples(files map[string]string) string {
	for name := range files {
		if folder, _, in := strings.Cut(name, "/"); in && folder != "lost+found" {
			return folder
		}
	}
	return ""
}

// Whoever comes into the group once others are saved is not erased: nobody has saved its disk.
func TestWhoCameLaterIsNotErased(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.start(1, gold(t).Path, 0, "desk-gold")
	h.capture("desk-gold", "garden-desk")
	h.groups("herbarium")
	path, _ := desk(t, 100*golddisk.MiB)
	h.start(2, path, 0, "herb-01", "herbarium")()
	later, files := desk(t, 100*golddisk.MiB)
	h.start(3, later, 0, "herb-02")
	_, err := h.client.SaveOrder(ctx, api.Order{Name: "renewal", SaveDays: 14, Deliver: &api.PreparedDelivery{NewDelivery: api.NewDelivery{Image: "garden-desk", To: []string{"herbarium"}}}})
	require.NoError(t, err)
	run, err := h.client.RunOrder(ctx, "renewal")
	require.NoError(t, err)
	_, err = h.client.Include(ctx, "herbarium", api.GroupMembers{Workstations: []string{"herb-02"}})
	require.NoError(t, err)
	h.start(2, path, 0, "")
	run = h.ended(run.ID)
	assert.Equal(t, order.Done, run.State, run.Reason)
	receipts, err := h.client.Receipts(ctx, apiclient.List{})
	require.NoError(t, err)
	require.Len(t, receipts.Items, 1)
	assert.Equal(t, "herb-01", receipts.Items[0].Workstation)
	assert.Equal(t, files, filesOf(t, later, 60*golddisk.MiB, 20*golddisk.MiB))
	_, err = h.client.SaveOrder(ctx, api.Order{Name: "odd", SaveDays: 1, OnlyIf: map[string]string{"save": "true"}, Deliver: &api.PreparedDelivery{NewDelivery: api.NewDelivery{Image: "garden-desk", To: []string{"herbarium"}}}})
	assert.ErrorContains(t, err, "or none")
}
