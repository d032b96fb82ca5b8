package main

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Under a service manager the service takes the socket that was opened for it, and says when it answers, that it is alive, and that it ends.
func TestServeUnderAServiceManager(t *testing.T) {
	notify := filepath.Join(t.TempDir(), "notify")
	heard, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: notify, Net: "unixgram"})
	require.NoError(t, err)
	defer heard.Close()
	hears := func() string {
		b := make([]byte, 4096)
		n, err := heard.Read(b)
		require.NoError(t, err)
		return string(b[:n])
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	socket, err := listener.(*net.TCPListener).File()
	require.NoError(t, err)

	// The manager names the process that the socket is for, whose number a program knows that becomes another.
	cmd := exec.CommandContext(t.Context(), "sh", "-c", `LISTEN_PID=$$ LISTEN_FDS=1 exec "$@"`, "sh", os.Args[0], "serve", "--data", filepath.Join(t.TempDir(), "data"), "--listen", "203.0.113.1:7460")
	cmd.Env = append(os.Environ(), "JUGATE_TEST_BE_JUGATE=1", "NOTIFY_SOCKET="+notify, "WATCHDOG_USEC=50000")
	cmd.ExtraFiles = []*os.File{socket}
	cmd.Stderr = t.Output()
	require.NoError(t, cmd.Start())
	said := map[string]bool{}
	for !said["READY=1"] || !said["WATCHDOG=1"] {
		said[hears()] = true
	}
	c, err := net.Dial("tcp", listener.Addr().String())
	require.NoError(t, err, "it answers where the manager listens, and not where --listen says")
	c.Close()
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	for last := ""; last != "STOPPING=1"; {
		last = hears()
		assert.True(t, last == "STOPPING=1" || last == "WATCHDOG=1", last)
	}
	require.NoError(t, cmd.Wait())
}
