package overview

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
)

var noon = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)

// house are rooms that tell what they are set to.
type house struct {
	ready       error
	directories list[api.Directory]
	outposts    list[api.Outpost]
	stores      list[api.Store]
	backups     api.BackupsDue
	standby     api.Standby
	rules       []api.NotificationRule
	until       time.Time
}

// Each room tells one thing in its own words.
type (
	list[T any] []T
	bookkeeper  struct{ *house }
	copyist     struct{ *house }
)

func (l list[T]) List(context.Context) ([]T, error)                    { return l, nil }
func (h bookkeeper) Schedule(context.Context) (api.BackupsDue, error)  { return h.backups, nil }
func (h copyist) Show(context.Context) (api.Standby, error)            { return h.standby, nil }
func (h *house) Ready(context.Context) error                           { return h.ready }
func (h *house) Rules(context.Context) ([]api.NotificationRule, error) { return h.rules, nil }
func (h *house) Until() time.Time                                      { return h.until }

func (h *house) parts(t *testing.T, boot api.NetbootStatus, open ...api.Delivery) (all []api.PartState) {
	t.Helper()
	o := &Overview{Now: func() time.Time { return noon }, Parts: Parts{Dir: t.TempDir(), Records: h, Sites: h.outposts, Stores: h.stores, Backups: bookkeeper{h}, Standby: copyist{h}, Directories: h.directories, Notify: h, Certificates: h}}
	all, err := o.parts(t.Context(), boot, open)
	require.NoError(t, err)
	return all
}

// Each fault that a part can have is told, alone, at that part.
func TestFaultsOfParts(t *testing.T) {
	yesterday, long := noon.Add(-20*time.Hour), noon.Add(-50*time.Hour)
	well := func() (*house, *api.NetbootStatus) {
		return &house{until: noon.AddDate(1, 0, 0), directories: []api.Directory{{Name: "garden", Asked: &yesterday}, {Name: "city"}}, outposts: []api.Outpost{{Name: "alpine", State: "connected"}, {Name: "bus", State: "away", OnMedia: true}, {Name: "former", State: "withdrawn"}},
				stores: []api.Store{{Name: "folder", State: "ready"}}, backups: api.BackupsDue{BackupSchedule: api.BackupSchedule{Store: "shelf", At: "02:00"}, Ended: &yesterday}, standby: api.Standby{Store: "shelf"}, rules: []api.NotificationRule{{Rule: "desk"}}},
			&api.NetbootStatus{Offered: 3, Links: []api.NetbootLink{{Interface: "eth1", Mode: "whole", State: "serving", Pools: []api.NetbootPool{{Range: "192.0.2.100-192.0.2.199", Left: 90, Of: 100}}}, {Interface: "eth2", Mode: "off"}}}
	}
	troubled := func(all []api.PartState) (bad []string) {
		for _, p := range all {
			if p.State != api.Good {
				assert.NotEmpty(t, p.Cure, p.What)
				bad = append(bad, p.Part+": "+p.State+": "+p.What)
			}
		}
		return bad
	}
	h, boot := well()
	all := h.parts(t, *boot)
	assert.Empty(t, troubled(all))
	assert.Len(t, all, 10, "what is well is told, too; media that are away and withdrawn outposts are not parts")
	for want, spoil := range map[string]func(*house, *api.NetbootStatus){
		"records: bad: the disk is full":                                                  func(h *house, _ *api.NetbootStatus) { h.ready = errors.New("the disk is full") },
		"certificate: bad: it ended 2026-03-01":                                           func(h *house, _ *api.NetbootStatus) { h.until = noon.AddDate(0, 0, -1) },
		"certificate: warning: it ends 2026-03-12":                                        func(h *house, _ *api.NetbootStatus) { h.until = noon.AddDate(0, 0, 10) },
		"directory garden: bad: it refuses the account":                                   func(h *house, _ *api.NetbootStatus) { h.directories[0].Trouble = "it refuses the account" },
		"outpost alpine: warning: it has not joined yet":                                  func(h *house, _ *api.NetbootStatus) { h.outposts[0].State = "expected" },
		"outpost alpine: bad: nothing is heard of it; its machines boot from their disks": func(h *house, _ *api.NetbootStatus) { h.outposts[0].State = "away" },
		"outpost alpine: bad: network boot on eth1: no such network interface": func(h *house, _ *api.NetbootStatus) {
			h.outposts[0].Links = []api.NetbootLink{{Interface: "eth0", State: "serving"}, {Interface: "eth1", State: "network boot on eth1: no such network interface"}}
		},
		"outpost alpine: warning: its disk is full": func(h *house, _ *api.NetbootStatus) { h.outposts[0].Trouble = "its disk is full" },
		"store folder: bad: it does not answer: no route to host": func(h *house, _ *api.NetbootStatus) {
			h.stores[0].State, h.stores[0].Trouble = "away", "no route to host"
		},
		"backups: warning: none are made by themselves":                                       func(h *house, _ *api.NetbootStatus) { h.backups = api.BackupsDue{} },
		"backups: bad: the last one failed: no room":                                          func(h *house, _ *api.NetbootStatus) { h.backups.Trouble = "no room" },
		"backups: warning: the last one ended 2 days ago":                                     func(h *house, _ *api.NetbootStatus) { h.backups.Ended = &long },
		"copy for another machine: bad: the store is away":                                    func(h *house, _ *api.NetbootStatus) { h.standby.Trouble = "the store is away" },
		"notifications by desk: warning: nobody takes it":                                     func(h *house, _ *api.NetbootStatus) { h.rules[0].Trouble = "nobody takes it" },
		"network boot on eth1: bad: eth1 does not exist":                                      func(_ *house, b *api.NetbootStatus) { b.Links[0].State = "eth1 does not exist" },
		"network boot on eth1: warning: no build of the boot environment is offered":          func(_ *house, b *api.NetbootStatus) { b.Offered = 0 },
		"network boot on eth1: warning: of the addresses 192.0.2.100-192.0.2.199, 4 are left": func(_ *house, b *api.NetbootStatus) { b.Links[0].Pools[0].Left = 4 },
		"boot environment: warning: its certificate ends soon":                                func(_ *house, b *api.NetbootStatus) { b.Renew = "its certificate ends soon" },
	} {
		t.Run(strings.ReplaceAll(want, "/", " "), func(t *testing.T) {
			h, boot := well()
			spoil(h, boot)
			assert.Equal(t, []string{want}, troubled(h.parts(t, *boot)))
		})
	}
	assert.Equal(t, []string{"streams: warning: 2 deliveries go to each workstation alone: the network carries no multicast to them"}, troubled(h.parts(t, *boot, api.Delivery{Unicast: true, RateNow: 1}, api.Delivery{Unicast: true}, api.Delivery{RateNow: 1})))
}
