package wire

import (
	"context"
	"errors"
	"net"
	"os"
	"time"

	"jugate/core/norm"
)

// Source is what a Transmit sends, and whom it tells.
type Source struct {
	// Feed is called whenever there may be room in the sender's window. It is
	// called again soon if it says that it has more to send.
	Feed func(now time.Time, s *norm.Sender) (more bool, err error)
	// On is told what happens; an error ends the loop and is returned.
	On func(e norm.SenderEvent) error
	// Do are changes from elsewhere, made between two packets.
	Do <-chan func(now time.Time, s *norm.Sender)
	// Away, if set, is told that the network is down; the loop goes on when it is back.
	Away func(error)
	// Group, if set, is a socket that has joined the group, for receivers that
	// answer there.
	Group *Socket
}

// feedback is a packet from a receiver.
type feedbackPacket struct {
	bytes   []byte
	unicast bool
}

// ErrDone ends a loop from inside, without an error.
var ErrDone = errors.New("done")

// Transmit sends until On or Feed returns an error, or ctx ends.
func Transmit(ctx context.Context, out *Socket, s *norm.Sender, src Source) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	if src.Away == nil {
		src.Away = func(error) {}
	}
	heard := make(chan feedbackPacket, 256)
	ended := make(chan struct{}, 2)
	readers := 1
	go func() { readFeedback(ctx, out, true, heard); ended <- struct{}{} }()
	if src.Group != nil {
		readers++
		go func() { readFeedback(ctx, src.Group, false, heard); ended <- struct{}{} }()
	}
	err := transmit(ctx, out, s, src, heard)
	cancel()
	for _, socket := range []*Socket{out, src.Group} {
		if socket != nil {
			socket.SetReadDeadline(time.Now()) // wakes its reader
		}
	}
	for range readers {
		<-ended
	}
	if errors.Is(err, ErrDone) {
		return nil
	}
	return err
}

func transmit(ctx context.Context, out *Socket, s *norm.Sender, src Source, heard <-chan feedbackPacket) error {
	memory := make([]byte, Batch*maxPacket) // packets lie in it one behind the other
	packets := make([][]byte, 0, Batch)
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		now := time.Now()
		more := false
		if src.Feed != nil {
			var err error
			if more, err = src.Feed(now, s); err != nil {
				return err
			}
		}
		packets = packets[:0]
		for used := 0; len(packets) < Batch; {
			p, ok := s.Next(now, memory[used:])
			if !ok {
				break
			}
			packets = append(packets, p)
			used += len(p)
		}
		if len(packets) > 0 {
			if err := out.write(ctx, packets, src.Away); err != nil {
				return err
			}
		}
		for e, ok := s.Event(); ok; e, ok = s.Event() {
			if src.On != nil {
				if err := src.On(e); err != nil {
					return err
				}
			}
		}
		wait := time.Duration(0)
		if len(packets) < Batch {
			wait = max(time.Until(s.Deadline(time.Now())), 0)
			if more {
				wait = min(wait, 5*time.Millisecond)
			}
		}
		timer.Reset(wait)
		select {
		case f := <-heard:
			s.Handle(time.Now(), f.bytes, f.unicast) // anything but feedback is ignored
		drain:
			for {
				select {
				case f := <-heard:
					s.Handle(time.Now(), f.bytes, f.unicast)
				default:
					break drain
				}
			}
		case do := <-src.Do:
			do(time.Now(), s)
		case <-timer.C:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// readFeedback hands packets on until the socket is closed or ctx ends.
func readFeedback(ctx context.Context, in *Socket, unicast bool, heard chan<- feedbackPacket) {
	batch := newBatch(2048)
	for ctx.Err() == nil {
		n, err := in.ReadBatch(batch, 0)
		if err != nil {
			if errors.Is(err, net.ErrClosed) || errors.Is(err, os.ErrDeadlineExceeded) {
				return
			}
			continue // an answer to a packet that could not be delivered
		}
		for _, m := range batch[:n] {
			select {
			case heard <- feedbackPacket{append([]byte(nil), m.Buffers[0][:m.N]...), unicast}:
			default: // more than can be used: a flood, or all speak at once
			}
		}
	}
}

func newBatch(size int) []Message {
	batch := make([]Message, Batch)
	for i := range batch {
		batch[i].Buffers = [][]byte{make([]byte, size)}
	}
	return batch
}
