package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/demo/golddisk"
)

// plant is a service and workstations as processes of their own, which can be
// killed.
type plant struct {
	t            *testing.T
	data, listen string
	service      *exec.Cmd
}

func (p *plant) start() {
	p.t.Helper()
	p.service = jugate(p.t, "serve", "--data", p.data, "--listen", p.listen, "--multicast-groups", "233.252.0.0/24")
	p.service.Stderr = p.t.Output()
	require.NoError(p.t, p.service.Start())
	p.answers()
}

// answers waits until the service does.
func (p *plant) answers() {
	p.t.Helper()
	require.Eventually(p.t, func() bool { return p.run("image", "list") == nil }, 5*time.Minute, 50*time.Millisecond)
}

func (p *plant) command(args ...string) *exec.Cmd {
	token, _ := os.ReadFile(filepath.Join(p.data, "admin.token"))
	cmd := jugate(p.t, args...)
	cmd.Env = append(cmd.Env, "JUGATE_SERVER=https://"+p.listen, "JUGATE_AUTHORITY="+filepath.Join(p.data, "authority.pem"), "JUGATE_TOKEN="+strings.TrimSpace(string(token)))
	return cmd
}

func (p *plant) run(args ...string) error { return p.command(args...).Run() }

func (p *plant) must(args ...string) {
	p.t.Helper()
	out, err := p.command(args...).CombinedOutput()
	require.NoError(p.t, err, "%s", out)
}

func (p *plant) workstation(n int, disk string) *exec.Cmd {
	p.t.Helper()
	cmd := p.command("simulate", "--address", fmt.Sprintf("00:00:5e:00:53:%02x", n), "--disk", disk, "--loss", "0.01")
	require.NoError(p.t, cmd.Start())
	return cmd
}

func (p *plant) delivery() (d api.Delivery) {
	out, err := p.command("delivery", "show", "1", "-o", "json").Output()
	if err == nil {
		require.NoError(p.t, json.Unmarshal(out, &d))
	}
	return d
}

func (p *plant) until(what string, as func(api.Delivery) bool) (d api.Delivery) {
	p.t.Helper()
	require.Eventually(p.t, func() bool { d = p.delivery(); return as(d) }, 5*time.Minute, 100*time.Millisecond, what)
	return d
}

// The service and a workstation are killed in the middle of a delivery, at
// different times. Every disk is right in the end, and every receipt true.
func TestKilledInTheMiddleOfADelivery(t *testing.T) {
	p := &plant{t: t, data: t.TempDir(), listen: "127.0.0.1:7499"}
	gold, err := golddisk.Build(t.Context(), golddisk.Spec{Path: filepath.Join(t.TempDir(), "gold"), Size: 36 * golddisk.MiB, ESP: 3 * golddisk.MiB, FATBits: 12, Data: 6 * golddisk.MiB})
	require.NoError(t, err)
	p.start()
	p.must("image", "import", gold.Path, "--as", "garden-desk")
	disks := map[string]string{}
	var one *exec.Cmd
	for n := 1; n <= 3; n++ {
		name := fmt.Sprintf("herb-%02d", n)
		disks[name] = filepath.Join(t.TempDir(), "disk")
		require.NoError(t, golddisk.Blank(disks[name], gold.Size))
		cmd := p.workstation(n, disks[name])
		if n == 1 {
			one = cmd
		}
		address := fmt.Sprintf("00:00:5e:00:53:%02x", n)
		require.Eventually(t, func() bool { return p.run("workstation", "admit", address, name) == nil }, 5*time.Minute, 50*time.Millisecond)
	}
	p.must("deliver", "garden-desk", "--to", "herb-01,herb-02,herb-03", "--rate", "4Mbit", "--no-wait", "--yes")

	p.until("a fifth", func(d api.Delivery) bool { return len(d.Members) == 3 && d.Members[0].Done > d.Members[0].Total/5 })
	t.Log("# a workstation loses its power and gets it again")
	require.NoError(t, one.Process.Kill())
	one.Wait()
	p.workstation(1, disks["herb-01"])
	p.until("half", func(d api.Delivery) bool { return len(d.Members) == 3 && d.Members[1].Done > d.Members[1].Total/2 })
	t.Log("# the service is killed, and started again")
	require.NoError(t, p.service.Process.Kill())
	p.service.Wait()
	p.start()
	d := p.until("the end", func(d api.Delivery) bool { return d.Ended != nil })
	assert.EqualValues(t, "finished", d.State)
	want, err := gold.Files(t.Context())
	require.NoError(t, err)
	for _, m := range d.Members {
		assert.EqualValues(t, "delivered", m.Outcome, "%s: %s", m.Workstation, m.Reason)
		disk := gold.On(disks[m.Workstation])
		assert.NoError(t, disk.Check(t.Context()), m.Workstation)
		files, err := disk.Files(t.Context())
		require.NoError(t, err)
		assert.Equal(t, want, files, m.Workstation)
	}
	p.must("receipt", "check")
}
