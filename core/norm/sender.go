package norm

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"time"

	"jugate/core/fec"
)

// SenderConfig says how a sender sends. Node and Rate have no default.
type SenderConfig struct {
	Node     NodeID
	Instance uint16  // another one each time a node starts anew
	Rate     float64 // bits a second on the wire, Overhead included
	// Overhead is what lower layers add to each packet, in bytes: 28 for UDP over
	// IPv4 by default.
	Overhead   int
	SymbolSize int // bytes; 1440 by default, which fills an Ethernet frame over IPv4
	MaxBlock   int // source symbols of a block, 192 by default
	MaxParity  int // parity symbols for a block; as many as there are by default
	Ahead      int // of these, sent with each block unasked
	// Points chooses the parity code. With ZeroFirst the object transmission
	// information tells the number of parity symbols, as older implementations do.
	Points    fec.Points
	Backoff   int           // K; by default what suits the group's size, 4 at the most
	GroupSize int           // receivers that timers are made for, 100 by default
	GRTT      time.Duration // first estimate, 50 ms by default
	// Window is how many objects are kept for repair, 256 by default, and
	// WindowBytes how many bytes of them, if that is not 0.
	Window      int
	WindowBytes int64
	// Congestion, if set, adapts the rate to the slowest receiver (TFMCC); Rate
	// is where it begins.
	Congestion *Congestion
	// Accept, if set, tells whose feedback counts.
	Accept func(NodeID) bool
	// Auth, if set, signs packets, and only signed feedback counts. Each packet becomes
	// AuthSize bytes longer.
	Auth *Auth
}

func (c *SenderConfig) setDefaults() error {
	c.Overhead = cmp.Or(c.Overhead, 28)
	c.SymbolSize = cmp.Or(c.SymbolSize, 1440)
	c.MaxBlock = cmp.Or(c.MaxBlock, 192)
	c.GroupSize = cmp.Or(c.GroupSize, DefaultGroupSize)
	c.Backoff = cmp.Or(c.Backoff, backoffFor(c.GroupSize))
	c.GRTT = cmp.Or(c.GRTT, 50*time.Millisecond)
	c.Window = cmp.Or(c.Window, 256)
	if c.Node == NodeNone || c.Node == NodeAny || c.Rate <= 0 {
		return fmt.Errorf("a sender needs a node id and a rate, not %d and %g bit/s", c.Node, c.Rate)
	}
	if c.MaxBlock < 1 || c.MaxBlock >= fec.MaxSymbols || c.SymbolSize < 1 || c.SymbolSize > MaxPacket-64 || c.Window < 1 || c.Window > 1<<14 {
		return fmt.Errorf("blocks of %d symbols of %d bytes and a window of %d objects are not possible", c.MaxBlock, c.SymbolSize, c.Window)
	}
	room := fec.MaxSymbols - c.MaxBlock
	if c.Points == fec.ZeroFirst {
		room = min(room, c.MaxBlock) // more would read as the RFC's number
	}
	c.MaxParity = min(cmp.Or(c.MaxParity, room), room)
	c.Ahead = min(c.Ahead, c.MaxParity)
	return nil
}

// Object is what is sent: a file or data.
type Object struct {
	Kind    Kind
	Size    int64       // bytes
	Info    []byte      // goes along as NORM_INFO; at most one symbol
	Content io.ReaderAt // read again for repairs, until the object is released
}

// SenderEvent tells what has happened to a sender.
type SenderEvent struct {
	Kind   SenderEventKind
	Object ObjectID
	Node   NodeID // Acknowledged, Unheard
	Err    error  // ReadFailed
}

// SenderEventKind is the kind of a SenderEvent.
type SenderEventKind uint8

// The kinds of sender events.
const (
	Sent         SenderEventKind = iota + 1 // an object went out once
	Released                                // an object is not repaired any more
	ReadFailed                              // an object could not be read and is given up
	Flushed                                 // all went out, and nobody asks for more
	Acknowledged                            // a node has everything up to the watermark
	Unheard                                 // a node did not acknowledge it, or answer
	Answered                                // a node has answered Ask
	Closed                                  // the end was told
)

// SenderStats counts what a sender has done.
type SenderStats struct {
	Packets, Bytes  int64 // all, in bytes on the wire
	SourceBytes     int64 // payload of source symbols sent the first time
	Repairs, Parity int64 // symbols sent again, and of these parity
	Nacks, Acks     int64
	Refused         int64 // NACKs beyond what their node may ask for
	Forged          int64 // packets that were not signed as they should be
	GRTT            time.Duration
	Rate            float64 // bits a second
}

// Sender sends objects to a group and repairs what receivers lack. It is not safe
// for use by several goroutines.
type Sender struct {
	config SenderConfig
	bucket bucket
	grtt   grtt
	tfmcc  *tfmccSender
	stats  SenderStats

	sequence uint16
	nextID   ObjectID
	objects  []*txObject // the window, in order of their ids
	held     int64       // bytes of them
	current  int         // the one that goes out for the first time; len(objects) if none
	cache    blockCache

	repairs  []*txBlock // asked for, in the order of sending
	holdTill time.Time  // requests are gathered until then

	invalid    []ObjectID // to be squelched
	streamGone *txObject  // a stream of which blocks were asked for that are gone
	squelchAt  time.Time
	advertise  []request // heard by unicast: the others must be told
	advertised time.Time

	flush    flush
	question question
	commands [][]byte // of the application
	closing  int      // how often the end is still to be told; -1 once it was
	paused   bool
	events   []SenderEvent
	nodes    map[NodeID]*allowance // by node id
	repaired int                   // packets of repairs in a row while fresh ones wait
}

// NewSender makes a sender that begins at time now.
func NewSender(c SenderConfig, now time.Time) (*Sender, error) {
	if err := c.setDefaults(); err != nil {
		return nil, err
	}
	s := &Sender{config: c, bucket: newBucket(c.Rate, c.SymbolSize+c.Overhead+64, now), grtt: newGRTT(c.GRTT, now), nodes: map[NodeID]*allowance{}}
	s.flush.at = now
	if c.Congestion != nil {
		s.tfmcc = newTFMCCSender(*c.Congestion, c.Rate)
	}
	s.setRate(c.Rate, now)
	return s, nil
}

// SetRate changes the rate, in bits a second on the wire. With congestion control
// it is the ceiling.
func (s *Sender) SetRate(now time.Time, rate float64) {
	if s.tfmcc != nil {
		s.tfmcc.ceiling = rate
		rate = min(rate, s.tfmcc.rate)
	}
	s.setRate(rate, now)
}

func (s *Sender) setRate(rate float64, now time.Time) {
	s.bucket.set(rate, now)
	// A round trip cannot be told apart from a packet's own time on the wire.
	s.grtt.least = max(time.Millisecond, seconds(2*float64(8*(s.config.SymbolSize+s.config.Overhead+32))/rate))
	s.grtt.clamp()
}

// Pause keeps objects and repairs back; Resume lets them go on. Receivers are still
// kept up to date, so that they know the sender is there.
func (s *Sender) Pause() { s.paused = true }

// Resume ends a pause.
func (s *Sender) Resume(now time.Time) {
	s.paused = false
	s.bucket.refill(now)
	s.bucket.tokens, s.bucket.arrears = min(s.bucket.tokens, 0), 0
}

// Stats tells what was done so far.
func (s *Sender) Stats() SenderStats {
	st := s.stats
	st.GRTT, st.Rate = s.grtt.value, s.bucket.rate
	return st
}

// Event returns what has happened since, one at a time.
func (s *Sender) Event() (SenderEvent, bool) {
	if len(s.events) == 0 {
		return SenderEvent{}, false
	}
	e := s.events[0]
	s.events = s.events[1:]
	return e, true
}

func (s *Sender) emit(k SenderEventKind, id ObjectID) {
	s.events = append(s.events, SenderEvent{Kind: k, Object: id})
}

// Enqueue takes an object to be sent and returns its id. ErrFull says that the
// window is full of objects that are too young to be released: try again after
// something was sent. ErrObject is what cannot be sent at all.
func (s *Sender) Enqueue(now time.Time, o Object) (ObjectID, error) {
	l, err := newLayout(o.Size, s.config.SymbolSize, s.config.MaxBlock)
	if err != nil {
		return 0, err
	}
	if len(o.Info) > s.config.SymbolSize || o.Size == 0 && len(o.Info) == 0 || o.Kind == Stream {
		return 0, fmt.Errorf("%w: a %s of %d bytes with %d bytes of information", ErrObject, o.Kind, o.Size, len(o.Info))
	}
	return s.enqueue(now, newTxObject(o, l))
}

func (s *Sender) enqueue(now time.Time, o *txObject) (ObjectID, error) {
	for len(s.objects) >= s.config.Window || len(s.objects) > 0 && s.config.WindowBytes > 0 && s.held+o.Size > s.config.WindowBytes {
		oldest := s.objects[0]
		if s.current == 0 || oldest.stream != nil || now.Sub(oldest.active) < s.keep() {
			return 0, ErrFull
		}
		s.release(0)
	}
	s.held += o.Size
	o.id = s.nextID
	s.nextID++
	s.objects = append(s.objects, o)
	s.flush.restart(now)
	return o.id, nil
}

// keep is how long an object that nobody asks for is kept, when there is no room:
// long enough for some rounds of NACKs.
func (s *Sender) keep() time.Duration {
	return max(RobustFactor*s.grtt.value, 400*time.Millisecond)
}

// release lets object i of the window go.
func (s *Sender) release(i int) {
	o := s.objects[i]
	s.repairs = slices.DeleteFunc(s.repairs, func(b *txBlock) bool { return b.object == o })
	s.cache.drop(o)
	if !o.gone {
		s.held -= o.Size
		s.emit(Released, o.id)
	}
	if i == 0 {
		s.objects = s.objects[1:]
	} else {
		o.gone = true // its place in the window stays
	}
	if i == 0 && s.current > 0 {
		s.current--
	}
}

// object finds an object of the window.
func (s *Sender) object(id ObjectID) *txObject {
	if len(s.objects) == 0 {
		return nil
	}
	if i := int(id - s.objects[0].id); i < len(s.objects) && !s.objects[i].gone {
		return s.objects[i]
	}
	return nil
}

// Pending is how many objects have not gone out once.
func (s *Sender) Pending() int { return len(s.objects) - s.current }

// Nacks is how many NACKs came from a node.
func (s *Sender) Nacks(n NodeID) int64 {
	if a := s.nodes[n]; a != nil {
		return a.nacks
	}
	return 0
}

// Command has a message of the application sent to all receivers (NORM_CMD
// APPLICATION); it is not repaired.
func (s *Sender) Command(content []byte) { s.commands = append(s.commands, slices.Clone(content)) }

// Close tells receivers that nothing more comes; the event Closed follows.
func (s *Sender) Close(now time.Time) {
	if s.closing == 0 {
		s.closing = RobustFactor
		s.flush.at = now
	}
}

// Next returns the next packet to send to the group, made in buffer, which must
// have room for a whole packet; false if none is due before Deadline.
func (s *Sender) Next(now time.Time, buffer []byte) ([]byte, bool) {
	p := s.next(now, buffer[:0])
	if p == nil {
		return nil, false
	}
	p = s.config.Auth.sign(p)
	wire := len(p) + s.config.Overhead
	s.stats.Packets++
	s.stats.Bytes += int64(wire)
	s.bucket.take(wire)
	return p, true
}

func (s *Sender) next(now time.Time, b []byte) []byte {
	if s.grtt.due(now) {
		return s.probe(now, b)
	}
	s.bucket.refill(now)
	if !s.bucket.open() {
		return nil
	}
	switch {
	case s.question.due(now):
		return s.ask(now, b)
	case len(s.commands) > 0:
		c := &cmdMessage{senderHead: s.head(), Flavor: cmdApplication, Content: s.commands[0]}
		s.commands = s.commands[1:]
		return c.append(b)
	case (len(s.invalid) > 0 || s.streamGone != nil) && !now.Before(s.squelchAt):
		return s.squelch(now, b)
	case len(s.advertise) > 0 && now.Sub(s.advertised) >= s.grtt.value:
		return s.advertisement(now, b)
	}
	if !s.paused {
		if latest := now.Add(time.Duration(s.config.Backoff+1) * s.grtt.value); s.holdTill.After(latest) {
			s.holdTill = latest
		}
		idle := s.idle()
		if len(s.repairs) > 0 && (idle || !now.Before(s.holdTill) && s.repaired < 1) {
			if p := s.repair(now, b); p != nil {
				s.repaired++
				return p
			}
		}
		s.repaired = 0
		if p := s.fresh(now, b); p != nil {
			return p
		}
	} else if s.closing <= 0 {
		return nil
	}
	return s.flushing(now, b)
}

// idle reports that nothing goes out for the first time. Then requests are
// answered at once: parity that comes early is good for whoever would have asked
// later, so that gathering requests saves nothing (section 5.4 gathers them to
// send the largest need once; here a later, larger one is topped up).
func (s *Sender) idle() bool {
	for _, o := range s.objects[s.current:] {
		if o.stream == nil || o.stream.pending() {
			return false
		}
	}
	return true
}

// Deadline is when Next has something to send at the earliest, unless feedback
// comes or an object is enqueued before.
func (s *Sender) Deadline(now time.Time) time.Time {
	at := s.grtt.at
	busy := len(s.commands) > 0 || len(s.invalid) > 0 || s.streamGone != nil || len(s.advertise) > 0
	busy = busy || !s.paused && (!s.idle() || len(s.repairs) > 0)
	if busy {
		return earliest(at, s.bucket.opens(now))
	}
	if len(s.question.nodes) > 0 {
		at = earliest(at, s.question.at)
	}
	if s.flush.waiting(s) && (!s.paused || s.closing > 0) {
		at = earliest(at, s.flush.at)
	}
	return at
}

func (s *Sender) head() senderHead {
	h := senderHead{
		head:     head{Sequence: s.sequence, Source: s.config.Node},
		Instance: s.config.Instance, GRTT: s.grtt.quantized, Backoff: uint8(s.backoff()), GroupSize: QuantizeGroupSize(s.config.GroupSize),
	}
	s.sequence++
	return h
}

// backoff is K as receivers are told. At the end, when everyone waits for the last
// repairs, a small group need not be spread out as far.
func (s *Sender) backoff() int {
	switch {
	case !s.idle() || s.config.GroupSize > 100:
		return s.config.Backoff
	case s.config.GroupSize > 20:
		return (s.config.Backoff + 1) / 2
	}
	return (s.config.Backoff + 3) / 4
}

// fresh sends the next symbol that was never sent.
func (s *Sender) fresh(now time.Time, b []byte) []byte {
	for i := s.current; i < len(s.objects); i++ {
		o := s.objects[i]
		if o.gone || o.finished() {
			if i == s.current {
				s.current++
			}
			continue
		}
		if o.stream != nil && !o.stream.pending() {
			if o.stream.closed && o.stream.sentAll() {
				s.emit(Sent, o.id)
				s.current++
			}
			return nil // what is behind a stream waits for its end
		}
		o.active = now
		if st := o.stream; st != nil && o.block-st.first < uint32(len(st.sentAt)) {
			st.sentAt[o.block-st.first] = now
		}
		d := dataMessage{senderHead: s.head(), Flags: o.flags(), position: position{Object: o.id}}
		if o.infoLeft {
			o.infoLeft = false
			d.Info, d.Payload, d.FTI = true, o.Info, s.fti(o)
			if o.finished() {
				s.sent(o)
			}
			return d.append(b)
		}
		d.Block, d.Symbol = o.block, uint8(o.symbol)
		last := o.layout.blockSymbols(o.block) - 1
		payload, err := s.symbol(o, o.block, o.symbol)
		if err != nil {
			s.fail(i, err)
			continue
		}
		d.FTI, d.Payload = s.fti(o), payload
		if o.symbol <= last {
			s.stats.SourceBytes += int64(len(payload))
		}
		o.advance(last, s.config.Ahead)
		if o.finished() {
			s.sent(o)
		}
		return d.append(b)
	}
	return nil
}

func (s *Sender) sent(o *txObject) {
	s.current++
	s.emit(Sent, o.id)
}

func (s *Sender) fail(i int, err error) {
	s.events = append(s.events, SenderEvent{Kind: ReadFailed, Object: s.objects[i].id, Err: err})
	s.invalid = append(s.invalid, s.objects[i].id)
	s.release(i)
}

func (s *Sender) fti(o *txObject) *FTI {
	n := s.config.MaxBlock + s.config.MaxParity
	if s.config.Points == fec.ZeroFirst {
		n = s.config.MaxParity
	}
	o.oti = FTI{TransferLength: o.layout.Size, SymbolSize: uint16(s.config.SymbolSize), MaxBlock: uint8(s.config.MaxBlock), MaxN: uint8(n)}
	return &o.oti
}

// Handle takes a packet that came back from a receiver, unicast if it was sent to
// this sender alone. Packets that are not for it are passed over; ErrMessage
// tells of malformed ones.
func (s *Sender) Handle(now time.Time, packet []byte, unicast bool) error {
	if !s.config.Auth.good(packet) {
		s.stats.Forged++
		return ErrForged
	}
	t, h, header, content, err := split(packet)
	if err != nil {
		return err
	}
	switch t {
	case typeNack:
		var n nackMessage
		if err := n.parse(h, header, content); err != nil {
			return err
		}
		if s.mine(n.feedback) {
			s.stats.Nacks++
			s.listen(now, n.feedback, n.CC)
			if a := s.allowance(now, n.Source); a.speak(now) {
				s.nack(now, &n, unicast, a)
			} else {
				s.stats.Refused++
			}
		}
	case typeAck:
		var a ackMessage
		if err := a.parse(h, header, content); err != nil {
			return err
		}
		if s.mine(a.feedback) {
			s.stats.Acks++
			s.listen(now, a.feedback, a.CC)
			switch {
			case a.Type == ackFlush:
				s.flush.acknowledged(s, a.Source, a.position)
			case a.Type >= AckApplication:
				s.answered(a.Source, a.Type, a.ID)
			}
		}
	}
	return nil
}

func (s *Sender) mine(f feedback) bool {
	return f.Sender == s.config.Node && f.Instance == s.config.Instance && (s.config.Accept == nil || s.config.Accept(f.Source))
}

// listen learns the round trip and the congestion from feedback.
func (s *Sender) listen(now time.Time, f feedback, cc *CC) {
	rtt, ok := s.grtt.response(now, f.Response)
	if s.tfmcc != nil && cc != nil {
		if s.tfmcc.feedback(now, f.Source, *cc, rtt, ok, s.grtt.value, s.packetSize()) {
			s.setRate(s.tfmcc.rate, now)
		}
	}
}

func (s *Sender) packetSize() int { return s.config.SymbolSize + s.config.Overhead + 32 }
