package service_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"math/big"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"jugate/api"
	"jugate/boot/boottest"
	"jugate/core/hwaddr"
	"jugate/demo/golddisk"
	"jugate/demo/madeup"
	"jugate/service"
	"jugate/sim"
)

// ward is a service that serves network boot, with a clock that can be set ahead.
type ward struct {
	*house
	ahead atomic.Int64 // nanoseconds
}

func newWard(t *testing.T, change func(c *service.Config)) *ward {
	w := &ward{}
	data, file := t.TempDir(), filepath.Join(t.TempDir(), "agent")
	settle(t, data)
	require.NoError(t, os.WriteFile(file, []byte("the agent"), 0o755))
	config := service.Config{Data: data, Multicast: loopback, BuildFrom: []string{os.TempDir()}, Netboot: service.Netboot{Agent: file},
		Now: func() time.Time { return time.Now().Add(time.Duration(w.ahead.Load())) }}
	if change != nil {
		change(&config)
	}
	s, err := service.Open(t.Context(), config)
	require.NoError(t, err)
	w.house = serve(t, s, data, "127.0.0.1:0")
	return w
}

// later has two minutes go by: who does not call is off then.
func (w *ward) later() { w.ahead.Add(int64(2 * time.Minute)) }

// ails asks the doctor of a workstation until a fault is found, and returns what the doctor would do.
func (w *ward) ails(workstation, state, what string) (cure string) {
	w.t.Helper()
	var all api.Page[api.Diagnosis]
	found := assert.Eventually(w.t, func() (found bool) {
		var err error
		all, err = w.client.Diagnose(w.t.Context(), workstation)
		require.NoError(w.t, err)
		for _, one := range all.Items {
			if one.State == state && strings.Contains(one.What, what) {
				cure, found = one.Cure, true
			}
		}
		return found
	}, 5*time.Minute, 20*time.Millisecond)
	require.True(w.t, found, "%s in: %v", what, all.Items)
	return cure
}

// isWell waits until the doctor finds nothing.
func (w *ward) isWell(workstation string) {
	w.t.Helper()
	w.eventually(func() bool {
		all, err := w.client.Diagnose(w.t.Context(), workstation)
		require.NoError(w.t, err)
		for _, one := range all.Items {
			if one.State != api.Good {
				return false
			}
		}
		return true
	})
}

// What keeps workstations from coming up is brought about; the doctor finds it, and after what the doctor says was done, no more.
func TestTheDoctorFindsWhatWorkstationsSufferFrom(t *testing.T) {
	t.Parallel()
	boottest.Ports(t)
	h := newWard(t, nil)
	c, ctx := h.client, t.Context()
	url := strings.Replace(h.url, "https://", "http://", 1)
	does := func(cure, contains string) { t.Helper(); assert.Contains(t, cure, contains) }

	t.Log("# nobody has seen it, and nothing is served")
	stranger := address(2).String()
	does(h.ails(stranger, api.Warning, "nobody has admitted it; it waits on screen"), "jugate workstation admit "+stranger)
	does(h.ails(stranger, api.Bad, "served on no interface"), "jugate config set netboot")
	_, err := c.SetSetting(ctx, "netboot", []string{"lo=off"})
	require.NoError(t, err)
	does(h.ails(stranger, api.Bad, "no build of the boot environment is offered"), "jugate environment build --offer")
	root := fakeSystem(t)
	require.NoError(t, os.RemoveAll(filepath.Join(root, "lib/modules/6.1.0-test")))
	require.NoError(t, madeup.WriteKernel(root))
	_, err = c.MakeBuild(ctx, api.NewBuild{Folders: []string{root}, Kernel: madeup.Kernel, LeaveOut: []string{"brindlenet"}, Offer: true})
	require.NoError(t, err)
	does(h.ails(stranger, api.Bad, "nothing was heard of it since the service was started"), "choose the network card")

	t.Log("# machines that nobody has admitted get no answer")
	_, err = c.SetSetting(ctx, "unknown", []string{"ignore"})
	require.NoError(t, err)
	does(h.ails(stranger, api.Bad, "machines that nobody has admitted get no answer"), "jugate config set unknown hold")
	_, err = c.SetSetting(ctx, "unknown", []string{"hold"})
	require.NoError(t, err)

	t.Log("# it is on, is turned away, comes again, and is admitted")
	disk := gold(t)
	herb := simulated(2, disk.Path)
	stop := h.startMachine(herb, "")
	does(h.ails(stranger, api.Warning, "it is a newcomer, and waits to be admitted"), "jugate workstation admit")
	require.NoError(t, c.Refuse(ctx, api.NewRefusal{Machine: stranger}))
	does(h.ails(stranger, api.Bad, "turned it away, so it gets no answer"), "jugate workstation welcome "+stranger)
	require.NoError(t, c.EndRefusal(ctx, stranger))
	stop()
	h.later()
	stop = h.startMachine(herb, "herb-02")
	h.isWell("herb-02")

	t.Log("# a card that nobody has accepted")
	stop()
	herb.Addresses = append(herb.Addresses, address(0x22))
	stop = h.startMachine(herb, "")
	does(h.ails("herb-02", api.Warning, "a card that nobody has accepted: "+address(0x22).String()), "jugate card accept herb-02 "+address(0x22).String())
	require.NoError(t, c.AcceptCard(ctx, "herb-02", address(0x22).String()))
	h.isWell("herb-02")

	t.Log("# a disk that cannot be read everywhere, until it is another one")
	herb.Become(func() { herb.BadBytes = [2]int64{5 * golddisk.MiB, 5*golddisk.MiB + 512} })
	check := func() {
		errands, err := c.Check(ctx, api.NewCheck{To: []string{"herb-02"}, CheckOptions: api.CheckOptions{Surface: "whole"}})
		require.NoError(t, err)
		h.errandEnded(errands[0].ID)
	}
	check()
	does(h.ails("herb-02", api.Bad, "its last check found it unfit: 512 B in one place cannot be read"), "jugate check show 1")
	herb.Become(func() { herb.BadBytes = [2]int64{} })
	check()
	h.isWell("herb-02")

	t.Log("# half a copy of an image")
	require.EqualValues(t, "done", h.capture("herb-02", "garden-desk").State)
	other := simulated(3, blank(t, disk.Size))
	stopOther := h.startMachine(other, "herb-03")
	d, err := c.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-03"}, Rate: 4_000_000})
	require.NoError(t, err)
	h.eventually(func() bool {
		d, err = c.Delivery(ctx, d.ID)
		require.NoError(t, err)
		return d.Members[0].Multicast+d.Members[0].Unicast > 0
	})
	_, err = c.StopDelivery(ctx, d.ID)
	require.NoError(t, err)
	does(h.ails("herb-03", api.Bad, "a copy of garden-desk@1 was begun and is not whole"), "jugate deliver garden-desk@1 --to herb-03")
	h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-03"}})
	h.isWell("herb-03")

	t.Log("# it is off, and an errand waits; the key of its model is told")
	stopOther()
	h.later()
	e, err := c.Capture(ctx, api.NewCapture{Workstation: "herb-03", Image: "herbarium-desk"})
	require.NoError(t, err)
	does(h.ails("herb-03", api.Warning, fmt.Sprintf("capture %d waits for it", e.ID)), "jugate workstation wake herb-03")
	_, err = c.StopErrand(ctx, e.ID)
	require.NoError(t, err)
	key := "F9"
	_, err = c.SetModel(ctx, api.NewModel{Model: "Alder Works A310", BootKey: key})
	require.NoError(t, err)
	does(h.ails("herb-03", api.Bad, "nothing was heard of it since the service was started"), "press "+key+" for the boot menu")

	t.Log("# it called by an outpost last")
	_, err = c.AddOutpost(ctx, api.NewOutpost{Name: "alpine"})
	require.NoError(t, err)
	_, err = c.SetSite(ctx, "herb-03", "alpine")
	require.NoError(t, err)
	does(h.ails("herb-03", api.Warning, "it called by the outpost alpine last"), "jugate outpost show alpine")
	_, err = c.SetSite(ctx, "herb-03", "")
	require.NoError(t, err)
	h.startMachine(other, "")
	h.isWell("herb-03")

	t.Log("# it is retired")
	stop()
	_, err = c.Retire(ctx, "herb-02")
	require.NoError(t, err)
	does(h.ails("herb-02", api.Warning, "it is retired"), "jugate workstation admit herb-02")

	boots := func(n int, model, file, step string) {
		t.Helper()
		status, _ := fetch(t, url+"/boot/script/efi/n/"+address(n).String()+model)
		require.Equal(t, http.StatusOK, status)
		status, _ = fetch(t, url+"/boot/files/1/"+file)
		require.Equal(t, http.StatusOK, status)
		h.eventually(func() bool { // it is noted when the last byte is gone
			s, err := c.Netboot(ctx)
			require.NoError(t, err)
			last := s.Machines[0]
			return last.Address == address(n).String() && last.Steps[len(last.Steps)-1].Step == step
		})
		h.later()
	}
	t.Log("# it begins to load the kernel, and nothing more is heard of it")
	boots(4, "", "vmlinuz", "kernel")
	does(h.ails(address(4).String(), api.Bad, "it began to load the kernel 2 minutes ago"), "jugate netboot status "+address(4).String())

	t.Log("# its network card has no driver in what it booted, and then it has")
	mini := &sim.Workstation{Addresses: []hwaddr.Address{address(5)}, Maker: "Alder Works", Model: "Mini 2", Interface: "lo", Devices: []string{madeup.BrindleNetwork}}
	stop = h.startMachine(mini, "mini-05")
	stop()
	_, err = c.AddDrivers(ctx, "kernel.zip", zipped(t, madeup.WriteKernel))
	require.NoError(t, err)
	boots(5, "/Mini_2", "initrd", "initrd")
	does(h.ails("mini-05", api.Bad, "its network card pci fe02:1500 has no driver in build 1"), "jugate environment build --cover "+address(5).String()+" --offer")
	_, err = c.MakeBuild(ctx, api.NewBuild{Cover: []string{address(5).String()}, Offer: true})
	require.NoError(t, err)
	h.startMachine(mini, "")
	h.isWell("mini-05")
}

// What is wrong with a service is brought about, found, and found no more when it was set right.
func TestTheDoctorFindsWhatTheServiceSuffersFrom(t *testing.T) {
	t.Parallel()
	boottest.Ports(t)
	ends := time.Now().AddDate(0, 0, 100)
	h := newWard(t, func(c *service.Config) { c.Names.Certificate, c.Names.Key = ownCertificate(t, ends) })
	c, ctx := h.client, t.Context()
	does := func(cure, contains string) { t.Helper(); assert.Contains(t, cure, contains) }
	gone := func(what string) {
		t.Helper()
		all, err := c.Diagnose(ctx, "")
		require.NoError(t, err)
		for _, one := range all.Items {
			assert.NotContains(t, one.What, what)
		}
	}
	const nothing, people, images, build = "it is answered on no interface", "nobody can sign in by name", "no image was captured or imported yet", "no build is offered"
	does(h.ails("", api.Warning, nothing), "jugate config set netboot")
	does(h.ails("", api.Warning, people), "jugate person add")
	does(h.ails("", api.Warning, images), "jugate capture")
	does(h.ails("", api.Warning, build), "jugate environment build --offer")
	does(h.ails("", api.Warning, "is reached from this machine alone"), "jugate setup")

	_, err := c.MakeBuild(ctx, api.NewBuild{Folders: []string{fakeSystem(t)}, Offer: true})
	require.NoError(t, err)
	gone(build)
	does(h.ails("", api.Warning, "no BIOS"), "jugate environment build --offer")
	h.person("ines", everything("administrator"))
	gone(people)
	disk := gold(t)
	h.start(1, disk.Path, 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	gone(images)
	_, err = c.SetSetting(ctx, "netboot", []string{"lo=off"})
	require.NoError(t, err)
	gone(nothing)

	t.Log("# a store's folder is gone, and then it is there again")
	shelf := filepath.Join(t.TempDir(), "shelf")
	require.NoError(t, os.Mkdir(shelf, 0o700))
	_, err = c.AddStore(ctx, api.NewStore{Name: "shelf", Place: shelf})
	require.NoError(t, err)
	does(h.ails("", api.Warning, "none are made by themselves"), "jugate backup schedule")
	_, err = c.SetBackupSchedule(ctx, api.BackupSchedule{Store: "shelf", At: "02:00", Keep: 3})
	require.NoError(t, err)
	gone("none are made by themselves")
	require.NoError(t, os.Rename(shelf, shelf+"-gone"))
	_, err = c.RestartPart(ctx, "store shelf")
	require.ErrorContains(t, err, "does not exist")
	does(h.ails("", api.Bad, "it does not answer: "), "until it does")
	require.NoError(t, os.Rename(shelf+"-gone", shelf))
	_, err = c.RestartPart(ctx, "store shelf")
	require.NoError(t, err)
	gone("it does not answer")

	t.Log("# nobody takes what a rule sends")
	_, err = c.SetNotificationRule(ctx, "desk", api.NewNotificationRule{Events: []string{"newcomer.seen"}, Webhook: "https://127.0.0.1:1/hook"})
	require.NoError(t, err)
	h.called(7, "A310")
	does(h.ails("", api.Warning, "refused"), "try the rule")
	require.NoError(t, c.RemoveNotificationRule(ctx, "desk"))
	gone("refused")

	t.Log("# an outpost has not joined")
	_, err = c.AddOutpost(ctx, api.NewOutpost{Name: "alpine"})
	require.NoError(t, err)
	does(h.ails("", api.Warning, "it has not joined yet"), "start jugate-outpost there with its code")

	t.Log("# the network carries no multicast")
	h.start(2, blank(t, disk.Size), 1, "herb-02")
	d, err := c.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-02"}, Rate: 2_000_000})
	require.NoError(t, err)
	does(h.ails("", api.Warning, "1 delivery goes to each workstation alone: the network carries no multicast"), "IGMP snooping")
	_, err = c.StopDelivery(ctx, d.ID)
	require.NoError(t, err)
	h.eventually(func() bool {
		d, err = c.Delivery(ctx, d.ID)
		return err == nil && d.Ended != nil
	})
	gone("carries no multicast")

	t.Log("# the certificate that the desk has given ends soon, and ends")
	gone("it ends ")
	h.ahead.Add(int64(90 * 24 * time.Hour))
	does(h.ails("", api.Warning, "it ends "+ends.UTC().Format(time.DateOnly)), "get another one from who issued it")
	h.ahead.Add(int64(11 * 24 * time.Hour))
	does(h.ails("", api.Bad, "it ended "), "get another one from who issued it")
}

// The disk of the data folder has little room, or none.
func TestTheDoctorFindsADiskThatIsFull(t *testing.T) {
	t.Parallel()
	var fs unix.Statfs_t
	require.NoError(t, unix.Statfs(t.TempDir(), &fs))
	free := int64(fs.Bavail) * fs.Bsize
	for state, keep := range map[string]int64{api.Warning: free / 2, api.Bad: 2 * free, api.Good: free / 100} {
		h := newWard(t, func(c *service.Config) { c.KeepFree = keep })
		cure := h.ails("", state, " are free")
		assert.Equal(t, state != api.Good, strings.Contains(cure, "prune versions that nobody needs"), state)
		h.stop()
	}
}

// ownCertificate writes one that somebody else has issued.
func ownCertificate(t *testing.T, ends time.Time) (certificate, key string) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(1), DNSNames: []string{"jugate.fennholt.example"}, NotBefore: ends.AddDate(-1, 0, 0), NotAfter: ends}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &private.PublicKey, private)
	require.NoError(t, err)
	pkcs8, err := x509.MarshalPKCS8PrivateKey(private)
	require.NoError(t, err)
	certificate, key = filepath.Join(t.TempDir(), "own.pem"), filepath.Join(t.TempDir(), "own.key")
	require.NoError(t, os.WriteFile(certificate, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: pkcs8}), 0o600))
	return certificate, key
}
