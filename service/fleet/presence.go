package fleet

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"sync"
	"time"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/rights"
	"jugate/core/roster"
	"jugate/records"
)

const (
	// longPoll is how long a question for an errand stays open.
	longPoll = 20 * time.Second
	// onlineFor is how long after its last word an agent counts as there.
	onlineFor = 60 * time.Second
)

// agents is what the service knows of the agents that have checked in since it
// started: their passes, what they are doing, and how to ring them.
type agents struct {
	mu     sync.Mutex
	byPass map[string]int64 // to the workstation's number
	byID   map[int64]*presence
}

type presence struct {
	pass       string
	key        string   // digest of the key that the pass is good with
	boot       string   // the kernel's number for the machine's boot
	earlier    []string // of boots before, the latest last
	from       netip.Addr
	seen       time.Time
	errand     int64     // that the agent was given and is at; 0 while it waits
	signedIn   *SignedIn // who has signed in at it; nil if nobody has
	signedInAt time.Time
	activity   api.Activity
	bell       chan struct{} // has room for one ring

	// A copy of the record, as agents ask often and the roster changes seldom.
	name, label string
	state       roster.State
	onDisk      string
}

const (
	// atWorkFor is how long an agent with an errand keeps its pass while it is silent. No
	// machine restarts in less.
	atWorkFor = 15 * time.Second
	// bootsKept is how many boots are remembered, to tell a machine that starts again
	// from two that take turns.
	bootsKept = 8
)

// errTwice says that a machine that claims to be the same one is at work.
var errTwice = fault.Conflict.Errorf("another machine is at work as this workstation now")

// mayEnter tells whether a machine in this boot may check in as the workstation, or has
// to wait for another that claims to be the same.
func (a *agents) mayEnter(id int64, now time.Time, boot string) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	p := a.byID[id]
	if p == nil || p.boot == boot {
		return nil
	}
	silent := now.Sub(p.seen)
	if p.errand != 0 && silent < atWorkFor {
		return fmt.Errorf("%w, and was heard %d s ago; this one can begin when that has said nothing for %d s", errTwice, int(silent.Seconds()), int(atWorkFor.Seconds()))
	}
	if slices.Contains(p.earlier, boot) && silent < onlineFor {
		return fmt.Errorf("%w: two machines have its hardware address and take turns; give one of them another network card, or switch it off", errTwice)
	}
	return nil
}

// admit gives a workstation a new pass; the old one is no longer good.
func (a *agents) admit(id int64, now time.Time, boot string, by Caller, errand int64) string {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.byPass == nil {
		a.byPass, a.byID = map[string]int64{}, map[int64]*presence{}
	}
	p := a.byID[id]
	if p == nil {
		p = &presence{bell: make(chan struct{}, 1)}
		a.byID[id] = p
	}
	if p.boot != boot {
		if p.boot != "" {
			p.earlier = append(p.earlier, p.boot)
		}
		p.earlier = slices.DeleteFunc(p.earlier, func(b string) bool { return b == boot })
		p.earlier = p.earlier[max(0, len(p.earlier)-bootsKept):]
		p.signedIn = nil
	}
	delete(a.byPass, p.pass)
	p.pass, p.key, p.boot, p.from, p.seen, p.errand, p.activity = newPass(), by.Key, boot, by.At, now, errand, api.Activity{}
	a.byPass[p.pass] = id
	return p.pass
}

// at notes which errand an agent is at; 0 ends that.
func (a *agents) at(id, errand int64) {
	a.with(id, func(p *presence) {
		if p.errand != 0 && errand == 0 {
			p.signedIn = nil
		}
		p.errand = errand
	})
}

// with calls f with an agent's state, if it has checked in.
func (a *agents) with(id int64, f func(p *presence)) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if p := a.byID[id]; p != nil {
		f(p)
	}
}

// forget drops a workstation that is not recorded any more.
func (a *agents) forget(id int64) {
	a.with(id, func(p *presence) {
		delete(a.byPass, p.pass)
		delete(a.byID, id)
	})
}

// enter finds the workstation of a pass, if whoever shows it has its key, and notes that it was heard.
func (a *agents) enter(pass, key string, now time.Time) (int64, bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	id, known := a.byPass[pass]
	if !known || a.byID[id].key != key {
		return 0, false
	}
	a.byID[id].seen = now
	return id, true
}

func (a *agents) presence(id int64) (presence, bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	p := a.byID[id]
	if p == nil {
		return presence{}, false
	}
	c := *p
	c.earlier = nil // changes beneath
	return c, true
}

// newcomers are the workstations that are not admitted.
func (a *agents) newcomers() (ids []int64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for id, p := range a.byID {
		if p.state.Unknown() {
			ids = append(ids, id)
		}
	}
	return ids
}

// does notes what an agent is doing.
func (a *agents) does(id int64, activity api.Activity) {
	a.with(id, func(p *presence) { p.activity = activity })
}

// signIn notes that a person has signed in at a workstation; that ends with the next errand, when it checks
// in again, and by itself.
func (a *agents) signIn(id int64, now time.Time, by SignedIn) {
	a.with(id, func(p *presence) { p.signedIn, p.signedInAt = &by, now })
}

// ring wakes the workstation's open request for an errand.
func (a *agents) ring(id int64) {
	p, known := a.presence(id)
	if !known {
		return
	}
	select {
	case p.bell <- struct{}{}:
	default:
	}
}

// newPass makes 256 random bits in hexadecimal.
func newPass() string {
	b := make([]byte, 32)
	rand.Read(b)
	return hex.EncodeToString(b)
}

// Activity is what a workstation is doing; false if its agent has not called since the
// start of the service.
func (f *Fleet) Activity(id int64) (api.Activity, bool) {
	p, known := f.agents.presence(id)
	return p.activity, known
}

// recall refreshes the copy of a workstation's record. Calls run one after the other, so
// that the latest state is stored last.
func (f *Fleet) recall(ctx context.Context, id int64) (*records.Workstation, error) {
	all, err := f.recallAll(ctx, []int64{id})
	if err != nil {
		return nil, err
	}
	if len(all) == 0 {
		return f.Records.Workstation(ctx, id) // which says that it is not there
	}
	return &all[0], nil
}

// recallAll is recall for many at once.
func (f *Fleet) recallAll(ctx context.Context, ids []int64) ([]records.Workstation, error) {
	f.recalling.Lock()
	defer f.recalling.Unlock()
	byNumber, err := f.Records.ByNumber(ctx, ids)
	if err != nil {
		return nil, err
	}
	moved, err := f.fill(ctx, byNumber)
	if err != nil {
		f.Log.Error("groups cannot be filled", "error", err)
	}
	again, err := f.Records.ByNumber(ctx, moved)
	if err != nil {
		return nil, err
	}
	maps.Copy(byNumber, again)
	all := make([]records.Workstation, 0, len(byNumber))
	for _, id := range ids {
		if w, is := byNumber[id]; is {
			f.agents.with(id, func(p *presence) { p.name, p.label, p.state, p.onDisk = w.Name, w.Label(), w.State, onDisk(w) })
			all = append(all, w)
		}
	}
	return all, nil
}

// onDisk says what is on a workstation's disk, by its receipts; nothing if it never got
// an image.
func onDisk(w records.Workstation) string {
	switch holds, unfinished := w.Holds(); {
	case holds.Image == "":
		return ""
	case unfinished:
		return "an unfinished copy of " + holds.String()
	default:
		return holds.String()
	}
}

// SignedIn is somebody who has signed in at a workstation.
type SignedIn struct {
	By     actor.Actor
	Person int64 // 0 unless somebody has signed in by name
	// Holder tells what they may do, whenever that is asked.
	Holder func(ctx context.Context) (*rights.Holder, error)
}

// signedInFor is how long somebody is signed in at a workstation who orders nothing: they may have walked away.
const signedInFor = 30 * time.Minute

// SignedInAt is who has signed in at a workstation, and what they may do; nobody if nobody has.
func (f *Fleet) SignedInAt(ctx context.Context, id int64) (by actor.Actor, person int64, holder *rights.Holder, err error) {
	p, _ := f.agents.presence(id)
	if p.signedIn == nil || !f.Now().Before(p.signedInAt.Add(signedInFor)) {
		return by, 0, nil, nil
	}
	holder, err = p.signedIn.Holder(ctx)
	return p.signedIn.By, p.signedIn.Person, holder, err
}

// BootOf is the boot that a workstation's agent has checked in from; empty if it has not since the service began.
func (f *Fleet) BootOf(id int64) string {
	p, _ := f.agents.presence(id)
	return p.boot
}

// IsOnline tells whether a workstation's agent has called in the last minute.
func (f *Fleet) IsOnline(id int64) bool {
	p, known := f.agents.presence(id)
	return known && f.Now().Sub(p.seen) < onlineFor
}

// Enter finds the workstation of an agent's pass, and notes that it was heard. The error
// is a fault.Stranger.
func (f *Fleet) Enter(by Caller, pass string) (int64, error) {
	id, known := f.agents.enter(pass, by.Key, f.Now())
	if !known {
		return 0, fault.Stranger.Errorf("this pass is not good (any more); check in again")
	}
	return id, nil
}

// Ring makes a workstation that waits for an errand look again.
func (f *Fleet) Ring(id int64) { f.agents.ring(id) }

// At notes which errand a workstation is at; 0 ends that.
func (f *Fleet) At(id, errand int64) { f.agents.at(id, errand) }

// SignIn notes that a person has signed in at a workstation; that ends with the next errand, when it checks
// in again, and by itself.
func (f *Fleet) SignIn(id int64, by SignedIn) { f.agents.signIn(id, f.Now(), by) }

// Changed publishes a workstation's state, after its record has changed.
func (f *Fleet) Changed(ctx context.Context, id int64) {
	w, err := f.recall(ctx, id)
	if err != nil {
		f.Log.Warn("a workstation cannot be read", "id", id, "error", err)
		return
	}
	f.Publish(f.workstation(*w))
}

// Doing notes what a workstation does in a delivery, and that it is there: also of one of which
// an outpost tells. It is not published, as those who watch the delivery are told of each step there.
func (f *Fleet) Doing(id int64, text string) {
	f.agents.with(id, func(p *presence) { p.activity, p.seen = api.Activity{Text: text}, f.Now() })
}

// Active notes what an agent is doing.
func (f *Fleet) Active(ctx context.Context, id int64, activity api.Activity) {
	f.agents.does(id, activity)
	f.publish(ctx, id)
}
