package cli

import (
	"bytes"
	"encoding/json"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/delivery"
)

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
	assert.Equal(t, "https://127.0.0.1:7460", server)
	assert.Empty(t, token)

	t.Log("# a file in the current folder is anybody's, and gets no token")
	require.NoError(t, os.WriteFile("jugate.yaml", []byte("server: https://192.0.2.1:7460\ntoken: from-file\n"), 0o600))
	server, token = settings()
	assert.Equal(t, "https://127.0.0.1:7460", server)
	assert.Empty(t, token)
	server, token = settings("--config", "jugate.yaml")
	assert.Equal(t, "https://192.0.2.1:7460", server)
	assert.Equal(t, "from-file", token)

	t.Setenv("JUGATE_SERVER", "https://192.0.2.2:7460")
	server, token = settings("--token", "from-flag")
	assert.Equal(t, "https://192.0.2.2:7460", server)
	assert.Equal(t, "from-flag", token)

	t.Log("# names that are not settings are errors, and so are values that make no sense")
	for text, complaint := range map[string]string{
		"server: [\n":                        "read the configuration",
		"sevrer: https://192.0.2.1:7460\n":   `"sevrer" is not a setting`,
		"yes: true\n":                        "is not a setting",
		"to: [herbarium]\n":                  `"to" is not a setting`,
		"server: [https://192.0.2.1:7460]\n": "it takes one value",
		"server: {a: b}\n":                   "it takes a value",
	} {
		require.NoError(t, os.WriteFile("other.yaml", []byte(text), 0o600))
		var out, errs bytes.Buffer
		assert.Equal(t, exitUsage, Run(t.Context(), []string{"image", "list", "--config", "other.yaml"}, &out, &errs), text)
		assert.Contains(t, errs.String(), complaint)
	}
	var out, errs bytes.Buffer
	assert.Equal(t, exitUsage, Run(t.Context(), []string{"image", "list", "--config", "nowhere.yaml"}, &out, &errs))

	t.Log("# orders take nothing from the environment")
	t.Setenv("JUGATE_TO", "herbarium")
	t.Setenv("JUGATE_YES", "true")
	errs.Reset()
	assert.Equal(t, exitUsage, Run(t.Context(), []string{"deliver", "garden-desk"}, &out, &errs))
	assert.Contains(t, errs.String(), "--to or --where is missing")

	t.Log("# lists are lists, and everything says where it comes from")
	t.Setenv("JUGATE_RATE", "200Mbit")
	require.NoError(t, os.WriteFile("other.yaml", []byte("netboot: [eth1=beside, eth2=whole]\nlisten: 192.0.2.1:7460\ntoken: secret\n"), 0o600))
	out.Reset()
	require.Equal(t, exitDone, Run(t.Context(), []string{"config", "show", "--config", "other.yaml", "-o", "json"}, &out, &errs), errs.String())
	var shown []configured
	require.NoError(t, json.Unmarshal(out.Bytes(), &shown))
	for _, want := range []configured{{"netboot", "[eth1=beside,eth2=whole]", "other.yaml"}, {"listen", "192.0.2.1:7460", "other.yaml"}, {"rate", "200Mbit", "JUGATE_RATE"},
		{"ceiling", "", "default"}, {"token", "(set)", "other.yaml"}, {"server", "https://192.0.2.2:7460", "JUGATE_SERVER"}} {
		assert.Contains(t, shown, want)
	}
}

func inPhases(phases ...string) []api.Member {
	var all []api.Member
	for i, p := range phases {
		m := api.Member{Workstation: []string{"herb-01", "herb-02"}[i], Phase: delivery.Phase(p), Total: 100, Done: 40}
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
	l := &deliveryLines{w: &out, said: map[string]string{}, changes: -1}
	waits := api.Delivery{ID: 7, Image: "garden-desk", Version: 2, State: "gathering", Warning: "1 ready, 1 awaited (herb-02); starts at 10:00 UTC with whoever is ready then"}
	l.show(waits)
	l.show(waits)
	assert.Equal(t, 1, strings.Count(out.String(), "awaited (herb-02)"), "once")
	assert.Contains(t, strings.Join(deliveryPicture(waits, 20), "\n"), waits.Warning)
	out.Reset()
	l.said = map[string]string{}
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

func TestTheScreenShowsWhoHoldsTheOthersBack(t *testing.T) {
	left, alone := 131.0, 3700.0
	d := api.Delivery{Image: "garden-desk", Version: 2, State: "sending", SentSlabs: 30, Slabs: 120, Round: 1, RateNow: 200_000_000, SecondsLeft: &left, Members: []api.Member{
		{Workstation: "herb-01", Phase: "receiving", Done: 25, Total: 100, Speed: 21e6, DiskSpeed: 180e6, SecondsLeft: &left},
		{Workstation: "herb-02", Phase: "ended", Outcome: "delivered"},
		{Workstation: "herb-03", Phase: "mending", Done: 10, Total: 100, Speed: 2e6, LossShare: 0.18, RepairShare: 0.042, Aside: "loses 18 % of packets", SecondsLeft: &alone},
		{Workstation: "herb-04", Phase: "awaited"},
	}}
	assert.Equal(t, `garden-desk@2: sending, 200 Mbit/s, 2 min 11 s left for the group
██████████░░░░░░░░░░░░░░░░░░░░░░░░░░░░░░ 30 of 120 slabs
1 in the group, 1 served alone, 1 done, of 4

WORKSTATION   PHASE       DONE      SPEED     LOSS   REPAIRS       DISK         LEFT
herb-03       mending     10 %   2.0 MB/s   18.0 %     4.2 %              1 h 01 min   served alone: loses 18 % of packets
herb-01       receiving   25 %    21 MB/s                      180 MB/s   2 min 11 s
herb-04       awaited
herb-02       delivered`, strings.Join(deliveryPicture(d, 30), "\n"))
	t.Log("# a small terminal shows those that need a look")
	d.Parts = []api.DeliveryPart{{Name: "alpine", State: "sending", Members: 5, Open: 2, SentSlabs: 120, Slabs: 400, RateNow: 100_000_000},
		{Name: "orchid", State: "mending", Members: 3, Open: 1, Slabs: 400, SentSlabs: 400, RateNow: 5, Away: true}, {Name: "palm-house", State: "finished", Members: 2, Slabs: 400, SentSlabs: 400}}
	assert.Contains(t, strings.Join(deliveryPicture(d, 30), "\n"), `at alpine: sending, 3 of 5 through, 120 of 400 slabs, 100 Mbit/s
at orchid: mending, 2 of 3 through, 400 of 400 slabs, when it was heard last
at palm-house: finished, 2 of 2 through
`)
	d.Parts = nil
	small := deliveryPicture(d, 8)
	assert.Len(t, small, 8)
	assert.Contains(t, small[5], "herb-03")
	assert.Equal(t, "and 2 more", small[7])
	t.Log("# and draws over what it has drawn")
	var out bytes.Buffer
	s := &deliveryScreen{w: &out}
	s.show(d)
	s.show(d)
	assert.Equal(t, 1, strings.Count(out.String(), "\x1b[9A\x1b[J"))
}

func TestStartTimesAreMadeWhole(t *testing.T) {
	now := time.Date(2026, 3, 1, 17, 0, 0, 0, time.FixedZone("here", 3600))
	for text, want := range map[string]string{
		"all": "all", "ready:3": "ready:3", "at:18:30": "at:2026-03-01T17:30:00Z", "at:16:00": "at:2026-03-02T15:00:00Z",
		"at:2026-03-05T08:00,all": "at:2026-03-05T07:00:00Z,all", "at:18:30+ready:2": "at:2026-03-01T17:30:00Z+ready:2", "at:2026-03-01T18:00:00Z": "at:2026-03-01T18:00:00Z",
	} {
		got, err := startRule(text, now)
		require.NoError(t, err, text)
		assert.Equal(t, want, got.String())
	}
	for _, text := range []string{"at:noon", "sometime", "at:25:00"} {
		_, err := startRule(text, now)
		assert.Error(t, err, text)
	}
}

func TestAsideRules(t *testing.T) {
	got, err := parseAside("loss=5%,disk=10s,silent=1m")
	require.NoError(t, err)
	assert.Equal(t, api.AsideRule{LossPercent: 5, DiskSeconds: 10, SilentSeconds: 60}, got)
	got, err = parseAside("never")
	require.NoError(t, err)
	assert.True(t, got.Never)
	for _, text := range []string{"loss=0", "loss=x", "disk=5", "disk=1ms", "speed=3", "loss=101"} {
		_, err := parseAside(text)
		assert.ErrorContains(t, err, "--aside", text)
	}
}

func TestListsInEveryForm(t *testing.T) {
	items := []api.Group{{Name: "herbarium", Workstations: 8, Build: 4}}
	columns := []column[api.Group]{{title: "name", value: func(g api.Group) string { return g.Name }}, {title: "workstations", value: func(g api.Group) string { return "8" }, right: true}}
	for output, want := range map[string]string{
		"table": "NAME        WORKSTATIONS\nherbarium              8\n",
		"csv":   "name,where,workstation_count,build,menu_seconds,image,behind_count\nherbarium,,8,4,0,,0\n",
		"json":  "[\n  {\n    \"name\": \"herbarium\",\n    \"where\": \"\",\n    \"workstation_count\": 8,\n    \"build\": 4,\n    \"menu_seconds\": 0,\n    \"image\": \"\",\n    \"behind_count\": 0\n  }\n]\n",
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
