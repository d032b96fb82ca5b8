package stream

import (
	"context"
	"encoding/binary"
	"io"
	"math/rand/v2"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"

	"jugate/wire"
)

// Trial is how a trial is sent; UsualTrial is short and slow enough to be in nobody's way.
type Trial struct {
	Packets int
	Rate    int64 // bits a second, of what the packets have in them
}

// UsualTrial is sent if nobody says otherwise.
var UsualTrial = Trial{Packets: 400, Rate: 5e6}

// trialBeat is how often packets are sent, as many as are due.
const trialBeat = 2 * time.Millisecond

// TrialAt is a trial of one second at a rate, of what a stream may take at the most.
func (s *Streams) TrialAt(rate int64) Trial {
	rate = min(rate, wire.TrialRateAtMost)
	if ceiling := s.ceiling(); ceiling > 0 {
		rate = min(rate, ceiling)
	}
	return Trial{Packets: max(int(rate/(8*wire.TrialSize)), 1), Rate: rate}
}

// TrialChannel is where trials are sent: the address of the range itself, which no delivery takes.
func (s *Streams) TrialChannel() string { return s.Multicast.Channel(-1).String() }

// Buffer is how many bytes the system holds for a stream that is sent or received here.
func (s *Streams) Buffer() (int, error) {
	socket, err := wire.Dial(wire.Config{Group: s.Multicast.Channel(-1), Interface: s.Multicast.Interface, TTL: s.Multicast.TTL})
	if err != nil {
		return 0, err
	}
	defer socket.Close()
	return socket.Buffer()
}

// Trial multicasts packets that begin with a token and their number, and tells how many. Whoever listens can tell how much the network
// loses.
func (s *Streams) Trial(ctx context.Context, token string, t Trial) (packets int, err error) {
	if err := s.trial.begin(ctx); err != nil { // one at a time
		return 0, err
	}
	defer s.trial.end()
	socket, err := wire.Dial(wire.Config{Group: s.Multicast.Channel(-1), Interface: s.Multicast.Interface, TTL: s.Multicast.TTL})
	if err != nil {
		return 0, err
	}
	defer socket.Close()
	tick := time.NewTicker(trialBeat)
	defer tick.Stop()
	b := make([]byte, wire.TrialSize)
	copy(b, token)
	perBeat, due := float64(t.Rate)*trialBeat.Seconds()/(8*wire.TrialSize), 0.0
	for packets < t.Packets {
		for due += perBeat; due >= 1 && packets < t.Packets; due-- {
			binary.BigEndian.PutUint32(b[len(token):], uint32(packets))
			if err := socket.Send(ctx, b); err != nil {
				return packets, err
			}
			packets++
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return packets, ctx.Err()
		}
	}
	return packets, nil
}

// TrialBytes are bytes that nobody can compress, the same each time.
func TrialBytes(n int64) io.Reader { return io.LimitReader(rand.NewChaCha8([32]byte{}), n) }

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
