package lab_test

import (
	"errors"
	"net/netip"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/norm"
	"jugate/lab"
	"jugate/wire"
)

var group = netip.MustParseAddrPort("233.252.0.7:6003")

// network is one with a sender and receivers.
func network(t *testing.T, receivers ...string) *lab.Network {
	n, err := lab.NewNetwork(t.Context(), append([]string{"desk"}, receivers...)...)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, n.Close()) })
	return n
}

func content(t *testing.T, size int) string {
	path := filepath.Join(t.TempDir(), "image")
	b := make([]byte, size)
	for i := range b {
		b[i] = byte(i * i >> 7)
	}
	require.NoError(t, os.WriteFile(path, b, 0o600))
	return path
}

// receive lets a host take one file; wait returns what it got.
func receive(t *testing.T, h *lab.Host, c wire.Config, o wire.ReceiveOptions) (dir string, wait func() (wire.ReceiveReport, error)) {
	dir = t.TempDir()
	var report wire.ReceiveReport
	var err error
	ready := make(chan struct{})
	var running sync.WaitGroup
	o.Through = func(r wire.Reader) wire.Reader { close(ready); return r }
	running.Go(func() {
		h.Inside(func() error {
			report, err = wire.ReceiveFiles(t.Context(), c, norm.ReceiverConfig{}, dir, o)
			return nil
		})
	})
	<-ready
	return dir, func() (wire.ReceiveReport, error) { running.Wait(); return report, err }
}

func send(t *testing.T, h *lab.Host, c wire.Config, config norm.SenderConfig, path string, away func(error)) (report wire.SendReport) {
	t.Helper()
	require.NoError(t, h.Inside(func() (err error) {
		report, err = wire.SendFiles(t.Context(), c, config, []string{path}, nil, away)
		return err
	}))
	return report
}

func same(t *testing.T, path, dir string) {
	t.Helper()
	want, err := os.ReadFile(path)
	require.NoError(t, err)
	got, err := os.ReadFile(filepath.Join(dir, "image"))
	require.NoError(t, err)
	assert.True(t, string(want) == string(got), "the file differs")
}

func TestFilesOverARealNetworkWithLoss(t *testing.T) {
	for name, to := range map[string]netip.AddrPort{"IPv4": group, "IPv6": netip.MustParseAddrPort("[ff15::5740]:6003")} {
		t.Run(name, func(t *testing.T) {
			n := network(t, "herb-01", "herb-02")
			c := wire.Config{Group: to, Interface: lab.Interface}
			path := content(t, 8_000_000)
			require.NoError(t, n.Host("desk").Rate(t.Context(), 100e6))
			if to.Addr().Is4() {
				require.NoError(t, n.Host("desk").OneByOne(t.Context()))
				require.NoError(t, n.Host("herb-01").Lose(t.Context(), 0.02))
			}
			one, wait1 := receive(t, n.Host("herb-01"), c, wire.ReceiveOptions{Count: 1, Wait: 20 * time.Second})
			two, wait2 := receive(t, n.Host("herb-02"), c, wire.ReceiveOptions{Count: 1, Wait: 20 * time.Second})
			send(t, n.Host("desk"), c, norm.SenderConfig{Rate: 90e6}, path, nil)
			report, err := wait1()
			require.NoError(t, err)
			if to.Addr().Is4() {
				assert.Greater(t, report.LossShare(), 0.01, "what a busy machine loses beside that has no bound")
			}
			_, err = wait2()
			require.NoError(t, err)
			same(t, path, one)
			same(t, path, two)
		})
	}
}

func TestAnInterfaceThatGoesDownAndComesBack(t *testing.T) {
	n := network(t, "herb-01")
	c := wire.Config{Group: group, Interface: lab.Interface}
	path := content(t, 6_000_000)
	dir, wait := receive(t, n.Host("herb-01"), c, wire.ReceiveOptions{Count: 1, Wait: 40 * time.Second})
	half, away := make(chan struct{}), make(chan struct{})
	go func() {
		<-half
		assert.NoError(t, n.Host("desk").Down(t.Context()))
		<-away
		assert.NoError(t, n.Host("desk").Up(t.Context()))
	}()
	once, told := sync.OnceFunc(func() { close(half) }), sync.OnceFunc(func() { close(away) })
	require.NoError(t, n.Host("desk").Inside(func() error {
		_, err := wire.SendFiles(t.Context(), c, norm.SenderConfig{Rate: 20e6}, []string{path}, func(done, total int64) {
			if done > total/2 {
				once()
			}
		}, func(err error) {
			assert.ErrorContains(t, err, "the network interface eth0 is down")
			told()
		})
		return err
	}))
	_, err := wait()
	require.NoError(t, err)
	same(t, path, dir)
}

func TestAReceiversInterfaceThatGoesDownAndComesBack(t *testing.T) {
	n := network(t, "herb-01")
	c := wire.Config{Group: group, Interface: lab.Interface}
	path := content(t, 6_000_000)
	dir, wait := receive(t, n.Host("herb-01"), c, wire.ReceiveOptions{Count: 1, Wait: 40 * time.Second})
	cut := sync.OnceFunc(func() {
		assert.NoError(t, n.Host("herb-01").Down(t.Context()))
		assert.NoError(t, n.Host("herb-01").Up(t.Context()))
	})
	require.NoError(t, n.Host("desk").Inside(func() error {
		_, err := wire.SendFiles(t.Context(), c, norm.SenderConfig{Rate: 20e6}, []string{path}, func(done, total int64) {
			if done > total/2 {
				cut()
			}
		}, nil)
		return err
	}))
	_, err := wait()
	require.NoError(t, err)
	same(t, path, dir)
}

func TestAnMTUBelowTheSymbolsIsNamed(t *testing.T) {
	n := network(t)
	c := wire.Config{Group: group, Interface: lab.Interface}
	require.NoError(t, n.Host("desk").MTU(t.Context(), 1000))
	err := n.Host("desk").Inside(func() error {
		_, err := wire.SendFiles(t.Context(), c, norm.SenderConfig{Rate: 20e6, SymbolSize: 1400}, []string{content(t, 100_000)}, nil, nil)
		return err
	})
	var long *wire.TooLongError
	require.True(t, errors.As(err, &long), "%v", err)
	assert.Equal(t, 1460, long.Bytes)
	t.Log("# without a size of one's own the symbols fit")
	require.NoError(t, n.Host("desk").Inside(func() error {
		_, err := wire.SendFiles(t.Context(), c, norm.SenderConfig{Rate: 20e6}, []string{content(t, 100_000)}, nil, nil)
		return err
	}))
}

func TestNothingHeardIsExplained(t *testing.T) {
	n := network(t, "herb-01")
	_, wait := receive(t, n.Host("herb-01"), wire.Config{Group: group, Interface: lab.Interface}, wire.ReceiveOptions{Count: 1, Wait: time.Second})
	_, err := wait()
	assert.ErrorIs(t, err, wire.ErrNothingHeard)
	assert.ErrorContains(t, err, "querier")
}

// Two that send to the same address by mistake: both files arrive.
func TestTwoSendersOnOneAddress(t *testing.T) {
	n := network(t, "herb-01", "other")
	c := wire.Config{Group: group, Interface: lab.Interface}
	path := content(t, 2_000_000)
	second := filepath.Join(t.TempDir(), "other")
	require.NoError(t, os.WriteFile(second, make([]byte, 1_500_000), 0o600))
	dir, wait := receive(t, n.Host("herb-01"), c, wire.ReceiveOptions{Count: 2, Wait: 30 * time.Second})
	var sending sync.WaitGroup
	sending.Go(func() {
		assert.NoError(t, n.Host("other").Inside(func() error {
			_, err := wire.SendFiles(t.Context(), c, norm.SenderConfig{Node: 5, Rate: 20e6}, []string{second}, nil, nil)
			return err
		}))
	})
	send(t, n.Host("desk"), c, norm.SenderConfig{Node: 5, Rate: 20e6}, path, nil)
	sending.Wait()
	_, err := wait()
	require.NoError(t, err)
	same(t, path, dir)
	got, err := os.ReadFile(filepath.Join(dir, "other"))
	require.NoError(t, err)
	assert.Equal(t, 1_500_000, len(got))
}
