package stream

import (
	"context"
	"encoding/binary"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"

	"jugate/wire"
)

const (
	// trialPackets is how many packets a trial has, trialSize how long each is, and trialRate how fast they go, in bits a second: short and
	// slow enough to be in nobody's way.
	trialPackets = 400
	trialSize    = 1200
	trialRate    = 5e6
)

// TrialChannel is where trials are sent: the address of the range itself, which no delivery takes.
func (s *Streams) TrialChannel() string { return s.Multicast.Channel(-1).String() }

// Trial multicasts packets that begin with a token and their number, and tells how many. Whoever listens can tell how much the network
// loses.
func (s *Streams) Trial(ctx context.Context, token string) (packets int, err error) {
	if err := s.trial.begin(ctx); err != nil { // one at a time
		return 0, err
	}
	defer s.trial.end()
	socket, err := wire.Dial(wire.Config{Group: s.Multicast.Channel(-1), Interface: s.Multicast.Interface, TTL: s.Multicast.TTL})
	if err != nil {
		return 0, err
	}
	defer socket.Close()
	tick := time.NewTicker(time.Duration(trialSize * 8 * float64(time.Second) / trialRate))
	defer tick.Stop()
	b := make([]byte, trialSize)
	copy(b, token)
	for n := range trialPackets {
		binary.BigEndian.PutUint32(b[len(token):], uint32(n))
		if err := socket.Send(ctx, b); err != nil {
			return 0, err
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return 0, ctx.Err()
		}
	}
	return trialPackets, nil
}

// oneTrial has one trial go on at a time. The zero value is ready.
type oneTrial struct {
	once sync.Once
	turn *semaphore.Weighted
}

func (o *oneTrial) begin(ctx context.Context) error {
	o.once.Do(func() { o.turn = semaphore.NewWeighted(1) })
	return o.turn.Acquire(ctx, 1)
}

func (o *oneTrial) end() { o.turn.Release(1) }
