package norm

import (
	"slices"
	"time"
)

// flush tells receivers how far the sender is when it has nothing more to send,
// so that they ask for what they lack (NORM_CMD(FLUSH), section 4.2.3), and
// collects acknowledgements.
type flush struct {
	at   time.Time
	said int // how often, since something was sent or asked for

	asked []NodeID // who has not acknowledged the watermark yet
	mark  position
}

func (f *flush) restart(now time.Time) { f.said, f.at = 0, now }

// Watermark asks these nodes to acknowledge everything that was enqueued so far
// (section 5.6). For each comes Acknowledged, or Unheard in the end.
func (s *Sender) Watermark(now time.Time, nodes []NodeID) {
	s.flush.asked = slices.Clone(nodes)
	s.flush.restart(now)
}

// waiting reports that there is still something to say.
func (f *flush) waiting(s *Sender) bool {
	return s.closing > 0 || len(s.objects) > 0 && f.said <= RobustFactor
}

// last is the position of the last symbol that was sent.
func (s *Sender) last() (position, bool) {
	for i := len(s.objects) - 1; i >= 0; i-- {
		o := s.objects[i]
		switch {
		case o.gone || i > s.current:
		case o.stream != nil:
			if p, ok := o.stream.last(); ok {
				p.Object = o.id
				return p, true
			}
		case o.finished() && o.layout.blocks == 0:
			return position{Object: o.id}, true
		case o.finished():
			b := o.layout.blocks - 1
			return position{Object: o.id, Block: b, Symbol: uint8(o.layout.blockSymbols(b) - 1)}, true
		}
	}
	return position{}, false
}

// flushing says the next flush or end when it is due.
func (s *Sender) flushing(now time.Time, b []byte) []byte {
	f := &s.flush
	if now.Before(f.at) || !f.waiting(s) {
		return nil
	}
	if s.closing > 0 {
		s.closing--
		f.at = now.Add(2 * s.grtt.value)
		if s.closing == 0 {
			s.closing = -1
			s.emit(Closed, 0)
		}
		return (&cmdMessage{senderHead: s.head(), Flavor: cmdEOT}).append(b)
	}
	mark, ok := s.last()
	if !ok {
		return nil
	}
	if f.said++; f.said > RobustFactor {
		for _, n := range f.asked {
			s.events = append(s.events, SenderEvent{Kind: Unheard, Node: n})
		}
		f.asked = nil
		s.emit(Flushed, mark.Object)
		return nil
	}
	f.at = now.Add(2 * s.grtt.value)
	f.mark = mark
	// A longer list goes out in turns.
	room := s.config.SymbolSize / 4
	if len(f.asked) > room {
		f.asked = append(slices.Clone(f.asked[room:]), f.asked[:room]...)
	}
	c := &cmdMessage{senderHead: s.head(), Flavor: cmdFlush, position: mark, Nodes: f.asked[max(len(f.asked)-room, 0):]}
	return c.append(b)
}

func (f *flush) acknowledged(s *Sender, n NodeID, p position) {
	if i := slices.Index(f.asked, n); i >= 0 && p == f.mark {
		f.asked = slices.Delete(f.asked, i, i+1)
		s.events = append(s.events, SenderEvent{Kind: Acknowledged, Node: n})
		if len(f.asked) == 0 {
			f.said = RobustFactor // nobody is left to ask
		}
	}
}
