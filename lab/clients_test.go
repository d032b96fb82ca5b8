package lab_test

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"jugate/lab"
)

// Debian's clients judge what the service's DHCP and TFTP servers say.

// client runs a program in a host, and returns what it says.
func client(t *testing.T, r *room, argv ...string) string {
	t.Helper()
	path, err := exec.LookPath(argv[0])
	if err != nil && os.Getenv("JUGATE_LAB_ROOT") == "" {
		t.Skipf("%s is not here; make lab installs it", argv[0])
	}
	require.NoError(t, err)
	out, err := r.net.Host("a").Command(r.ctx, path, argv[1:]...).CombinedOutput()
	require.NoError(t, err, "%v: %s", argv, out)
	return string(out)
}

func TestDHCPClientsOfDebian(t *testing.T) {
	r, _ := startDesk(t, []string{"a"}, "--netboot", "eth0=whole", "--pool", "192.0.2.100-192.0.2.110/24")
	dir := t.TempDir()
	bound := filepath.Join(dir, "bound") // what the client would set, which it may not here
	script := filepath.Join(dir, "script")
	require.NoError(t, os.WriteFile(script, []byte(fmt.Sprintf("#!/bin/sh\necho \"${reason:-$1} ${new_ip_address:-$ip} ${new_subnet_mask:-$subnet} ${new_dhcp_server_identifier:-$serverid}\" >> %s\n", bound)), 0o755))
	said := func() (lines []string) {
		defer os.Remove(bound)
		for line := range strings.Lines(read(t, bound)) {
			lines = append(lines, strings.Join(strings.Fields(line), " "))
		}
		return lines
	}
	pool := netip.MustParsePrefix("192.0.2.96/28")
	leases, pid := filepath.Join(dir, "leases"), filepath.Join(dir, "pid")
	require.NoError(t, unix.Mkfifo(pid, 0o600)) // a pipe: the client writes its number only after what was started has ended
	pids, err := os.OpenFile(pid, os.O_RDWR, 0)
	require.NoError(t, err)
	defer pids.Close()
	numbers := bufio.NewScanner(pids)
	// asks returns what the client says of its address; it is killed then, as when the power goes, and gives nothing back.
	asks := func() string {
		client(t, r, "dhclient", "-4", "-1", "-sf", script, "-lf", leases, "-pf", pid, lab.Interface)
		require.True(t, numbers.Scan())
		number, err := strconv.Atoi(numbers.Text())
		require.NoError(t, err)
		require.NoError(t, unix.Kill(number, unix.SIGKILL))
		lines := said()
		return lines[len(lines)-1]
	}
	givesBack := func() {
		client(t, r, "dhclient", "-4", "-r", "-sf", script, "-lf", leases, "-pf", filepath.Join(dir, "none"), lab.Interface)
	}

	t.Log("# udhcpc takes an address, and gives it back")
	client(t, r, "busybox", "udhcpc", "-i", lab.Interface, "-f", "-n", "-q", "-R", "-s", script)
	lines := said()
	got := strings.Fields(lines[len(lines)-2])
	if lines[len(lines)-1][:5] == "bound" {
		got = strings.Fields(lines[len(lines)-1])
	}
	require.Equal(t, "bound", got[0], "%q", lines)
	assert.True(t, pool.Contains(netip.MustParseAddr(got[1])))
	assert.Equal(t, []string{"255.255.255.0", "192.0.2.1"}, got[2:])

	t.Log("# dhclient, on the same card, gets the same; after a restart it asks for it again; then it gives it back")
	assert.Equal(t, "BOUND "+got[1]+" 255.255.255.0 192.0.2.1", asks())
	assert.Equal(t, "REBOOT "+got[1]+" 255.255.255.0 192.0.2.1", asks())
	givesBack()

	t.Log("# one that comes from elsewhere with another server's address is not moved, and hears nothing of it")
	require.NoError(t, os.WriteFile(leases, []byte(strings.ReplaceAll(read(t, leases), got[1], "192.0.2.201")), 0o644))
	os.Remove(bound)
	assert.Equal(t, "BOUND "+got[1]+" 255.255.255.0 192.0.2.1", asks(), "it has to ask anew")
	givesBack()
}

func TestTFTPClientsOfDebian(t *testing.T) {
	r, system := startDesk(t, []string{"a"}, "--netboot", "eth0=off")
	want := filepath.Join(system, "boot/vmlinuz-6.1.0-test")
	for name, argv := range map[string][]string{
		"tftp-hpa, octet":     {"tftp", "-m", "binary", "192.0.2.1", "-c", "get", "1/vmlinuz", "TO"},
		"tftp-hpa, netascii":  {"tftp", "-m", "ascii", "192.0.2.1", "-c", "get", "1/vmlinuz", "TO"},
		"atftp":               {"atftp", "--get", "-r", "1/vmlinuz", "-l", "TO", "192.0.2.1"},
		"atftp, large blocks": {"atftp", "--option", "blksize 1428", "--option", "tsize 0", "--get", "-r", "1/vmlinuz", "-l", "TO", "192.0.2.1"},
		"busybox":             {"busybox", "tftp", "-g", "-b", "1428", "-r", "1/vmlinuz", "-l", "TO", "192.0.2.1"},
	} {
		t.Run(name, func(t *testing.T) {
			to := filepath.Join(t.TempDir(), "got")
			client(t, r, strings.Split(strings.ReplaceAll(strings.Join(argv, "\x00"), "TO", to), "\x00")...)
			assert.NoError(t, exec.CommandContext(r.ctx, "cmp", want, to).Run())
		})
	}
}

// The page of network boot is open while machines ask for addresses, in the mode in which
// another server gives them.
func TestThePageIsOpenWhileMachinesAsk(t *testing.T) {
	r, _ := startDesk(t, []string{"a"}, "--netboot", "eth0=beside")
	token := strings.TrimSpace(read(t, filepath.Join(r.data, "admin.token")))
	ctx, stop := context.WithCancel(r.ctx)
	group, ctx := errgroup.WithContext(ctx)
	c := r.client("a").HTTP()
	look := func() error {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, "https://192.0.2.1:7460/api/v1/netboot", nil)
		if err != nil {
			return err
		}
		req.Header.Set("Authorization", "Bearer "+token)
		resp, err := c.Do(req)
		if err != nil {
			return err
		}
		defer resp.Body.Close()
		if resp.StatusCode != http.StatusOK {
			return fmt.Errorf("the page: %s", resp.Status)
		}
		return nil
	}
	for range 4 {
		group.Go(func() error {
			for ctx.Err() == nil {
				if err := look(); err != nil && ctx.Err() == nil {
					return err
				}
			}
			return nil
		})
	}
	require.NoError(t, r.net.Host("a").Inside(func() error {
		s, err := net.ListenPacket("udp4", ":68")
		if err != nil {
			return err
		}
		defer s.Close()
		for i := range 5000 {
			m, err := dhcpv4.NewDiscovery(net.HardwareAddr{0, 0, 0x5e, 0, 0x53, byte(i)}, dhcpv4.WithBroadcast(true),
				dhcpv4.WithOption(dhcpv4.OptClassIdentifier("PXEClient:Arch:00007:UNDI:003016")),
				dhcpv4.WithGeneric(dhcpv4.OptionClientSystemArchitectureType, []byte{0, 7}))
			if err != nil {
				return err
			}
			if _, err := s.WriteTo(m.ToBytes(), &net.UDPAddr{IP: net.IPv4(192, 0, 2, 255), Port: 67}); err != nil {
				return err
			}
		}
		return nil
	}))
	stop()
	require.NoError(t, group.Wait())
	ctx = r.ctx
	assert.NoError(t, look())
	steps := get(t, r, "a", "http://192.0.2.1:7460/boot/script/efi/y/00:00:5e:00:53:11")
	assert.Contains(t, steps, "jugate.ticket=")
}
