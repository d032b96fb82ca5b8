package cli_test

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"jugate/api"
	"jugate/core/order"
)

// valid asks the published schema, by way of somebody else's validator, of each order of a file.
func valid(t *testing.T, text string) (err error) {
	t.Helper()
	schema, err := jsonschema.NewCompiler().Compile("../docs/reference/order.schema.json")
	require.NoError(t, err)
	for _, one := range strings.Split(text, "---\n") {
		var v any
		require.NoError(t, yaml.Unmarshal([]byte(one), &v))
		plain, err := json.Marshal(v)
		require.NoError(t, err)
		instance, err := jsonschema.UnmarshalJSON(bytes.NewReader(plain))
		require.NoError(t, err)
		if err := schema.Validate(instance); err != nil {
			return err
		}
	}
	return nil
}

// Work is prepared once, kept in files, changed, run and looked back at.
func TestOrdersAtTheCommandLine(t *testing.T) {
	d := openDesk(t)
	room := filepath.Join(t.TempDir(), "room.csv")
	require.NoError(t, os.WriteFile(room, []byte("name,hardware_addresses,groups\nherb-01,00:00:5e:00:53:11,herbarium\ndesk-gold,00:00:5e:00:53:01,\n"), 0o600))
	d.must("workstation", "import", room)
	_, err := d.stranger().CheckIn(t.Context(), api.CheckIn{Boot: "boot", AgentVersion: "test", Addresses: []string{"00:00:5e:00:53:01"}, Inventory: api.Inventory{Model: "A310", Disks: []api.Disk{}, Cards: []api.Card{}}})
	require.NoError(t, err)

	t.Log("# what would be kept is shown first")
	add := []string{"order", "add", "golden-month", "--capture", "desk-gold", "--as", "garden-desk", "--when", "first monday 06:00", "--zone", "Europe/Vienna", "--note", "each month"}
	text, code := d.run(add...)
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "golden-month: capture, new")
	assert.Contains(t, text, "1 order would be kept as shown; say --yes")
	assert.Contains(t, d.must("order", "list"), "no order was prepared")
	d.must(append(add, "--yes")...)
	text, code = d.run(add...)
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "there is an order golden-month already")
	for wrong, says := range map[string]string{"sometimes": `is not a schedule`, "once 2026-01-01 06:00": "never comes"} {
		text, code = d.run("order", "add", "other", "--capture", "desk-gold", "--as", "garden-desk", "--when", wrong, "--yes")
		assert.Equal(t, 1, code)
		assert.Contains(t, text, says)
	}
	text, code = d.run("order", "add", "idle", "--yes")
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "has nothing to do")

	t.Log("# it runs next on the first Mondays, by the clock there")
	times := read[[]api.OrderTime](d, "order", "next", "golden-month", "--most", "14")
	require.Len(t, times, 14)
	for _, at := range times {
		_, offset := at.At.Zone()
		assert.Equal(t, "Monday 06:00", at.At.Format("Monday 15:04"))
		assert.LessOrEqual(t, at.At.Day(), 7)
		assert.Contains(t, []int{3600, 7200}, offset)
	}
	assert.Regexp(t, `golden-month +capture +first monday 06:00 Europe/Vienna +20\d\d-\d\d-\d\d 0[45]:00:00 +never +each month`, d.must("order", "list"))

	t.Log("# as a file, which the schema knows, it goes into version control and comes back")
	file := filepath.Join(t.TempDir(), "orders.yaml")
	exported := d.must("order", "export")
	assert.NoError(t, valid(t, exported))
	require.NoError(t, os.WriteFile(file, []byte(exported), 0o600))
	assert.Contains(t, d.must("order", "import", file), "nothing is another than it was")
	more := strings.Replace(exported, "06:00", "07:00", 1) + "---\n# another\norder: empty\npayload_s: 1\n"
	require.NoError(t, os.WriteFile(file, []byte(more), 0o600))
	assert.Error(t, valid(t, more))
	text, code = d.run("order", "import", file, "--yes")
	assert.Equal(t, 1, code)
	assert.Contains(t, text, `order 2 of the file: json: unknown field "payload_s"`)
	assert.Contains(t, d.must("order", "list"), "06:00", "nothing of it was kept")
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(exported, "06:00", "07:00", 1)), 0o600))
	assert.Contains(t, d.must("order", "import", file, "--yes"), `"first monday 06:00","zone":"Europe/Vienna","when_missed":"skip"} → {"when":"first monday 07:00"`)
	t.Setenv("EDITOR", "sed -i s/07:00/08:00/")
	d.must("order", "edit", "golden-month", "--yes")
	assert.Contains(t, d.must("order", "show", "golden-month"), "when: first monday 08:00")
	t.Setenv("EDITOR", "sed -i s/golden-month/other/")
	text, code = d.run("order", "edit", "golden-month", "--yes")
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "it has to be the one order golden-month")

	t.Log("# it is run, looked at, stopped and removed; what it did stays")
	text, code = d.run("order", "run", "golden-month")
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "capture the disk of desk-gold as the next version of garden-desk")
	run := read[api.OrderRun](d, "order", "run", "golden-month", "--yes")
	assert.Equal(t, order.Running, run.State)
	require.Len(t, run.Parts, 1)
	assert.Regexp(t, `capture +running .* errand 1`, d.must("order", "history", "--run", "1"))
	assert.Regexp(t, `1 +golden-month .* running`, d.must("order", "history", "golden-month"))
	d.must("order", "stop", "1")
	d.must("order", "remove", "golden-month")
	assert.Regexp(t, `1 +golden-month .* stopped +administrator +stopped by the administrator`, d.must("order", "history"))
	text, code = d.run("order", "run", "golden-month", "--yes")
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "there is no order golden-month")
}
