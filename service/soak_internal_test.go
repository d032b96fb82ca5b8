package service

import (
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/hwaddr"
	"jugate/core/roster"
	"jugate/core/version"
	"jugate/records"
	"jugate/service/fleet"
)

// A night of the soak is two hours of the service's own time; between nights the clock of the records is put forward.
const (
	nightLong  = 2 * time.Hour
	dayBetween = 24*time.Hour - nightLong
)

// year is a service in fast motion.
type year struct {
	t        *testing.T
	s        *Service
	machines int
	ahead    *atomic.Int64 // of the bubble's clock, in nanoseconds
}

// ownProcess has the nights run in this process. Otherwise they get one of their own: what packages make when it is needed first, such
// as encoders, would belong to the virtual time for ever.
const ownProcess = "JUGATE_SOAK_HERE"

// A year of nights in fast motion: machines come and go, some are new and nobody admits them, deliveries find nobody and end with their
// receipts, settings change, programs that are told of it are away. What the process holds at the end is what it held at the beginning.
//
// By default it is a week with few machines; JUGATE_SOAK=365,10000 is a year with 10,000 (make bench-soak), and prints the curves.
func TestAYearOfNights(t *testing.T) {
	if os.Getenv(ownProcess) == "" {
		cmd := exec.CommandContext(t.Context(), os.Args[0], "-test.run=^TestAYearOfNights$", "-test.v", "-test.timeout=0")
		cmd.Env = append(os.Environ(), ownProcess+"=yes")
		cmd.Stdout, cmd.Stderr = t.Output(), t.Output()
		require.NoError(t, cmd.Run())
		return
	}
	nights, machines := 7, 200
	if text := os.Getenv("JUGATE_SOAK"); text != "" {
		_, err := fmt.Sscanf(text, "%d,%d", &nights, &machines)
		require.NoError(t, err)
	}
	data := t.TempDir()
	out, err := exec.Command("tar", "--zstd", "-xf", "testdata/folder-0.3.0-60d0cf1.tar.zst", "-C", data).CombinedOutput()
	require.NoError(t, err, "%s", out)
	synctest.Test(t, func(t *testing.T) {
		y := &year{t: t, machines: machines, ahead: new(atomic.Int64)}
		y.ahead.Store(int64(time.Until(time.Date(2026, 12, 1, 20, 0, 0, 0, time.UTC))))
		y.s, err = Open(t.Context(), Config{Data: data, Now: y.now, Multicast: Multicast{Interface: "lo", TTL: NoTTL, Groups: netip.MustParsePrefix("233.252.0.0/24")}, Log: slog.New(slog.DiscardHandler), KeepLines: 90 * 24 * time.Hour})
		require.NoError(t, err)
		defer func() { assert.NoError(t, y.s.Close()) }()
		_, err = y.s.notify.Put(t.Context(), "away", api.NewNotificationRule{Events: []string{"receipt.failed", "delivery.ended", "newcomer.seen"}, Webhook: "https://127.0.0.1:1/hooks"})
		require.NoError(t, err)
		for n := range machines {
			y.checkIn(n)
			_, err := y.s.fleet.Admit(t.Context(), address(n).String(), api.Admission{Name: fmt.Sprintf("desk-%05d", n)})
			require.NoError(t, err)
		}
		y.night(0)
		first := y.held()
		t.Logf("%6s %10s %10s %6s %9s %9s %9s", "night", "heap MiB", "goroutines", "files", "records", "newcomers", "messages")
		t.Logf("%6d %s", 0, first)
		last := first
		for n := 1; n <= nights; n++ {
			y.night(n)
			if n%max(nights/12, 1) == 0 || n == nights {
				last = y.held()
				t.Logf("%6d %s", n, last)
			}
		}
		assert.Equal(t, first.goroutines, last.goroutines)
		assert.LessOrEqual(t, last.files, first.files+2, "SQLite opens its files when it needs them")
		assert.LessOrEqual(t, last.heap, first.heap+first.heap/4+16<<20, "bytes")
		assert.LessOrEqual(t, last.newcomers, 2000)
		left, err := os.ReadDir(filepath.Join(data, "scratch"))
		require.NoError(t, err)
		assert.Empty(t, left)
	})
}

func (y *year) now() time.Time { return time.Now().Add(time.Duration(y.ahead.Load())) }

// address is the hardware address of machine n: locally administered, as the range for documentation has 256.
func address(n int) hwaddr.Address {
	return hwaddr.Address{0x02, 0x00, 0x5e, byte(n >> 16), byte(n >> 8), byte(n)}
}

// checkIn has machine n start, with memory that changes now and then.
func (y *year) checkIn(n int) {
	y.t.Helper()
	_, err := y.s.fleet.CheckIn(context.Background(), fleet.Caller{At: netip.MustParseAddr(fmt.Sprintf("2001:db8:%x::9", n/100%0xffff))}, api.CheckIn{AgentVersion: version.Program(), Boot: fmt.Sprint(n, y.now().UnixNano()), Addresses: []string{address(n).String()},
		Inventory: api.Inventory{Maker: "Alder Works", Model: "A310", Serial: fmt.Sprintf("AW-%06d", n), Memory: int64(8+n%2) << 30, Disks: []api.Disk{{Serial: fmt.Sprint("B", n), Size: 512 << 30, SectorSize: 512}}, Cards: []api.Card{}, Devices: []api.Device{}}})
	require.NoError(y.t, err)
}

// night is what happens in a building at night.
func (y *year) night(n int) {
	ctx := y.t.Context()
	room := []string{}
	for i := range 60 { // of a room, another each night
		m := (n*60 + i) % y.machines
		y.checkIn(m)
		room = append(room, fmt.Sprintf("desk-%05d", m))
	}
	for i := range 20 { // strangers, whom nobody sees again
		y.checkIn(1<<20 + n*20 + i)
	}
	late := y.now().Add(30 * time.Minute)
	d, err := y.s.orders.Deliver(ctx, api.NewDelivery{Image: "garden-desk@1", To: room, AtLatest: &late, DespiteFirmware: true})
	require.NoError(y.t, err)
	_, err = y.s.settings.Set(ctx, "rate", []string{fmt.Sprintf("%dMbit", 100+n%7)})
	require.NoError(y.t, err)
	for range 50 {
		_, err = y.s.records.AddLine(ctx, records.Line{At: y.now(), Who: "ines", Kind: "person", From: "192.0.2.7", Through: "console", Operation: "set-setting", Details: "{}"})
		require.NoError(y.t, err)
	}
	time.Sleep(nightLong)
	synctest.Wait()
	_, err = y.s.orders.Stop(ctx, d.ID) // in the morning; by itself it ends a day later
	require.NoError(y.t, err)
	time.Sleep(time.Minute) // its loop has ended, and what is to be told is told
	synctest.Wait()
	y.ahead.Add(int64(dayBetween))
}

// held is what the process holds.
type held struct {
	heap                uint64
	goroutines, files   int
	records             int64 // bytes
	newcomers, messages int
}

func (h held) String() string {
	return fmt.Sprintf("%10.1f %10d %6d %5d MiB %9d %9d", float64(h.heap)/(1<<20), h.goroutines, h.files, h.records>>20, h.newcomers, h.messages)
}

func (y *year) held() (h held) {
	y.t.Helper()
	runtime.GC()
	runtime.GC() // what finalizers have let go
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	h.heap, h.goroutines = m.HeapAlloc, runtime.NumGoroutine()
	files, err := os.ReadDir("/proc/self/fd")
	require.NoError(y.t, err)
	h.files = len(files)
	info, err := os.Stat(filepath.Join(y.s.config.Data, "jugate.db"))
	require.NoError(y.t, err)
	h.records = info.Size()
	_, h.newcomers, err = y.s.fleet.List(y.t.Context(), records.WorkstationFilter{States: []roster.State{roster.Newcomer}}, "", records.Page{Limit: 1})
	require.NoError(y.t, err)
	_, h.messages, err = y.s.notify.Messages(y.t.Context(), records.MessageFilter{}, records.Page{Limit: 1})
	require.NoError(y.t, err)
	return h
}
