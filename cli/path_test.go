package cli_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
	"jugate/cli"
	"jugate/demo/golddisk"
	"jugate/records/recordstest"
)

// desk is where the engineer sits: commands run in it with the environment set.
type desk struct {
	t   *testing.T
	url string
}

// run calls jugate and returns what it prints and its exit code.
func (d desk) run(args ...string) (string, int) {
	d.t.Helper()
	var out, errs bytes.Buffer
	code := cli.Run(d.t.Context(), args, &out, &errs)
	d.t.Logf("$ jugate %s\n%s%s[exit %d]", strings.Join(args, " "), out.String(), errs.String(), code)
	return out.String() + errs.String(), code
}

// must is run for calls that succeed.
func (d desk) must(args ...string) string {
	d.t.Helper()
	text, code := d.run(args...)
	require.Zero(d.t, code, text)
	return text
}

// read is must with --output json, decoded.
func read[T any](d desk, args ...string) T {
	d.t.Helper()
	var out, errs bytes.Buffer
	code := cli.Run(d.t.Context(), append(args, "--output", "json"), &out, &errs)
	require.Zero(d.t, code, "%v: %s", args, errs.String())
	var v T
	require.NoError(d.t, json.Unmarshal(out.Bytes(), &v), out.String())
	return v
}

// start runs a command that stays, until the test ends, and returns its lines.
func start(t *testing.T, args ...string) *bufio.Scanner {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	r, w := io.Pipe()
	var done sync.WaitGroup
	done.Go(func() {
		assert.Zero(t, cli.Run(ctx, args, w, io.Discard), "%v", args)
		w.Close()
	})
	t.Cleanup(func() { cancel(); io.Copy(io.Discard, r); done.Wait() })
	return bufio.NewScanner(r)
}

// until reads lines until one contains text, and goes on reading behind it.
func until(t *testing.T, lines *bufio.Scanner, text string) string {
	t.Helper()
	for lines.Scan() {
		if line := lines.Text(); strings.Contains(line, text) {
			go func() {
				for lines.Scan() {
				}
			}()
			return line
		}
	}
	t.Fatalf("it never said %q", text)
	return ""
}

func openDesk(t *testing.T, more ...string) desk {
	t.Helper()
	data := filepath.Join(t.TempDir(), "data")
	recordstest.Put(t, data)
	line := until(t, start(t, append([]string{"serve", "--data", data, "--listen", "127.0.0.1:0", "--multicast-groups", "233.252.0.0/24", "--rate", "400Mbit", "--build-from", os.TempDir()}, more...)...), "https://")
	_, address, _ := strings.Cut(line, "https://")
	token, err := os.ReadFile(filepath.Join(data, "admin.token"))
	require.NoError(t, err)
	d := desk{t: t, url: "https://" + address}
	t.Setenv("JUGATE_SERVER", d.url)
	t.Setenv("JUGATE_AUTHORITY", filepath.Join(data, "authority.pem"))
	t.Setenv("JUGATE_TOKEN", strings.TrimSpace(string(token)))
	return d
}

// stranger is a client without a token.
func (d desk) stranger() *apiclient.Client {
	d.t.Helper()
	c, err := apiclient.New(d.url, "")
	require.NoError(d.t, err)
	authority, err := os.ReadFile(os.Getenv("JUGATE_AUTHORITY"))
	require.NoError(d.t, err)
	c, err = c.Trusting(authority)
	require.NoError(d.t, err)
	return c
}

// plain is where firmware asks.
func (d desk) plain() string { return strings.Replace(d.url, "https:", "http:", 1) }

// The whole path, as an engineer walks it: service, simulated workstations and
// command line over loopback, with 3 % loss, judged by the system's own tools.
func TestTheWholePath(t *testing.T) {
	d := openDesk(t)
	gold, err := golddisk.Build(t.Context(), golddisk.Spec{Path: filepath.Join(t.TempDir(), "gold"), Data: 12 * golddisk.MiB})
	require.NoError(t, err)
	targets := map[string]string{}

	t.Log("# unknown workstations appear as newcomers with their inventory")
	until(t, start(t, "simulate", "--address", "0000.5e00.5301", "--disk", gold.Path, "--serial", "AW-0001"), "waiting to be admitted")
	for n := 1; n <= 4; n++ {
		name := fmt.Sprintf("herb-%02d", n)
		targets[name] = filepath.Join(t.TempDir(), name)
		require.NoError(t, golddisk.Blank(targets[name], gold.Size+int64(n%2)*5*golddisk.MiB))
		until(t, start(t, "simulate", "--address", fmt.Sprintf("00-00-5E-00-53-1%d", n), "--disk", targets[name], "--memory", "16GiB", "--loss", "0.03"), "waiting to be admitted")
	}
	newcomers := read[[]api.Workstation](d, "workstation", "list", "--state", "newcomer")
	require.Len(t, newcomers, 5)
	assert.Equal(t, gold.Size, newcomers[0].Disks[0])

	t.Log("# they are admitted under names, with addresses in whatever spelling")
	d.must("group", "add", "herbarium")
	d.must("workstation", "admit", "00:00:5E:00:53:01", "desk-gold")
	d.must("workstation", "admit", "00005e005311", "herb-01", "--group", "herbarium")
	for n := 2; n <= 4; n++ {
		d.must("workstation", "admit", fmt.Sprintf("0:0:5e:0:53:1%d", n), fmt.Sprintf("herb-%02d", n))
		d.must("group", "include", "herbarium", fmt.Sprintf("herb-%02d", n))
	}
	shown := read[api.Workstation](d, "workstation", "show", "herb-02")
	assert.Equal(t, []string{"00:00:5e:00:53:12"}, shown.Addresses)
	assert.EqualValues(t, 16<<30, shown.Memory)

	t.Log("# the golden disk is captured; captured again after a small change, just that is stored")
	assert.Contains(t, d.must("capture", "desk-gold", "--as", "garden-desk"), "garden-desk@1")
	require.NoError(t, gold.AddFile(t.Context(), "added-later", []byte("one more label")))
	assert.Contains(t, d.must("capture", "desk-gold", "--as", "garden-desk", "--note", "one label more"), "garden-desk@2")
	versions := read[[]api.Version](d, "image", "list", "garden-desk")
	require.Len(t, versions, 2)
	assert.LessOrEqual(t, versions[0].NewSlabs, 6)
	assert.Less(t, versions[0].StoredBytes, versions[1].StoredBytes/4)
	areas := read[api.Version](d, "image", "show", "garden-desk@2").Areas
	assert.Equal(t, "fat32", areas[1].Kind)
	assert.Equal(t, "ext4", areas[2].Kind)

	t.Log("# delivered to the group as soon as four are ready")
	done := read[api.Delivery](d, "deliver", "garden-desk", "--to", "herbarium", "--start", "ready:4", "--yes")
	assert.EqualValues(t, "finished", done.State)
	assert.Equal(t, 2, done.Version)
	assert.Less(t, done.WireBytes, 4*done.UsedBytes, "far from eight times")

	t.Log("# every disk is the golden one")
	wantDump, err := gold.Dump(t.Context())
	require.NoError(t, err)
	wantFiles, err := gold.Files(t.Context())
	require.NoError(t, err)
	assert.Contains(t, wantFiles, "root/added-later")
	for name, path := range targets {
		got := gold.On(path)
		dump, err := got.Dump(t.Context())
		require.NoError(t, err)
		info, err := os.Stat(path)
		require.NoError(t, err)
		assert.Equal(t, golddisk.Grown(wantDump, info.Size()), dump, name)
		assert.NoError(t, got.VerifyTable(t.Context()), name)
		assert.NoError(t, got.Check(t.Context()), name)
		files, err := got.Files(t.Context())
		require.NoError(t, err)
		assert.Equal(t, wantFiles, files, name)
	}

	t.Log("# and every workstation has its receipt")
	receipts := read[[]api.Receipt](d, "receipt", "list", "--delivery", fmt.Sprint(done.ID))
	require.Len(t, receipts, 4)
	multicast := int64(0)
	for _, r := range receipts {
		assert.EqualValues(t, "delivered", r.Outcome)
		assert.True(t, r.Verified)
		assert.Equal(t, versions[0].Digest, r.Digest)
		assert.NotNil(t, r.Started)
		multicast += r.Multicast
	}
	assert.Greater(t, multicast, done.UsedBytes, "one that hears badly is served alone; most hear the stream")
	assert.Contains(t, d.must("receipt", "check"), "4 receipts, 0 arrivals and")
	for _, list := range []string{"workstation", "group", "image", "delivery", "receipt"} {
		text := d.must(list, "list")
		assert.Greater(t, strings.Count(text, "\n"), 1)
		assert.NotContains(t, text, "\x1b", "no colour when not a terminal")
		assert.Contains(t, d.must(list, "list", "-o", "csv"), ",")
	}
	d.must("delivery", "show", "1")

	t.Log("# one that is retired is out of the game, and its receipts stay")
	d.must("workstation", "retire", "herb-04")
	text, code := d.run("deliver", "garden-desk", "--to", "herb-04", "--yes")
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "herb-04 is retired")
	one := read[[]api.Receipt](d, "receipt", "list", "--workstation", "herb-04")
	require.Len(t, one, 1)
	assert.Equal(t, one[0], read[api.Receipt](d, "receipt", "show", fmt.Sprint(one[0].ID)))

	t.Log("# a disk that is known to be too small is refused, and nothing is ordered")
	small := filepath.Join(t.TempDir(), "small")
	require.NoError(t, golddisk.Blank(small, golddisk.MiB))
	until(t, start(t, "simulate", "--address", "00:00:5e:00:53:21", "--disk", small), "waiting to be admitted")
	d.must("workstation", "admit", "00:00:5e:00:53:21", "kiosk-01")
	for _, how := range []string{"--yes", "--dry-run"} {
		text, code = d.run("deliver", "garden-desk@1", "--to", "kiosk-01,herb-01", how)
		assert.Equal(t, 1, code)
		assert.Contains(t, text, "kiosk-01")
		assert.Contains(t, text, "the disk is too small")
	}
	plan := read[api.DeliveryPlan](d, "deliver", "garden-desk", "--to", "herb-01", "--dry-run")
	assert.Empty(t, plan.Refused)
	assert.Equal(t, "garden-desk@2", plan.Members[0].Image)
	assert.Positive(t, plan.Seconds)
	t.Log("# without a terminal nobody can be asked")
	text, code = d.run("deliver", "garden-desk", "--to", "herb-01")
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "the disks of 1 workstation would be overwritten; say --yes if that is intended")
	assert.Len(t, read[[]api.Delivery](d, "delivery", "list"), 1, "nothing was ordered by all that")

	t.Log("# where only some got it, the exit code says partly done")
	d.must("workstation", "admit", "00:00:5e:00:53:22", "kiosk-02")
	assert.Regexp(t, `last seen\s+never`, d.must("workstation", "show", "kiosk-02"))
	text, code = d.run("deliver", "garden-desk@1", "--to", "kiosk-02,herb-01", "--at-latest", "2s", "--yes")
	assert.Equal(t, 3, code)
	assert.Contains(t, text, "it did not call in before the others were done")
	_, code = d.run("delivery", "watch", "2")
	assert.Equal(t, 3, code, "watching one that is over tells the same")
}

func TestExitCodesAndComplaints(t *testing.T) {
	d := openDesk(t)
	for call, want := range map[string]struct {
		code int
		text string
	}{
		"workstation list":                                       {0, "no workstation has called yet"},
		"workstation show nobody":                                {1, "there is no workstation nobody"},
		"workstation show":                                       {2, "Usage"},
		"workstation admit zz x":                                 {1, "there is no workstation zz"},
		"image show nothing":                                     {1, "there is no image nothing"},
		"image show a/b":                                         {1, "cannot be the name of an image"},
		"deliver nothing --to herb-01":                           {1, "there is no image nothing"},
		"deliver nothing":                                        {2, "--to or --where is missing"},
		"deliver x --to y --rate fast":                           {2, "not a rate"},
		"deliver x --to y --start late":                          {2, "not a gather rule"},
		"delivery show 7":                                        {1, "there is no delivery 7"},
		"delivery stop x":                                        {2, "not the number of a delivery"},
		"group remove nothing":                                   {1, "there is no group nothing"},
		"group lst":                                              {2, "did you mean"},
		"receipt list --output xml":                              {2, "--output is one of"},
		"receipt show 4711":                                      {1, "there is no receipt 4711"},
		"receipt show herb-01":                                   {2, "is not the number of a receipt"},
		"receipt list --nonsense":                                {2, "unknown flag"},
		"image list --token wrong":                               {1, "the token is wrong"},
		"image list --server https://127.0.0.1:1":                {1, "does not answer"},
		"image list --server nonsense":                           {2, "not the address of a service"},
		"simulate --address zz":                                  {2, "not a hardware address"},
		"simulate --address 00:00:5e:00:53:01 --loss 2":          {2, "--loss"},
		"serve --data /dev/null/x":                               {1, "make the data folder"},
		"serve --data x --multicast-groups 10.0.0.0/8":           {2, "not a range of multicast"},
		"demo --json":                                            {2, "--once"},
		"wire send x --to 192.0.2.1:6003 --interface lo":         {2, "not a multicast address"},
		"wire send x --to 233.252.0.1:6003 --interface nowhere0": {1, "no such file"},
		"wire receive --from 233.252.0.1:6003 --interface nowhere0 --into /tmp": {1, "nowhere0"},
		"wire receive --from 233.252.0.1:6003 --interface lo":                   {2, "into"},
		"deliver x --to y --when-done dance":                                    {2, "--when-done"},
		"delivery rate 1 fast":                                                  {2, "not a rate"},
		"serve --data x --ceiling little":                                       {2, "--ceiling"},
		"demo --listen 0.0.0.0:0":                                               {1, "loopback only"},
	} {
		text, code := d.run(strings.Fields(call)...)
		assert.Equal(t, want.code, code, call)
		assert.Contains(t, text, want.text, call)
	}
}

func TestShowGivesALineOfCSVWithEveryField(t *testing.T) {
	d := openDesk(t)
	d.must("workstation", "admit", "00:00:5e:00:53:22", "herb-02")
	text := d.must("workstation", "show", "herb-02", "-o", "csv")
	lines, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	require.NoError(t, err)
	require.Len(t, lines, 2)
	is := map[string]string{}
	for i, name := range lines[0] {
		is[name] = lines[1][i]
	}
	assert.Equal(t, "herb-02", is["name"])
	assert.Equal(t, "00:00:5e:00:53:22", is["hardware_addresses"])
	assert.Equal(t, "false", is["online"])
	assert.Equal(t, "", is["last_seen"], "it was never seen")
	assert.Contains(t, is, "inventory.memory")
	var document map[string]any
	out, code := d.run("workstation", "show", "herb-02", "-o", "json")
	require.Zero(t, code)
	require.NoError(t, json.Unmarshal([]byte(out), &document))
	for name := range document {
		if name != "inventory" {
			assert.Contains(t, is, name, "JSON and CSV have the same names")
		}
	}
}
