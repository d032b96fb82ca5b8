package service

import (
	"context"
	"net/http"
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
}

type listener struct {
	events chan any
	missed int // guarded by broker.mu
}

// listenerBuffer is how many events a listener may lag behind.
const listenerBuffer = 256

func (b *broker) listen() *listener {
	l := &listener{events: make(chan any, listenerBuffer)}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.listeners == nil {
		b.listeners = map[*listener]struct{}{}
	}
	b.listeners[l] = struct{}{}
	return l
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
	for l := range b.listeners {
		if l.missed > 0 {
			select {
			case l.events <- resync{l.missed}:
				l.missed = 0
			default:
			}
		}
		select {
		case l.events <- event:
		default:
			l.missed++
		}
	}
}

func (s *Service) eventRoutes(h huma.API) {
	sse.Register(h, huma.Operation{
		OperationID: "events", Method: http.MethodGet, Path: api.EventStream, Tags: []string{"events"},
		Summary: "Changes as they happen, as server-sent events",
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
	}, func(ctx context.Context, _ *struct{}, send sse.Sender) {
		l := s.events.listen()
		defer s.events.leave(l)
		if send.Data(hello{Version}) != nil {
			return
		}
		alive := time.NewTicker(15 * time.Second) // so that a dead connection is noticed
		defer alive.Stop()
		for {
			var err error
			select {
			case e := <-l.events:
				err = send.Data(e)
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
