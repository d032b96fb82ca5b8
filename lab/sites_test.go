package lab_test

import (
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/delivery"
	"jugate/demo/golddisk"
	"jugate/lab"
)

// site is a room behind an outpost, with simulated workstations.
type site struct {
	name string
	box  *lab.Host // of the line, with the room behind it
	room *lab.Network
}

// simulate runs a simulated workstation on a host until the test ends.
func (r *room) simulate(h *lab.Host, service, name string, address int, disk string) {
	r.t.Helper()
	log, err := os.Create(filepath.Join(r.keep, name+".log"))
	require.NoError(r.t, err)
	cmd := h.Command(r.ctx, filepath.Join(r.bin, "jugate"), "simulate", "--server", service, "--authority", filepath.Join(r.data, "authority.pem"), "--interface", "eth0",
		"--address", fmt.Sprintf("00:00:5e:00:53:%02x", address), "--disk", disk, "--serial", fmt.Sprintf("AW-%04d", address))
	cmd.Stdout, cmd.Stderr = log, log
	require.NoError(r.t, cmd.Start())
	r.t.Cleanup(func() {
		cmd.Process.Signal(os.Interrupt)
		cmd.Wait()
		log.Close()
	})
}

// admit takes newcomers into the roster as they come.
func (r *room) admit(names map[int]string) {
	r.t.Helper()
	for n, name := range names {
		address := fmt.Sprintf("00:00:5e:00:53:%02x", n)
		r.eventually(time.Minute, func() bool { return r.command("workstation", "show", address).Run() == nil })
		r.jugate(nil, "workstation", "admit", address, name)
	}
}

// Two rooms behind one line of 20 Mbit/s that takes 300 ms there and back and loses packets, and that is cut while they receive: one
// delivery, streamed in each room, and each slab comes to each room once.
func TestTwoSitesBehindASlowLine(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("network namespaces need root")
	}
	r, _ := startDesk(t, []string{"router", "gold"}, "--netboot", "eth0=off", "--tickets", "no")
	r.keep, r.stage = kept(t), time.Now()
	subnet := netip.MustParsePrefix
	line, err := lab.NewSubnet(r.ctx, subnet("203.0.113.0/24"), "alpine", "orchid")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, line.Close()) })
	router := r.net.Host("router")
	require.NoError(t, r.net.Join(r.ctx, "router", line, "line0", subnet("203.0.113.254/24")))
	require.NoError(t, r.desk.Route(r.ctx, subnet("203.0.113.0/24"), router.Address))
	require.NoError(t, router.RateOf(r.ctx, "line0", 20e6))
	far, err := router.Distance(r.ctx, 150*time.Millisecond, 0.05, "eth0", subnet("192.0.2.0/24"), "line0", subnet("203.0.113.0/24"))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, far.Close()) })

	gold := filepath.Join(t.TempDir(), "gold")
	_, err = golddisk.Build(r.ctx, golddisk.Spec{Path: gold, Seed: 7, Size: 128 << 20, Data: 40 << 20})
	require.NoError(t, err)
	r.simulate(r.net.Host("gold"), "https://192.0.2.1:7460", "desk-gold", 1, gold)
	r.admit(map[int]string{1: "desk-gold"})
	r.jugate(nil, "capture", "desk-gold", "--as", "garden-desk")

	sites := []*site{{name: "alpine"}, {name: "orchid"}}
	for i, s := range sites {
		s.box = line.Host(s.name)
		require.NoError(t, s.box.Route(r.ctx, subnet("192.0.2.0/24"), netip.MustParseAddr("203.0.113.254")))
		var hosts []string
		for n := range 8 {
			hosts = append(hosts, fmt.Sprintf("%s-%02d", s.name, n+1))
		}
		s.room, err = lab.NewSubnet(r.ctx, netip.PrefixFrom(netip.AddrFrom4([4]byte{198, 51, 100, byte(128 * i)}), 25), hosts...)
		require.NoError(t, err)
		t.Cleanup(func() { assert.NoError(t, s.room.Close()) })
		at := netip.AddrFrom4([4]byte{198, 51, 100, byte(128*i + 126)})
		require.NoError(t, line.Join(r.ctx, s.name, s.room, "room", netip.PrefixFrom(at, 25)))
		var code api.OutpostCode
		r.jugate(&code, "outpost", "add", s.name)
		log, err := os.Create(filepath.Join(r.keep, s.name+".log"))
		require.NoError(t, err)
		cmd := s.box.Command(r.ctx, filepath.Join(r.bin, "jugate-outpost"), "--service", "https://192.0.2.1:7460", "--join", code.Code, "--data", filepath.Join(t.TempDir(), s.name), "--listen", at.String()+":7460")
		cmd.Stderr = log
		require.NoError(t, cmd.Start())
		t.Cleanup(func() {
			cmd.Process.Signal(os.Interrupt)
			cmd.Wait()
			log.Close()
		})
	}
	names, all := map[int]string{}, []string{}
	for i, s := range sites {
		r.eventually(time.Minute, func() bool {
			var o api.Outpost
			r.jugate(&o, "outpost", "show", s.name)
			return o.State == "up" && len(o.Builds) == 1
		})
		for n := range 8 {
			name := fmt.Sprintf("%s-%02d", s.name, n+1)
			disk := filepath.Join(t.TempDir(), name)
			require.NoError(t, golddisk.Blank(disk, 128<<20))
			r.simulate(s.room.Host(name), fmt.Sprintf("https://198.51.100.%d:7460", 128*i+126), name, 16*(i+1)+n, disk)
			names[16*(i+1)+n] = name
			all = append(all, name)
		}
	}
	r.admit(names)
	r.done("two outposts and sixteen workstations are there")

	outpost := func(s *site) (o api.Outpost) {
		r.jugate(&o, "outpost", "show", s.name)
		return o
	}
	before, fetched := map[string]int64{}, map[string]int64{}
	for _, s := range sites {
		before[s.name], err = s.box.Received(r.ctx)
		require.NoError(t, err)
		fetched[s.name] = outpost(s).Fetched
		assert.Zero(t, outpost(s).Slabs)
	}
	var d api.Delivery
	args := []string{"deliver", "garden-desk", "--yes", "--no-wait"}
	for _, name := range all {
		args = append(args, "--to", name)
	}
	r.jugate(&d, args...)
	show := func() api.Delivery {
		r.jugate(&d, "delivery", "show", fmt.Sprint(d.ID))
		return d
	}
	r.eventually(2*time.Minute, func() bool {
		d := show()
		return len(d.Parts) == 2 && d.Parts[0].State == delivery.Sending && d.Parts[1].State == delivery.Sending && d.Parts[0].SentSlabs > 4 && d.Parts[1].SentSlabs > 4
	})
	require.NoError(t, router.Cut(r.ctx))
	for _, s := range sites {
		r.eventually(2*time.Minute, func() bool {
			return strings.Contains(read(t, filepath.Join(r.keep, s.name+".log")), "could not be told")
		})
	}
	require.NoError(t, router.Mend(r.ctx))
	r.done("the line was cut in the middle, and mended")
	r.eventually(5*time.Minute, func() bool { return show().Ended != nil })
	assert.Equal(t, len(all), d.Delivered, "%+v", d.Members)
	r.done("all have their image")
	for _, s := range sites {
		var o api.Outpost
		r.eventually(time.Minute, func() bool { // it tells every few seconds
			last := o
			o = outpost(s)
			return o.Slabs > 0 && o.Slabs == last.Slabs && o.Slabs == outpost(sites[0]).Slabs
		})
		after, err := s.box.Received(r.ctx)
		require.NoError(t, err)
		came := after - before[s.name]
		t.Logf("%s holds %d slabs of %d bytes; %d bytes of slabs and files came over the line, in packets of %d", s.name, o.Slabs, o.Bytes, o.Fetched-fetched[s.name], came)
		assert.Less(t, float64(o.Fetched-fetched[s.name]), 1.05*float64(o.Bytes), "each slab came once")
		assert.Less(t, float64(came), 1.5*float64(o.Bytes), "also by the counter of the line, with the headers of packets, what had to be sent again, and what eight agents and an outpost say")
	}
}

// Two outposts on one wire notice each other: one answers, and the other one when that fails.
func TestTwoOutpostsOnOneWire(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("network namespaces need root")
	}
	r, _ := startDesk(t, []string{"alpine", "orchid", "client"}, "--netboot", "eth0=off")
	r.keep, r.stage = kept(t), time.Now()
	start := func(name, pool string) (stop func()) {
		var code api.OutpostCode
		r.jugate(&code, "outpost", "add", name)
		log, err := os.Create(filepath.Join(r.keep, name+".log"))
		require.NoError(t, err)
		h := r.net.Host(name)
		cmd := h.Command(r.ctx, filepath.Join(r.bin, "jugate-outpost"), "--service", "https://192.0.2.1:7460", "--join", code.Code, "--data", filepath.Join(t.TempDir(), name), "--listen", h.Address.String()+":7460",
			"--netboot", "eth0=whole", "--pool", pool)
		cmd.Stderr = log
		require.NoError(t, cmd.Start())
		stop = sync.OnceFunc(func() {
			cmd.Process.Kill()
			cmd.Wait()
			log.Close()
		})
		t.Cleanup(stop)
		r.eventually(time.Minute, func() bool {
			return strings.Contains(r.linkOf(name), "serving") || strings.Contains(r.linkOf(name), "silent")
		})
		return stop
	}
	stop := start("alpine", "192.0.2.100-192.0.2.150/24")
	start("orchid", "192.0.2.160-192.0.2.200/24")
	r.eventually(time.Minute, func() bool { return r.linkOf("orchid") == "silent, as the outpost alpine answers here" })
	assert.Equal(t, "serving", r.linkOf("alpine"))
	for n := range 5 {
		offer, err := ask(r.ctx, r.net.Host("client"), fmt.Sprintf("00:00:5e:00:53:%02x", 0x70+n))
		require.NoError(t, err)
		assert.Equal(t, r.net.Host("alpine").Address.String(), offer.ServerIdentifier().String())
	}
	r.done("one of two answers")
	stop()
	r.eventually(time.Minute, func() bool { return r.linkOf("orchid") == "serving" })
	offer, err := ask(r.ctx, r.net.Host("client"), "00:00:5e:00:53:78")
	require.NoError(t, err)
	assert.Equal(t, r.net.Host("orchid").Address.String(), offer.ServerIdentifier().String())
	r.done("it was killed, and the other one answers")
}

// linkOf is how the only interface of an outpost stands.
func (r *room) linkOf(name string) string {
	var o api.Outpost
	r.jugate(&o, "outpost", "show", name)
	if len(o.Links) == 0 {
		return ""
	}
	return o.Links[0].State
}
