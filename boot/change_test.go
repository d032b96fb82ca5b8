package boot_test

import (
	"context"
	"log/slog"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/boot"
	"jugate/boot/boottest"
	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/netboot"
)

// noLeases is a roster without a lease.
type noLeases struct{ boot.Roster }

func (noLeases) Leases(context.Context) ([]netboot.Lease, error)                { return nil, nil }
func (noLeases) Fixed(context.Context) (map[netip.Addr][]hwaddr.Address, error) { return nil, nil }

// Other interfaces are served while it runs. One that cannot be leaves everything as it was.
func TestOtherInterfacesAreServed(t *testing.T) {
	boottest.Ports(t)
	b := &boot.Boot{Roster: noLeases{}, Log: slog.New(slog.DiscardHandler), Now: time.Now}
	lo := boot.Interface{Name: "lo", Mode: netboot.Off}
	require.NoError(t, b.Change([]boot.Interface{lo}, nil, false), "before it has started")
	until, stop := context.WithCancel(t.Context())
	defer b.Wait()
	defer stop()
	require.NoError(t, b.Start(t.Context(), until, 7460))
	assert.NotEmpty(t, asked(t))

	err := b.Change([]boot.Interface{lo, {Name: "nowhere0", Mode: netboot.Beside}}, nil, false)
	assert.ErrorIs(t, err, fault.Conflict)
	assert.ErrorContains(t, err, "nowhere0")
	assert.NotEmpty(t, asked(t), "it has not noticed")
	require.Len(t, b.Links(time.Now()), 1)

	err = b.Change([]boot.Interface{{Name: "lo", Mode: netboot.Whole}}, nil, false)
	assert.ErrorContains(t, err, "mode whole needs a pool")
	assert.NotEmpty(t, asked(t), "it was brought back")
	require.NoError(t, b.Restart("lo"))

	require.NoError(t, b.Change(nil, nil, false))
	assert.Empty(t, asked(t))
	assert.Empty(t, b.Links(time.Now()))
	require.NoError(t, b.Change([]boot.Interface{lo}, nil, false))
	assert.NotEmpty(t, asked(t))
}

// What somebody else has had, or what was not there, is served as soon as it can be.
func TestAnInterfaceIsServedWhenItCanBe(t *testing.T) {
	boottest.Ports(t)
	other, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 69})
	require.NoError(t, err)
	b := &boot.Boot{Roster: noLeases{}, Log: slog.New(slog.DiscardHandler), Now: time.Now, Config: boot.Config{Lenient: true, Interfaces: []boot.Interface{{Name: "lo", Mode: netboot.Off}}}}
	until, stop := context.WithCancel(t.Context())
	defer b.Wait()
	defer stop()
	require.NoError(t, b.Start(t.Context(), until, 7460))
	b.Mend()
	assert.Contains(t, b.Links(time.Now())[0].State, "address already in use")
	require.NoError(t, other.Close())
	b.Mend()
	assert.Equal(t, "serving", b.Links(time.Now())[0].State)
	assert.NotEmpty(t, asked(t))
}

// What was chosen while it ran does not keep it from starting.
func TestAnInterfaceThatIsGoneSaysSo(t *testing.T) {
	boottest.Ports(t)
	b := &boot.Boot{Log: slog.New(slog.DiscardHandler), Now: time.Now, Config: boot.Config{Lenient: true, Interfaces: []boot.Interface{{Name: "nowhere0", Mode: netboot.Beside}, {Name: "lo", Mode: netboot.Off}}}}
	until, stop := context.WithCancel(t.Context())
	defer b.Wait()
	defer stop()
	require.NoError(t, b.Start(t.Context(), until, 7460))
	links := b.Links(time.Now())
	require.Len(t, links, 2)
	assert.Contains(t, links[0].State, "nowhere0")
	assert.Empty(t, links[0].Address())
	assert.Equal(t, "serving", links[1].State)
	require.NoError(t, b.Change([]boot.Interface{{Name: "lo", Mode: netboot.Off}}, nil, false))
	assert.NotEmpty(t, asked(t))
}
