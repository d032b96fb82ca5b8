package cli_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
)

// Which machine is which, and who is not wanted, as an engineer settles it.
func TestMachinesAndTheirCardsAtTheCommandLine(t *testing.T) {
	d := openDesk(t)
	agent := d.stranger()
	in := func(serial, uuid string, adapters bool, addresses ...string) error {
		c := api.CheckIn{Boot: "boot " + serial, AgentVersion: "test", Addresses: addresses, Inventory: api.Inventory{Model: "A310", Serial: serial, UUID: uuid, Disks: []api.Disk{}, Cards: []api.Card{}}}
		for i, a := range addresses {
			c.Inventory.Cards = append(c.Inventory.Cards, api.Card{Address: a, Adapter: adapters && i > 0})
		}
		_, err := agent.CheckIn(t.Context(), c)
		return err
	}
	const one, two = "4c4c4544-0042-3510-8031-c4c04f4e3232", "4c4c4544-0042-3510-8031-c4c04f4e3233"
	require.NoError(t, in("AW-0001", one, false, "00:00:5e:00:53:11"))
	require.NoError(t, in("AW-0002", two, false, "00:00:5e:00:53:12"))
	d.must("workstation", "admit", "00:00:5e:00:53:11", "herb-01")
	d.must("workstation", "admit", "00:00:5e:00:53:12", "herb-02")

	t.Log("# a card that was never seen in a workstation is a proposal")
	require.NoError(t, in("AW-0001", one, false, "00:00:5e:00:53:11", "00:00:5e:00:53:21"))
	assert.Regexp(t, `00:00:5e:00:53:21\s+herb-01\s+proposed`, d.must("card", "list", "--state", "proposed"))
	d.must("card", "accept", "herb-01", "00:00:5e:00:53:21")
	assert.Contains(t, d.must("card", "list", "--state", "proposed"), "no hardware addresses match")

	t.Log("# an accepted card in another machine is told, and moved by who knows")
	text, code := d.run("card", "accept", "herb-02", "00:00:5e:00:53:21")
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "is a hardware address of herb-01; if its card was moved: jugate card move")
	d.must("card", "move", "00:00:5e:00:53:21", "herb-02")
	assert.Regexp(t, `00:00:5e:00:53:21\s+herb-02\s+accepted`, d.must("card", "list"))
	d.must("card", "remove", "00:00:5e:00:53:21")
	assert.NotContains(t, d.must("card", "list"), "00:00:5e:00:53:21")

	t.Log("# an adapter goes from desk to desk")
	require.NoError(t, in("AW-0001", one, true, "00:00:5e:00:53:11", "00:00:5e:00:53:99"))
	require.NoError(t, in("AW-0002", two, true, "00:00:5e:00:53:12", "00:00:5e:00:53:99"))
	d.must("card", "share", "00:00:5e:00:53:99")
	assert.Regexp(t, `00:00:5e:00:53:99\s+herb-0[12]\s+shared`, d.must("card", "list", "--state", "shared"))
	d.must("card", "share", "00:00:5e:00:53:99", "--off")

	t.Log("# another main board under a known card has to be told")
	err := in("AW-0077", "4c4c4544-0042-3510-8031-c4c04f4e3277", false, "00:00:5e:00:53:12")
	assert.ErrorContains(t, err, "jugate workstation relearn")
	d.must("workstation", "relearn", "herb-02")
	assert.NoError(t, in("AW-0077", "4c4c4544-0042-3510-8031-c4c04f4e3277", false, "00:00:5e:00:53:12"))

	t.Log("# strangers")
	require.NoError(t, in("X-1", "", false, "00:00:5e:00:53:66"))
	d.must("workstation", "forget", "00:00:5e:00:53:66")
	_, code = d.run("workstation", "show", "00:00:5e:00:53:66")
	assert.Equal(t, 1, code)
	d.must("workstation", "refuse", "00:00:5e:00:53:66", "--note", "a visitor's")
	assert.Regexp(t, `00:00:5e:00:53:66.*administrator.*a visitor's`, d.must("workstation", "refusals"))
	assert.ErrorContains(t, in("X-1", "", false, "00:00:5e:00:53:66"), "refused")
	d.must("workstation", "welcome", "00:00:5e:00:53:66")
	assert.NoError(t, in("X-1", "", false, "00:00:5e:00:53:66"))
	_, code = d.run("workstation", "forget", "herb-01")
	assert.Equal(t, 1, code, "an admitted workstation is not forgotten by mistake")

	t.Log("# what waits, in its order")
	d.must("capture", "herb-01", "--as", "garden-desk", "--no-wait")
	assert.Regexp(t, `herb-01\s+capture\s+garden-desk\s+waiting`, d.must("errand", "list"))
	assert.Contains(t, d.must("errand", "list", "--workstation", "herb-02"), "no errands match")

	t.Log("# keys that are not there")
	assert.Contains(t, d.must("key", "list"), "no media yet")
	text, code = d.run("key", "withdraw", "3f9c")
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "no key of media 3f9c")
	_, code = d.run("key", "limit", "3f9c", "--for", "-1h")
	assert.Equal(t, 2, code)
}
