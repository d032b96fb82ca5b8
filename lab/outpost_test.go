package lab_test

import (
	"net/netip"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/lab"
)

// A room that no router leads out of boots by an outpost, also while its line is cut.
func TestARoomAtAnOutpost(t *testing.T) {
	t.Parallel()
	r := newRoom(t, []string{"outpost"}, "--netboot", "eth0=off", "--tickets", "yes")
	far, err := lab.NewNetwork(r.ctx)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, far.Close()) })
	require.NoError(t, r.net.Join(r.ctx, "outpost", far, "room2", netip.MustParsePrefix("198.51.100.1/24")))
	var code api.OutpostCode
	r.jugate(&code, "outpost", "add", "alpine", "--note", "across the river")
	log, err := os.Create(filepath.Join(r.keep, "outpost.log"))
	require.NoError(t, err)
	box := r.net.Host("outpost")
	cmd := box.Command(r.ctx, filepath.Join(r.bin, "jugate-outpost"), "--service", "https://192.0.2.1:7460", "--join", code.Code, "--data", filepath.Join(t.TempDir(), "alpine"),
		"--listen", "198.51.100.1:7460", "--netboot", "room2=whole", "--pool", "198.51.100.100-198.51.100.150/24 router 198.51.100.1")
	cmd.Stderr = log
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		cmd.Process.Signal(os.Interrupt)
		cmd.Wait()
		log.Close()
	})
	r.eventually(time.Minute, func() bool {
		var o api.Outpost
		r.jugate(&o, "outpost", "show", "alpine")
		return len(o.Builds) == 1
	})
	r.done("outpost joined, the build is there")

	m, err := far.PowerOn(r.ctx, lab.MachineOptions{Name: "alpine-01", Address: "00:00:5e:00:53:51", Firmware: lab.UEFI, Disk: r.disk("alpine-01", gib), Dir: r.keep, Maker: "Brindle", Model: "Mini 2"})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, m.Off()) })
	r.expect(m, slow, "waiting to be admitted")
	r.done("at an outpost: power button to agent")
	r.jugate(nil, "workstation", "admit", m.Address, "alpine-01")
	r.jugate(nil, "capture", "alpine-01", "--as", "nothing", "--no-wait")
	r.expect(m, slow, "alpine-01: the capture failed") // its disk is blank
	var w api.Workstation
	r.jugate(&w, "workstation", "show", "alpine-01")
	assert.Equal(t, "alpine", w.Site)
	var status api.NetbootStatus
	r.jugate(&status, "netboot", "status", "alpine-01")
	require.Len(t, status.Machines, 1)
	assert.Contains(t, status.Machines[0].Steps[0].Detail, "alpine: room2")
	require.NoError(t, m.Off())
	r.done("its errand reached it")

	require.NoError(t, box.Down(r.ctx))
	m, err = far.PowerOn(r.ctx, lab.MachineOptions{Name: "alpine-02", Address: "00:00:5e:00:53:52", Firmware: lab.UEFI, Disk: r.disk("alpine-02", gib), Dir: r.keep, Maker: "Brindle", Model: "Mini 2"})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, m.Off()) })
	r.expect(m, slow, "the service does not answer")
	r.done("while the line is cut: power button to boot script")
}
