package service_test

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/agent"
	"jugate/api"
	"jugate/apiclient"
	"jugate/core/answers"
	"jugate/core/hwaddr"
	"jugate/sim"
)

const deskHash = "$6$fennholt$KlLxKZbDz7h1S5d9n0Y3i8yQ2b4W6m8x0z1A3C5E7G9I1K3M5O7Q9S1U3W5Y7a9c1e3g5i7k9m1o3q5s7u9w1y3A5"

func (h *house) set(of string, values map[string]any) error {
	_, err := h.client.SetAnswers(h.t.Context(), api.NewAnswers{Of: of, Values: values})
	return err
}

func TestAnswersAreInherited(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	h := open(t, data, "127.0.0.1:0")
	ctx := t.Context()
	for n, name := range []string{"herb-01", "herb-02", "seed_01"} {
		w := h.called(n+1, "A310")
		_, err := h.client.Admit(ctx, w.Addresses[0], api.Admission{Name: name})
		require.NoError(t, err)
	}
	require.NoError(t, addGroup(h, "herbarium"))
	require.NoError(t, addGroup(h, "scanners"))
	for _, g := range []string{"herbarium", "scanners"} {
		_, err := h.client.Include(ctx, g, api.GroupMembers{Workstations: []string{"herb-01"}})
		require.NoError(t, err)
	}
	resolved := func(name string) map[string]string {
		r, err := h.client.ResolvedAnswers(ctx, name, "")
		require.NoError(t, err)
		out := map[string]string{}
		for _, a := range r.Answers {
			out[a.Key] = a.Set
		}
		for _, p := range r.Problems {
			out["problem"] += p
		}
		return out
	}
	assert.Empty(t, resolved("herb-01"), "nothing is set, and nothing is answered")

	require.NoError(t, h.set("service", map[string]any{"time_zone": "UTC", "locale": "de_AT"}))
	require.NoError(t, h.set("model:A310", map[string]any{"time_zone": "Europe/Paris"}))
	require.NoError(t, h.set("herbarium", map[string]any{"time_zone": "Europe/Vienna", "accounts": []any{map[string]any{"name": "scan", "password_hash": deskHash}}}))
	require.NoError(t, h.set("workstation:herb-01", map[string]any{"description": "by the window"}))
	assert.Equal(t, map[string]string{"computer_name": "its name in the roster", "description": "herb-01", "time_zone": "the group herbarium", "locale": "the service", "accounts": "the group herbarium"}, resolved("herb-01"))
	assert.Equal(t, "the model A310", resolved("herb-02")["time_zone"])
	assert.Contains(t, resolved("seed_01")["problem"], "the name of seed_01 cannot be that of a computer")

	t.Log("# two groups that differ are a problem that names both")
	require.NoError(t, h.set("scanners", map[string]any{"time_zone": "Europe/Rome"}))
	assert.Contains(t, resolved("herb-01")["problem"], "time_zone is set by the group herbarium and by the group scanners")
	require.NoError(t, h.set("scanners", map[string]any{"time_zone": nil}))

	t.Log("# a secret is nowhere to be read: not in a list, the records, the log or an event")
	page, err := h.client.Answers(ctx, "")
	require.NoError(t, err)
	for _, a := range page.Items {
		if a.Key == "accounts" {
			assert.Equal(t, "(set)", a.Value)
		}
	}
	assert.NotContains(t, h.agents.String(), deskHash)
	require.NoError(t, filepath.WalkDir(data, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := os.ReadFile(path)
		assert.NotContains(t, string(text), deskHash, path)
		return err
	}))

	for says, c := range map[string]struct {
		of     string
		values map[string]any
	}{
		"IANA":                      {"service", map[string]any{"time_zone": "Vienna"}},
		"is not an answer":          {"service", map[string]any{"colour": "red"}},
		"no group and no":           {"nowhere", map[string]any{"time_zone": "UTC"}},
		"there is no image":         {"image:nothing", map[string]any{"time_zone": "UTC"}},
		"not a place":               {"room:12", map[string]any{"time_zone": "UTC"}},
		"belongs to one":            {"herbarium", map[string]any{"computer_name": "herb"}},
		"no answer is given":        {"herbarium", map[string]any{}},
		"it has to be list of acco": {"herbarium", map[string]any{"accounts": "swordfish"}},
	} {
		err := h.set(c.of, c.values)
		assert.ErrorContains(t, err, says)
		assert.NotContains(t, err.Error(), "swordfish")
	}
}

// linuxDisk is a golden disk with as much of a Linux system as answers change; more are names
// and texts of files.
func linuxDisk(t *testing.T, more ...string) string {
	t.Helper()
	dir, path := t.TempDir(), filepath.Join(t.TempDir(), "gold.img")
	for name, text := range map[string]string{
		"etc/os-release": "ID=debian\nPRETTY_NAME=\"Debian 13\"\n", "etc/debian_version": "13\n", "etc/hostname": "desk-gold\n", "etc/hosts": "127.0.1.1 desk-gold\n", "etc/machine-id": "",
		"etc/passwd": "root:x:0:0:root:/root:/bin/sh\n", "etc/shadow": "root:*:19000:0:99999:7:::\n", "etc/group": "root:x:0:\nshadow:x:42:\nsudo:x:27:\n", "usr/share/zoneinfo/Europe/Vienna": "",
		"etc/default/locale": "LANG=C\n", "usr/lib/modules/6.12.0/modules.dep": "", "usr/lib/modules/6.12.0/modules.builtin": "", "bin/bash": "", "var/lib/dhcp/dhclient.leases": "lease of desk-gold", "etc/systemd/system/default.target.wants/x": "",
	} {
		file := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	}
	for i := 0; i < len(more); i += 2 {
		require.NoError(t, os.WriteFile(filepath.Join(dir, more[i]), []byte(more[i+1]), 0o644))
	}
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "home"), 0o755))
	script := "truncate -s 66M " + path + " && printf 'label: gpt\\nstart=2048, size=131072\\n' | sfdisk -q " + path +
		" && mkfs.ext4 -q -F -b 4096 -d " + dir + " -E offset=1048576 " + path + " 64M"
	out, err := exec.CommandContext(t.Context(), "sh", "-c", script).CombinedOutput()
	require.NoError(t, err, "%s", out)
	return path
}

// onDisk reads a file of the volume on a disk, by debugfs.
func onDisk(t *testing.T, disk, name string) string {
	t.Helper()
	out, err := exec.CommandContext(t.Context(), "debugfs", "-R", "cat "+name, disk+"?offset=1048576").Output()
	require.NoError(t, err)
	return string(out)
}

func TestEveryCopyStartsAsItself(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	require.NoError(t, addGroup(h, "herbarium"))
	h.start(1, linuxDisk(t), 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	disks := []string{blank(t, 66<<20), blank(t, 66<<20)}
	h.start(2, disks[0], 0, "herb-01", "herbarium")
	h.start(3, disks[1], 0, "herb-02", "herbarium")

	t.Log("# without answers a copy is what the golden machine was")
	d := h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}})
	assert.EqualValues(t, "delivered", h.receipts(d.ID)["herb-01"].Outcome)
	assert.Equal(t, "desk-gold\n", onDisk(t, disks[0], "/etc/hostname"))

	require.NoError(t, h.set("herbarium", map[string]any{"time_zone": "Europe/Vienna", "locale": "de_AT", "accounts": []any{map[string]any{"name": "scan", "password_hash": deskHash}}}))
	require.NoError(t, h.set("herb-02", map[string]any{"network": []any{map[string]any{"addresses": []any{"192.0.2.32/24"}}}}))
	preview, err := h.client.PreviewAnswers(ctx, "herb-02", "garden-desk")
	require.NoError(t, err)
	texts := map[string]string{}
	for _, c := range preview.Changes {
		texts[c.Path] = c.Before + " => " + c.After
		assert.NotContains(t, c.After, deskHash)
	}
	assert.Equal(t, "desk-gold\n => herb-02\n", texts["/etc/hostname"])
	assert.Contains(t, strings.Join(preview.Remarks, ";"), "nothing that manages the network was found")

	d = h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herbarium"}})
	for i, name := range []string{"herb-01", "herb-02"} {
		r := h.receipts(d.ID)[name]
		require.EqualValues(t, "delivered", r.Outcome, r.Reason)
		assert.True(t, r.Verified, "the copy was right before it was answered")
		assert.Contains(t, r.Remark, "answered as "+name)
		assert.Equal(t, name+"\n", onDisk(t, disks[i], "/etc/hostname"))
		assert.Equal(t, "127.0.1.1\t"+name+"\n", onDisk(t, disks[i], "/etc/hosts"))
		assert.Equal(t, "LANG=de_AT.UTF-8\n", onDisk(t, disks[i], "/etc/default/locale"))
		assert.Contains(t, onDisk(t, disks[i], "/etc/shadow"), "scan:"+deskHash+":")
		assert.Empty(t, onDisk(t, disks[i], "/var/lib/dhcp/dhclient.leases"))
		out, err := exec.CommandContext(ctx, "e2fsck", "-f", "-n", disks[i]+"?offset=1048576").CombinedOutput()
		assert.NoError(t, err, "%s", out)
	}
	assert.NotContains(t, h.agents.String(), deskHash)

	t.Log("# each reports its first start once, and a report that is odd is flagged")
	assert.Equal(t, "awaited", h.receipts(d.ID)["herb-01"].Arrival.State)
	stolen := onDisk(t, disks[1], "/var/lib/jugate/arrival.json")
	for i := range disks {
		w := &sim.Workstation{Addresses: []hwaddr.Address{address(2 + i)}, Disks: []string{disks[i]}}
		require.NoError(t, w.FirstStart(ctx))
		assert.ErrorIs(t, w.FirstStart(ctx), sim.ErrNothingToReport, "nothing of it is left")
		assert.Empty(t, onDisk(t, disks[i], "/var/lib/jugate/arrival.json"))
	}
	arrived := h.receipts(d.ID)["herb-02"].Arrival
	require.Equal(t, "arrived", arrived.State)
	assert.Equal(t, "herb-02", arrived.Report.ComputerName)
	assert.Empty(t, arrived.Remark)
	assert.NotEqual(t, arrived.Report.MachineID, h.receipts(d.ID)["herb-01"].Arrival.Report.MachineID)
	var a answers.Arrival
	require.NoError(t, json.Unmarshal([]byte(stolen), &a))
	c, err := agent.ArrivalClient(a, t.TempDir())
	require.NoError(t, err)
	assert.True(t, apiclient.IsUnauthorized(c.Arrive(ctx, api.ArrivalReport{ComputerName: "thief", Addresses: []string{}, IPs: []string{}})), "a token that was used is good for nothing")
	_, err = c.Workstations(ctx, apiclient.List{})
	assert.True(t, apiclient.IsUnauthorized(err), "nor for anything else")
	check, err := h.client.CheckLog(ctx)
	require.NoError(t, err)
	assert.True(t, check.Sound, check.Detail)

	t.Log("# a contradiction refuses the order, and --answers none overrules it")
	require.NoError(t, addGroup(h, "scanners"))
	_, err = h.client.Include(ctx, "scanners", api.GroupMembers{Workstations: []string{"herb-01"}})
	require.NoError(t, err)
	require.NoError(t, h.set("scanners", map[string]any{"locale": "it_IT"}))
	_, err = h.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}})
	assert.ErrorContains(t, err, "--answers none")
	d = h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}, Answers: "none"})
	require.EqualValues(t, "delivered", h.receipts(d.ID)["herb-01"].Outcome)
	assert.Equal(t, "desk-gold\n", onDisk(t, disks[0], "/etc/hostname"))
}

// What answers cure is no obstacle for a golden machine whose copies take answers: the copy is
// cleaned, and not the golden machine.
func TestTheGoldenMachineKeepsItsIdentity(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.start(1, linuxDisk(t, "etc/machine-id", "8d6f1a520c1b4a679a440000aa310001\n"), 0, "desk-gold")
	disk := blank(t, 66<<20)
	h.start(2, disk, 0, "herb-01")
	refused := h.capture("desk-gold", "garden-desk")
	assert.Contains(t, refused.Error, "machine-id")

	require.NoError(t, h.set("service", map[string]any{"time_zone": "Europe/Vienna"}))
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	v, err := h.client.Version(ctx, "garden-desk")
	require.NoError(t, err)
	for _, f := range v.Findings {
		if f.Code == "machine-id" {
			assert.EqualValues(t, "note", f.Severity)
			assert.Contains(t, f.Do, "copies are answered")
		}
	}
	_, err = h.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}, Answers: "none"})
	assert.ErrorContains(t, err, "the golden machine's twin (machine-id")
	d := h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}})
	require.EqualValues(t, "delivered", h.receipts(d.ID)["herb-01"].Outcome)
	assert.Empty(t, onDisk(t, disk, "/etc/machine-id"))

	t.Log("# nor can it be delivered once nothing is set any more")
	require.NoError(t, h.set("service", map[string]any{"time_zone": nil}))
	_, err = h.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}})
	assert.ErrorContains(t, err, "twin")
}

// A build of before there were answers does not carry them out, and does not say so.
func TestABuildThatDoesNotKnowAnswersIsNoticed(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	h := open(t, data, "127.0.0.1:0")
	h.start(1, linuxDisk(t), 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	require.NoError(t, h.set("service", map[string]any{"time_zone": "Europe/Vienna"}))
	to, err := url.Parse(h.client.Server())
	require.NoError(t, err)
	old := httputil.NewSingleHostReverseProxy(to)
	old.Transport = h.client.HTTP().Transport
	gate := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		if err != nil {
			return
		}
		body = bytes.ReplaceAll(body, []byte(`"answered":true`), []byte(`"answered":false`))
		r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(body)), int64(len(body))
		r.Header.Set("Content-Length", strconv.Itoa(len(body)))
		old.ServeHTTP(w, r)
	}))
	defer gate.Close()
	direct := h.client
	h.client, err = apiclient.New(gate.URL, h.token)
	require.NoError(t, err)
	h.client, err = h.client.Trusting(h.service.Authority())
	require.NoError(t, err)
	stop := h.start(2, blank(t, 66<<20), 0, "herb-01")
	h.client = direct
	d := h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}})
	r := h.receipts(d.ID)["herb-01"]
	assert.EqualValues(t, "failed", r.Outcome)
	assert.Contains(t, r.Reason, "has booted a build that does not know them")
	t.Log("# without answers there is nothing that it would have to know")
	d = h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}, Answers: "none"})
	assert.EqualValues(t, "delivered", h.receipts(d.ID)["herb-01"].Outcome)
	stop()
}
