package cli

import (
	"bytes"
	"os"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
)

func TestRates(t *testing.T) {
	for text, want := range map[string]int64{"": 0, "200Mbit": 200e6, "200mbit/s": 200e6, "1G": 1e9, "1.5 Gbit": 15e8, "64kbit": 64e3, "64000": 64e3} {
		got, err := parseRate(text)
		assert.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"fast", "-1", "0", "63kbit", "200MB", "1e9", "9999Gbit", "Mbit", "1 2"} {
		_, err := parseRate(text)
		assert.Error(t, err, text)
	}
}

func TestBar(t *testing.T) {
	assert.Equal(t, "░░░░", bar(0, 100, 4))
	assert.Equal(t, "█░░░", bar(1, 100, 4), "a little is not nothing")
	assert.Equal(t, "██░░", bar(50, 100, 4))
	assert.Equal(t, "████", bar(100, 100, 4))
	assert.Equal(t, "", bar(0, 0, 4))
}

// Flags win over the environment, and that over the configuration file.
func TestWhereSettingsComeFrom(t *testing.T) {
	t.Chdir(t.TempDir())
	settings := func(args ...string) (server, token string) {
		cmd := newRoot()
		probe := &cobra.Command{Use: "probe", RunE: func(cmd *cobra.Command, _ []string) error {
			server, _ = cmd.Flags().GetString("server")
			token, _ = cmd.Flags().GetString("token")
			return nil
		}}
		cmd.AddCommand(probe)
		cmd.SetArgs(append([]string{"probe"}, args...))
		require.NoError(t, cmd.Execute())
		return server, token
	}
	server, token := settings()
	assert.Equal(t, "http://127.0.0.1:7460", server)
	assert.Empty(t, token)

	require.NoError(t, os.WriteFile("jugate.yaml", []byte("server: http://192.0.2.1:7460\ntoken: from-file\n"), 0o600))
	server, token = settings()
	assert.Equal(t, "http://192.0.2.1:7460", server)
	assert.Equal(t, "from-file", token)

	t.Setenv("JUGATE_SERVER", "http://192.0.2.2:7460")
	server, token = settings("--token", "from-flag")
	assert.Equal(t, "http://192.0.2.2:7460", server)
	assert.Equal(t, "from-flag", token)

	require.NoError(t, os.WriteFile("other.yaml", []byte("token: from-other\n"), 0o600))
	_, token = settings("--config", "other.yaml")
	assert.Equal(t, "from-other", token)

	require.NoError(t, os.WriteFile("jugate.yaml", []byte("server: [\n"), 0o600))
	var out, errs bytes.Buffer
	assert.Equal(t, exitUsage, Run(t.Context(), []string{"image", "list"}, &out, &errs))
	assert.Contains(t, errs.String(), "read the configuration")
}

func inPhases(phases ...string) []api.Member {
	var all []api.Member
	for i, p := range phases {
		m := api.Member{Workstation: []string{"herb-01", "herb-02"}[i], Phase: p, Total: 100, Done: 40}
		if p == "failed" {
			m.Phase, m.Outcome, m.Reason = "ended", "failed", "its disk is on fire"
		}
		if p == "delivered" {
			m.Phase, m.Outcome = "ended", "delivered"
		}
		all = append(all, m)
	}
	return all
}

func TestEachChangeOfADeliveryIsALine(t *testing.T) {
	var out bytes.Buffer
	l := &deliveryLines{w: &out, told: map[string]string{}}
	l.show(api.Delivery{ID: 1, Image: "garden-desk", Version: 2, State: "sending", Members: inPhases("receiving", "receiving")})
	l.show(api.Delivery{ID: 1, Image: "garden-desk", Version: 2, State: "sending", Members: inPhases("receiving", "failed")})
	l.show(api.Delivery{ID: 1, Image: "garden-desk", Version: 2, State: "finished", Members: inPhases("delivered", "failed")})
	assert.Equal(t, `delivery 1 of garden-desk@2: sending
  herb-01: receiving
  herb-02: receiving
  herb-02: failed: its disk is on fire
delivery 1 of garden-desk@2: finished
  herb-01: delivered
`, out.String())
}

func TestBarsEndAsTheDeliveryDoes(t *testing.T) {
	var out bytes.Buffer
	b := newDeliveryBars(&out)
	b.show(api.Delivery{Image: "garden-desk", Version: 2, State: "sending", SentSlabs: 3, Slabs: 10, Members: inPhases("receiving", "receiving")})
	ended := time.Now()
	b.show(api.Delivery{Image: "garden-desk", Version: 2, State: "finished", SentSlabs: 10, Slabs: 10, Ended: &ended, Members: inPhases("delivered", "failed")})
	b.end()
	text := out.String()
	assert.Contains(t, text, "garden-desk@2: finished")
	assert.Contains(t, text, "herb-01: delivered")
	assert.Regexp(t, `herb-02: failed.*not done`, text)
}

func TestListsInEveryForm(t *testing.T) {
	items := []api.Group{{Name: "herbarium", Members: 8}}
	columns := []column[api.Group]{{title: "name", value: func(g api.Group) string { return g.Name }}, {title: "workstations", value: func(g api.Group) string { return "8" }, right: true}}
	for output, want := range map[string]string{
		"table": "NAME        WORKSTATIONS\nherbarium              8\n",
		"csv":   "name,workstations\nherbarium,8\n",
		"json":  "[\n  {\n    \"name\": \"herbarium\",\n    \"members\": 8\n  }\n]\n",
	} {
		var out bytes.Buffer
		cmd := &cobra.Command{}
		cmd.SetOut(&out)
		require.NoError(t, printList(cmd, &app{output: output}, items, columns))
		assert.Equal(t, want, out.String())
	}
	var out bytes.Buffer
	cmd := &cobra.Command{}
	cmd.SetOut(&out)
	require.NoError(t, printList(cmd, &app{output: "json"}, nil, columns))
	assert.Equal(t, "[]\n", out.String(), "an empty list is a list")
}
