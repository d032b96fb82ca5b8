package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"sync"
	"time"

	"jugate/core/fault"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"

	"jugate/api"
	"jugate/core/driver"
	"jugate/core/hwaddr"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/records"
)

const (
	// longPoll is how long a question for an errand stays open.
	longPoll = 20 * time.Second
	// onlineFor is how long after its last word an agent counts as there.
	onlineFor = 60 * time.Second
)

// agents is what the service knows of the agents that have checked in since it
// started: their passes, what they are doing, and how to wake them.
type agents struct {
	mu     sync.Mutex
	byPass map[string]int64 // to the workstation's number
	byID   map[int64]*presence
}

type presence struct {
	pass     string
	boot     string   // the kernel's number for the machine's boot
	earlier  []string // of boots before, the latest last
	from     netip.Addr
	seen     time.Time
	errand   int64 // that the agent was given and is at; 0 while it waits
	signedIn bool  // a person has signed in at it
	activity api.Activity
	bell     chan struct{} // has room for one ring
}

const (
	// atWorkFor is how long the agent that is at an errand keeps its pass although it
	// says nothing: no machine starts again in less.
	atWorkFor = 15 * time.Second
	// bootsKept is how many boots are remembered, to tell a machine that starts again
	// from two that take turns.
	bootsKept = 8
)

// errTwice says that a machine that claims to be the same one is at work.
var errTwice = errors.New("another machine is at work as this workstation now")

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
func (a *agents) admit(id int64, now time.Time, boot string, from netip.Addr, errand int64) string {
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
		p.signedIn = false
	}
	delete(a.byPass, p.pass)
	p.pass, p.boot, p.from, p.seen, p.errand, p.activity = newSecret(), boot, from, now, errand, api.Activity{}
	a.byPass[p.pass] = id
	return p.pass
}

// at notes which errand an agent is at; 0 ends that.
func (a *agents) at(id, errand int64) {
	a.with(id, func(p *presence) { p.errand = errand })
}

// with lets f change what is known of an agent, if it has checked in.
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

// enter finds the workstation of a pass and notes that it was heard.
func (a *agents) enter(pass string, now time.Time) (int64, bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	id, known := a.byPass[pass]
	if known {
		a.byID[id].seen = now
	}
	return id, known
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

func (a *agents) tell(id int64, activity api.Activity) {
	a.with(id, func(p *presence) { p.activity = activity })
}

// signIn notes that a person has signed in at a workstation; that ends when it checks
// in again.
func (a *agents) signIn(id int64) {
	a.with(id, func(p *presence) { p.signedIn = true })
}

// wake answers the workstation's open question for an errand.
func (a *agents) wake(id int64) {
	p, known := a.presence(id)
	if !known {
		return
	}
	select {
	case p.bell <- struct{}{}:
	default:
	}
}

// callerKey is where requirePass puts the number of the calling workstation.
type callerKey struct{}

func caller(ctx context.Context) int64 { return ctx.Value(callerKey{}).(int64) }

func (s *Service) requirePass(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		id, known := s.agents.enter(bearer(r.Header.Get("Authorization")), s.config.Now())
		if !known {
			s.fail(w, r, fault.Stranger.Errorf("this pass is not good (any more); check in again"))
			return
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), callerKey{}, id)))
	})
}

// requireAdmitted lets workstations of the roster through, and no newcomers.
func (s *Service) requireAdmitted(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		is, err := s.records.Workstation(r.Context(), caller(r.Context()))
		if err == nil {
			if refused := roster.MustBeAdmitted(is.Label(), is.State); refused != nil {
				err = fault.Forbidden.Mark(refused)
			}
		}
		if err != nil {
			s.fail(w, r, err)
			return
		}
		next.ServeHTTP(w, r)
	})
}

// checkInAtMost is how long a check-in may be, in bytes: an inventory has some hundred
// devices.
const checkInAtMost = 256 << 10

func (s *Service) agentAPI(r chi.Router) {
	config := func() huma.Config {
		c := huma.DefaultConfig("Jugate agents", Version)
		c.OpenAPIPath, c.DocsPath, c.SchemasPath, c.CreateHooks = "", "", "", nil
		return c
	}
	huma.Register(humachi.New(r, config()), huma.Operation{OperationID: "check-in", Method: http.MethodPost, Path: "/check-in", MaxBodyBytes: checkInAtMost}, s.checkIn)
	r.Group(func(r chi.Router) {
		r.Use(s.requirePass)
		h := humachi.New(r, config())
		huma.Get(h, "/standing", s.standing)
		huma.Post(h, "/activity", s.activity)
		huma.Post(h, "/sign-in", s.signIn)
		huma.Post(h, "/wish", s.wish)
		r.Group(func(r chi.Router) {
			r.Use(s.requireAdmitted)
			h := humachi.New(r, config())
			huma.Post(h, "/errands/{id}/missing", s.missingSlabs)
			huma.Post(h, "/errands/{id}/fail", s.failErrand)
			huma.Post(h, "/errands/{id}/put", s.hasPut)
			huma.Post(h, "/lacks", s.lacks)
			huma.Post(h, "/deliveries/{id}/progress", s.progress)
			huma.Register(h, huma.Operation{OperationID: "lacking", Method: http.MethodPost, Path: "/deliveries/{id}/lacking", MaxBodyBytes: 4 << 20}, s.lacking)
			r.Put("/errands/{id}/slabs/{digest}", s.putSlab)
			r.Put("/errands/{id}/map", s.putMap)
			r.Put("/errands/{id}/manifest", s.putManifest)
			r.Get("/drivers/{id}/files/*", s.getDriverFile)
			r.Get("/deliveries/{id}/manifest", s.getManifest)
			r.Get("/deliveries/{id}/map", s.getMap)
			r.Get("/deliveries/{id}/slabs/{digest}", s.getSlab)
		})
	})
}

func (s *Service) checkIn(ctx context.Context, in *struct{ Body api.CheckIn }) (*reply[api.CheckedIn], error) {
	seen, err := s.seen(ctx, in.Body)
	if err != nil {
		return nil, err
	}
	w, err := s.records.CheckIn(ctx, s.config.Now(), seen)
	switch {
	case errors.Is(err, records.ErrTicket), errors.Is(err, records.ErrRefused):
		err = fault.Forbidden.Mark(err)
	case errors.Is(err, records.ErrTwice), errors.Is(err, errTwice):
		err = fault.Conflict.Mark(err)
	}
	if err != nil {
		s.log.Warn("an agent may not check in", "addresses", few(in.Body.Addresses), "from", peer(ctx), "error", err)
		return nil, problem(err)
	}
	pass := s.agents.admit(w.ID, s.config.Now(), in.Body.Boot, peer(ctx), in.Body.Errand)
	for _, a := range append(seen.Own, seen.Adapters...) {
		s.called(a, w.Label())
	}
	s.log.Info("agent checked in", "workstation", w.Label(), "state", w.State, "model", w.Model, "from", peer(ctx))
	if len(w.Proposed()) > 0 {
		s.log.Warn("a workstation has network cards that nobody has accepted (jugate card list --state proposed)", "workstation", w.Label(), "addresses", w.Proposed())
	}
	s.events.publish(s.workstation(*w))
	return answer(api.CheckedIn{Pass: pass, Name: w.Name, State: string(w.State)}, nil)
}

// few are the first of many texts, for the log.
func few(texts []string) []string { return texts[:min(len(texts), 4)] }

// seen is what the records are told of a check-in.
func (s *Service) seen(ctx context.Context, in api.CheckIn) (records.Seen, error) {
	inv := in.Inventory
	out := records.Seen{AcceptCards: s.config.AcceptCards, Errand: in.Errand, Allow: func(id int64) error {
		if id == 0 {
			return s.newcomers.allow(peer(ctx), s.config.Now())
		}
		return s.agents.mayEnter(id, s.config.Now(), in.Boot)
	}}
	adapters := map[hwaddr.Address]bool{}
	for _, c := range inv.Cards {
		if a, err := hwaddr.Parse(c.Address); err == nil && c.Adapter {
			adapters[a] = true
		}
	}
	for _, text := range in.Addresses {
		a, err := hwaddr.Parse(text)
		if err != nil {
			return out, fault.Invalid.Mark(err)
		}
		if adapters[a] {
			out.Adapters = append(out.Adapters, a)
		} else {
			out.Own = append(out.Own, a)
		}
	}
	text, err := json.Marshal(inv)
	if err != nil {
		return out, err
	}
	out.Workstation = records.Workstation{Maker: inv.Maker, Model: inv.Model, Serial: inv.Serial, UUID: inv.UUID, Memory: inv.Memory,
		Inventory: string(text), AgentVersion: in.AgentVersion}
	if in.Ticket != "" { // refused if it is not good, even where none is needed: something is wrong then
		out.Ticket = &records.Ticket{Digest: slabstore.Sum([]byte(in.Ticket)).String(), Boot: in.Boot}
	} else if s.config.Tickets {
		return out, fault.Forbidden.Errorf("workstations check in with the ticket of their boot script, or the key of their media, and this one has neither; start it over the network or from media")
	}
	return out, nil
}

// standing answers as soon as there is an errand or the workstation's state
// changed, or after a while with neither.
func (s *Service) standing(ctx context.Context, _ *struct{}) (*reply[api.Standing], error) {
	id := caller(ctx)
	s.agents.at(id, 0)
	p, _ := s.agents.presence(id)
	if p.activity.Text != "" { // whatever it was doing, it is waiting now
		s.agents.tell(id, api.Activity{})
		s.tellWorkstation(ctx, id)
	}
	timeout := time.NewTimer(longPoll)
	defer timeout.Stop()
	before := roster.State("")
	for last := false; ; {
		w, err := s.records.Workstation(ctx, id)
		if err != nil {
			return nil, problem(err)
		}
		now := api.Standing{Name: w.Name, State: string(w.State)}
		if w.State == roster.Admitted {
			if now.Errand, err = s.startErrand(ctx, id); err != nil {
				return nil, problem(err)
			}
			if now.Errand != nil {
				return answer(now, nil)
			}
		}
		if last || (before != "" && before != w.State) {
			return answer(now, nil)
		}
		before = w.State
		select {
		case <-p.bell:
		case <-timeout.C:
			last = true
		case <-s.ctx.Done():
			last = true
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// startErrand is the errand of a workstation, or nil.
func (s *Service) startErrand(ctx context.Context, workstation int64) (*api.ToErrand, error) {
	s.ordering.RLock()
	defer s.ordering.RUnlock()
	e, err := s.records.StartErrand(ctx, s.config.Now(), workstation)
	if e == nil || err != nil {
		return nil, err
	}
	if r := s.runner(e.DeliveryID.Int64); r != nil && r.through(workstation) {
		return nil, nil // its receipt is being written, which wakes it again
	}
	s.agents.at(workstation, e.ID)
	s.tellErrand(ctx, e.ID)
	return s.toErrand(ctx, e)
}

func (s *Service) toErrand(ctx context.Context, e *records.Errand) (*api.ToErrand, error) {
	out := &api.ToErrand{ID: e.ID, Kind: e.Kind, Image: e.Image}
	if e.Kind == records.ErrandCapture {
		out.Capture = &api.ToCapture{IdentityFiles: s.config.IdentityFiles}
		if err := json.Unmarshal([]byte(e.Options), &out.Capture.CaptureOptions); err != nil {
			return nil, err
		}
	}
	if e.Kind == records.ErrandDrivers {
		return out, s.fillPut(ctx, e, out)
	}
	if e.Kind == records.ErrandReceive {
		d, err := s.records.Delivery(ctx, e.DeliveryID.Int64)
		if err != nil {
			return nil, err
		}
		out.Receive = &api.ToReceive{Delivery: d.ID, Version: d.Version, Digest: d.Digest, Channel: d.GroupAddr, Session: d.Session,
			Label: roster.Ref{Image: d.Image, Version: d.Version}.String(), Reuse: d.Reuse, WhenDone: d.WhenDone, SealKey: d.SealKey}
		if r := s.runner(d.ID); r != nil {
			out.Receive.Node, out.Receive.Nonce = uint32(r.node(e.WorkstationID)), r.nonce(e.WorkstationID)
			out.Receive.Source = s.config.Multicast.source()
		}
		if err := json.Unmarshal([]byte(d.Options), &out.Receive.RestoreOptions); err != nil {
			return nil, err
		}
		if out.Receive.Put, err = s.putOfDelivery(ctx, d, e.WorkstationID); err != nil {
			out.Receive.Put = &api.ToPut{System: string(driver.Linux), Packages: []api.DriverPackage{}, Problem: problem(err).Error()}
		}
	}
	return out, nil
}

func (s *Service) activity(ctx context.Context, in *struct{ Body api.Activity }) (*struct{}, error) {
	s.agents.tell(caller(ctx), in.Body)
	s.tellWorkstation(ctx, caller(ctx))
	return nil, nil
}
