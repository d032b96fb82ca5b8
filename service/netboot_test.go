package service_test

import (
	"context"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/version"
	"jugate/service"
)

// bootHouse is a service with an agent's file to build environments with; url is where loaders call it, and
// secure where agents do.
func bootHouse(t *testing.T, change func(*service.Config)) (c *apiclient.Client, url, secure, data string) {
	t.Helper()
	data = t.TempDir()
	settle(t, data)
	file := filepath.Join(t.TempDir(), "agent")
	require.NoError(t, os.WriteFile(file, []byte("the agent"), 0o755))
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	config := service.Config{Data: data, Multicast: loopback, BuildFrom: []string{os.TempDir()}, Netboot: service.Netboot{Agent: file}}
	if change != nil {
		change(&config)
	}
	s, err := service.Open(t.Context(), config)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.Serve(ctx, listener) }()
	t.Cleanup(func() {
		cancel()
		assert.NoError(t, <-ended)
		assert.NoError(t, s.Close())
	})
	url, secure = "http://"+listener.Addr().String(), "https://"+listener.Addr().String()
	c, err = apiclient.New(secure, s.Token())
	require.NoError(t, err)
	c, err = c.Trusting(s.Authority())
	require.NoError(t, err)
	return c, url, secure, data
}

// fakeSystem is what a build is made of: files, but no kernel that would start.
func fakeSystem(t *testing.T) string {
	root := t.TempDir()
	for _, name := range []string{"boot/vmlinuz-6.1.0-test", "lib/modules/6.1.0-test/kernel/none", "usr/lib/shim/shimx64.efi.signed"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(name), 0o644))
	}
	return root
}

func fetch(t *testing.T, url string) (int, string) {
	t.Helper()
	resp, err := http.Get(url)
	require.NoError(t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp.StatusCode, string(b)
}

func TestBootFilesAndTheStepsOfAMachine(t *testing.T) {
	t.Parallel()
	c, url, secure, _ := bootHouse(t, nil)
	ctx := t.Context()
	const herb = "00:00:5e:00:53:11"
	script := func() string { _, text := fetch(t, url+"/boot/script/efi/n/"+herb); return text }

	t.Log("# nothing is offered: machines start from their disk, and the page says so")
	assert.Contains(t, script(), "no boot environment is offered")
	status, body := fetch(t, url+"/boot/files/shimx64.efi")
	assert.Equal(t, http.StatusNotFound, status)
	assert.Contains(t, body, "no build of the boot environment is offered")

	b, err := c.MakeBuild(ctx, api.NewBuild{Folders: []string{fakeSystem(t)}, Offer: true})
	require.NoError(t, err)
	assert.True(t, b.Offered)
	assert.Equal(t, "6.1.0-test", b.Kernel)
	_, err = c.MakeBuild(ctx, api.NewBuild{Folders: []string{t.TempDir()}})
	assert.ErrorContains(t, err, "no kernel with its modules is there")
	_, err = c.MakeBuild(ctx, api.NewBuild{Folders: []string{"/nonexistent"}})
	assert.Error(t, err)

	t.Log("# by TFTP, as this loader cannot do more; the agent calls by TLS")
	text := script()
	assert.Contains(t, text, "linux (tftp)/1/vmlinuz quiet fbcon=font:TER16x32 jugate.service="+secure)
	for name, want := range map[string]string{"shimx64.efi": "usr/lib/shim/shimx64.efi.signed", "1/vmlinuz": "boot/vmlinuz-6.1.0-test"} {
		status, body = fetch(t, url+"/boot/files/"+name)
		assert.Equal(t, http.StatusOK, status)
		assert.Equal(t, want, body)
	}
	status, body = fetch(t, url+"/boot/files/1/initrd")
	assert.Equal(t, http.StatusOK, status)
	assert.NotEmpty(t, body)
	_, body = fetch(t, url+"/boot/files/grub/grub.cfg")
	assert.Contains(t, body, "source (http,"+strings.TrimPrefix(url, "http://")+")/boot/$jugate_script")
	for _, bad := range []string{"1/settings", "99/vmlinuz", "none", "../admin.token", "1/../../admin.token", "grubx64.efi"} {
		req, err := http.NewRequest(http.MethodGet, url+"/boot/files/"+bad, nil)
		require.NoError(t, err)
		resp, err := http.DefaultTransport.RoundTrip(req)
		require.NoError(t, err)
		resp.Body.Close()
		assert.NotEqual(t, http.StatusOK, resp.StatusCode, bad)
	}
	s, err := c.Netboot(ctx)
	require.NoError(t, err)
	require.Len(t, s.Machines, 1)
	var steps []string
	for _, m := range s.Machines[0].Steps {
		steps = append(steps, m.Step)
	}
	assert.Subset(t, steps, []string{"script", "loader", "kernel", "initrd", "failed"})
	assert.Equal(t, 1, s.Offered)
}

func TestUnknownMachines(t *testing.T) {
	t.Parallel()
	for policy, want := range map[service.Unknown]string{service.Ignore: "unknown machines are ignored", service.Hold: "/1/vmlinuz", service.Welcome: "'Sign in for more'"} {
		c, url, _, _ := bootHouse(t, func(config *service.Config) { config.Netboot.Unknown = policy })
		_, err := c.MakeBuild(t.Context(), api.NewBuild{Folders: []string{fakeSystem(t)}, Offer: true})
		require.NoError(t, err)
		_, text := fetch(t, url+"/boot/script/pc/y/00:00:5e:00:53:99")
		assert.Contains(t, text, want, policy)
	}
}

func TestAgentsCallByTLSAndBelieveOneCertificate(t *testing.T) {
	t.Parallel()
	c, _, secure, data := bootHouse(t, func(config *service.Config) { config.Tickets = true })
	_, err := c.MakeBuild(t.Context(), api.NewBuild{Folders: []string{fakeSystem(t)}, Offer: true})
	require.NoError(t, err)
	stick := filepath.Join(t.TempDir(), "stick")
	f, err := os.Create(stick)
	require.NoError(t, err)
	defer f.Close()
	_, err = c.MakeMedia(t.Context(), 0, api.NewMedia{Service: secure, Address: "192.0.2.70"}, f)
	assert.ErrorContains(t, err, "no IPv4 address with the length of its prefix")
	_, err = c.MakeMedia(t.Context(), 0, api.NewMedia{Service: secure}, f)
	assert.ErrorContains(t, err, "the build has no such part", "it has no loader for media")

	own, err := os.ReadFile(filepath.Join(data, "service.pem"))
	require.NoError(t, err)
	info, err := os.Stat(filepath.Join(data, "service.pem"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "the key is in it")
	_, certificate, _ := strings.Cut(string(own), "-----END PRIVATE KEY-----\n")
	config, err := apiclient.Pinned([]byte(certificate))
	require.NoError(t, err)
	over, err := apiclient.New(secure, "")
	require.NoError(t, err)
	over = over.Over(&http.Client{Transport: &http.Transport{TLSClientConfig: config}})
	_, err = over.CheckIn(t.Context(), api.CheckIn{Boot: "boot", AgentVersion: version.Program(), Addresses: []string{"00:00:5e:00:53:11"}, Inventory: api.Inventory{Disks: []api.Disk{}, Cards: []api.Card{}}})
	assert.ErrorContains(t, err, "ticket of their boot script", "TLS works; a ticket is wanted as well")
	plain, err := apiclient.New(secure, "")
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Minute)
	defer cancel()
	_, err = plain.CheckIn(ctx, api.CheckIn{})
	assert.ErrorIs(t, err, apiclient.ErrAway, "who does not know the certificate does not believe it")
}

// A loader's ports are the same at each start, and it never closes its connections: what
// is left of the last start must not stand in the way of the next.
func TestALoaderStartsAgainFromTheSamePort(t *testing.T) {
	t.Parallel()
	_, url, _, _ := bootHouse(t, nil)
	port := 0
	start := func(agent string) (string, error) {
		dialer := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: port}, Timeout: 5 * time.Minute, Control: func(_, _ string, c syscall.RawConn) error {
			return c.Control(func(fd uintptr) { unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_REUSEADDR, 1) })
		}}
		c, err := dialer.Dial("tcp", strings.TrimPrefix(url, "http://"))
		if err != nil {
			return "", err
		}
		port = c.LocalAddr().(*net.TCPAddr).Port
		t.Cleanup(func() { c.Close() })
		_, err = io.WriteString(c, "GET /boot/files/grub/grub.cfg HTTP/1.1\r\nHost: "+strings.TrimPrefix(url, "http://")+"\r\nUser-Agent: "+agent+"\r\n\r\n")
		require.NoError(t, err)
		c.SetReadDeadline(time.Now().Add(5 * time.Minute))
		text, err := io.ReadAll(c)
		return string(text), err
	}
	for range 3 {
		text, err := start("GRUB 2.06")
		assert.ErrorIs(t, err, syscall.ECONNRESET, "when it has everything, nothing is left of the connection")
		assert.Contains(t, text, "jugate_script")
	}
}

// A loader that closes a file which it has not read to its end leaves no room for what is on its way: what is left of that
// connection must not stand in the way either.
func TestALoaderThatClosesEarlyLeavesNoConnection(t *testing.T) {
	t.Parallel()
	for what, size := range map[string]int{"all is sent, and not acknowledged": 200 << 10, "more is to be sent": 16 << 20} {
		t.Run(what, func(t *testing.T) {
			c, url, _, _ := bootHouse(t, nil)
			root := fakeSystem(t)
			require.NoError(t, os.WriteFile(filepath.Join(root, "boot/vmlinuz-6.1.0-test"), make([]byte, size), 0o644))
			_, err := c.MakeBuild(t.Context(), api.NewBuild{Folders: []string{root}, Offer: true})
			require.NoError(t, err)
			dialer := net.Dialer{Control: func(_, _ string, c syscall.RawConn) error {
				return c.Control(func(fd uintptr) { unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_RCVBUF, 4096) })
			}}
			host := strings.TrimPrefix(url, "http://")
			conn, err := dialer.DialContext(t.Context(), "tcp", host)
			require.NoError(t, err)
			defer conn.Close()
			_, err = io.WriteString(conn, "GET /boot/files/1/vmlinuz HTTP/1.1\r\nHost: "+host+"\r\nUser-Agent: GRUB 2.06\r\n\r\n")
			require.NoError(t, err)
			_, err = io.ReadFull(conn, make([]byte, 20))
			require.NoError(t, err)
			require.NoError(t, conn.(*net.TCPConn).CloseWrite())
			raw, err := conn.(*net.TCPConn).SyscallConn()
			require.NoError(t, err)
			require.NoError(t, raw.Control(func(fd uintptr) {
				wait := []unix.PollFd{{Fd: int32(fd)}} // for a reset, and nothing else
				n, err := unix.Poll(wait, 20_000)
				for err == unix.EINTR {
					n, err = unix.Poll(wait, 20_000)
				}
				assert.NoError(t, err)
				assert.Equal(t, 1, n, "it was not reset")
			}))
		})
	}
}

// An expected machine boots the environment, whatever becomes of unknown ones: it has to be
// seen before anything can be delivered to it.
func TestAnExpectedMachineBootsTheEnvironment(t *testing.T) {
	t.Parallel()
	for _, policy := range []service.Unknown{service.Ignore, service.Hold, service.Welcome} {
		c, url, _, _ := bootHouse(t, func(config *service.Config) { config.Netboot.Unknown = policy })
		_, err := c.MakeBuild(t.Context(), api.NewBuild{Folders: []string{fakeSystem(t)}, Offer: true})
		require.NoError(t, err)
		_, err = c.ImportRoster(t.Context(), []byte("name,hardware_addresses\nherb-01,00:00:5e:00:53:11\n"), false, true)
		require.NoError(t, err)
		_, text := fetch(t, url+"/boot/script/efi/n/00:00:5e:00:53:11")
		assert.Contains(t, text, "/1/vmlinuz", policy)
		_, err = c.WithToken("").CheckIn(t.Context(), api.CheckIn{Boot: "b", AgentVersion: "test", Addresses: []string{"00:00:5e:00:53:11"}, Inventory: api.Inventory{Disks: []api.Disk{}, Cards: []api.Card{}}})
		require.NoError(t, err)
		_, text = fetch(t, url+"/boot/script/efi/n/00:00:5e:00:53:11")
		assert.Contains(t, text, "no errand", "it has been seen, and starts from its own disk")
	}
}
