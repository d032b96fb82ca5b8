package norm

import (
	"net/netip"
	"slices"
	"time"
)

// remote is a sender as a receiver knows it.
type remote struct {
	r        *Receiver
	node     NodeID
	instance uint16
	from     netip.AddrPort
	grtt     time.Duration
	k        int // backoff factor
	group    int

	heard    time.Time
	attempts int // to make it speak since
	lost     bool
	sequence uint16
	counted  bool // sequence is set

	synced  bool
	objects map[ObjectID]*rxObject // from low on
	low     ObjectID               // everything before is whole or given up
	due     mark

	cycle nackCycle
	kept  int // cycles in a row without a word, since others had asked
	probe probeHeard
	ack   *ackMessage // of a flush
	ackAt time.Time
	loss  lossHistory
}

// mark is how far a sender is: what lies before it went out and may be asked for.
type mark struct {
	object ObjectID
	block  uint32
	symbol int // of a stream's block that is not full
}

func (a mark) before(b mark) bool {
	if a.object != b.object {
		return a.object.Before(b.object)
	}
	if a.block != b.block {
		return a.block < b.block
	}
	return a.symbol < b.symbol
}

func newRemote(r *Receiver, h senderHead, from netip.AddrPort) *remote {
	return &remote{r: r, node: h.Source, instance: h.Instance, from: from, objects: map[ObjectID]*rxObject{}}
}

func (m *remote) about() Head { return Head{Sender: m.node, From: m.from, Instance: m.instance} }

// forget gives the memory back.
func (m *remote) forget() {
	for _, o := range m.objects {
		m.broken(o, nil)
	}
	m.objects = map[ObjectID]*rxObject{}
}

// hear takes what every message of a sender says.
func (m *remote) hear(now time.Time, h senderHead, bytes int) {
	m.grtt, m.k, m.group = max(UnquantizeRTT(h.GRTT), time.Millisecond), int(h.Backoff), UnquantizeGroupSize(h.GroupSize)
	m.heard, m.attempts, m.lost = now, 0, false
	m.cycle.hurry(now.Add(time.Duration(m.k+2) * m.grtt))
	st := &m.r.stats
	st.Packets++
	st.Bytes += int64(bytes)
	missed := 0
	if m.counted {
		switch gap := sequenceGap(m.sequence, h.Sequence); {
		case gap > 1 && gap < 1<<14:
			missed = gap - 1
		case gap < 0 && gap > -64: // it came late: it was not lost
			st.Lost--
			return
		}
	}
	st.Lost += int64(missed)
	m.sequence, m.counted = h.Sequence, true
	m.loss.received(now, missed, bytes, m.grtt)
}

// sync begins with the object that is heard first.
func (m *remote) sync(id ObjectID) {
	m.synced = true
	m.low = id
	if m.r.config.FromStart && int(id) < m.r.config.Window {
		m.low = 0
	}
	m.due = mark{object: m.low}
}

// object finds or begins an object of the window; nil if it is over.
func (m *remote) object(id ObjectID) *rxObject {
	if id.Before(m.low) {
		return nil
	}
	if int(id-m.low) >= m.r.config.Window {
		// The window moves on: what is too old is given up.
		for int(id-m.low) >= m.r.config.Window {
			if o := m.objects[m.low]; o != nil {
				m.broken(o, nil)
			}
			m.low++
			if len(m.objects) == 0 {
				m.low = id - ObjectID(m.r.config.Window) + 1
			}
		}
		m.settle()
	}
	o := m.objects[id]
	if o == nil {
		o = &rxObject{m: m, id: id}
		m.objects[id] = o
	}
	return o
}

// settle moves the low end of the window over what is over.
func (m *remote) settle() {
	for m.low.Before(m.due.object) || m.low == m.due.object {
		o := m.objects[m.low]
		if o == nil || !o.over {
			return
		}
		delete(m.objects, m.low)
		m.low++
	}
}

// broken gives an object up.
func (m *remote) broken(o *rxObject, err error) {
	if o.over {
		return
	}
	o.drop()
	if o.wanted {
		m.r.events = append(m.r.events, ReceiverEvent{Kind: Broken, Head: o.head(), Info: o.info, Sink: o.sink, Err: err})
	}
}

func (m *remote) data(now time.Time, d *dataMessage) {
	if !m.synced {
		if d.Flags&flagRepair != 0 && !m.r.config.FromStart {
			return // somebody else's repair says little about where the sender is
		}
		m.sync(d.Object)
	}
	if d.Flags&flagRepair == 0 {
		m.reach(now, mark{object: d.Object, block: d.Block})
	}
	if o := m.object(d.Object); o != nil && !o.over {
		o.take(d)
		m.settle()
	}
}

// reach notes how far the sender is, and begins to ask for what is missing before.
func (m *remote) reach(now time.Time, to mark) {
	if !m.due.before(to) {
		return
	}
	if int(to.object-m.due.object) > m.r.config.Window && !m.due.object.Before(to.object) {
		return // neither before nor behind: nonsense
	}
	m.due = to
	m.object(to.object)
	m.settle()
	m.wanting(now)
}

func (m *remote) command(now time.Time, c *cmdMessage) {
	switch c.Flavor {
	case cmdFlush:
		if !m.synced {
			if !m.r.config.FromStart {
				return
			}
			m.sync(c.Object)
		}
		if c.Object.Before(m.low) || m.within(c.Object) {
			to := mark{object: c.Object, block: c.Block + 1}
			if o := m.objects[c.Object]; o != nil && o.kind == Stream {
				to = mark{object: c.Object, block: c.Block, symbol: int(c.Symbol) + 1}
			}
			m.reach(now, to)
			m.wanting(now)
			if slices.Contains(c.Nodes, m.r.config.Node) && !m.needs() {
				m.ack = &ackMessage{Type: ackFlush, position: c.position}
				m.ackAt = now.Add(time.Duration(m.r.dice.Float64() * float64(m.grtt)))
			}
		}
	case cmdSquelch:
		if !m.synced {
			return
		}
		for _, id := range c.Invalid {
			if m.within(id) {
				m.broken(m.object(id), nil)
			}
		}
		for m.low.Before(c.Object) && m.within(c.Object) && m.low.Before(m.due.object) {
			m.broken(m.object(m.low), nil)
			m.settle()
		}
		if o := m.objects[c.Object]; o != nil && o.stream != nil {
			o.stream.skip(o, c.Block)
		}
		m.settle()
	case cmdCC:
		m.probed(now, c)
	case cmdRepairAdv:
		m.overhear(c.Requests)
	case cmdEOT:
		if !m.lost {
			m.lost = true
			m.r.events = append(m.r.events, ReceiverEvent{Kind: SenderEnded, Head: m.about()})
		}
	case cmdAckReq:
		if c.AckType >= AckApplication && slices.Contains(c.Nodes, m.r.config.Node) {
			m.ack = &ackMessage{Type: c.AckType, ID: c.AckID}
			m.ackAt = now.Add(time.Duration(m.r.dice.Float64() * float64(m.grtt)))
		}
	case cmdApplication:
		m.r.events = append(m.r.events, ReceiverEvent{Kind: Commanded, Head: m.about(), Content: slices.Clone(c.Content)})
	}
}

// within tells whether an object id can be one of the window.
func (m *remote) within(id ObjectID) bool {
	return !id.Before(m.low) && int(id-m.low) < m.r.config.Window
}

func (m *remote) deadline() time.Time {
	at := earliest(m.cycle.timer, m.probe.answerAt)
	if m.ack != nil {
		at = earliest(at, m.ackAt)
	}
	if !m.lost {
		at = earliest(at, m.heard.Add(m.patience()))
	}
	return at
}

// patience is how long a sender may be silent before it is asked by itself.
func (m *remote) patience() time.Duration {
	return max(2*time.Duration(m.k+2)*m.grtt, 3*time.Second) * time.Duration(m.attempts+1)
}

func (m *remote) advance(now time.Time) {
	if m.ack != nil && !now.Before(m.ackAt) {
		a := m.ack
		m.ack = nil
		a.feedback, a.CC = m.feedback(now), m.congestion()
		m.send(a.append(nil))
	}
	m.answerProbe(now)
	m.nackTimer(now)
	if !m.lost && now.Sub(m.heard) >= m.patience() {
		if m.attempts++; m.attempts > RobustFactor/4 {
			m.lost = true
			m.r.events = append(m.r.events, ReceiverEvent{Kind: SenderLost, Head: m.about()})
		}
		m.wanting(now)
	}
}

// feedback begins a message to the sender.
func (m *remote) feedback(now time.Time) feedback {
	f := feedback{head: head{Sequence: m.r.sequence, Source: m.r.config.Node}, Sender: m.node, Instance: m.instance}
	m.r.sequence++
	if !m.probe.sent.IsZero() {
		f.Response = m.probe.sent.Add(now.Sub(m.probe.at))
	}
	return f
}

func (m *remote) send(packet []byte) {
	if m.r.config.Silent {
		return
	}
	o := Outgoing{Packet: packet}
	if m.r.config.Unicast {
		o.To = m.from
	}
	m.r.out = append(m.r.out, o)
}

// probeHeard is the last NORM_CMD(CC).
type probeHeard struct {
	sequence uint16
	sent     time.Time // by the sender's clock
	at       time.Time // by ours
	rtt      uint8     // what the sender knows of us, quantized
	hasRTT   bool
	flags    uint8
	rate     float64 // of the sender, bytes a second
	answerAt time.Time
}

// probed takes a NORM_CMD(CC). Receivers that it names answer at once, the others
// after a while, so that they do not all speak together (section 5.5.1).
func (m *remote) probed(now time.Time, c *cmdMessage) {
	p := &m.probe
	p.sequence, p.sent, p.at, p.flags = c.Sequence, c.SendTime, now, 0
	if c.Rate != nil {
		p.rate = UnquantizeRate(*c.Rate)
	}
	wait := backoff(m.r.dice, time.Duration(m.k)*m.grtt, m.group)
	for _, n := range c.CCNodes {
		if n.Node == m.r.config.Node {
			p.flags = n.Flags & (ccCLR | ccPLR)
			if n.Flags&ccRTT != 0 {
				p.rtt, p.hasRTT = n.RTT, true
			}
			wait = 0
		}
	}
	if at := now.Add(wait); p.answerAt.IsZero() || at.Before(p.answerAt) {
		p.answerAt = at
	}
}

func (m *remote) answerProbe(now time.Time) {
	if m.probe.answerAt.IsZero() || now.Before(m.probe.answerAt) {
		return
	}
	m.probe.answerAt = time.Time{}
	a := ackMessage{feedback: m.feedback(now), Type: ackCC}
	a.CC = m.congestion()
	m.send(a.append(nil))
}

// congestion is what this receiver could take.
func (m *remote) congestion() *CC {
	if m.probe.sent.IsZero() {
		return nil
	}
	c := &CC{Sequence: m.probe.sequence, Flags: m.probe.flags}
	rtt := m.grtt
	if m.probe.hasRTT {
		rtt, c.Flags, c.RTT = UnquantizeRTT(m.probe.rtt), c.Flags|ccRTT, m.probe.rtt
	} else {
		c.RTT = QuantizeRTT(rtt)
	}
	p := m.loss.eventRate()
	c.Loss = QuantizeLoss(p)
	if p == 0 {
		c.Flags |= ccStart
		c.Rate = QuantizeRate(2 * m.loss.rate)
	} else {
		c.Rate = QuantizeRate(tcpRate(1500, rtt, p))
	}
	return c
}
