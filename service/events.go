package service

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

// resync tells a listener that it was too slow and events were dropped: it
// should fetch afresh what it shows.
type resync struct {
	Missed int `json:"missed"`
}

// hello is the first event of a stream, so that the listener knows it stands.
type hello struct {
	Version string `json:"version"`
}

// broker hands every event to every listener. Events carry the whole new state
// of a thing, so the last one about it is enough.
type broker struct {
	mu        sync.Mutex
	listeners map[*listener]struct{}
	last      int         // id of the latest event
	recent    []published // the latest, for listeners that come back
}

// published is an event with its id, which only grows, over restarts of the service, too.
type published struct {
	id    int
	event any
}

type listener struct {
	events chan published
	missed int // guarded by broker.mu
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

// listen begins to listen, behind an event that was heard before; 0 for none.
func (b *broker) listen(now time.Time, after int) (*listener, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(b.listeners) >= listenersAtMost {
		return nil, errListeners
	}
	if b.last == 0 {
		b.last = int(now.UnixMicro())
	}
	l := &listener{events: make(chan published, listenerBuffer+recentEvents)}
	if b.listeners == nil {
		b.listeners = map[*listener]struct{}{}
	}
	b.listeners[l] = struct{}{}
	if after == 0 || after == b.last {
		return l, nil
	}
	i := slices.IndexFunc(b.recent, func(p published) bool { return p.id == after })
	if i < 0 { // it is of before a restart, or too long ago
		l.events <- published{b.last, resync{}}
		return l, nil
	}
	for _, p := range b.recent[i+1:] {
		l.events <- p
	}
	return l, nil
}

func (b *broker) leave(l *listener) {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.listeners, l)
}

// publish never waits.
func (b *broker) publish(event any) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.last == 0 {
		b.last = int(time.Now().UnixMicro())
	}
	b.last++
	p := published{b.last, event}
	if len(b.recent) >= recentEvents {
		b.recent = slices.Delete(b.recent, 0, recentEvents/4)
	}
	b.recent = append(b.recent, p)
	for l := range b.listeners {
		if len(l.events) >= listenerBuffer { // what it missed while it was away has its own room
			l.missed++
			continue
		}
		if l.missed > 0 {
			l.events <- published{b.last, resync{l.missed}}
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

func (s *Service) eventRoutes(h huma.API) {
	sse.Register(h, huma.Operation{
		OperationID: "events", Method: http.MethodGet, Path: api.EventStream, Tags: []string{"events"},
		Summary: "Changes as they happen, as server-sent events; with Last-Event-ID those since", Middlewares: huma.Middlewares{noStore},
	}, map[string]any{
		"hello":       hello{},
		"workstation": api.Workstation{},
		"errand":      api.Errand{},
		"image":       api.Version{},
		"delivery":    api.Delivery{},
		"receipt":     api.Receipt{},
		"boot":        bootEvent{},
		"drivers":     driverEvent{},
		"resync":      resync{},
	}, func(ctx context.Context, in *struct {
		After int `header:"Last-Event-ID" doc:"The last event that was heard"`
	}, send sse.Sender) {
		l, err := s.events.listen(s.config.Now(), in.After)
		if err != nil {
			send(sse.Message{Data: resync{}, Retry: 30_000}) // a browser that is refused would not come back
			return
		}
		defer s.events.leave(l)
		if send(sse.Message{Data: hello{Version}, Retry: tryAgain}) != nil {
			return
		}
		alive := time.NewTicker(15 * time.Second) // so that a dead connection is noticed
		defer alive.Stop()
		for {
			var err error
			select {
			case e := <-l.events:
				err = send(sse.Message{ID: e.id, Data: e.event})
			case <-alive.C:
				err = send.Data(hello{Version})
			case <-ctx.Done():
				return
			case <-s.ctx.Done():
				return
			}
			if err != nil {
				return
			}
		}
	})
}
