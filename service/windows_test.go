package service_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/hive"
	"jugate/demo/madeup"
)

// windowsDisk is a disk with a generalised Windows, as far as that can be made here: its INF files know
// a disk controller that its services start late.
func windowsDisk(t *testing.T, more ...string) string {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("mounting takes root")
	}
	disk := filepath.Join(t.TempDir(), "windows.img")
	run := func(stdin string, argv ...string) string {
		cmd := exec.CommandContext(t.Context(), argv[0], argv[1:]...)
		cmd.Stdin = strings.NewReader(stdin)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s: %s", argv[0], out)
		return strings.TrimSpace(string(out))
	}
	run("", "truncate", "-s", "66M", disk)
	run("label: gpt\nstart=2048, size=131072, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7\n", "sfdisk", "--quiet", disk)
	loop := run("", "losetup", "--find", "--show", "--offset", "1048576", "--sizelimit", "67108864", disk)
	defer run("", "losetup", "--detach", loop)
	run("", "mkfs.ntfs", "-Q", "-F", "-q", loop)
	dir := t.TempDir()
	run("", "ntfs-3g", loop, dir)
	defer run("", "umount", dir)
	h, err := hive.New("ROOT")
	require.NoError(t, err)
	for key, values := range map[string]map[string]hive.Value{
		"Select": {"Default": hive.Number(1)}, `Setup\Status\SysprepStatus`: {"GeneralizationState": hive.Number(7)},
		`ControlSet001\Services\alderdisk`: {"Start": hive.Number(0)}, `ControlSet001\Services\alderdisk\StartOverride`: {"0": hive.Number(3)},
	} {
		k, err := h.Make(key)
		require.NoError(t, err)
		for name, v := range values {
			require.NoError(t, k.Set(name, v))
		}
	}
	system, err := h.Bytes()
	require.NoError(t, err)
	files := map[string]string{
		"Windows/System32/config/SYSTEM": string(system), "Windows/SysWOW64/a.dll": "", "Windows/System32/drivers/alderdisk.sys": "no code",
		"Windows/Setup/State/State.ini": "[State]\r\nImageState=IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE\r\n",
		"Windows/INF/alderdisk.inf": "[Version]\nSignature=\"$Windows NT$\"\nClass=HDC\n[Manufacturer]\nA=M,NTamd64\n[M.NTamd64]\nD=I,PCI\\VEN_FE01&DEV_2000\n" +
			"[I]\n[I.Services]\nAddService=alderdisk,2,S\n[S]\nStartType=0\n",
		"Windows/INF/aldernet.inf": "[Version]\nSignature=\"$Windows NT$\"\nClass=Net\n[Manufacturer]\nA=M,NTamd64\n[M.NTamd64]\nD=I,PCI\\VEN_FE01&DEV_1000\n[I]\n",
	}
	for i := 0; i < len(more); i += 2 {
		files[more[i]] = more[i+1]
	}
	for name, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, filepath.Dir(name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	return disk
}

// onWindows reads a file of the volume of such a disk, by NTFS's own tool.
func onWindows(t *testing.T, disk, name string) string {
	t.Helper()
	out, err := exec.CommandContext(t.Context(), "losetup", "--find", "--show", "--read-only", "--offset", "1048576", "--sizelimit", "67108864", disk).Output()
	require.NoError(t, err)
	loop := strings.TrimSpace(string(out))
	defer exec.Command("losetup", "--detach", loop).Run()
	cmd := exec.CommandContext(t.Context(), "ntfscat", "--force", loop, name)
	var told strings.Builder
	cmd.Stderr = &told
	content, err := cmd.Output()
	require.NoError(t, err, "%s: %s", name, told.String())
	return string(content)
}

func TestAWindowsStartsWithTheDriverOfItsDiskController(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.model(1, windowsDisk(t), "A310", "desk-gold", madeup.AlderNetwork)
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	disks := map[string]string{"herb-01": blank(t, 66<<20), "seed-01": blank(t, 66<<20)}
	h.model(2, disks["herb-01"], "A310", "herb-01", madeup.AlderNetwork, madeup.AlderDisk)
	h.model(3, disks["seed-01"], "A520", "seed-01", madeup.AlderNetwork, madeup.CorvidDisk)
	order := api.NewDelivery{Image: "garden-desk", To: []string{"herb-01", "seed-01"}}

	t.Log("# nothing drives the disk controller of one, and the other's driver sleeps")
	plan, err := h.client.PlanDelivery(ctx, order)
	require.NoError(t, err)
	require.Len(t, plan.Members, 2)
	assert.Empty(t, plan.Members[0].Problems)
	assert.Contains(t, plan.Members[0].Warnings, "its disk controller pci fe01:2000 is driven by alderdisk: its driver alderdisk is in the image, but is not started first; the copy will do so")
	assert.Contains(t, strings.Join(plan.Members[1].Problems, "; "), "its disk controller pci fe03:3000 has no driver in garden-desk@1; no package of the library drives it")
	none := order
	none.Drivers = []string{"none"}
	plan, err = h.client.PlanDelivery(ctx, none)
	require.NoError(t, err)
	assert.Contains(t, strings.Join(plan.Members[0].Problems, "; "), "is not started first, and the order has no drivers changed")

	t.Log("# with a package for it, both start")
	_, err = h.client.AddDrivers(ctx, "corvid.zip", zipped(t, madeup.WriteINF))
	require.NoError(t, err)
	plan, err = h.client.PlanDelivery(ctx, order)
	require.NoError(t, err)
	assert.Empty(t, plan.Refused)
	assert.Contains(t, strings.Join(plan.Members[1].Warnings, "; "), "its disk controller pci fe03:3000 is driven by corvraid 2.0.1.0: the copy will start with it; try that on one such workstation before a room")
	d := h.deliver(order)
	receipts := h.receipts(d.ID)
	for name, says := range map[string]string{"herb-01": "the copy starts with alderdisk, which it had and did not start first", "seed-01": "the copy starts with corvraid (corvraid.sys)"} {
		require.EqualValues(t, "delivered", receipts[name].Outcome, receipts[name].Reason)
		assert.Contains(t, receipts[name].Remark, says)
	}
	assert.Equal(t, "no code either", onWindows(t, disks["seed-01"], "Windows/System32/drivers/corvraid.sys"))
	for name, service := range map[string]string{"herb-01": `ControlSet001\Services\alderdisk\StartOverride`, "seed-01": `ControlSet001\Services\corvraid`} {
		file := filepath.Join(t.TempDir(), "SYSTEM")
		require.NoError(t, os.WriteFile(file, []byte(onWindows(t, disks[name], "Windows/System32/config/SYSTEM")), 0o644))
		out, err := exec.CommandContext(ctx, "hivexget", file, service).CombinedOutput()
		require.NoError(t, err, "%s", out)
		assert.Regexp(t, `"(Start|0)"=dword:00000000`, string(out), name)
	}
	assert.Contains(t, onWindows(t, disks["seed-01"], "Windows/Panther/unattend.xml"), `pnputil.exe /add-driver`)
}

// The vendor's shell does not run here; the program that carries its report does.
func TestAWindowsReportsItsFirstStartByCurl(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	h := open(t, data, "127.0.0.1:0")
	ctx := t.Context()
	h.model(1, windowsDisk(t), "A310", "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	disk := blank(t, 66<<20)
	h.model(2, disk, "A310", "herb-01")
	require.NoError(t, h.set("service", map[string]any{"time_zone": "Europe/Vienna"}))
	d := h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}})
	r := h.receipts(d.ID)["herb-01"]
	require.EqualValues(t, "delivered", r.Outcome, r.Reason)
	require.NotNil(t, r.Arrival)
	assert.Equal(t, "awaited", r.Arrival.State)

	t.Log("# what is on the copy, called by TLS, with the service's authority")
	dir := t.TempDir()
	config := onWindows(t, disk, "Jugate/Arrival/arrival.curl")
	assert.Contains(t, config, h.url+"/agent/v1/arrival")
	assert.Contains(t, onWindows(t, disk, "Windows/Setup/Scripts/SetupComplete.cmd"), "Jugate arrival")
	authority, err := os.ReadFile(filepath.Join(data, "authority.pem"))
	require.NoError(t, err)
	for name, text := range map[string]string{
		"arrival.curl": config, "authority.pem": string(authority),
		"report.json": `{"computer_name":"HERB-01","hardware_addresses":["00:00:5E:00:53:02"],"ip_addresses":["192.0.2.31"],"machine_id":"6a9c1f0e-0c1d-4b57-9d4e-1f2a3b4c5d6e","operating_system":"Windows (build 26100.1)","kernel":"10.0.26100","uptime_seconds":61.5}`,
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	report := func() string {
		cmd := exec.CommandContext(ctx, "curl", "--config", "arrival.curl")
		cmd.Dir = dir
		out, _ := cmd.CombinedOutput()
		return string(out)
	}
	assert.Equal(t, "204", report())
	r = h.receipts(d.ID)["herb-01"]
	assert.Equal(t, "arrived", r.Arrival.State)
	assert.Empty(t, r.Arrival.Remark)
	assert.Equal(t, "Windows (build 26100.1)", r.Arrival.Report.System)
	assert.Equal(t, "401", report(), "the token is good for one report")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "authority.pem"), []byte(strings.ReplaceAll(string(authority), "A", "B")), 0o600))
	assert.Equal(t, "000", report(), "another authority is not believed")
}

func TestAnAnswerFileThatIsNoneStopsAnOrder(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	h.model(1, windowsDisk(t, "Windows/Panther/unattend.xml", "<unattend><settings>"), "A310", "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	h.model(2, blank(t, 66<<20), "A310", "herb-01")
	require.NoError(t, h.set("service", map[string]any{"time_zone": "Europe/Vienna"}))
	order := api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}}
	_, err := h.client.Deliver(t.Context(), order)
	assert.ErrorContains(t, err, "answers cannot be merged with what garden-desk@1 has: the answer file /Windows/Panther/unattend.xml: it is not well-formed XML")
	order.Answers = "none"
	assert.EqualValues(t, "delivered", h.receipts(h.deliver(order).ID)["herb-01"].Outcome)
}
