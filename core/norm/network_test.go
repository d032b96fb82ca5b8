package norm_test

import (
	"bytes"
	"container/heap"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"jugate/core/norm"
)

// network is a sender and receivers in virtual time: packets take a while, and
// some are lost.
type network struct {
	t         *testing.T
	now       time.Time
	sender    *norm.Sender
	receivers []*listener
	flying    flights
	order     int
	delay     time.Duration
	dice      *rand.Rand
	events    []norm.SenderEvent
	onSender  func(norm.SenderEvent)
	heard     func(packet []byte) // every packet that the sender sends
}

// listener is a receiver with what it has received.
type listener struct {
	*norm.Receiver
	loss     float64
	deaf     bool
	from     netip.AddrPort
	objects  map[norm.ObjectID]*content
	done     []norm.ReceiverEvent
	broken   []norm.ReceiverEvent
	other    []norm.ReceiverEvent
	finished time.Time // when the last object was whole
}

// content is an object in memory.
type content struct {
	norm.Head
	bytes []byte
}

func (c *content) WriteAt(p []byte, off int64) (int, error) {
	if end := off + int64(len(p)); end > int64(len(c.bytes)) {
		c.bytes = append(c.bytes, make([]byte, end-int64(len(c.bytes)))...)
	}
	return copy(c.bytes[off:], p), nil
}

type flight struct {
	at       time.Time
	order    int
	packet   []byte
	to       int // a receiver; -1 is the sender
	from     netip.AddrPort
	toSender bool // by unicast
}

type flights []flight

func (f flights) Len() int { return len(f) }
func (f flights) Less(i, j int) bool {
	return f[i].at.Before(f[j].at) || f[i].at.Equal(f[j].at) && f[i].order < f[j].order
}
func (f flights) Swap(i, j int) { f[i], f[j] = f[j], f[i] }
func (f *flights) Push(x any)   { *f = append(*f, x.(flight)) }
func (f *flights) Pop() any {
	x := (*f)[len(*f)-1]
	*f = (*f)[:len(*f)-1]
	return x
}

var start = time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)

func address(n int) netip.AddrPort {
	return netip.AddrPortFrom(netip.AddrFrom4([4]byte{192, 0, 2, byte(n)}), 6003)
}

func newNetwork(t *testing.T, c norm.SenderConfig, receivers int, rc norm.ReceiverConfig) *network {
	t.Helper()
	n := &network{t: t, now: start, delay: time.Millisecond, dice: rand.New(rand.NewPCG(5740, 1))}
	if c.Node == 0 {
		c.Node = 1
	}
	if c.Rate == 0 {
		c.Rate = 200e6
	}
	var err error
	n.sender, err = norm.NewSender(c, n.now)
	require.NoError(t, err)
	for i := range receivers {
		n.join(i, rc)
	}
	return n
}

func (n *network) join(i int, rc norm.ReceiverConfig) *listener {
	l := &listener{objects: map[norm.ObjectID]*content{}, from: address(100 + i)}
	rc.Node, rc.Seed = norm.NodeID(100+i), uint64(i)
	if rc.Open == nil {
		rc.Open = func(h norm.Head) norm.Sink {
			c := &content{Head: h}
			l.objects[h.Object] = c
			return c
		}
	}
	l.Receiver = norm.NewReceiver(rc)
	n.receivers = append(n.receivers, l)
	return l
}

func (n *network) fly(packet []byte, f flight) {
	n.order++
	f.packet, f.order, f.at = bytes.Clone(packet), n.order, n.now.Add(n.delay)
	heap.Push(&n.flying, f)
}

// step does what is due now and goes on to the next time that something is.
func (n *network) step() {
	buffer := make([]byte, 0, 2000)
	for p, ok := n.sender.Next(n.now, buffer); ok; p, ok = n.sender.Next(n.now, buffer) {
		if n.heard != nil {
			n.heard(p)
		}
		for i, l := range n.receivers {
			if !l.deaf && n.dice.Float64() >= l.loss {
				n.fly(p, flight{to: i, from: address(1)})
			}
		}
	}
	for e, ok := n.sender.Event(); ok; e, ok = n.sender.Event() {
		n.events = append(n.events, e)
		if n.onSender != nil {
			n.onSender(e)
		}
	}
	for i, l := range n.receivers {
		l.Advance(n.now)
		for o, ok := l.Out(); ok; o, ok = l.Out() {
			n.fly(o.Packet, flight{to: -1, from: l.from, toSender: o.To.IsValid()})
			for j := range n.receivers {
				if !o.To.IsValid() && j != i {
					n.fly(o.Packet, flight{to: j, from: l.from})
				}
			}
		}
		for e, ok := l.Event(); ok; e, ok = l.Event() {
			switch e.Kind {
			case norm.Completed:
				l.done = append(l.done, e)
				l.finished = n.now
			case norm.Broken:
				l.broken = append(l.broken, e)
			default:
				l.other = append(l.other, e)
			}
		}
	}
	next := n.sender.Deadline(n.now)
	for _, l := range n.receivers {
		if at := l.Deadline(); !at.IsZero() && (next.IsZero() || at.Before(next)) {
			next = at
		}
	}
	if len(n.flying) > 0 && (next.IsZero() || n.flying[0].at.Before(next)) {
		next = n.flying[0].at
	}
	if next.After(n.now) {
		n.now = next
	} else {
		n.now = n.now.Add(10 * time.Microsecond)
	}
	for len(n.flying) > 0 && !n.flying[0].at.After(n.now) {
		f := heap.Pop(&n.flying).(flight)
		if f.to < 0 {
			require.NoError(n.t, n.sender.Handle(n.now, f.packet, f.toSender))
		} else {
			require.NoError(n.t, n.receivers[f.to].Handle(n.now, f.packet, f.from))
		}
	}
}

// until lets time pass until something is true, but no longer than limit.
func (n *network) until(limit time.Duration, what string, done func() bool) {
	n.t.Helper()
	for end := n.now.Add(limit); !done(); n.step() {
		if n.now.After(end) {
			text := ""
			for i, l := range n.receivers {
				text += fmt.Sprintf("\nreceiver %d: %d whole, %d broken, %+v", i, len(l.done), len(l.broken), l.Stats())
			}
			require.FailNow(n.t, "it takes too long", "%s: not within %v; sender %+v%s", what, limit, n.sender.Stats(), text)
		}
	}
}

func (n *network) saw(k norm.SenderEventKind) func() bool {
	return func() bool {
		for _, e := range n.events {
			if e.Kind == k {
				return true
			}
		}
		return false
	}
}

// all is true when every receiver has so many objects.
func (n *network) all(objects int) func() bool {
	return func() bool {
		for _, l := range n.receivers {
			if len(l.done) < objects {
				return false
			}
		}
		return true
	}
}

func random(seed uint64, n int) []byte {
	b := make([]byte, n)
	dice := rand.NewPCG(seed, 7)
	for i := range b {
		b[i] = byte(dice.Uint64())
	}
	return b
}

func file(name string, b []byte) norm.Object {
	return norm.Object{Kind: norm.File, Size: int64(len(b)), Info: []byte(name), Content: bytes.NewReader(b)}
}
