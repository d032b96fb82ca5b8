package lab_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/insomniacslk/dhcp/dhcpv4/nclient4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"jugate/api"
	"jugate/apiclient"
	"jugate/lab"
)

// The service's side of network boot with real packets and no machines.

// fakeSystem is what a build is made of: no kernel that would start, but files.
func fakeSystem(t *testing.T) string {
	root := t.TempDir()
	for name, size := range map[string]int{"boot/vmlinuz-6.1.0-test": 2 << 20, "lib/modules/6.1.0-test/kernel/none": 0,
		"usr/lib/shim/shimx64.efi.signed": 70_000, "usr/lib/grub/x86_64-efi-signed/grubnetx64.efi.signed": 5000} {
		b := make([]byte, size)
		for i := range b {
			b[i] = byte(i * 31 >> 5)
		}
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, name), b, 0o644))
	}
	return root
}

// startDesk is a service with an offered build, and hosts around it.
func startDesk(t *testing.T, hosts []string, args ...string) (r *room, system string) {
	bin, err := programs()
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 8*time.Minute)
	t.Cleanup(cancel)
	n := network(t, hosts...)
	r = &room{t: t, ctx: ctx, net: n, desk: n.Host("desk"), bin: bin, data: filepath.Join(t.TempDir(), "data"), keep: t.TempDir()}
	r.serve(args...)
	system = fakeSystem(t)
	r.jugate(nil, "environment", "build", "--from", system, "--offer")
	return r, system
}

// ask has a host ask for an address as firmware does.
func ask(ctx context.Context, h *lab.Host, hw string) (*dhcpv4.DHCPv4, error) {
	address, err := net.ParseMAC(hw)
	if err != nil {
		return nil, err
	}
	var offer *dhcpv4.DHCPv4
	err = h.Inside(func() error {
		c, err := nclient4.New(lab.Interface, nclient4.WithHWAddr(address), nclient4.WithTimeout(2*time.Second), nclient4.WithRetry(1))
		if err != nil {
			return err
		}
		defer c.Close()
		lease, err := c.Request(ctx, dhcpv4.WithOption(dhcpv4.OptClassIdentifier("PXEClient:Arch:00007:UNDI:003016")),
			dhcpv4.WithGeneric(dhcpv4.OptionClientSystemArchitectureType, []byte{0, 7}))
		if err == nil {
			offer = lease.ACK
		}
		return err
	})
	return offer, err
}

func TestAPoolThatRunsOutAndARogueServer(t *testing.T) {
	r, _ := startDesk(t, []string{"a", "b"}, "--netboot", "eth0=whole", "--pool", "192.0.2.3-192.0.2.6/24")
	t.Log("# a second service that would give addresses, too, does not start")
	second := r.net.Host("b").Command(r.ctx, filepath.Join(r.bin, "jugate"), "serve", "--data", filepath.Join(t.TempDir(), "second"), "--listen", "192.0.2.3:7460", "--netboot", "eth0=whole", "--pool", "192.0.2.20-192.0.2.30/24")
	out, err := second.CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(out), "192.0.2.1 gives addresses there already")

	t.Log("# 192.0.2.3 is in use by somebody who did not get it here, 4 is kept back for the second service")
	one, err := ask(r.ctx, r.net.Host("a"), "00:00:5e:00:53:61")
	require.NoError(t, err)
	assert.Equal(t, "192.0.2.5", one.YourIPAddr.String())
	assert.Equal(t, "shimx64.efi", one.BootFileNameOption())
	two, err := ask(r.ctx, r.net.Host("b"), "00:00:5e:00:53:62")
	require.NoError(t, err)
	assert.Equal(t, "192.0.2.6", two.YourIPAddr.String())
	_, err = ask(r.ctx, r.net.Host("a"), "00:00:5e:00:53:63")
	assert.Error(t, err)
	var status api.NetbootStatus
	r.jugate(&status, "netboot", "status", "00:00:5e:00:53:63")
	require.NotEmpty(t, status.Machines)
	assert.Contains(t, status.Machines[0].Steps[0].Detail, "all addresses of the pool are in use")
	assert.Equal(t, 0, status.Links[0].Pools[0].Left)

	t.Log("# who has had an address gets it again, from wherever it asks")
	again, err := ask(r.ctx, r.net.Host("b"), "00:00:5e:00:53:61")
	require.NoError(t, err)
	assert.Equal(t, "192.0.2.5", again.YourIPAddr.String())
}

func TestFiftyClientsAtOnce(t *testing.T) {
	curl, err := exec.LookPath("curl")
	require.NoError(t, err)
	r, system := startDesk(t, []string{"a"}, "--netboot", "eth0=off")
	want := filepath.Join(system, "boot/vmlinuz-6.1.0-test")
	dir := t.TempDir()
	group, ctx := errgroup.WithContext(r.ctx)
	for i := range 50 {
		group.Go(func() error {
			got := filepath.Join(dir, fmt.Sprint(i))
			url := "tftp://192.0.2.1/1/vmlinuz"
			if i%2 == 1 {
				url = "http://192.0.2.1:7460/boot/files/1/vmlinuz"
			}
			if out, err := r.net.Host("a").Command(ctx, curl, "-sS", "--tftp-blksize", "1428", "-o", got, url).CombinedOutput(); err != nil {
				return fmt.Errorf("%s: %w: %s", url, err, out)
			}
			return exec.CommandContext(ctx, "cmp", want, got).Run()
		})
	}
	require.NoError(t, group.Wait())
	for url, complaint := range map[string]string{
		"tftp://192.0.2.1/../admin.token": "", "tftp://192.0.2.1/99/vmlinuz": "", "tftp://192.0.2.1/none": "", "tftp://192.0.2.1/1/parts": "",
		"http://192.0.2.1:7460/boot/files/99/vmlinuz": "build 99 is not there any more", "http://192.0.2.1:7460/boot/files/..%2fadmin.token": "",
	} {
		out, err := r.net.Host("a").Command(r.ctx, curl, "-sS", "--fail-with-body", "--path-as-is", url).CombinedOutput()
		assert.Error(t, err, "%s: %s", url, out)
		assert.Contains(t, string(out), complaint)
		assert.NotContains(t, string(out), strings.TrimSpace(read(t, filepath.Join(r.data, "admin.token"))))
	}
	upload := r.net.Host("a").Command(r.ctx, curl, "-sS", "-T", want, "tftp://192.0.2.1/vmlinuz")
	out, err := upload.CombinedOutput()
	assert.Error(t, err, "%s", out)
}

func read(t *testing.T, path string) string {
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	return string(b)
}

// get fetches a URL from a host.
func get(t *testing.T, r *room, host, url string) string {
	t.Helper()
	c := http.Client{Transport: &http.Transport{DialContext: r.net.Host(host).Dial, DisableKeepAlives: true}}
	resp, err := c.Get(url)
	require.NoError(t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return string(b)
}

// between is what stands between two texts.
func between(text, from, to string) string {
	_, rest, _ := strings.Cut(text, from)
	in, _, _ := strings.Cut(rest, to)
	return in
}

func TestTicketsAndWhatAMachineBoots(t *testing.T) {
	r, _ := startDesk(t, []string{"a"}, "--netboot", "eth0=off")
	const herb, other = "00:00:5e:00:53:11", "00:00:5e:00:53:12"
	script := func(hw string) string { return get(t, r, "a", "http://192.0.2.1:7460/boot/script/efi/y/"+hw) }
	c := r.client("a")
	checkIn := func(hw, ticket, boot, serial string) error {
		_, err := c.CheckIn(r.ctx, api.CheckIn{AgentVersion: "test", Addresses: []string{hw}, Ticket: ticket, Boot: boot,
			Inventory: api.Inventory{Serial: serial, Disks: []api.Disk{}, Cards: []api.Card{{Address: hw}}}})
		return err
	}

	t.Log("# an unknown machine boots the environment and waits there")
	text := script(herb)
	assert.Contains(t, text, "linux (http,192.0.2.1:7460)/boot/files/1/vmlinuz")
	assert.Contains(t, text, "jugate.service=https://192.0.2.1:7460")
	ticket := between(text, "jugate.ticket=", "\n")
	ticket = strings.Fields(strings.TrimSuffix(ticket, "; then"))[0]
	ticket = strings.TrimSuffix(ticket, ";")
	require.Len(t, ticket, 32)
	assert.ErrorContains(t, checkIn(herb, "", "b1", "S1"), "this one has neither")
	assert.ErrorContains(t, checkIn(other, ticket, "b1", "S1"), "not one of this machine's hardware addresses")
	assert.ErrorContains(t, checkIn(herb, "guessed", "b1", "S1"), "not known")
	require.NoError(t, checkIn(herb, ticket, "b1", "S1"))
	require.NoError(t, checkIn(herb, ticket, "b1", "S1"), "the service was restarted: the same boot")
	assert.ErrorContains(t, checkIn(herb, ticket, "b2", "S1"), "another boot has used it")

	t.Log("# a second machine with the same hardware address")
	next := strings.TrimSuffix(strings.Fields(between(script(herb), "jugate.ticket=", "\n"))[0], ";")
	assert.ErrorContains(t, checkIn(herb, next, "b3", "S2"), "a machine with serial number S1; this one has serial number S2")

	t.Log("# admitted and with nothing to do it starts from its disk; with an errand it does not")
	r.jugate(nil, "group", "add", "herbarium")
	r.jugate(nil, "workstation", "admit", herb, "herb-01", "--group", "herbarium")
	assert.NotContains(t, script(herb), "vmlinuz")
	r.jugate(nil, "capture", "herb-01", "--as", "garden-desk", "--no-wait")
	assert.Contains(t, script(herb), "an errand waits")
	assert.Contains(t, script(herb), "/boot/files/1/vmlinuz")

	t.Log("# another build is offered, and a group stays with the first")
	r.jugate(nil, "environment", "build", "--from", fakeSystem(t), "--offer", "--note", "again")
	assert.Contains(t, script(herb), "/boot/files/2/vmlinuz")
	r.jugate(nil, "environment", "pin", "herbarium", "1", "--group")
	assert.Contains(t, script(herb), "/boot/files/1/vmlinuz")
	r.jugate(nil, "environment", "pin", "herb-01", "2")
	assert.Contains(t, script(herb), "/boot/files/2/vmlinuz", "the workstation's own pin goes before")
	r.jugate(nil, "environment", "pin", "herb-01", "0")

}

// client is a client without a token, on a machine of the room.
func (r *room) client(host string) *apiclient.Client { return r.clientOn(r.net.Host(host)) }

func (r *room) clientOn(host *lab.Host) *apiclient.Client {
	r.t.Helper()
	c, err := apiclient.New("https://192.0.2.1:7460", "")
	require.NoError(r.t, err)
	c, err = c.Trusting([]byte(read(r.t, filepath.Join(r.data, "authority.pem"))))
	require.NoError(r.t, err)
	t := c.HTTP().Transport.(*http.Transport)
	t.DialContext, t.DisableKeepAlives = host.Dial, true
	return c
}

func TestWhoeverSleepsIsWoken(t *testing.T) {
	r, _ := startDesk(t, []string{"a"}, "--netboot", "eth0=off", "--tickets", "no")
	c := r.client("a")
	_, err := c.CheckIn(r.ctx, api.CheckIn{Boot: "boot", AgentVersion: "test", Addresses: []string{"00:00:5e:00:53:11"}, Inventory: api.Inventory{Disks: []api.Disk{}, Cards: []api.Card{}}})
	require.NoError(t, err)
	r.jugate(nil, "workstation", "admit", "00:00:5e:00:53:11", "herb-01")
	var in net.PacketConn
	require.NoError(t, r.net.Host("a").Inside(func() (err error) {
		in, err = net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.MustParseAddrPort("0.0.0.0:9")))
		return err
	}))
	defer in.Close()
	r.jugate(nil, "workstation", "wake", "herb-01")
	require.NoError(t, in.SetReadDeadline(time.Now().Add(10*time.Second)))
	b := make([]byte, 200)
	n, _, err := in.ReadFrom(b)
	require.NoError(t, err)
	assert.Equal(t, 102, n)
	assert.Equal(t, strings.Repeat("\xff", 6)+strings.Repeat("\x00\x00\x5e\x00\x53\x11", 16), string(b[:n]))
}
