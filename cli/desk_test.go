package cli_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
)

func TestARoomOfWorkstationsAtTheCommandLine(t *testing.T) {
	d := openDesk(t)
	room := filepath.Join(t.TempDir(), "room.csv")
	require.NoError(t, os.WriteFile(room, []byte("name,hardware_addresses,groups,field.room\nherb-01,00:00:5e:00:53:11,herbarium,2.14\nherb-02,00:00:5e:00:53:12,herbarium,2.15\nherb-03,,herbarium,2.15\n"), 0o600))

	t.Log("# a table is shown first, then entered; the row in doubt is told with its line")
	text, code := d.run("workstation", "import", room, "--dry-run")
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "herb-03 is new, and the row has no hardware address, UUID or serial number")
	assert.Empty(t, read[[]api.Workstation](d, "workstation", "list"))
	_, code = d.run("workstation", "import", room, "--all-or-nothing")
	assert.Equal(t, 1, code)
	assert.Empty(t, read[[]api.Workstation](d, "workstation", "list"))
	d.run("workstation", "import", room)
	assert.Len(t, read[[]api.Workstation](d, "workstation", "list", "--state", "expected"), 2)

	t.Log("# fields and notes are changed and chosen by, and a group fills itself")
	d.must("workstation", "field", "herb-02", "room=3.01", "owner=R. Holm")
	d.must("workstation", "note", "herb-02", "the scanner's cable is loose")
	d.must("workstation", "field", "herb-02", "owner=")
	found := read[[]api.Workstation](d, "workstation", "list", "--where", `note contains "cable"`)
	require.Len(t, found, 1)
	assert.Equal(t, map[string]string{"room": "3.01"}, found[0].Fields)
	d.must("group", "add", "upstairs", "--where", `field.room startsWith "3."`)
	assert.Equal(t, []string{"herbarium", "upstairs"}, read[api.Workstation](d, "workstation", "show", "herb-02").Groups)
	text, code = d.run("group", "include", "upstairs", "herb-01")
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "has whoever fits its condition")
	text, code = d.run("workstation", "list", "--where", `model ==`)
	assert.Equal(t, 1, code, text)

	t.Log("# what export writes, import takes, and it changes nothing")
	out := filepath.Join(t.TempDir(), "out.csv")
	d.must("workstation", "export", "--group", "herbarium", "--into", out)
	_, code = d.run("workstation", "export", "--into", out)
	assert.NotZero(t, code, "a file that is there is not written over")
	assert.Equal(t, 2, read[api.Imported](d, "workstation", "import", out, "--dry-run").UnchangedRows)

	t.Log("# newcomers are named by a pattern, after it was looked at")
	client := d.stranger()
	_, err := client.CheckIn(t.Context(), api.CheckIn{Boot: "boot", Addresses: []string{"00:00:5e:00:53:13"}, Inventory: api.Inventory{Maker: "Alder Works", Model: "A310", Disks: []api.Disk{}, Cards: []api.Card{}}})
	require.NoError(t, err)
	name := []string{"workstation", "name", "00:00:5e:00:53:13", "--pattern", "herb-{number:02}", "--group", "herbarium"}
	assert.Contains(t, d.must(append(name, "--dry-run")...), "herb-03")
	assert.Len(t, read[[]api.Workstation](d, "workstation", "list", "--state", "newcomer"), 1)
	d.must(name...)
	assert.Len(t, read[[]api.Workstation](d, "workstation", "list", "--state", "admitted"), 1)
}

func TestAnswersAtTheCommandLine(t *testing.T) {
	d := openDesk(t)
	room := filepath.Join(t.TempDir(), "room.csv")
	require.NoError(t, os.WriteFile(room, []byte("name,hardware_addresses,groups\nherb-01,00:00:5e:00:53:11,herbarium\nherb-02,00:00:5e:00:53:12,herbarium\ndesk-01,00:00:5e:00:53:21,\n"), 0o600))
	d.must("workstation", "import", room)

	t.Log("# the more particular place counts, and it is told what it overrides")
	d.must("answers", "set", "--service", "time_zone=Europe/Vienna", "locale=de_AT")
	d.must("answers", "set", "herbarium", "commands=[systemctl enable --now scanner]")
	d.must("answers", "set", "herb-01", "locale=en_GB")
	resolved := read[api.ResolvedAnswers](d, "answers", "show", "herb-01")
	require.Len(t, resolved.Answers, 4, "the computer name is the name in the roster")
	for _, a := range resolved.Answers {
		if a.Key == "locale" {
			assert.Equal(t, "en_GB", a.Value)
			assert.Len(t, a.Hides, 1)
		}
	}
	assert.Contains(t, d.must("answers", "list", "herbarium"), "systemctl enable --now scanner")
	assert.Contains(t, d.must("answers", "check", "herbarium"), "the answers of 2 workstations fit together")

	t.Log("# what cannot be is refused, and what contradicts itself is found before the delivery")
	for _, bad := range [][]string{{"time_zone=Mars/Olympus"}, {"colour=green"}, {"locale"}} {
		text, code := d.run(append([]string{"answers", "set", "herb-01"}, bad...)...)
		assert.NotZero(t, code, text)
	}
	d.must("answers", "set", "herbarium", "keyboard=at")
	d.must("group", "add", "scanners")
	d.must("group", "include", "scanners", "herb-02")
	d.must("answers", "set", "scanners", "keyboard=gb")
	text, code := d.run("answers", "check")
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "herb-02")
	assert.NotContains(t, text, "herb-01")
	text, code = d.run("answers", "show", "herb-02")
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "keyboard")

	t.Log("# a condition narrows what was named; nobody left is an error, and so is a name that nobody has")
	assert.Contains(t, d.must("answers", "check", "herb-01", "herb-02", "--where", `name == "herb-01"`), "the answers of 1 workstation fit together")
	_, code = d.run("answers", "check", "herbarium", "--where", `name == "desk-01"`)
	assert.Equal(t, 1, code)
	_, code = d.run("answers", "check", "herb-99")
	assert.Equal(t, 1, code)

	d.must("answers", "unset", "scanners", "keyboard")
	d.must("answers", "check")
	_, code = d.run("answers", "preview", "herb-01", "--image", "garden-desk")
	assert.Equal(t, 1, code, "the image does not exist")
}
