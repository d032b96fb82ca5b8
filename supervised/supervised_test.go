package supervised_test

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/supervised"
)

var quiet = slog.New(slog.DiscardHandler)

// manager is the socket on which a service manager hears a program.
func manager(t *testing.T) (hears func() string) {
	path := filepath.Join(t.TempDir(), "notify")
	c, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: path, Net: "unixgram"})
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	t.Setenv("NOTIFY_SOCKET", path)
	return func() string {
		b := make([]byte, 4096)
		n, err := c.Read(b)
		require.NoError(t, err)
		return string(b[:n])
	}
}

func TestTheManagerHearsHowItGoes(t *testing.T) {
	hears := manager(t)
	supervised.Ready(quiet)
	assert.Equal(t, "READY=1", hears())
	supervised.Stopping(quiet)
	assert.Equal(t, "STOPPING=1", hears())

	t.Log("# that it is alive it hears as long as that is so")
	t.Setenv("WATCHDOG_USEC", "2000")
	ctx, stop := context.WithCancel(t.Context())
	asked, ended := 0, make(chan struct{})
	go func() {
		defer close(ended)
		supervised.Watch(ctx, quiet, func(context.Context) error {
			if asked++; asked > 3 {
				stop()
				return errors.New("the records cannot be written")
			}
			return nil
		})
	}()
	for range 3 {
		assert.Equal(t, "WATCHDOG=1", hears())
	}
	<-ended
	assert.Equal(t, 4, asked)
	supervised.Ready(quiet)
	assert.Equal(t, "READY=1", hears(), "nothing came between: it was not alive")
}

func TestWithoutAManagerNothingIsDone(t *testing.T) {
	t.Setenv("NOTIFY_SOCKET", "")
	supervised.Ready(quiet)
	supervised.Watch(t.Context(), quiet, func(context.Context) error { panic("nobody has asked for that") })
	l, err := supervised.Listen("127.0.0.1:0")
	require.NoError(t, err)
	l.Close()
	_, err = supervised.Listen("nowhere:x")
	assert.ErrorContains(t, err, "listen on nowhere:x")
}
