package wire

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"syscall"
	"time"

	"jugate/core/norm"
)

// Reader is where a receiver's packets come from, and its answers go. Socket is
// one.
type Reader interface {
	ReadBatch(ms []Message, flags int) (int, error)
	WriteBatch(ms []Message, flags int) (int, error)
	SetReadDeadline(t time.Time) error
	Destination() net.Addr // the group's address
}

// gather is how long a burst is waited for. The socket holds some hundred
// milliseconds at a gigabit a second.
const gather = 2 * time.Millisecond

// idle is the longest time between two looks at what a receiver's owner wants.
const idle = 200 * time.Millisecond

// Receive receives until on or tick returns an error, which is returned but for
// ErrDone, or ctx ends. tick, if set, is called after each batch and when nothing
// comes.
func Receive(ctx context.Context, in Reader, r *norm.Receiver, on func(norm.ReceiverEvent) error, tick func(now time.Time) error) error {
	batch := newBatch(2048)
	for {
		now := time.Now()
		until := now.Add(idle)
		if at := r.Deadline(); !at.IsZero() && at.Before(until) {
			until = at
		}
		if err := in.SetReadDeadline(until); err != nil {
			return err
		}
		n, err := in.ReadBatch(batch, 0)
		if err != nil && !errors.Is(err, os.ErrDeadlineExceeded) && !errors.Is(err, syscall.ECONNREFUSED) {
			return fmt.Errorf("receive by multicast: %w", err)
		}
		now = time.Now()
		for _, m := range batch[:max(n, 0)] {
			if from, ok := m.Addr.(*net.UDPAddr); ok && m.N > 0 {
				r.Handle(now, m.Buffers[0][:m.N], from.AddrPort()) // anything but a message is ignored
			}
		}
		r.Advance(now)
		for o, ok := r.Out(); ok; o, ok = r.Out() {
			m := Message{Buffers: [][]byte{o.Packet}}
			if o.To.IsValid() {
				m.Addr = net.UDPAddrFromAddrPort(o.To)
			} else {
				m.Addr = in.Destination()
			}
			in.WriteBatch([]Message{m}, 0) // one that gets lost is said again
		}
		for e, ok := r.Event(); ok; e, ok = r.Event() {
			if err := on(e); err != nil {
				return done(err)
			}
		}
		if tick != nil {
			if err := tick(now); err != nil {
				return done(err)
			}
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if n > 0 && n < Batch/4 {
			// The first packets of a burst: the others are there in a moment, and cost
			// one system call instead of one each.
			time.Sleep(gather)
		}
	}
}

func done(err error) error {
	if errors.Is(err, ErrDone) {
		return nil
	}
	return err
}

// Destination is the group's address.
func (s *Socket) Destination() net.Addr { return s.to(s.config.Group) }
