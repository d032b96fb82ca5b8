package outpost

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"

	"jugate/api"
	"jugate/core/hwaddr"
	"jugate/core/roster"
)

// While the service does not answer, an outpost that was started from media answers the workstations that these carry a delivery
// for, by what they carry: the pass of a check-in, and the errand that the service has signed for it.

const (
	// asksAtMost bounds what is passed on or answered here, in bytes: a check-in has an inventory.
	asksAtMost = 256 << 10
	// standsFor is how long a workstation is left waiting that has nothing to do.
	standsFor = 20 * time.Second
)

// awayFrom adds what is answered here while the service does not.
func (r *relay) awayFrom(all chi.Router) {
	for _, one := range []struct {
		method, path string
		here         func(w http.ResponseWriter, req *http.Request, said []byte) bool
	}{
		{http.MethodPost, "/check-in", r.checkIn},
		{http.MethodGet, "/standing", r.standing},
		{http.MethodPost, "/activity", r.noted},
		{http.MethodPut, "/disks", r.noted},
	} {
		all.Method(one.method, agentPath+one.path, r.orHere(one.here))
	}
}

// agentPath is where agents ask.
const agentPath = "/agent/v1"

// orHere passes a request on, and has it answered here if the service does not. here tells whether it could.
func (r *relay) orHere(here func(w http.ResponseWriter, req *http.Request, said []byte) bool) http.HandlerFunc {
	return func(w http.ResponseWriter, req *http.Request) {
		if r.o.carried.Key == "" { // nothing is here to be answered by
			r.proxy.ServeHTTP(w, req)
			return
		}
		said, ok := bodyOf(w, req, asksAtMost)
		if !ok {
			return
		}
		if !r.o.line.down() {
			answer := &answer{ResponseWriter: w, header: http.Header{}, through: true}
			if r.proxy.ServeHTTP(answer, req); !answer.away {
				answer.pass()
				return
			}
		}
		if req.Context().Err() == nil && !here(w, req, said) {
			problem(w, http.StatusServiceUnavailable, r.awayWords())
		}
	}
}

// bodyOf reads the body of a request that may be passed on later, and so is put back. One that is too long is refused, and ok is
// false.
func bodyOf(w http.ResponseWriter, req *http.Request, atMost int64) (said []byte, ok bool) {
	said, err := io.ReadAll(http.MaxBytesReader(w, req.Body, atMost))
	if err != nil {
		problem(w, http.StatusRequestEntityTooLarge, fmt.Sprintf("more than %d bytes", atMost))
		return nil, false
	}
	req.Body = io.NopCloser(bytes.NewReader(said))
	return said, true
}

// awayWords say that the service does not answer.
func (r *relay) awayWords() string {
	return "the outpost " + r.o.identity.name + " does not reach its service; nothing is lost, it goes on when the line is back"
}

// checkIn lets a workstation in by what the media carry for it.
func (r *relay) checkIn(w http.ResponseWriter, req *http.Request, said []byte) bool {
	var in api.CheckIn
	if json.Unmarshal(said, &in) != nil {
		return false
	}
	adapters := map[string]bool{}
	for _, c := range in.Inventory.Cards {
		adapters[c.Address] = c.Adapter
	}
	var addresses, own []hwaddr.Address
	for _, text := range in.Addresses {
		if a, err := hwaddr.Parse(text); err == nil {
			if addresses = append(addresses, a); !adapters[text] {
				own = append(own, a)
			}
		}
	}
	c := r.o.carried
	if !c.lets(in.Ticket, addresses) {
		problem(w, http.StatusForbidden, "workstations check in here with the ticket of their boot script, or the key of the media; start this one over the network from this outpost, or from its media")
		return true
	}
	places := c.whose(own, roster.NewIdentity(in.Inventory.UUID, in.Inventory.Serial))
	if len(places) == 0 {
		problem(w, http.StatusConflict, "the service does not answer, and these media carry nothing for this workstation; what they carry is for "+c.to())
		return true
	}
	at := places[0] // a delivery that it is not through with goes first
	for _, p := range places {
		if r.o.deliveries.toDo(req.Context(), c.member(p)) {
			at = p
			break
		}
	}
	its := c.Workstations[at]
	m := c.member(at)
	c.arrives(m)
	r.learn(req.Context(), asker{its.Delivery, authorizedBy(its.Pass), keyOf(req)}, its.Workstation)
	r.o.config.Log.Info("a workstation checked in by what the media carry", "workstation", its.Name, "delivery", its.Delivery)
	answerJSON(w, api.CheckedIn{Pass: its.Pass, Name: its.Name, State: roster.Admitted, OnDisk: r.onDisk(req, at), Keyboard: its.Keyboard})
	return true
}

// member is a place as a member of its delivery.
func (c *carried) member(place int) member {
	w := c.Workstations[place]
	return member{w.Delivery, w.Workstation}
}

// onDisk is what is on the disk of a workstation, as far as it is known here.
func (r *relay) onDisk(req *http.Request, place int) string {
	if r.o.deliveries.received(req.Context(), r.o.carried.member(place)) {
		return r.o.carried.Workstations[place].Label
	}
	return ""
}

// standing gives a workstation its errand, or lets it wait.
func (r *relay) standing(w http.ResponseWriter, req *http.Request, _ []byte) bool {
	at, known := r.o.carried.passes[authorization(req)]
	if !known {
		return false
	}
	its := r.o.carried.Workstations[at]
	m := r.o.carried.member(at)
	now := api.Standing{Name: its.Name, State: roster.Admitted, OnDisk: r.onDisk(req, at)}
	switch {
	case r.o.deliveries.toDo(req.Context(), m):
		now.Signed = its.Signed
	case r.o.carried.isNews(m): // it is told at once that it is through, and then waits
	default:
		select {
		case <-time.After(standsFor):
		case <-req.Context().Done():
			return true
		}
	}
	answerJSON(w, now)
	return true
}

// noted takes what is of no use to anybody now.
func (r *relay) noted(w http.ResponseWriter, req *http.Request, _ []byte) bool {
	_, known := r.o.carried.passes[authorization(req)]
	if known {
		w.WriteHeader(http.StatusNoContent)
	}
	return known
}

func answerJSON(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(v) // whoever has gone asks again
}
