package doctor

import (
	"context"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"jugate/api"
	"jugate/core/check"
	"jugate/core/roster"
)

// well is a service that nothing is wrong with.
func well() serviceFacts {
	return serviceFacts{
		parts:   []api.PartState{{Part: "records", State: api.Good, What: "written and read"}},
		links:   []api.NetbootLink{{Interface: "eth1", Mode: "beside", State: "serving"}},
		others:  map[string]answers{"eth1": {from: []netip.Addr{netip.MustParseAddr("192.0.2.53")}}},
		offered: &api.Build{Number: 3}, at: []string{"https://192.0.2.1:7460"}, people: 2, images: 1, buffer: 8 << 20, files: 65536, inodes: 1000, inodesFree: 900,
	}
}

// found are the faults among what was looked at.
func found(all []api.Diagnosis) (faults []api.Diagnosis) {
	for _, one := range all {
		if one.State != api.Good {
			faults = append(faults, one)
		}
	}
	return faults
}

// Each fault of a service is found, alone, and says what to do.
func TestFaultsOfTheService(t *testing.T) {
	f := well()
	assert.Empty(t, found(f.judge()))
	assert.NotEmpty(t, f.judge(), "what is well is told, too")
	for name, c := range map[string]struct {
		spoil func(f *serviceFacts)
		state string
		says  string
		cure  string
	}{
		"a part": {func(f *serviceFacts) {
			f.parts = append(f.parts, api.PartState{Part: "store big", State: api.Bad, What: "it does not answer", Cure: "look at it"})
		}, api.Bad, "it does not answer", "look at it"},
		"nothing is served":            {func(f *serviceFacts) { f.links = nil }, api.Warning, "answered on no interface", "jugate config set netboot"},
		"nobody gives addresses":       {func(f *serviceFacts) { f.others["eth1"] = answers{} }, api.Bad, "169.254.x.x", "start the DHCP server"},
		"nobody could listen":          {func(f *serviceFacts) { f.others["eth1"] = answers{err: unix.EADDRINUSE} }, api.Warning, "could not be told: address already in use", "start it by its unit"},
		"two give addresses":           {func(f *serviceFacts) { f.links[0].Mode = "whole" }, api.Bad, "192.0.2.53 gives addresses there, too", "=beside"},
		"a build lacks something":      {func(f *serviceFacts) { f.offered.Problems = []string{"no BIOS workstation can boot it"} }, api.Warning, "no BIOS workstation", "install what it names"},
		"no build, and nothing served": {func(f *serviceFacts) { f.offered, f.links = nil, nil }, api.Warning, "no build is offered", "jugate environment build --offer"},
		"on loopback":                  {func(f *serviceFacts) { f.at = []string{"https://127.0.0.1:7460"} }, api.Warning, "from this machine alone", "jugate setup"},
		"nobody":                       {func(f *serviceFacts) { f.people = 0 }, api.Warning, "nobody can sign in by name", "jugate person add"},
		"no image":                     {func(f *serviceFacts) { f.images = 0 }, api.Warning, "no image was captured or imported yet", "jugate capture"},
		"lost records":                 {func(f *serviceFacts) { f.unrecorded = []roster.Ref{{Image: "garden-desk", Version: 3}} }, api.Bad, "the records do not know 1 version in the data folder, garden-desk@3 among them", "jugate image rescan"},
		"small buffers":                {func(f *serviceFacts) { f.buffer = 212992 }, api.Warning, "208 KiB", "CAP_NET_ADMIN"},
		"few files":                    {func(f *serviceFacts) { f.files = 1024 }, api.Warning, "1024 files", "LimitNOFILE"},
		"no more files on the disk":    {func(f *serviceFacts) { f.inodesFree = 10 }, api.Bad, "10 of 1000 more files", "prune"},
	} {
		t.Run(name, func(t *testing.T) {
			f := well()
			c.spoil(&f)
			faults := found(f.judge())
			require.NotEmpty(t, faults)
			last := faults[len(faults)-1]
			assert.Equal(t, c.state, last.State)
			assert.Contains(t, last.What, c.says)
			assert.NotEmpty(t, c.cure)
			assert.Contains(t, last.Cure, c.cure)
		})
	}
	f = well()
	f.links[0].Mode, f.others["eth1"] = "whole", answers{}
	assert.Empty(t, found(f.judge()), "this service alone gives them")
	f.inodes, f.inodesFree = 0, 0
	assert.Empty(t, found(f.judge()), "a file system without a bound")
}

// on is a workstation that waits, with an image on its disk.
func on() workstationFacts {
	return workstationFacts{ref: "herb-07", is: &api.Workstation{Name: "herb-07", State: roster.Admitted, Addresses: []string{"00:00:5e:00:53:17"}, Online: true, Image: "garden-desk@3"},
		status: api.NetbootStatus{Unknown: "hold", Offered: 3, Links: []api.NetbootLink{{Interface: "eth1", Mode: "beside", State: "serving"}}}, check: &api.Check{ID: 4, Verdict: check.Good}}
}

// Each reason for which a workstation does not come up is found.
func TestFaultsOfAWorkstation(t *testing.T) {
	f := on()
	assert.Empty(t, found(f.judge()))
	off := func(f *workstationFacts) { f.is.Online = false }
	unseen := func(f *workstationFacts) { f.ref, f.is, f.check = "00:00:5e:00:53:99", nil, nil }
	for name, c := range map[string]struct {
		spoil func(f *workstationFacts)
		state string
		says  string
		cure  string
	}{
		"turned away":          {func(f *workstationFacts) { off(f); f.refused = true }, api.Bad, "turned it away", "jugate workstation welcome herb-07"},
		"unknown, and ignored": {func(f *workstationFacts) { unseen(f); f.status.Unknown = "ignore" }, api.Bad, "get no answer", "jugate config set unknown hold"},
		"a newcomer":           {func(f *workstationFacts) { f.is.State = roster.Newcomer }, api.Warning, "waits to be admitted", "jugate workstation admit"},
		"a newcomer, ignored":  {func(f *workstationFacts) { f.is.State, f.status.Unknown = roster.Newcomer, "ignore" }, api.Bad, "get no answer", "jugate workstation admit"},
		"retired":              {func(f *workstationFacts) { f.is.State = roster.Retired }, api.Warning, "it is retired", "jugate workstation admit"},
		"nothing was heard":    {func(f *workstationFacts) { off(f); f.bootKey = "F12" }, api.Bad, "nothing was heard of it", "press F12"},
		"nothing, and no key":  {off, api.Bad, "nothing was heard of it", "choose the network card"},
		"nobody has seen it":   {unseen, api.Bad, "nothing was heard of it", "relay agent"},
		"nothing is served":    {func(f *workstationFacts) { off(f); f.status.Links = nil }, api.Bad, "served on no interface", "jugate config set netboot"},
		"no build":             {func(f *workstationFacts) { off(f); f.status.Offered = 0 }, api.Bad, "no build", "jugate environment build --offer"},
		"its outpost":          {func(f *workstationFacts) { off(f); f.is.Site = "alpine" }, api.Warning, "by the outpost alpine", "jugate outpost show alpine"},
		"stuck": {func(f *workstationFacts) {
			off(f)
			f.trail = &api.BootTrail{Stuck: "it asked for an address and never for a file"}
		}, api.Bad, "never for a file", "jugate netboot status"},
		"a card without driver": {func(f *workstationFacts) {
			off(f)
			f.trail = &api.BootTrail{Stuck: "its card has no driver", Cover: "herb-07"}
		}, api.Bad, "no driver", "--cover herb-07"},
		"an errand waits": {func(f *workstationFacts) {
			off(f)
			f.trail = &api.BootTrail{Steps: []api.BootStep{{Step: "agent", At: time.Now()}}}
			f.errands = []api.Errand{{ID: 9, Kind: "capture", State: "waiting"}}
		}, api.Warning, "capture 9 waits", "jugate workstation wake herb-07"},
		"another card": {func(f *workstationFacts) { f.is.Proposed = []string{"00:00:5e:00:53:aa"} }, api.Warning, "00:00:5e:00:53:aa", "jugate card accept herb-07 00:00:5e:00:53:aa"},
		"half a copy":  {func(f *workstationFacts) { f.is.Unfinished = true }, api.Bad, "does not start", "jugate deliver garden-desk@3 --to herb-07"},
		"a bad disk": {func(f *workstationFacts) {
			f.check = &api.Check{ID: 5, Verdict: check.Bad, Findings: []check.Judgement{{Verdict: check.Doubtful, Text: "old"}, {Verdict: check.Bad, Text: "in 3 places it cannot be read"}}}
		}, api.Bad, "in 3 places it cannot be read", "jugate check show 5"},
	} {
		t.Run(name, func(t *testing.T) {
			f := on()
			c.spoil(&f)
			faults := found(f.judge())
			require.NotEmpty(t, faults)
			var match *api.Diagnosis
			for i, one := range faults {
				if strings.Contains(one.What, c.says) {
					match = &faults[i]
				}
			}
			require.NotNil(t, match, "%v", faults)
			assert.Equal(t, c.state, match.State)
			assert.Contains(t, match.Cure, c.cure)
		})
	}
	f = on()
	off(&f)
	f.trail = &api.BootTrail{Steps: []api.BootStep{{Step: "initrd", At: time.Now(), Detail: "40 MiB"}}}
	assert.Empty(t, found(f.judge()), "it is on its way")
}

// However often somebody asks, a network is asked for its servers once in a while.
func TestNobodyFloodsANetworkByAsking(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var asked atomic.Int32
		d := &Doctor{Others: func(context.Context, string) ([]netip.Addr, error) {
			asked.Add(1)
			return []netip.Addr{netip.MustParseAddr("192.0.2.53")}, nil
		}}
		links := []api.NetbootLink{{Interface: "eth1", Mode: "beside", State: "serving"}, {Interface: "eth2", Mode: "off", State: "serving"}, {Interface: "eth3", Mode: "whole", State: "no such interface"}}
		var all sync.WaitGroup
		for range 100 {
			all.Go(func() { assert.Equal(t, "192.0.2.53", d.others(t.Context(), links)["eth1"].from[0].String()) })
		}
		all.Wait()
		assert.EqualValues(t, 1, asked.Load())
		links[1].Mode = "beside"
		assert.Len(t, d.others(t.Context(), links), 2, "one that is served since then")
		assert.EqualValues(t, 3, asked.Load())
		time.Sleep(heardFor)
		d.others(t.Context(), links)
		assert.EqualValues(t, 5, asked.Load())
	})
}
