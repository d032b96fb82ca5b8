package boot_test

import (
	"context"
	"log/slog"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/boot"
	"jugate/boot/boottest"
	"jugate/core/fault"
	"jugate/core/netboot"
)

// asked is what TFTP answers on this machine; nothing if nobody is there.
func asked(t *testing.T) []byte {
	t.Helper()
	c, err := net.Dial("udp4", "127.0.0.1:69")
	require.NoError(t, err)
	defer c.Close()
	_, err = c.Write([]byte("\x00\x02an upload\x00octet\x00")) // which is refused in words
	if err != nil {
		return nil
	}
	b := make([]byte, 600)
	n, err := c.Read(b)
	if err != nil {
		return nil
	}
	return b[:n]
}

// Network boot on an interface ends and begins anew, as often as somebody likes, and says so if it cannot.
func TestNetworkBootBeginsAnew(t *testing.T) {
	boottest.Ports(t)
	b := &boot.Boot{Config: boot.Config{Interfaces: []boot.Interface{{Name: "lo", Mode: netboot.Off}}}, Log: slog.New(slog.DiscardHandler), Now: time.Now}
	until, stop := context.WithCancel(t.Context())
	require.NoError(t, b.Start(t.Context(), until, 7460))
	assert.NotEmpty(t, asked(t))
	for range 3 {
		require.NoError(t, b.Restart("lo"))
		assert.NotEmpty(t, asked(t))
		assert.Equal(t, "serving", b.Links(time.Now())[0].State)
	}
	assert.ErrorIs(t, b.Restart("eth9"), fault.NotFound)
	stop()
	b.Wait()
	assert.Empty(t, asked(t), "nobody answers any more")

	t.Log("# somebody else has the port meanwhile: it says so, and works when it is tried again")
	until, stop = context.WithCancel(t.Context())
	b = &boot.Boot{Config: b.Config, Log: b.Log, Now: time.Now}
	require.NoError(t, b.Start(t.Context(), until, 7460))
	ended := make(chan struct{})
	go func() { // it takes the port as soon as it is free
		defer close(ended)
		for {
			if c, err := net.ListenPacket("udp4", "127.0.0.1:69"); err == nil {
				defer c.Close()
				<-until.Done()
				return
			}
			if until.Err() != nil {
				return
			}
		}
	}()
	var err error
	for err == nil {
		err = b.Restart("lo")
	}
	assert.ErrorIs(t, err, fault.Conflict)
	assert.Contains(t, b.Links(time.Now())[0].State, "address already in use")
	stop()
	<-ended
	b.Wait()
}
