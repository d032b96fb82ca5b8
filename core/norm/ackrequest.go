package norm

import (
	"fmt"
	"slices"
	"time"
)

// question is what nodes are asked by the application (NORM_CMD(ACK_REQ), section
// 4.2.3).
type question struct {
	kind, id uint8
	nodes    []NodeID // that have not answered
	said     int
	at       time.Time
}

// Ask asks these nodes for an acknowledgement of a kind of the application's,
// AckApplication or above. For each comes Answered, or Unheard in the end. One
// question is asked at a time; a new one takes the place of the one before.
func (s *Sender) Ask(now time.Time, kind, id uint8, nodes []NodeID) error {
	if kind < AckApplication || 4*len(nodes) > s.config.SymbolSize {
		return fmt.Errorf("%d nodes cannot be asked for an acknowledgement of the kind %d", len(nodes), kind)
	}
	s.question = question{kind: kind, id: id, nodes: slices.Clone(nodes), at: now}
	return nil
}

func (q *question) due(now time.Time) bool { return len(q.nodes) > 0 && !now.Before(q.at) }

func (s *Sender) ask(now time.Time, b []byte) []byte {
	q := &s.question
	q.at = now.Add(2 * s.grtt.value)
	c := &cmdMessage{senderHead: s.head(), Flavor: cmdAckReq, AckType: q.kind, AckID: q.id, Nodes: q.nodes}
	p := c.append(b)
	if q.said++; q.said == RobustFactor {
		for _, n := range q.nodes {
			s.events = append(s.events, SenderEvent{Kind: Unheard, Node: n})
		}
		q.nodes = nil
	}
	return p
}

func (s *Sender) answered(n NodeID, kind, id uint8) {
	q := &s.question
	if i := slices.Index(q.nodes, n); i >= 0 && q.kind == kind && q.id == id {
		q.nodes = slices.Delete(q.nodes, i, i+1)
		s.events = append(s.events, SenderEvent{Kind: Answered, Node: n})
	}
}
