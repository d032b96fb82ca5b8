package web

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"jugate/api"
)

// Events hands every event to every listener. Events carry the whole new state
// of a thing, so the last one about it is enough.
type Events struct {
	mu        sync.Mutex
	listeners map[*listener]struct{}
	last      int         // id of the latest event
	recent    []published // the latest, for listeners that come back
}

// published is an event with its id. Ids only grow, even when the service restarts.
type published struct {
	id    int
	event any
}

type listener struct {
	deliveries []int64 // whose workstations it wants to hear of
	events     chan published
	missed     int // guarded by Events.mu
}

// wants tells whether a listener is told of an event. Only listeners that show a delivery
// are told of its workstations.
func (l *listener) wants(event any) bool {
	m, of := event.(api.DeliveryMoved)
	return !of || slices.Contains(l.deliveries, m.Delivery)
}

const (
	// listenerBuffer is how many events a listener may lag behind.
	listenerBuffer = 256
	// recentEvents is how many are kept for those that come back.
	recentEvents = 512
	// listenersAtMost is how many may listen at the same time: each costs work with
	// every event.
	listenersAtMost = 200
)

// errListeners says that no more can listen.
var errListeners = errors.New("no more can listen to events")

// listen begins to listen, behind an event that was heard before; 0 for none. deliveries
// are those whose workstations are wanted, too.
func (e *Events) listen(now time.Time, after int, deliveries []int64) (*listener, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if len(e.listeners) >= listenersAtMost {
		return nil, errListeners
	}
	if e.last == 0 {
		e.last = int(now.UnixMicro())
	}
	l := &listener{deliveries: deliveries, events: make(chan published, listenerBuffer+recentEvents)}
	if e.listeners == nil {
		e.listeners = map[*listener]struct{}{}
	}
	e.listeners[l] = struct{}{}
	if after == 0 || after == e.last {
		return l, nil
	}
	i := slices.IndexFunc(e.recent, func(p published) bool { return p.id == after })
	if i < 0 || len(deliveries) > 0 { // it is of before a restart, too long ago, or was not kept
		l.events <- published{e.last, api.Resync{}}
		return l, nil
	}
	for _, p := range e.recent[i+1:] {
		l.events <- p
	}
	return l, nil
}

func (e *Events) leave(l *listener) {
	e.mu.Lock()
	defer e.mu.Unlock()
	delete(e.listeners, l)
}

// Publish tells every listener of an event, and never waits.
func (e *Events) Publish(event any) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.last == 0 {
		e.last = int(time.Now().UnixMicro())
	}
	e.last++
	p := published{e.last, event}
	if _, many := event.(api.DeliveryMoved); !many {
		if len(e.recent) >= recentEvents {
			e.recent = slices.Delete(e.recent, 0, recentEvents/4)
		}
		e.recent = append(e.recent, p)
	}
	for l := range e.listeners {
		if !l.wants(event) {
			continue
		}
		if len(l.events) >= listenerBuffer { // what it missed while it was away has its own room
			l.missed++
			continue
		}
		if l.missed > 0 {
			l.events <- published{e.last, api.Resync{Missed: l.missed}}
			l.missed = 0
		}
		l.events <- p
	}
}

// noStore keeps a stream of events out of caches.
func noStore(ctx huma.Context, next func(huma.Context)) {
	ctx.SetHeader("Cache-Control", "no-store")
	next(ctx)
}

// tryAgain is what a browser waits before it connects again, in milliseconds.
const tryAgain = 2000

func (s *Server) eventRoutes(h huma.API) {
	stream := op(http.MethodGet, api.EventStream, "events", "events", "Tell changes as they happen, as server-sent events; with Last-Event-ID those since")
	stream.Middlewares = huma.Middlewares{noStore}
	sse.Register(h, stream, map[string]any{
		"hello":       api.Hello{},
		"workstation": api.Workstation{},
		"errand":      api.Errand{},
		"run":         api.OrderRun{},
		"image":       api.Version{},
		"delivery":    api.Delivery{},
		"progress":    api.DeliveryMoved{},
		"receipt":     api.Receipt{},
		"boot":        api.BootStepped{},
		"drivers":     api.DriversChanged{},
		"entries":     api.BootEntriesChanged{},
		"sites":       api.SitesChanged{},
		"stores":      api.StoresChanged{},
		"told":        api.NotificationsChanged{},
		"settings":    api.SettingsChanged{},
		"resync":      api.Resync{},
	}, func(ctx context.Context, in *struct {
		After      int     `header:"Last-Event-ID" doc:"The last event that was heard"`
		Deliveries []int64 `query:"deliveries" nullable:"false" example:"[12]" maxItems:"5" doc:"Also tell of the workstations of these deliveries"`
	}, send sse.Sender) {
		l, err := s.Events.listen(s.Now(), in.After, in.Deliveries)
		if err != nil {
			send(sse.Message{Data: api.Resync{}, Retry: 30_000}) // a browser that is refused would not come back
			return
		}
		defer s.Events.leave(l)
		if send(sse.Message{Data: api.Hello{Version: s.Version}, Retry: tryAgain}) != nil {
			return
		}
		alive := time.NewTicker(15 * time.Second) // so that a dead connection is noticed
		defer alive.Stop()
		for {
			var err error
			select {
			case p := <-l.events:
				err = send(sse.Message{ID: p.id, Data: p.event})
			case <-alive.C:
				err = send.Data(api.Hello{Version: s.Version})
			case <-ctx.Done():
				return
			case <-s.Closing:
				return
			}
			if err != nil {
				return
			}
		}
	})
}
