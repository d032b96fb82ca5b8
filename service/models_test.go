package service_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
)

// tells has a machine check in with what its firmware says.
func (h *house) tells(n int, model, firmware string, settings map[string]string) {
	h.t.Helper()
	_, err := h.client.WithToken("").CheckIn(h.t.Context(), api.CheckIn{Boot: fmt.Sprint("boot", n), AgentVersion: "test", Addresses: []string{address(n).String()},
		Inventory: api.Inventory{Maker: "Alder Works", Model: model, Serial: fmt.Sprint("AW-", n), FirmwareVersion: firmware, Settings: settings, Disks: []api.Disk{}, Cards: []api.Card{}}})
	require.NoError(h.t, err)
}

// What the desk knows of a model is kept, and its machines are held against it.
func TestAModelHasASheet(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	_, err := h.client.Model(ctx, "Alder Works A310")
	assert.True(t, apiclient.IsNotFound(err))
	h.tells(1, "A310", "1.14.2", map[string]string{"Secure Boot": "Enabled"})
	h.tells(2, "A310", "1.09.0", map[string]string{"Secure Boot": "Disabled", "Wake on LAN": "Enabled"})
	h.tells(3, "A310", "", nil)
	h.tells(4, "A520", "2.03.0", nil)
	m, err := h.client.SetModel(ctx, api.NewModel{Model: "  alder works   a310", BootKey: "F12", Firmware: "1.14.2", Settings: map[string]string{"Secure Boot": "Enabled"}})
	require.NoError(t, err)
	assert.Equal(t, 3, m.Machines)
	assert.Equal(t, []api.FirmwareSeen{{Version: "", Count: 1}, {Version: "1.09.0", Count: 1}, {Version: "1.14.2", Count: 1}}, m.Versions)
	assert.Equal(t, []api.NotAsWanted{{Workstation: address(2).String(), What: []string{"version 1.09.0, not 1.14.2", "Secure Boot is Disabled, not Enabled"}}}, m.Different, "of who tells nothing nothing is said")

	t.Log("# also of a model that was never seen, until nothing is known of it any more")
	_, err = h.client.SetModel(ctx, api.NewModel{Model: "Brindle / Mini \"2\"?", SetupKey: "Del"})
	require.NoError(t, err)
	all, err := h.client.Models(ctx)
	require.NoError(t, err)
	var names []string
	for _, m := range all.Items {
		names = append(names, fmt.Sprint(m.Model, " ", m.Machines))
	}
	assert.Equal(t, []string{"Alder Works A310 3", "Alder Works A520 1", "Brindle / Mini \"2\"? 0"}, names)
	_, err = h.client.SetModel(ctx, api.NewModel{Model: "Brindle / Mini \"2\"?"})
	require.NoError(t, err)
	_, err = h.client.Model(ctx, "Brindle / Mini \"2\"?")
	assert.True(t, apiclient.IsNotFound(err))
	_, err = h.client.SetModel(ctx, api.NewModel{Model: " ", BootKey: "F12"})
	assert.True(t, apiclient.IsInvalid(err))
	page, err := h.client.Workstations(ctx, apiclient.List{Filter: map[string]string{"where": `trim(maker + " " + model) == "Alder Works A310"`, "state": "newcomer"}})
	require.NoError(t, err)
	assert.Equal(t, 3, page.Total, "the condition that the console leads to")

	t.Log("# who looks on does not change it")
	_, err = h.person("wren", everything("reader")).SetModel(ctx, api.NewModel{Model: "Alder Works A310", BootKey: "F1"})
	assert.Error(t, err)
}

// What of a machine is other than before is kept beside it.
func TestWhatChangesInAMachineIsKept(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.tells(1, "A310", "1.09.0", nil)
	h.tells(1, "A310", "1.09.0", nil)
	w, err := h.client.Workstation(ctx, address(1).String())
	require.NoError(t, err)
	assert.Empty(t, w.Changed)
	h.tells(1, "A310", "1.14.2", nil)
	w, err = h.client.Workstation(ctx, address(1).String())
	require.NoError(t, err)
	require.Len(t, w.Changed, 1)
	assert.Equal(t, "version of the firmware: 1.14.2, and 1.09.0 before", w.Changed[0].What)
	for i := range 300 {
		h.tells(1, "A310", fmt.Sprint("2.", i), nil)
	}
	w, err = h.client.Workstation(ctx, address(1).String())
	require.NoError(t, err)
	assert.Len(t, w.Changed, 100, "one that tells something else each time fills nothing")
}
