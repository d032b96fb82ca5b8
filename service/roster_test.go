package service_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
)

// called checks a machine in under an address, with a serial number of its own, and returns
// what the service knows of it.
func (h *house) called(n int, model string) api.Workstation {
	h.t.Helper()
	h.machine(n, model)
	w, err := h.client.Workstation(h.t.Context(), address(n).String())
	require.NoError(h.t, err)
	return w
}

func TestATableMakesMachinesExpected(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	table := fmt.Sprintf("name,hardware_addresses,groups,note,field.room\nherb-01,%s,herbarium,by the window,2.14\nherb-02,%s,herbarium,,\n,%s,,,\n", address(1), address(2), address(3))
	plan, err := h.client.ImportRoster(t.Context(), []byte(table), true, false)
	require.NoError(t, err)
	assert.False(t, plan.Entered)
	assert.Equal(t, []int{2, 0, 0, 1}, []int{plan.NewRows, plan.ChangedRows, plan.UnchangedRows, plan.RowsInDoubt})
	_, err = h.client.Workstation(t.Context(), "herb-01")
	assert.Error(t, err, "nothing was entered")

	in, err := h.client.ImportRoster(t.Context(), []byte(table), false, false)
	require.NoError(t, err)
	assert.True(t, in.Entered)
	assert.Equal(t, plan.Rows, in.Rows)
	page, err := h.client.Workstations(t.Context(), apiclient.List{Filter: map[string]string{"state": "expected"}})
	require.NoError(t, err)
	require.Equal(t, 2, page.Total)

	w := h.called(1, "A310")
	assert.Equal(t, []string{"herb-01", "admitted", "by the window", "2.14"}, []string{w.Name, string(w.State), w.Note, w.Fields["room"]})
	assert.Equal(t, []string{"herbarium"}, w.Groups)
	assert.NotNil(t, w.FirstSeen)

	out, err := h.client.ExportRoster(t.Context(), "herbarium")
	require.NoError(t, err)
	assert.Contains(t, string(out), fmt.Sprintf("herb-01,%s,", address(1)))
	require.NoError(t, h.set("herb-01", map[string]any{"time_zone": "Europe/Vienna", "remote_access": true}))
	out, err = h.client.ExportRoster(t.Context(), "herbarium")
	require.NoError(t, err)
	assert.Contains(t, string(out), "remote_access,time_zone\n")
	assert.Contains(t, string(out), "true,Europe/Vienna\n", "answers are columns")
	in, err = h.client.ImportRoster(t.Context(), []byte("name,time_zone,locale\nherb-01,-,de_AT\nherb-02,Vienna,\n"), false, false)
	require.NoError(t, err)
	assert.Equal(t, []string{"answer locale", "answer time_zone"}, in.Rows[0].Did)
	assert.Contains(t, in.Rows[1].Problem, "IANA")
	out, err = h.client.ExportRoster(t.Context(), "herbarium")
	require.NoError(t, err)
	again, err := h.client.ImportRoster(t.Context(), out, false, true)
	require.NoError(t, err)
	assert.Equal(t, 2, again.UnchangedRows, "what was written changes nothing")

	_, err = h.client.ImportRoster(t.Context(), []byte("name,colour\n"), false, false)
	assert.ErrorContains(t, err, `column 2 of the table, "colour", is not known`)
}

func TestConditionsChooseWorkstations(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	for n, model := range []string{"A310", "A310", "A520", "Mini 2"} {
		h.called(n+1, model)
	}
	t.Log("# newcomers are named by a pattern")
	order := api.NewNames{Pattern: "herb-{number:02}", Where: `state == "newcomer" and model startsWith "A"`, DryRun: true}
	named, err := h.client.NameAll(ctx, order)
	require.NoError(t, err)
	require.Len(t, named, 3)
	assert.Equal(t, "herb-03", named[2].Name)
	_, err = h.client.Workstation(ctx, "herb-03")
	assert.Error(t, err)
	require.NoError(t, addGroup(h, "herbarium"))
	order.DryRun, order.Groups = false, []string{"herbarium"}
	_, err = h.client.NameAll(ctx, order)
	require.NoError(t, err)

	t.Log("# names may be swapped")
	named, err = h.client.NameAll(ctx, api.NewNames{Pattern: "{model}-{number}", To: []string{"herbarium"}})
	require.NoError(t, err)
	assert.Equal(t, "herb-01 a310-1", named[0].Was+" "+named[0].Name)
	_, err = h.client.NameAll(ctx, api.NewNames{Pattern: "{model}-{number}", To: []string{"a310-2", "a310-1"}, Order: "appearance"})
	require.NoError(t, err)

	names := func(where string) string {
		page, err := h.client.Workstations(ctx, apiclient.List{Sort: "name", Filter: map[string]string{"where": where}})
		require.NoError(t, err, where)
		var all []string
		for _, w := range page.Items {
			all = append(all, w.Name)
		}
		assert.Equal(t, len(all), page.Total)
		return strings.Join(all, " ")
	}
	assert.Equal(t, "a310-1 a310-2", names(`model == "A310"`))
	assert.Equal(t, "a520-1", names(`"herbarium" in groups and not (name matches "-2$") and model != "A310"`))

	t.Log("# a group fills itself, and follows what changes")
	g, err := h.client.AddGroup(ctx, api.NewGroup{Name: "west", Where: `field.room == "2.14" or model == "A520"`})
	require.NoError(t, err)
	assert.Equal(t, 1, g.Workstations)
	w, err := h.client.SetFields(ctx, "a310-1", map[string]string{"room": "2.14"})
	require.NoError(t, err)
	assert.Equal(t, []string{"herbarium", "west"}, w.Groups)
	w, err = h.client.SetFields(ctx, "a310-1", map[string]string{"room": ""})
	require.NoError(t, err)
	assert.Equal(t, []string{"herbarium"}, w.Groups)
	for _, err := range []error{
		func() error {
			_, err := h.client.Include(ctx, "west", api.GroupMembers{Workstations: []string{"a310-1"}})
			return err
		}(),
		func() error {
			_, err := h.client.AddGroup(ctx, api.NewGroup{Name: "there", Where: `online`})
			return err
		}(),
		func() error {
			_, err := h.client.AddGroup(ctx, api.NewGroup{Name: "those", Where: `"west" in groups`})
			return err
		}(),
	} {
		assert.Error(t, err)
	}

	t.Log("# a condition narrows what is named, and one that fits nobody is refused")
	_, err = h.client.Include(ctx, "herbarium", api.GroupMembers{Where: `model == "none such"`})
	assert.ErrorContains(t, err, "fits no workstation")
	_, err = h.client.PlanDelivery(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herbarium"}, Where: `memory <`})
	assert.Error(t, err)
	_, err = h.client.Workstations(ctx, apiclient.List{Filter: map[string]string{"where": "memory < 8parsecs"}})
	assert.ErrorContains(t, err, "at character")
	g, err = h.client.Exclude(ctx, "herbarium", api.GroupMembers{Where: `model == "A310"`})
	require.NoError(t, err)
	assert.Equal(t, 1, g.Workstations)
}
