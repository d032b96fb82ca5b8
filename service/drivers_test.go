package service_test

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/hwaddr"
	"jugate/demo/golddisk"
	"jugate/demo/madeup"
	"jugate/service"
	"jugate/sim"
)

// zipped is a folder as an archive.
func zipped(t *testing.T, write func(dir string) error) *bytes.Reader {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, write(dir))
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	require.NoError(t, z.AddFS(os.DirFS(dir)))
	require.NoError(t, z.Close())
	return bytes.NewReader(b.Bytes())
}

// gardenGold is a golden disk with the made-up kernel.
func gardenGold(t *testing.T) *golddisk.Disk {
	t.Helper()
	d, err := golddisk.Build(t.Context(), golddisk.Spec{Path: filepath.Join(t.TempDir(), "gold"), Size: 36 * golddisk.MiB, ESP: 3 * golddisk.MiB, FATBits: 12, Data: 4 * golddisk.MiB, Also: madeup.WriteKernel})
	require.NoError(t, err)
	return d
}

func (h *house) model(n int, disk, model, name string, devices ...string) {
	h.t.Helper()
	w := &sim.Workstation{Addresses: []hwaddr.Address{address(n)}, Maker: "Alder Works", Model: model, Serial: fmt.Sprintf("AW-%04d", n), Memory: 8 << 30, Interface: "lo", Devices: devices, Disks: []string{disk}}
	h.startMachine(w, name)
}

// debugfs reads a file of a disk's root volume.
func debugfs(t *testing.T, d *golddisk.Disk, path string) string {
	t.Helper()
	out, err := exec.CommandContext(t.Context(), "debugfs", "-R", "cat "+path, fmt.Sprintf("%s?offset=%d", d.Path, d.RootStart)).Output()
	require.NoError(t, err)
	return string(out)
}

func TestDriversFromTheLibraryToTheDisk(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	gold := gardenGold(t)
	h.model(1, gold.Path, "A310", "desk-gold", madeup.AlderNetwork, madeup.AlderDisk)
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	disk := blank(t, gold.Size)
	h.model(2, disk, "A520", "seed-01", madeup.AlderNetwork, madeup.CorvidDisk, madeup.WrenSound)
	order := api.NewDelivery{Image: "garden-desk", To: []string{"seed-01"}}

	t.Log("# what the image lacks is known from the inventory, and stops the delivery")
	_, err := h.client.Deliver(t.Context(), order)
	require.ErrorContains(t, err, "seed-01 (Alder Works A520): its disk controller pci fe03:3000 has no driver in garden-desk@1; no package of the library drives it")
	cover, err := h.client.Coverage(t.Context(), apiclient.CoverageQuery{Image: "garden-desk"})
	require.NoError(t, err)
	assert.Equal(t, "Garden Linux 3 (made up), kernel "+madeup.Kernel, cover.System)
	require.Len(t, cover.Models, 2)
	assert.Empty(t, cover.Models[0].LackingDelivered)
	assert.Equal(t, []string{"desk-gold"}, cover.Models[0].Workstations)
	assert.Len(t, cover.Models[1].LackingDelivered, 1)
	assert.EqualValues(t, "unknown", cover.Models[1].Devices[0].Environment.State, "no build is offered")

	t.Log("# the driver goes into the library")
	added, err := h.client.AddDrivers(t.Context(), "corvid.zip", zipped(t, madeup.WriteModules))
	require.NoError(t, err)
	require.Len(t, added.Packages, 1)
	assert.Equal(t, []string{"seed-01"}, added.Packages[0].Serves)
	again, err := h.client.AddDrivers(t.Context(), "corvid.zip", zipped(t, madeup.WriteModules))
	require.NoError(t, err)
	assert.Empty(t, again.Packages)
	assert.Len(t, again.There, 1)

	t.Log("# and from there onto the disk, after the copy")
	d := h.deliver(order)
	r := h.receipts(d.ID)["seed-01"]
	require.EqualValues(t, "delivered", r.Outcome, r.Reason)
	assert.Equal(t, []string{added.Packages[0].Label}, r.Drivers)
	copied := gold.On(disk)
	require.NoError(t, copied.Check(t.Context()), "e2fsck")
	modules := "/lib/modules/" + madeup.Kernel
	assert.Contains(t, debugfs(t, copied, modules+"/updates/jugate/corvid_raid.ko"), "name=corvid_raid")
	assert.Equal(t, "made-up firmware\n", debugfs(t, copied, "/lib/firmware/corvid/raid.bin"))
	assert.Contains(t, debugfs(t, copied, modules+"/modules.dep"), "updates/jugate/corvid_raid.ko: updates/jugate/corvid_lib.ko\n")
	assert.Contains(t, debugfs(t, copied, modules+"/modules.dep"), "kernel/drivers/ata/alderdisk.ko:\n", "what was there stays")
	assert.Contains(t, debugfs(t, copied, modules+"/modules.alias"), "alias pci:v0000FE03d00003000sv*sd*bc*sc*i* corvid_raid\n")
	check, err := h.client.CheckLog(t.Context())
	require.NoError(t, err)
	assert.True(t, check.Sound)

	t.Log("# explained")
	explained, err := h.client.ExplainDrivers(t.Context(), "seed-01", "fe03:3000", "garden-desk")
	require.NoError(t, err)
	require.Len(t, explained, 1)
	require.Len(t, explained[0].Candidates, 1)
	assert.True(t, explained[0].Candidates[0].Wins)
	assert.Equal(t, "its identifier is the device's own; no other package drives it", explained[0].Candidates[0].Why)
	assert.EqualValues(t, "will be installed", explained[0].Verdicts.Delivered.State)
}

// Drivers can be added to what is on a disk already.
func TestDriversForAnImageThatIsThere(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	gold := gardenGold(t)
	h.model(1, gold.Path, "A310", "desk-gold", madeup.AlderNetwork)
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	disk := blank(t, gold.Size)
	h.model(2, disk, "A520", "seed-01", madeup.AlderNetwork, madeup.CorvidDisk)
	_, err := h.client.InstallDrivers(t.Context(), api.InstallDrivers{To: []string{"seed-01"}})
	assert.ErrorContains(t, err, "seed-01 has no receipt of an image")
	d := h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"seed-01"}, DriverOrder: api.DriverOrder{DespiteDrivers: true}})
	assert.Empty(t, h.receipts(d.ID)["seed-01"].Drivers)
	_, err = h.client.InstallDrivers(t.Context(), api.InstallDrivers{To: []string{"seed-01"}})
	assert.ErrorContains(t, err, "there is nothing to install on seed-01 (Alder Works A520)")

	added, err := h.client.AddDrivers(t.Context(), "corvid.zip", zipped(t, madeup.WriteModules))
	require.NoError(t, err)
	errands, err := h.client.InstallDrivers(t.Context(), api.InstallDrivers{To: []string{"seed-01"}})
	require.NoError(t, err)
	require.Len(t, errands, 1)
	var e api.Errand
	h.eventually(func() bool {
		e, err = h.client.Errand(t.Context(), errands[0].ID)
		return err == nil && e.Ended != nil
	})
	assert.EqualValues(t, "done", e.State, e.Error)
	assert.Contains(t, e.Result, "installed "+added.Packages[0].Label)
	assert.Contains(t, debugfs(t, gold.On(disk), "/lib/modules/"+madeup.Kernel+"/updates/jugate/corvid_raid.ko"), "name=corvid_raid")

	t.Log("# an order may want none, or only those of a set")
	_, err = h.client.Deliver(t.Context(), api.NewDelivery{Image: "garden-desk", To: []string{"seed-01"}, DriverOrder: api.DriverOrder{Drivers: []string{"none"}}})
	assert.ErrorContains(t, err, "corvid_raid 2.0.1 would drive it")
	_, err = h.client.Deliver(t.Context(), api.NewDelivery{Image: "garden-desk", To: []string{"seed-01"}, DriverOrder: api.DriverOrder{Drivers: []string{"nobody"}}})
	assert.ErrorContains(t, err, "there is no driver set nobody")
	_, err = h.client.SaveDriverSet(t.Context(), api.DriverSet{Name: "corvid", System: "linux", Rules: []api.DriverRule{{Package: "corvid*"}}})
	require.NoError(t, err)
	require.NoError(t, h.client.RemoveDriver(t.Context(), added.Packages[0].ID))
	_, err = h.client.Deliver(t.Context(), api.NewDelivery{Image: "garden-desk", To: []string{"seed-01"}, DriverOrder: api.DriverOrder{Drivers: []string{"corvid"}}})
	assert.ErrorContains(t, err, "no package of the library drives it")
}

func TestTheDriverLibraryOverHTTP(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	added, err := h.client.AddDrivers(t.Context(), "samples.zip", zipped(t, madeup.WriteINF))
	require.NoError(t, err)
	assert.Len(t, added.Packages, 3)
	assert.Equal(t, []api.DriverSkip{{Path: "broken/wren.inf", Reason: "it has no section [Version]"}}, added.Skipped)
	_, err = h.client.AddDrivers(t.Context(), "modules.zip", zipped(t, madeup.WriteModules))
	require.NoError(t, err)

	for _, c := range []struct {
		search string
		filter map[string]string
		want   []string
	}{
		{"alder gigabit", nil, []string{"aldernet 1.6.2.0", "aldernet 1.4.0.7"}},
		{"", map[string]string{"class": "storage"}, []string{"corvraid 2.0.1.0"}},
		{"", map[string]string{"kind": "modules"}, []string{"corvid_raid 2.0.1"}},
		{"", map[string]string{"device": "fe03:3000"}, []string{"corvid_raid 2.0.1", "corvraid 2.0.1.0"}},
		{"", map[string]string{"device": madeup.AlderNetwork}, []string{"aldernet 1.6.2.0", "aldernet 1.4.0.7"}},
		{"", map[string]string{"device": `VEN_FE01&DEV_1005`}, []string{"aldernet 1.6.2.0", "aldernet 1.4.0.7"}},
		{"1.4.0", nil, []string{"aldernet 1.4.0.7"}},
		{"nothing", nil, nil},
	} {
		page, err := h.client.Drivers(t.Context(), apiclient.List{Search: c.search, Filter: c.filter})
		require.NoError(t, err)
		var got []string
		for _, p := range page.Items {
			got = append(got, p.Label)
		}
		assert.Equal(t, c.want, got, "%q %v", c.search, c.filter)
	}
	p, err := h.client.Driver(t.Context(), "corvraid")
	require.NoError(t, err)
	assert.Equal(t, "Corvid Grätz", p.Provider)
	assert.Equal(t, []string{`PCI\VEN_FE03&DEV_3000`}, p.Models[0].IDs)
	assert.Len(t, p.Files, 2)
	_, err = h.client.Driver(t.Context(), "aldernet")
	assert.ErrorContains(t, err, "use the id")

	for name, bad := range map[string]string{"no archive": "not an archive", "": "PK\x03\x04 but no zip"} {
		_, err := h.client.AddDrivers(t.Context(), name, strings.NewReader(bad))
		assert.ErrorContains(t, err, "archive", name)
	}
	for name, bad := range map[string]api.DriverSet{
		"no rules": {Name: "a", System: "linux", Rules: []api.DriverRule{}}, "a bad name": {Name: "a b", System: "linux", Rules: []api.DriverRule{{Class: "network"}}},
		"none": {Name: "none", System: "linux", Rules: []api.DriverRule{{Class: "network"}}}, "no such class": {Name: "a", System: "linux", Rules: []api.DriverRule{{Class: "net"}}},
	} {
		_, err := h.client.SaveDriverSet(t.Context(), bad)
		assert.Error(t, err, name)
	}
	_, err = h.client.SaveDriverSet(t.Context(), api.DriverSet{Name: "cards", System: "windows", Rules: []api.DriverRule{{Class: "network"}}})
	require.NoError(t, err)
	choice, err := h.client.TryDriverSet(t.Context(), "cards", "", "")
	require.NoError(t, err)
	assert.Len(t, choice, 2)
	_, err = h.client.TryDriverSet(t.Context(), "cards", "Alder*", "")
	assert.ErrorContains(t, err, "no workstation of the model Alder* has shown its devices yet")
	sets, err := h.client.DriverSets(t.Context())
	require.NoError(t, err)
	assert.Len(t, sets.Items, 1)
	require.NoError(t, h.client.RemoveDriverSet(t.Context(), "cards"))
	assert.Error(t, h.client.RemoveDriverSet(t.Context(), "cards"))
}

// checkInWith has a machine's agent check in, with devices by their modaliases.
func checkInWith(t *testing.T, c *apiclient.Client, n int, model string, devices ...string) {
	t.Helper()
	inv := api.Inventory{Maker: "Alder Works", Model: model, Disks: []api.Disk{}, Cards: []api.Card{{Address: address(n).String()}}}
	for _, d := range devices {
		inv.Devices = append(inv.Devices, api.Device{ID: d})
	}
	_, err := c.WithToken("").CheckIn(t.Context(), api.CheckIn{Boot: "boot", Addresses: []string{address(n).String()}, Inventory: inv})
	require.NoError(t, err)
}

// A workstation whose devices are known does not load what few machines need; one that has such a card does, and one that did not
// come up without it, too.
func TestAWorkstationIsSparedWhatItDoesNotNeed(t *testing.T) {
	t.Parallel()
	c, url, _, _ := bootHouse(t, nil)
	ctx := t.Context()
	root := fakeSystem(t)
	require.NoError(t, os.RemoveAll(filepath.Join(root, "lib/modules/6.1.0-test")))
	require.NoError(t, madeup.WriteKernel(root))
	cards := filepath.Join(root, "lib/modules", madeup.Kernel, "kernel/drivers/net/ethernet/brocade")
	require.NoError(t, os.MkdirAll(cards, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(cards, "balenet.ko"), madeup.KernelModule("balenet", "", "alias=pci:v0000FE05d00005000sv*sd*bc*sc*i*"), 0o644))
	b, err := c.MakeBuild(ctx, api.NewBuild{Folders: []string{root}, Kernel: madeup.Kernel, Offer: true})
	require.NoError(t, err)
	require.Equal(t, "rare", b.Layers[1].Name)
	initrd := func(n int) string {
		_, text := fetch(t, url+"/boot/script/efi/n/"+address(n).String()+"/A310")
		_, rest, _ := strings.Cut(text, "initrd (tftp)/")
		name, _, _ := strings.Cut(rest, ";")
		return name
	}
	lean := "1/initrd-" + b.Layers[1].Digest

	assert.Equal(t, "1/initrd", initrd(2), "nobody has seen it")
	checkInWith(t, c, 2, "A310", madeup.AlderNetwork, madeup.AlderDisk)
	assert.Equal(t, lean, initrd(2))
	assert.Equal(t, "1/initrd", initrd(3), "it is of the same model, and may have another card")
	checkInWith(t, c, 3, "A310", madeup.AlderNetwork, "pci:v0000FE05d00005000sv0000FE05sd00000001bc02sc00i00")
	assert.Equal(t, "1/initrd", initrd(3))

	_, all := fetch(t, url+"/boot/files/1/initrd")
	status, less := fetch(t, url+"/boot/files/"+lean)
	assert.Equal(t, http.StatusOK, status)
	assert.Less(t, len(less), len(all)-int(b.Layers[1].Bytes)+4)

	t.Log("# it does not come up without: the next time it gets everything")
	initrd(2) // now the address of this test is its
	fetch(t, url+"/boot/files/"+lean)
	assert.Equal(t, "1/initrd", initrd(2))
	checkInWith(t, c, 2, "A310", madeup.AlderNetwork, madeup.AlderDisk)
	assert.Equal(t, lean, initrd(2))
}

// A build gets its drivers by a set, or for a model, without its other layers being
// made anew.
func TestBuildsWithDrivers(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
	var clock sync.Mutex
	c, url, _, _ := bootHouse(t, func(c *service.Config) {
		c.Now = func() time.Time { clock.Lock(); defer clock.Unlock(); return now }
	})
	ctx := t.Context()
	root := fakeSystem(t)
	require.NoError(t, os.RemoveAll(filepath.Join(root, "lib/modules/6.1.0-test")))
	require.NoError(t, madeup.WriteKernel(root))
	b, err := c.MakeBuild(ctx, api.NewBuild{Folders: []string{root}, Kernel: madeup.Kernel, LeaveOut: []string{"brindlenet"}, Offer: true})
	require.NoError(t, err)
	checkIn := func(n int, model string, devices ...string) { checkInWith(t, c, n, model, devices...) }
	checkIn(2, "A520", madeup.AlderNetwork, madeup.CorvidDisk)
	_, err = c.MakeBuild(ctx, api.NewBuild{Cover: []string{address(2).String()}})
	assert.ErrorContains(t, err, "that the library has drivers for")
	_, err = c.AddDrivers(ctx, "modules.zip", zipped(t, madeup.WriteModules))
	require.NoError(t, err)
	cover, err := c.Coverage(ctx, apiclient.CoverageQuery{Model: "*A520"})
	require.NoError(t, err)
	require.Len(t, cover.Models, 1)
	assert.Equal(t, []string{"its disk controller pci fe03:3000 has no driver in build 1; corvid_raid 2.0.1 would drive it"}, cover.Models[0].LackingEnvironment)

	two, err := c.MakeBuild(ctx, api.NewBuild{Cover: []string{"Alder Works A5*"}})
	require.NoError(t, err)
	assert.Equal(t, 2, two.Number)
	assert.False(t, two.Offered)
	require.Len(t, two.Layers, 3)
	assert.Equal(t, "drivers Alder-Works-A520", two.Layers[1].Name)
	assert.Equal(t, b.Layers[0].Digest, two.Layers[0].Digest)
	cover, err = c.Coverage(ctx, apiclient.CoverageQuery{Build: 2})
	require.NoError(t, err)
	assert.Empty(t, cover.Models[0].LackingEnvironment)

	_, err = c.SaveDriverSet(ctx, api.DriverSet{Name: "corvid", System: "linux", OnDemand: true, Rules: []api.DriverRule{{Package: "corvid*"}}})
	require.NoError(t, err)
	three, err := c.MakeBuild(ctx, api.NewBuild{Drivers: []string{"corvid"}, Base: 1})
	require.NoError(t, err)
	assert.Equal(t, "drivers corvid", three.Layers[1].Name)

	t.Log("# a set on demand adds its layer to what just this model is sent")
	script := func(n int, model string) string {
		_, text := fetch(t, url+"/boot/script/efi/n/"+address(n).String()+model)
		return text
	}
	text := script(2, "")
	name, _, more := strings.Cut(text[strings.Index(text, "initrd (tftp)/")+len("initrd (tftp)/"):], ";")
	require.True(t, more)
	assert.Contains(t, name, "1/initrd+")
	status, composed := fetch(t, url+"/boot/files/"+name)
	assert.Equal(t, http.StatusOK, status)
	_, plain := fetch(t, url+"/boot/files/1/initrd")
	assert.True(t, len(composed) > len(plain) && strings.HasPrefix(composed, plain[:len(plain)/4*4]))
	assert.NotContains(t, script(9, ""), "initrd+")
	assert.Contains(t, script(10, "/A520"), "initrd+", "the firmware told its model")
	assert.NotContains(t, script(10, "/A310"), "initrd+")
	zeros := strings.Repeat("0", 64)
	for _, bad := range []string{"1/initrd+", "1/initrd-", "1/initrd+zz", "1/initrd-zz", "1/initrd-zz+" + zeros, "1/initrdx", "1/initrdx+" + zeros, "1/initrd+" + strings.Repeat("1", 64), "9/" + strings.TrimPrefix(name, "1/")} {
		status, _ := fetch(t, url+"/boot/files/"+bad)
		assert.Equal(t, http.StatusNotFound, status, bad)
	}

	t.Log("# a machine that never called: why, and what would help")
	checkIn(20, "Mini 2", madeup.BrindleNetwork)
	silent := func(n int, model string) api.BootTrail {
		script(n, model)
		status, _ := fetch(t, url+"/boot/files/1/initrd")
		require.Equal(t, http.StatusOK, status)
		var trail api.BootTrail
		look := func() bool {
			s, err := c.Netboot(ctx)
			i := slices.IndexFunc(s.Machines, func(m api.BootTrail) bool { return m.Address == address(n).String() })
			if err != nil || i < 0 {
				return false
			}
			trail = s.Machines[i]
			return trail.Steps[len(trail.Steps)-1].Step == "initrd"
		}
		require.Eventually(t, look, 5*time.Minute, 10*time.Millisecond) // it is noted when the last byte is gone
		clock.Lock()
		now = now.Add(5 * time.Minute)
		clock.Unlock()
		require.True(t, look())
		return trail
	}
	trail := silent(21, "/Mini_2")
	assert.Equal(t, "it received the boot environment, and its agent has not checked in: its network card pci fe02:1500 has no driver in build 1, and no package of the library covers it (Alder Works Mini 2, by those of its model that are known)", trail.Stuck)
	assert.Empty(t, trail.Cover)
	_, err = c.AddDrivers(ctx, "kernel.zip", zipped(t, madeup.WriteKernel))
	require.NoError(t, err)
	trail = silent(20, "")
	assert.Contains(t, trail.Stuck, "its network card pci fe02:1500 has no driver in build 1; package kernel "+madeup.Kernel)
	assert.Contains(t, trail.Stuck, "by its last inventory")
	assert.Equal(t, address(20).String(), trail.Cover)
	four, err := c.MakeBuild(ctx, api.NewBuild{Cover: []string{trail.Cover}, Offer: true})
	require.NoError(t, err)
	assert.Equal(t, []string{"kernel " + madeup.Kernel}, four.Layers[1].Packages)
	assert.True(t, four.Offered)
	trail = silent(21, "/Mini_2")
	assert.Contains(t, trail.Stuck, "Most likely this build has no driver for its network card", "of that build nothing more is known")

	t.Log("# an agent asks for what its environment lacks")
	_, err = c.WithToken("").Lacks(ctx, api.Lacks{Kernel: madeup.Kernel, Modules: []string{}, Devices: []api.Device{}})
	assert.Error(t, err, "it has to check in first")
	in, err := c.WithToken("").CheckIn(ctx, api.CheckIn{Boot: "boot", Addresses: []string{address(2).String()}, Inventory: api.Inventory{Disks: []api.Disk{}, Cards: []api.Card{}}})
	require.NoError(t, err)
	_, err = c.WithToken(in.Pass).Lacks(ctx, api.Lacks{Kernel: madeup.Kernel, Modules: []string{}, Devices: []api.Device{{ID: madeup.CorvidDisk}}})
	assert.ErrorContains(t, err, "admit it first")
	_, err = c.Admit(ctx, address(2).String(), api.Admission{Name: "seed-02"})
	require.NoError(t, err)
	put, err := c.WithToken(in.Pass).Lacks(ctx, api.Lacks{Kernel: madeup.Kernel, Modules: []string{}, Devices: []api.Device{{ID: madeup.CorvidDisk}}})
	require.NoError(t, err)
	require.Len(t, put.Packages, 2)
	assert.Equal(t, "lib/modules/"+madeup.Kernel+"/updates/jugate/corvid_lib.ko", put.Packages[0].Files[0].To, "what is needed comes first")
	file, err := c.WithToken(in.Pass).DriverFile(ctx, put.Packages[1].ID, put.Packages[1].Files[0].Path)
	require.NoError(t, err)
	defer file.Close()
	content, err := io.ReadAll(file)
	require.NoError(t, err)
	assert.Contains(t, string(content), "corvid_raid")
}

// An image whose system nobody can look into holds nobody back, but takes no drivers.
func TestDriversForASystemThatIsNotKnown(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	disk := gold(t) // files, but no kernel
	h.model(1, disk.Path, "A310", "desk-gold", madeup.AlderNetwork)
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	h.model(2, blank(t, disk.Size), "A520", "seed-01", madeup.CorvidDisk)
	_, err := h.client.AddDrivers(t.Context(), "corvid.zip", zipped(t, madeup.WriteModules))
	require.NoError(t, err)
	_, err = h.client.SaveDriverSet(t.Context(), api.DriverSet{Name: "corvid", System: "linux", Rules: []api.DriverRule{{Package: "corvid*"}}})
	require.NoError(t, err)
	cover, err := h.client.Coverage(t.Context(), apiclient.CoverageQuery{Image: "garden-desk", To: []string{"seed-01"}})
	require.NoError(t, err)
	assert.Equal(t, "there is no operating system on it that is known here", cover.System)
	assert.EqualValues(t, "unknown", cover.Models[0].Devices[0].Delivered.State)
	order := api.NewDelivery{Image: "garden-desk", To: []string{"seed-01"}, DriverOrder: api.DriverOrder{Drivers: []string{"corvid"}}}
	_, err = h.client.Deliver(t.Context(), order)
	assert.ErrorContains(t, err, "drivers cannot be installed in garden-desk@1: there is no operating system on it")
	order.Drivers = nil
	d := h.deliver(order)
	assert.EqualValues(t, "delivered", h.receipts(d.ID)["seed-01"].Outcome)
	_, err = h.client.InstallDrivers(t.Context(), api.InstallDrivers{To: []string{"seed-01"}, Drivers: []string{"corvid"}})
	assert.ErrorContains(t, err, "drivers cannot be put into garden-desk@1")
}

// Workstations that join a delivery later are held against the same.
func TestDriversOfThoseWhoJoinLater(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	disk := gardenGold(t)
	h.model(1, disk.Path, "A310", "desk-gold", madeup.AlderNetwork)
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	h.model(2, blank(t, disk.Size), "A310", "herb-01", madeup.AlderNetwork)
	h.model(3, blank(t, disk.Size), "A520", "seed-01", madeup.AlderNetwork, madeup.CorvidDisk)
	h.model(4, blank(t, disk.Size), "A310", "herb-02", madeup.AlderNetwork)
	d, err := h.client.Deliver(t.Context(), api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}, Start: "at:2040-01-01T00:00:00Z"})
	require.NoError(t, err)
	_, err = h.client.ExtendDelivery(t.Context(), d.ID, api.MoreTargets{To: []string{"seed-01"}})
	assert.ErrorContains(t, err, "seed-01 (Alder Works A520): its disk controller pci fe03:3000 has no driver")
	_, err = h.client.ExtendDelivery(t.Context(), d.ID, api.MoreTargets{To: []string{"herb-02"}})
	assert.NoError(t, err)
	_, err = h.client.StopDelivery(t.Context(), d.ID)
	assert.NoError(t, err)
}
