package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"

	"jugate/api"
	"jugate/core/driver"
	"jugate/core/hwaddr"
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
// started: their passes, what they are doing, and how to wake them.
type agents struct {
	mu     sync.Mutex
	byPass map[string]int64 // to the workstation's number
	byID   map[int64]*presence
}

type presence struct {
	pass     string
	who      who
	seen     time.Time
	signedIn bool // a person has signed in at it
	activity api.Activity
	bell     chan struct{} // has room for one ring
}

// who tells one machine from another that has the same hardware address.
type who struct{ boot, serial string }

// errTwice says that a machine with the same hardware address is at work.
var errTwice = errors.New("another machine with this hardware address is at work now")

// admit gives a workstation a new pass; the old one is no longer good. Another
// machine, by its serial number and the kernel's number for its boot, has to wait
// until the one that is at work has been silent for a while.
func (a *agents) admit(id int64, now time.Time, is who) (string, error) {
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
	if was := p.who; is.boot != "" && was.boot != "" && is.boot != was.boot && is.serial != was.serial && now.Sub(p.seen) < onlineFor {
		return "", fmt.Errorf("%w: its serial number is %q, this one's is %q; one of them needs another network card", errTwice, was.serial, is.serial)
	}
	p.who = is
	delete(a.byPass, p.pass)
	p.pass, p.seen, p.signedIn, p.activity = newSecret(), now, false, api.Activity{}
	a.byPass[p.pass] = id
	return p.pass, nil
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
	return *p, true
}

func (a *agents) tell(id int64, activity api.Activity) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if p := a.byID[id]; p != nil {
		p.activity = activity
	}
}

// signIn notes that a person has signed in at a workstation; that ends when it checks
// in again.
func (a *agents) signIn(id int64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if p := a.byID[id]; p != nil {
		p.signedIn = true
	}
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
			s.fail(w, r, huma.Error401Unauthorized("this pass is not good (any more); check in again"))
			return
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), callerKey{}, id)))
	})
}

func (s *Service) agentAPI(r chi.Router) {
	config := func() huma.Config {
		c := huma.DefaultConfig("Jugate agents", Version)
		c.OpenAPIPath, c.DocsPath, c.SchemasPath, c.CreateHooks = "", "", "", nil
		return c
	}
	huma.Post(humachi.New(r, config()), "/check-in", s.checkIn)
	r.Group(func(r chi.Router) {
		r.Use(s.requirePass)
		h := humachi.New(r, config())
		huma.Get(h, "/standing", s.standing)
		huma.Post(h, "/activity", s.activity)
		huma.Post(h, "/sign-in", s.signIn)
		huma.Post(h, "/wish", s.wish)
		huma.Post(h, "/errands/{id}/missing", s.missingSlabs)
		huma.Post(h, "/errands/{id}/fail", s.failErrand)
		huma.Post(h, "/errands/{id}/put", s.hasPut)
		huma.Post(h, "/lacks", s.lacks)
		huma.Post(h, "/deliveries/{id}/progress", s.progress)
		huma.Post(h, "/deliveries/{id}/lacking", s.lacking)
		r.Put("/errands/{id}/slabs/{digest}", s.putSlab)
		r.Put("/errands/{id}/map", s.putMap)
		r.Put("/errands/{id}/manifest", s.putManifest)
		r.Get("/drivers/{id}/files/*", s.getDriverFile)
		r.Get("/deliveries/{id}/manifest", s.getManifest)
		r.Get("/deliveries/{id}/map", s.getMap)
		r.Get("/deliveries/{id}/slabs/{digest}", s.getSlab)
	})
}

func (s *Service) checkIn(ctx context.Context, in *struct{ Body api.CheckIn }) (*reply[api.CheckedIn], error) {
	var addresses []hwaddr.Address
	for _, text := range in.Body.Addresses {
		a, err := hwaddr.Parse(text)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		addresses = append(addresses, a)
	}
	if err := s.checkTicket(ctx, in.Body, addresses); err != nil {
		s.log.Warn("an agent may not check in", "agent", in.Body.Addresses, "error", err)
		return nil, err
	}
	inventory, err := json.Marshal(in.Body.Inventory)
	if err != nil {
		return nil, err
	}
	inv := in.Body.Inventory
	w, err := s.records.CheckIn(ctx, s.config.Now(), addresses, records.Workstation{
		Maker: inv.Maker, Model: inv.Model, Serial: inv.Serial, Memory: inv.Memory,
		Inventory: string(inventory), AgentVersion: in.Body.AgentVersion,
	})
	if err != nil {
		return nil, problem(err)
	}
	pass, err := s.agents.admit(w.ID, s.config.Now(), who{in.Body.Boot, inv.Serial})
	if err != nil {
		s.log.Warn("two machines have one hardware address", "workstation", w.Label(), "serial", inv.Serial)
		return nil, huma.Error409Conflict(err.Error())
	}
	for _, a := range addresses {
		s.called(a, w.Label())
	}
	s.log.Info("agent checked in", "workstation", w.Label(), "state", w.State, "model", w.Model)
	s.events.publish(s.workstation(*w))
	return answer(api.CheckedIn{Pass: pass, Name: w.Name, State: string(w.State)}, nil)
}

// standing answers as soon as there is an errand or the workstation's state
// changed, or after a while with neither.
func (s *Service) standing(ctx context.Context, _ *struct{}) (*reply[api.Standing], error) {
	id := caller(ctx)
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
	e, err := s.records.StartErrand(ctx, workstation)
	if e == nil || err != nil {
		return nil, err
	}
	if r := s.runner(e.DeliveryID.Int64); r != nil && r.through(workstation) {
		return nil, nil // its receipt is being written, which wakes it again
	}
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
			out.Receive.Node = uint32(r.node(e.WorkstationID))
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
