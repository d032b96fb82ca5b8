package norm

import (
	"cmp"
	"math/bits"
	"slices"
	"time"
)

// asked is what one NACK wants of one block.
type asked struct {
	parity   int       // any symbols that are new to the receiver
	explicit [4]uint64 // these symbols, a bit each
	whole    bool
}

// nack takes a receiver's repair requests (section 5.4), as far as its allowance goes:
// whoever asks for everything again and again gets no more than others, and the stream
// goes on.
func (s *Sender) nack(now time.Time, n *nackMessage, unicast bool, left *allowance) {
	type key struct {
		o *txObject
		b uint32
	}
	wants := map[key]*asked{}
	var order []key
	want := func(o *txObject, b uint32) *asked {
		k := key{o, b}
		if wants[k] == nil {
			wants[k] = &asked{}
			order = append(order, k)
		}
		return wants[k]
	}
	queued, whole := false, true
	for _, r := range n.Requests {
		for i := 0; i < len(r.Items); i++ {
			first := r.Items[i]
			last := first
			if r.Form == formRanges {
				i++
				last = r.Items[i]
			}
			for id := first.Object; ; id++ {
				if o := s.requested(id); o != nil {
					if r.Level&(wantInfo|wantObject) != 0 && len(o.Info) > 0 && !o.infoLeft && !o.infoAsked {
						o.infoAsked, queued = true, true
						s.enqueueRepair(o.repairBlock(0, s.config.Ahead))
					}
					if o.stream != nil && id == first.Object && first.Block < o.stream.first && r.Level&(wantBlock|wantSegment) != 0 {
						s.streamGone = o
					}
					from, to := o.asked(r, first, last, id)
					for b := from; b < to; b++ {
						if !o.wasSent(b) {
							break
						}
						if len(order) >= blocksAtMost {
							whole = false
							break
						}
						o.ask(want(o, b), r, b, first, last)
					}
				}
				if id == last.Object || !id.Before(last.Object) || id-first.Object >= ObjectID(s.config.Window) {
					break
				}
			}
		}
	}
	for _, k := range order {
		if !left.symbols.AllowN(now, wants[k].symbols(k.o.layout.blockSymbols(k.b))) {
			s.stats.Refused++
			whole = false
			break
		}
		if s.need(now, k.o.repairBlock(k.b, s.config.Ahead), wants[k]) {
			queued = true
		}
	}
	if !queued {
		return
	}
	s.flush.restart(now)
	if s.holdTill.IsZero() || len(s.repairs) == 0 {
		s.holdTill = now.Add(time.Duration(s.config.Backoff+1) * s.grtt.value)
	}
	if unicast && whole { // what is not answered must keep nobody else silent
		s.advertise = n.Requests
	}
}

// symbols is how many are wanted of a block of n.
func (a *asked) symbols(n int) int {
	if a.whole {
		return n
	}
	count := a.parity
	for _, w := range a.explicit {
		count += bits.OnesCount64(w)
	}
	return min(count, n)
}

// requested finds an object that was asked for; one that is gone is squelched.
func (s *Sender) requested(id ObjectID) *txObject {
	o := s.object(id)
	if o == nil && id.Before(s.nextID) && len(s.invalid) < 32 && !slices.Contains(s.invalid, id) {
		s.invalid = append(s.invalid, id)
	}
	return o
}

// asked is the range of blocks of object id that a request from first to last is
// about.
func (o *txObject) asked(r request, first, last position, id ObjectID) (from, to uint32) {
	to = o.layout.blocks
	if o.stream != nil {
		from, to = o.stream.first, o.stream.end()
	}
	switch {
	case r.Level&wantObject != 0:
		return from, to
	case r.Level&(wantBlock|wantSegment) == 0:
		return 0, 0
	}
	if id == first.Object {
		from = max(from, first.Block)
	}
	if id == last.Object {
		to = min(to, last.Block+1)
	}
	return from, to
}

// ask adds what a request wants of block b.
func (o *txObject) ask(a *asked, r request, b uint32, first, last position) {
	n := o.layout.blockSymbols(b)
	switch {
	case r.Form == formErasures:
		a.parity = max(a.parity, int(first.Symbol))
	case r.Level&wantSegment == 0:
		a.whole = true
	default:
		from, to := 0, 254
		if b == first.Block && o.id == first.Object {
			from = int(first.Symbol)
		}
		if b == last.Block && o.id == last.Object {
			to = int(last.Symbol)
		}
		for i := from; i <= to; i++ {
			a.explicit[i/64] |= 1 << (i % 64)
			if i >= n {
				a.parity++
			}
		}
	}
}

// need queues what a block needs beyond what is queued or under way already:
// fresh parity as long as there is some, since it mends everybody's losses, and
// after that the very symbols that were asked for.
func (s *Sender) need(now time.Time, b *txBlock, a *asked) bool {
	n := b.object.layout.blockSymbols(b.number)
	count := a.parity
	for i := range n {
		if a.explicit[i/64]&(1<<(i%64)) != 0 {
			count++
		}
	}
	if now.Sub(b.burstAt) >= s.grtt.value {
		b.burst = 0
	}
	if a.whole {
		count = n
	}
	if count -= b.burst; count <= 0 {
		return false // the receiver spoke before it can have heard what was sent
	}
	free := s.config.MaxParity - b.used
	if st := b.object.stream; st != nil && b.number >= b.object.block {
		free = 0 // of a block that is still being filled there is no parity
		for i := b.object.symbol; i <= 254; i++ {
			a.explicit[i/64] &^= 1 << (i % 64)
		}
		n = min(n, b.object.symbol)
	}
	switch {
	case a.whole || count > free && a.explicit == [4]uint64{}:
		for i := range n {
			b.explicit[i/64] |= 1 << (i % 64)
		}
	case count <= free:
		b.parity = max(b.parity, count)
	default:
		b.parity = max(b.parity, free)
		for i := range a.explicit {
			b.explicit[i] |= a.explicit[i]
		}
	}
	s.enqueueRepair(b)
	return true
}

func (s *Sender) enqueueRepair(b *txBlock) {
	if b.queued {
		return
	}
	b.queued = true
	i, _ := slices.BinarySearchFunc(s.repairs, b, func(x, y *txBlock) int {
		return cmp.Or(int(int16(x.object.id-y.object.id)), cmp.Compare(x.number, y.number))
	})
	s.repairs = slices.Insert(s.repairs, i, b)
}

// repair sends the next symbol that was asked for.
func (s *Sender) repair(now time.Time, p []byte) []byte {
	for len(s.repairs) > 0 {
		b := s.repairs[0]
		o := b.object
		o.active = now
		d := dataMessage{senderHead: s.head(), Flags: o.flags() | flagRepair, position: position{Object: o.id, Block: b.number}}
		d.FTI = s.fti(o)
		if o.infoAsked {
			o.infoAsked = false
			d.Info, d.Payload = true, o.Info
			s.stats.Repairs++
			return d.append(p)
		}
		esi, explicit := b.next(s.config.MaxParity)
		if esi < 0 {
			b.queued = false
			s.repairs = s.repairs[1:]
			s.sequence-- // nothing was sent with it
			continue
		}
		if explicit {
			d.Flags |= flagExplicit
		} else {
			s.stats.Parity++
		}
		payload, err := s.symbol(o, b.number, esi)
		if err != nil {
			s.fail(int(o.id-s.objects[0].id), err)
			continue
		}
		if now.Sub(b.burstAt) >= s.grtt.value {
			b.burst = 0
		}
		b.burst++
		b.burstAt = now
		d.Symbol, d.Payload = uint8(esi), payload
		s.stats.Repairs++
		return d.append(p)
	}
	return nil
}

// next takes the next symbol off the block's list: -1 if there is none.
func (b *txBlock) next(maxParity int) (esi int, explicit bool) {
	if b.parity > 0 && b.used < maxParity {
		b.parity--
		b.used++
		return b.object.layout.blockSymbols(b.number) + b.used - 1, false
	}
	b.parity = 0
	for i, w := range b.explicit {
		if w != 0 {
			bit := bits.TrailingZeros64(w)
			b.explicit[i] &^= 1 << bit
			return 64*i + bit, true
		}
	}
	return -1, false
}

// squelch tells receivers that objects are gone (NORM_CMD(SQUELCH)).
func (s *Sender) squelch(now time.Time, b []byte) []byte {
	c := &cmdMessage{senderHead: s.head(), Flavor: cmdSquelch, Invalid: s.invalid}
	c.Object = s.nextID
	if len(s.objects) > 0 {
		c.Object = s.objects[0].id
	}
	if o := s.streamGone; o != nil { // what comes next of it cannot be repaired
		c.Object, c.Block = o.id, o.stream.first
	}
	s.invalid, s.streamGone = nil, nil
	s.squelchAt = now.Add(2 * s.grtt.value)
	return c.append(b)
}

// advertisement tells receivers what was asked for by unicast, so that the
// others keep silent (NORM_CMD(REPAIR_ADV)).
func (s *Sender) advertisement(now time.Time, b []byte) []byte {
	c := &cmdMessage{senderHead: s.head(), Flavor: cmdRepairAdv}
	left := s.config.SymbolSize
	for _, r := range s.advertise {
		if left -= r.size(); left < 0 {
			c.Limited = true
			break
		}
		c.Requests = append(c.Requests, r)
	}
	s.advertise, s.advertised = nil, now
	return c.append(b)
}
