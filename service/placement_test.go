package service_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/delivery"
	"jugate/core/partition"
	"jugate/core/rights"
	"jugate/demo/golddisk"
)

// desk is a disk with an old system and a partition with people's files.
func desk(t *testing.T, size int64) (path string, files map[string]string) {
	t.Helper()
	path, vol := filepath.Join(t.TempDir(), "desk"), filepath.Join(t.TempDir(), "data")
	require.NoError(t, golddisk.Blank(path, size))
	require.NoError(t, golddisk.Partition(t.Context(), path, 512, "label: gpt\nstart=1M, size=50M, type=linux\nstart=60M, size=20M, type=linux, name=people\n"))
	require.NoError(t, golddisk.BuildVolume(t.Context(), golddisk.VolumeSpec{Path: vol, Size: 20 * golddisk.MiB, Mkfs: []string{"mkfs.ext4", "-q", "-F", "-L", "DATA"}, Data: 6 * golddisk.MiB, Seed: 7}))
	require.NoError(t, golddisk.Put(path, 60*golddisk.MiB, vol))
	return path, filesOf(t, path, 60*golddisk.MiB, 20*golddisk.MiB)
}

func filesOf(t *testing.T, path string, start, size int64) map[string]string {
	t.Helper()
	files, err := golddisk.PartitionFiles(t.Context(), path, start, size, "ext4")
	require.NoError(t, err)
	return files
}

// tableOf is the partition table of a disk.
func tableOf(t *testing.T, path string) *partition.Table {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	info, err := f.Stat()
	require.NoError(t, err)
	table, err := partition.Read(f, info.Size(), 512)
	require.NoError(t, err)
	return table
}

// People's files stay where they are, through one delivery and the next; a desk without such a partition is named before anything is
// ordered, and by its agent where nobody has looked.
func TestDesksKeepTheirData(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	disk := gold(t)
	h.start(1, disk.Path, 0, "desk-gold")
	h.capture("desk-gold", "garden-desk")
	h.groups("herbarium")
	first, files := desk(t, 100*golddisk.MiB)
	second, others := desk(t, 160*golddisk.MiB)
	h.start(2, first, 0, "herb-01", "herbarium")
	h.start(3, second, 0, "herb-02", "herbarium")
	h.start(4, blank(t, 100*golddisk.MiB), 0, "herb-03")

	keep := api.NewDelivery{Image: "garden-desk", To: []string{"herbarium"}, RestoreOptions: api.RestoreOptions{Keep: []string{"label=DATA"}}}
	plan, err := h.client.PlanDelivery(ctx, keep)
	require.NoError(t, err)
	assert.Empty(t, plan.Refused)
	for _, m := range plan.Members {
		assert.Equal(t, []string{"partition 2 (DATA), 20 MiB"}, m.Stays)
	}
	all := keep
	all.To = []string{"herbarium", "herb-03"}
	plan, err = h.client.PlanDelivery(ctx, all)
	require.NoError(t, err)
	assert.NotEmpty(t, plan.Refused)
	assert.Equal(t, []string{"there is no partition label=DATA: the disk has no partition table"}, plan.Members[2].Problems)

	for range 2 {
		d := h.deliver(keep)
		for name, r := range h.receipts(d.ID) {
			assert.EqualValues(t, "delivered", r.Outcome, "%s: %s", name, r.Reason)
			assert.Contains(t, r.Remark, "was kept (people)")
		}
		for path, want := range map[string]map[string]string{first: files, second: others} {
			assert.Equal(t, want, filesOf(t, path, 60*golddisk.MiB, 20*golddisk.MiB))
			table := tableOf(t, path)
			assert.Len(t, table.Partitions, 3)
			require.NoError(t, golddisk.VerifyPartitions(ctx, path, 512))
		}
		got, err := disk.On(first).Files(ctx)
		require.NoError(t, err)
		want, err := disk.Files(ctx)
		require.NoError(t, err)
		assert.Equal(t, want, got, "and the image is there")
	}
	w, err := h.client.Workstation(ctx, "herb-01")
	require.NoError(t, err)
	assert.Equal(t, "garden-desk@1", w.Image)

	t.Log("# orders that contradict themselves")
	for text, o := range map[string]api.RestoreOptions{
		"names no partition":             {Keep: []string{"the data"}},
		"gives no partition a size":      {Sizes: []string{"much"}},
		"no partition 9":                 {Sizes: []string{"9=rest"}},
		"say either":                     {Sizes: []string{"2=rest"}, Grow: "last"},
		"say which partition":            {Onto: "2"},
		"say onto which":                 {Partition: 2},
		"one partition alone":            {Partition: 2, Onto: "2", Keep: []string{"1"}},
		"no partition 7 that holds":      {Partition: 7, Onto: "2"},
		"the disk is not told":           {Partition: 2, Onto: "2", Trim: true},
		"it has the system":              {Keep: []string{"2"}},
		"there is too little room":       {Keep: []string{"label=DATA"}, Sizes: []string{"2=90MB"}},
		"needs at least":                 {Sizes: []string{"2=1MB"}},
		"the disk has no partition 8":    {Partition: 2, Onto: "8"},
		"the disk has no partition type": {Keep: []string{"type=" + partition.BIOSBoot.String()}},
	} {
		plan, err := h.client.PlanDelivery(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}, RestoreOptions: o})
		if err == nil {
			require.NotEmpty(t, plan.Refused, text)
			assert.Contains(t, strings.Join(plan.Members[0].Problems, "\n"), text)
			continue
		}
		assert.Contains(t, err.Error(), text)
	}
}

// A layout of the engineer's own makes room for people's files, which the next delivery keeps; one partition of an image goes onto one of
// the disk, and nothing else is touched.
func TestALayoutAndOnePartitionAlone(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	disk := gold(t)
	h.start(1, disk.Path, 0, "desk-gold")
	h.capture("desk-gold", "garden-desk")
	path := blank(t, 100*golddisk.MiB)
	h.start(2, path, 0, "herb-01")
	d := h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}, RestoreOptions: api.RestoreOptions{Sizes: []string{"2=40MiB", "people=rest"}}})
	require.EqualValues(t, "delivered", h.receipts(d.ID)["herb-01"].Outcome, h.receipts(d.ID)["herb-01"].Reason)
	table := tableOf(t, path)
	require.Len(t, table.Partitions, 3)
	assert.EqualValues(t, 40*golddisk.MiB, table.Size(table.Partitions[1]))
	people := table.Partitions[2]
	assert.Equal(t, "people", people.Name)

	vol := filepath.Join(t.TempDir(), "data")
	size := table.Size(people) / golddisk.MiB * golddisk.MiB
	require.NoError(t, golddisk.BuildVolume(ctx, golddisk.VolumeSpec{Path: vol, Size: size, Mkfs: []string{"mkfs.ext4", "-q", "-F"}, Data: 4 * golddisk.MiB, Seed: 7}))
	require.NoError(t, golddisk.Put(path, table.Start(people), vol))
	files := filesOf(t, path, table.Start(people), size)

	t.Log("# the same order again, with what it has made for people")
	_, err := h.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}, RestoreOptions: api.RestoreOptions{Sizes: []string{"2=45MiB", "people=rest"}, Keep: []string{"label=people"}}})
	assert.ErrorContains(t, err, "there is too little room", "beside it, as its agent has told since")
	d = h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}, RestoreOptions: api.RestoreOptions{Sizes: []string{"2=rest"}, Keep: []string{"label=people"}}})
	require.EqualValues(t, "delivered", h.receipts(d.ID)["herb-01"].Outcome, h.receipts(d.ID)["herb-01"].Reason)
	assert.Equal(t, files, filesOf(t, path, table.Start(people), size))

	t.Log("# the root partition alone, onto another one of the disk")
	before := tableOf(t, path)
	require.NoError(t, golddisk.Put(path, before.Start(before.Partitions[1]), blank(t, 4*golddisk.MiB)))
	d = h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}, RestoreOptions: api.RestoreOptions{Partition: 2, Onto: "2"}})
	r := h.receipts(d.ID)["herb-01"]
	require.EqualValues(t, "delivered", r.Outcome, r.Reason)
	assert.Equal(t, 2, r.Partition)
	assert.Contains(t, r.Remark, "partition 2 of the image lies in partition 2 of the disk")
	assert.True(t, before.Equal(tableOf(t, path)))
	assert.Equal(t, files, filesOf(t, path, table.Start(people), size))
	want, err := disk.Files(ctx)
	require.NoError(t, err)
	got, err := disk.On(path).Files(ctx)
	require.NoError(t, err)
	assert.Equal(t, want, got)
	check, err := h.client.CheckLog(ctx)
	require.NoError(t, err)
	assert.True(t, check.Sound, check.Detail)
	w, err := h.client.Workstation(ctx, "herb-01")
	require.NoError(t, err)
	assert.Equal(t, "garden-desk@1", w.Image, "what it has as a whole")
}

// An agent that does not know what is to be kept is not let near it, and one that leaves out what was to come proves nothing.
func TestAgentsThatWouldNotKeepWhatIsToBeKept(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	clients := h.ready(2)
	herb := clients["herb-02"]
	d, err := h.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-02"}, Start: "first", RestoreOptions: api.RestoreOptions{Keep: []string{"label=DATA"}}})
	require.NoError(t, err, "nobody has looked at its disk")
	standing, err := herb.Standing(ctx)
	require.NoError(t, err)
	require.NotNil(t, standing.Errand)
	require.NotNil(t, standing.Errand.Receive.Answer)
	assert.Contains(t, standing.Errand.Receive.Answer.Problem, "cannot keep partitions")
	_, err = h.client.StopDelivery(ctx, d.ID)
	require.NoError(t, err)

	for keep, reason := range map[string]string{"": "could not prove", "label=DATA": "could not prove"} {
		in := api.NewDelivery{Image: "garden-desk", To: []string{"herb-02"}, Start: "first"}
		if keep != "" {
			in.Keep = []string{keep}
		}
		d, err := h.client.Deliver(ctx, in)
		require.NoError(t, err)
		for _, p := range []api.Progress{{Report: delivery.Report{Phase: "ready"}}, {Report: delivery.Report{Phase: "checking"}}, {Report: delivery.Report{Phase: "ended", Verified: true}, LeftOut: []int{1, 2}, Proof: make([]byte, 32)}} {
			_, err := herb.TellProgress(ctx, d.ID, p)
			require.NoError(t, err)
		}
		h.eventually(func() bool { return len(h.receipts(d.ID)) == 1 })
		assert.Contains(t, h.receipts(d.ID)["herb-02"].Reason, reason)
	}
}

// What a delivery says of its own counts before all that is set, this once; it takes the right to set answers, and keeps no secret.
func TestADeliveryHasAnswersOfItsOwn(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.groups("herbarium")
	h.start(1, linuxDisk(t), 0, "desk-gold")
	h.capture("desk-gold", "garden-desk")
	path := blank(t, 66<<20)
	h.start(2, path, 0, "herb-01", "herbarium")
	require.NoError(t, h.set("herb-01", map[string]any{"time_zone": "Europe/Vienna", "locale": "de_AT"}))
	order := api.NewDelivery{Image: "garden-desk", To: []string{"herbarium"}, OwnAnswers: map[string]any{"locale": "en_NZ", "description": "Seed fair"}}
	d := h.deliver(order)
	require.EqualValues(t, "delivered", h.receipts(d.ID)["herb-01"].Outcome, h.receipts(d.ID)["herb-01"].Reason)
	assert.Equal(t, "LANG=en_NZ.UTF-8\n", onDisk(t, path, "/etc/default/locale"))
	assert.Contains(t, onDisk(t, path, "/etc/machine-info"), "Seed fair")
	assert.Equal(t, "herb-01\n", onDisk(t, path, "/etc/hostname"))

	t.Log("# the next one without is as it was set; an order can have them, too")
	order.OwnAnswers = nil
	h.deliver(order)
	assert.Equal(t, "LANG=de_AT.UTF-8\n", onDisk(t, path, "/etc/default/locale"))
	order.OwnAnswers = map[string]any{"locale": "fr_FR"}
	_, err := h.client.SaveOrder(ctx, api.Order{Name: "fair", Deliver: &api.PreparedDelivery{NewDelivery: order}})
	require.NoError(t, err)
	run, err := h.client.RunOrder(ctx, "fair")
	require.NoError(t, err)
	h.ended(run.ID)
	assert.Equal(t, "LANG=fr_FR.UTF-8\n", onDisk(t, path, "/etc/default/locale"))

	for text, values := range map[string]map[string]any{
		"is not an answer":        {"wallpaper": "x"},
		"is a secret":             {"product_key": "AAAAA-BBBBB-CCCCC-DDDDD-EEEEE"},
		"belongs to one":          {"computer_name": "herb-09"},
		"is empty":                {"locale": nil},
		"locale":                  {"locale": "nowhere"},
		"enter it with jugate do": {"domain": "fennholt.example"},
	} {
		order.OwnAnswers = values
		_, err := h.client.Deliver(ctx, order)
		assert.ErrorContains(t, err, text)
	}
	order.OwnAnswers, order.Answers = map[string]any{"locale": "en_NZ"}, "none"
	_, err = h.client.Deliver(ctx, order)
	assert.ErrorContains(t, err, "say either")

	t.Log("# whoever may deliver and set no answers delivers without")
	_, err = h.client.PutRole(ctx, api.NewRole{Name: "deliverer", Rights: []rights.Right{rights.See, rights.Deliver, rights.Order}})
	require.NoError(t, err)
	wren := h.person("wren", everything("deliverer"))
	order.Answers = ""
	_, err = wren.Deliver(ctx, order)
	assert.ErrorContains(t, err, "answers")
	_, err = wren.RunOrder(ctx, "fair")
	assert.ErrorContains(t, err, "answers")
	order.OwnAnswers = nil
	_, err = wren.PlanDelivery(ctx, order)
	assert.NoError(t, err)
}

// A workstation whose disk has nothing to keep is taken out of a run with the reason, and the others get their image.
func TestARunIsNotHeldByWhoHasNothingToKeep(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.groups("herbarium")
	h.start(1, gold(t).Path, 0, "desk-gold")
	h.capture("desk-gold", "garden-desk")
	path, files := desk(t, 100*golddisk.MiB)
	other := blank(t, 100*golddisk.MiB)
	h.start(2, path, 0, "herb-01", "herbarium")
	h.start(3, other, 0, "herb-02", "herbarium")
	order := api.Order{Name: "weekly", Deliver: &api.PreparedDelivery{NewDelivery: api.NewDelivery{Image: "garden-desk", To: []string{"herbarium"}, Start: "ready:2", RestoreOptions: api.RestoreOptions{Keep: []string{"label=DATA"}}}}}
	_, err := h.client.SaveOrder(ctx, order)
	require.NoError(t, err)
	run, err := h.client.RunOrder(ctx, "weekly")
	require.NoError(t, err)
	run = h.ended(run.ID)
	require.Len(t, run.Parts[0].LeftOut, 1)
	assert.Equal(t, []any{"failed", "herb-02", "there is no partition label=DATA: the disk has no partition table"}, []any{string(run.State), run.Parts[0].LeftOut[0].Workstation, run.Parts[0].LeftOut[0].Reason})
	assert.Contains(t, run.Reason, "herb-02: there is no partition label=DATA")
	receipts := h.receipts(run.Parts[0].Deliveries[0])
	assert.Len(t, receipts, 1)
	assert.EqualValues(t, "delivered", receipts["herb-01"].Outcome, receipts["herb-01"].Reason)
	assert.Equal(t, files, filesOf(t, path, 60*golddisk.MiB, 20*golddisk.MiB))

	t.Log("# it goes on for that one, without what cannot be kept there")
	_, err = h.client.GoOn(ctx, run.ID)
	require.NoError(t, err)
	runs, err := h.client.Runs(ctx, apiclient.List{Filter: map[string]string{"order": "weekly"}})
	require.NoError(t, err)
	again := h.ended(runs.Items[0].ID)
	assert.Equal(t, []string{"herb-02"}, again.Only)
	assert.Contains(t, again.Reason, "cannot be delivered")
}
