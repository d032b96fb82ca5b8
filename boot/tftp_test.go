package boot

import (
	"bytes"
	"context"
	"errors"
	"log/slog"
	"net"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/hwaddr"
	"jugate/core/netboot"
)

type text struct{ *bytes.Reader }

func (t text) Length() int64 { return t.Size() }

// serve starts a server on loopback.
func serve(t *testing.T, s *TFTP) netip.AddrPort {
	c, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	var done sync.WaitGroup
	done.Go(func() { assert.NoError(t, s.Serve(ctx, c)) })
	t.Cleanup(func() { cancel(); done.Wait() })
	return c.LocalAddr().(*net.UDPAddr).AddrPort()
}

// fetch is a client of RFC 1350, without options.
func fetch(t *testing.T, server netip.AddrPort, name string) (got []byte, refusal string) {
	t.Helper()
	c, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	defer c.Close()
	require.NoError(t, c.SetDeadline(time.Now().Add(5*time.Minute)))
	_, err = c.WriteToUDPAddrPort([]byte("\x00\x01"+name+"\x00octet\x00"), server)
	require.NoError(t, err)
	buf := make([]byte, 1000)
	for {
		n, from, err := c.ReadFromUDPAddrPort(buf)
		require.NoError(t, err)
		if buf[1] == 5 {
			return got, string(buf[4 : n-1])
		}
		got = append(got, buf[4:n]...)
		_, err = c.WriteToUDPAddrPort([]byte{0, 4, buf[2], buf[3]}, from)
		require.NoError(t, err)
		if n < 516 {
			return got, ""
		}
	}
}

func TestFilesComeByTFTP(t *testing.T) {
	content := bytes.Repeat([]byte("seed bank "), 1000)
	type done struct {
		name  string
		bytes int64
		err   error
	}
	ended := make(chan done, 10)
	s := &TFTP{
		Open: func(name string, client netip.Addr) (Content, error) {
			if name != "seeds" || !client.IsLoopback() {
				return nil, errors.New("there is no such file")
			}
			return text{bytes.NewReader(content)}, nil
		},
		Done: func(name string, _ netip.Addr, n int64, err error) { ended <- done{name, n, err} },
	}
	at := serve(t, s)
	got, refusal := fetch(t, at, "/seeds")
	assert.Empty(t, refusal)
	assert.True(t, bytes.Equal(content, got))
	assert.Equal(t, done{"seeds", int64(len(content)), nil}, <-ended)
	_, refusal = fetch(t, at, "weeds")
	assert.Equal(t, "there is no such file", refusal)
	assert.Error(t, (<-ended).err)
	_, refusal = fetch(t, at, "../seeds")
	assert.Contains(t, refusal, "no way leads out")
}

func TestATransferIsWithOnePort(t *testing.T) {
	ended := make(chan error, 1)
	at := serve(t, &TFTP{
		Open: func(string, netip.Addr) (Content, error) { return text{bytes.NewReader(make([]byte, 5000))}, nil },
		Done: func(_ string, _ netip.Addr, _ int64, err error) { ended <- err },
	})
	socket := func() *net.UDPConn {
		c, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
		require.NoError(t, err)
		require.NoError(t, c.SetDeadline(time.Now().Add(5*time.Minute)))
		t.Cleanup(func() { c.Close() })
		return c
	}
	client, stranger := socket(), socket()
	_, err := client.WriteToUDPAddrPort([]byte("\x00\x01f\x00octet\x00"), at)
	require.NoError(t, err)
	buf := make([]byte, 1000)
	_, from, err := client.ReadFromUDPAddrPort(buf)
	require.NoError(t, err)
	_, err = stranger.WriteToUDPAddrPort([]byte{0, 4, 0, 1}, from)
	require.NoError(t, err)
	_, err = stranger.Read(buf)
	require.NoError(t, err)
	assert.Equal(t, []byte{0, 5, 0, 5}, buf[:4], "unknown transfer (RFC 1350, 4)")
	_, err = client.WriteToUDPAddrPort([]byte{0, 4, 0, 1}, from)
	require.NoError(t, err)
	_, err = client.Read(buf)
	require.NoError(t, err)
	assert.Equal(t, []byte{0, 3, 0, 2}, buf[:4], "its own goes on")
	t.Log("# a client that closes its port has gone")
	require.NoError(t, client.Close())
	assert.ErrorContains(t, <-ended, "the client has gone")
}

func TestTheRosterIsAskedWithoutALock(t *testing.T) {
	m, err := dhcpv4.NewDiscovery(net.HardwareAddr{0, 0, 0x5e, 0, 0x53, 1})
	require.NoError(t, err)
	d := &DHCP{Desk: &netboot.Desk{Link: netboot.Link{Mode: netboot.Beside}}, Now: time.Now, Log: slog.New(slog.DiscardHandler)}
	d.Know = func(hwaddr.Address) netboot.Facts {
		d.Change(func(*netboot.Desk) {}) // the service does, while it tells how network boot stands
		return netboot.Facts{Refused: "unknown"}
	}
	o, err := d.handle(netboot.DHCPPort, m.ToBytes())
	require.NoError(t, err)
	assert.Equal(t, "unknown", o.Why)
	t.Log("# a fault in one packet ends nothing but that packet")
	d.Know = func(hwaddr.Address) netboot.Facts { panic("odd") }
	_, err = d.handle(netboot.DHCPPort, m.ToBytes())
	assert.ErrorContains(t, err, "odd")
	d.Change(func(*netboot.Desk) {})
}

func TestAFloodTakesNoMoreThanItsShare(t *testing.T) {
	var mu sync.Mutex
	opened := 0
	s := &TFTP{
		Open: func(name string, _ netip.Addr) (Content, error) {
			mu.Lock()
			defer mu.Unlock()
			opened++
			return text{bytes.NewReader(make([]byte, 5000))}, nil
		},
		Done: func(string, netip.Addr, int64, error) {},
	}
	at := serve(t, s)
	c, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	defer c.Close()
	for range 2000 {
		_, err := c.WriteToUDPAddrPort([]byte("\x00\x01f\x00octet\x00"), at) // and never an acknowledgement
		require.NoError(t, err)
	}
	t.Log("# noise in between is not answered")
	for _, noise := range [][]byte{{}, {0}, {0, 9, 1, 1, 0}, bytes.Repeat([]byte{1}, 1900)} {
		_, err := c.WriteToUDPAddrPort(noise, at)
		require.NoError(t, err)
	}
	require.Eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return opened == perClient }, 5*time.Minute, 5*time.Millisecond)
	require.Never(t, func() bool { mu.Lock(); defer mu.Unlock(); return opened > perClient }, 300*time.Millisecond, 20*time.Millisecond)
}

func TestPackets(t *testing.T) {
	a := hwaddr.MustParse("00:00:5e:00:53:11")
	assert.Len(t, wakePacket(a), 102)
}
