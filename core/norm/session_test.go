package norm_test

import (
	"bytes"
	"fmt"
	"math"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/norm"
)

func (n *network) enqueue(sizes ...int) {
	for i, size := range sizes {
		_, err := n.sender.Enqueue(n.now, file(fmt.Sprint(i), random(uint64(i), size)))
		require.NoError(n.t, err)
	}
}

func TestAStreamArrivesInOrder(t *testing.T) {
	for _, loss := range []float64{0, 0.05, 0.3} {
		n := newNetwork(t, norm.SenderConfig{MaxBlock: 20, SymbolSize: 500, Rate: 40e6}, 2, norm.ReceiverConfig{Unicast: true, FromStart: true})
		for _, l := range n.receivers {
			l.loss = loss
		}
		id, err := n.sender.OpenStream(n.now, []byte("log"), 8_000_000)
		require.NoError(t, err)
		want := random(9, 3_000_123)
		left := want
		t.Logf("# loss %g: written as there is room, with a flush in the middle of a symbol", loss)
		n.until(2*time.Minute, "writing", func() bool {
			k := n.sender.WriteStream(n.now, id, left[:min(len(left), 70_001)])
			left = left[k:]
			n.sender.FlushStream(id)
			return len(left) == 0
		})
		n.until(time.Minute, "the end", func() bool { return n.sender.CloseStream(n.now, id) })
		n.until(time.Minute, "all", n.all(1))
		for _, l := range n.receivers {
			assert.Equal(t, norm.Stream, l.done[0].Head.Kind)
			assert.True(t, bytes.Equal(want, l.objects[id].bytes))
		}
	}
}

func TestAStreamThatIsTooFarAheadIsBroken(t *testing.T) {
	n := newNetwork(t, norm.SenderConfig{MaxBlock: 20, SymbolSize: 500, Rate: 40e6}, 1, norm.ReceiverConfig{Unicast: true, FromStart: true})
	id, err := n.sender.OpenStream(n.now, []byte("log"), 100_000)
	require.NoError(t, err)
	write := func(bytes int) func() bool {
		return func() bool {
			bytes -= n.sender.WriteStream(n.now, id, make([]byte, min(bytes, 10_000)))
			return bytes == 0
		}
	}
	n.until(time.Minute, "the beginning", write(20_000))
	n.until(time.Minute, "it is there", func() bool { return n.receivers[0].Stats().Symbols > 5 })
	n.receivers[0].deaf = true
	n.until(time.Minute, "much more", write(2_000_000))
	n.receivers[0].deaf = false
	n.until(time.Minute, "the news", func() bool { write(1)(); return len(n.receivers[0].broken) == 1 })
}

func TestALateComerGetsTheCurrentObjectWholeAndWhatFollows(t *testing.T) {
	n := newNetwork(t, norm.SenderConfig{Rate: 50e6}, 1, norm.ReceiverConfig{FromStart: true})
	n.enqueue(500_000, 2_000_000, 500_000)
	n.until(time.Minute, "the middle of the second", func() bool { return n.sender.Stats().SourceBytes > 1_500_000 })
	late := n.join(1, norm.ReceiverConfig{})
	n.until(time.Minute, "the rest", func() bool { return len(late.done) == 2 && len(n.receivers[0].done) == 3 })
	assert.True(t, bytes.Equal(random(1, 2_000_000), late.objects[1].bytes))
	assert.Nil(t, late.objects[0], "what was over when it came it does not ask for")
	t.Log("# one that wants everything from the start gets it, as long as the sender has it")
	last := n.join(2, norm.ReceiverConfig{FromStart: true})
	n.enqueue(1000)
	n.until(time.Minute, "everything", func() bool { return len(last.done) == 4 })
	assert.True(t, bytes.Equal(random(0, 500_000), last.objects[0].bytes))
}

func TestWhatIsGoneIsSquelched(t *testing.T) {
	n := newNetwork(t, norm.SenderConfig{Rate: 50e6, Window: 4}, 1, norm.ReceiverConfig{})
	deaf := n.join(1, norm.ReceiverConfig{FromStart: true})
	n.receivers = n.receivers[:1]
	sent := 0
	n.until(time.Minute, "ten objects", func() bool {
		if _, err := n.sender.Enqueue(n.now, file("x", random(uint64(sent), 50_000))); err == nil {
			sent++
		} else {
			require.ErrorIs(t, err, norm.ErrFull)
		}
		return sent == 10
	})
	n.receivers = append(n.receivers, deaf)
	n.until(time.Minute, "the last ones", func() bool {
		return len(deaf.done)+len(deaf.broken) >= 10 || n.saw(norm.Flushed)() && len(deaf.done) >= 4
	})
	assert.GreaterOrEqual(t, len(deaf.done), 4, "what is in the window")
	for _, e := range deaf.done {
		assert.GreaterOrEqual(t, int(e.Object), 6-1)
	}
}

func TestManyObjectsWrapTheirIDs(t *testing.T) {
	n := newNetwork(t, norm.SenderConfig{Rate: 1e9, Window: 512}, 1, norm.ReceiverConfig{FromStart: true})
	n.receivers[0].loss = 0.001
	const objects = 70_000
	sent, wrapped := 0, false
	n.onSender = func(e norm.SenderEvent) { wrapped = wrapped || e.Kind == norm.Sent && sent > 65_536 && e.Object < 100 }
	l := n.receivers[0]
	n.until(10*time.Minute, "all", func() bool {
		for sent < objects {
			if _, err := n.sender.Enqueue(n.now, norm.Object{Kind: norm.Data, Size: 30, Content: bytes.NewReader(random(uint64(sent), 30))}); err != nil {
				break
			}
			sent++
		}
		n.events, l.objects = nil, map[norm.ObjectID]*content{}
		return len(l.done)+len(l.broken) >= objects
	})
	assert.True(t, wrapped)
	assert.Less(t, len(l.broken), 50)
}

func TestAWatermarkIsAcknowledgedByThoseWhoHaveEverything(t *testing.T) {
	n := newNetwork(t, norm.SenderConfig{Rate: 50e6}, 3, norm.ReceiverConfig{Unicast: true, FromStart: true})
	n.receivers[0].loss, n.receivers[1].deaf = 0.1, true
	n.enqueue(1_000_000)
	n.sender.Watermark(n.now, []norm.NodeID{100, 101, 102})
	n.until(time.Minute, "an answer from all", func() bool { return n.saw(norm.Flushed)() })
	said := map[norm.NodeID]norm.SenderEventKind{}
	for _, e := range n.events {
		if e.Node != 0 {
			said[e.Node] = e.Kind
		}
	}
	assert.Equal(t, map[norm.NodeID]norm.SenderEventKind{100: norm.Acknowledged, 101: norm.Unheard, 102: norm.Acknowledged}, said)
	assert.Len(t, n.receivers[0].done, 1)
}

func TestNodesAreAsked(t *testing.T) {
	n := newNetwork(t, norm.SenderConfig{Rate: 50e6}, 3, norm.ReceiverConfig{FromStart: true})
	n.receivers[0].loss, n.receivers[1].deaf = 0.3, true
	require.Error(t, n.sender.Ask(n.now, 3, 1, []norm.NodeID{100}), "a kind that the standard has for itself")
	require.NoError(t, n.sender.Ask(n.now, norm.AckApplication, 7, []norm.NodeID{100, 101, 102}))
	said := map[norm.NodeID]norm.SenderEventKind{}
	n.onSender = func(e norm.SenderEvent) { said[e.Node] = e.Kind }
	n.until(time.Minute, "an answer from all", func() bool { return len(said) == 3 })
	assert.Equal(t, map[norm.NodeID]norm.SenderEventKind{100: norm.Answered, 101: norm.Unheard, 102: norm.Answered}, said)
}

// With as many receivers as the timers are made for, asking costs little.
func TestNACKsAreSuppressed(t *testing.T) {
	for _, unicast := range []bool{false, true} {
		n := newNetwork(t, norm.SenderConfig{Rate: 100e6, GroupSize: 50}, 50, norm.ReceiverConfig{Unicast: unicast, FromStart: true})
		for _, l := range n.receivers {
			l.loss = 0.01
		}
		n.enqueue(5_000_000)
		n.until(time.Minute, "all", n.all(1))
		st := n.sender.Stats()
		nacks, suppressed := int64(0), int64(0)
		for _, l := range n.receivers {
			nacks += l.Stats().Nacks
			suppressed += l.Stats().Suppressed
		}
		t.Logf("unicast %v: %d symbols sent again, %d NACKs, %d suppressed", unicast, st.Repairs, nacks, suppressed)
		assert.Less(t, st.Repairs, st.SourceBytes/1440/12, "parity mends the losses of all: of fifty, few more than the worst one's")
		assert.Positive(t, suppressed)
	}
}

func TestAPauseHoldsTheStreamAndNobodyGivesUp(t *testing.T) {
	n := newNetwork(t, norm.SenderConfig{Rate: 20e6}, 2, norm.ReceiverConfig{FromStart: true})
	n.receivers[0].loss = 0.05
	n.enqueue(3_000_000)
	n.until(time.Minute, "a third", func() bool { return n.sender.Stats().SourceBytes > 1_000_000 })
	n.sender.Pause()
	before, at := n.sender.Stats().SourceBytes, n.now
	n.until(10*time.Minute, "five minutes", func() bool { return n.now.Sub(at) > 5*time.Minute })
	assert.Equal(t, before, n.sender.Stats().SourceBytes)
	for _, l := range n.receivers {
		assert.Len(t, l.other, 1, "the sender was heard, and not lost")
	}
	n.sender.SetRate(n.now, 200e6)
	n.sender.Resume(n.now)
	n.until(time.Second, "the rest, at the new rate", n.all(1))
}

// Somebody sets the clock forward while a file is under way. Backwards it cannot go:
// the times of a running process are monotonic.
func TestClockJumps(t *testing.T) {
	n := newNetwork(t, norm.SenderConfig{Rate: 20e6}, 2, norm.ReceiverConfig{Unicast: true, FromStart: true})
	n.receivers[0].loss = 0.05
	n.enqueue(3_000_000)
	for i, jump := range []time.Duration{time.Hour, 50 * time.Millisecond, 24 * time.Hour} {
		n.until(time.Minute, "some more", func() bool { return n.sender.Stats().SourceBytes > int64(i+1)*600_000 })
		for j := range n.flying {
			n.flying[j].at = n.flying[j].at.Add(jump)
		}
		n.now = n.now.Add(jump)
		n.until(time.Minute, "a while", func() bool { return n.sender.Stats().GRTT < time.Second })
	}
	n.until(time.Minute, "the rest", n.all(1))
}

func TestTwoSendersOnOneGroupDoNotMeddle(t *testing.T) {
	n := newNetwork(t, norm.SenderConfig{Rate: 50e6}, 1, norm.ReceiverConfig{FromStart: true})
	other, err := norm.NewSender(norm.SenderConfig{Node: 1, Instance: 7, Rate: 50e6}, n.now)
	require.NoError(t, err)
	theirs := random(77, 300_000)
	_, err = other.Enqueue(n.now, file("theirs", theirs))
	require.NoError(t, err)
	ours := random(0, 400_000)
	n.enqueue(len(ours))
	got := map[netip.AddrPort]*content{}
	l := n.receivers[0]
	l.Receiver = norm.NewReceiver(norm.ReceiverConfig{Node: 100, FromStart: true, Open: func(h norm.Head) norm.Sink {
		got[h.From] = &content{}
		return got[h.From]
	}})
	n.until(time.Minute, "both", func() bool {
		for p, ok := other.Next(n.now, make([]byte, 0, 2000)); ok; p, ok = other.Next(n.now, make([]byte, 0, 2000)) {
			require.NoError(t, l.Handle(n.now, p, address(66)))
		}
		return len(l.done) == 2
	})
	assert.True(t, bytes.Equal(ours, got[address(1)].bytes))
	assert.True(t, bytes.Equal(theirs, got[address(66)].bytes))
}

func TestASenderThatEndsOrFallsSilentIsTold(t *testing.T) {
	n := newNetwork(t, norm.SenderConfig{}, 1, norm.ReceiverConfig{FromStart: true})
	n.enqueue(1000)
	n.until(time.Minute, "the file", n.all(1))
	n.sender.Command([]byte("hello"))
	n.sender.Close(n.now)
	n.until(time.Minute, "the end", n.saw(norm.Closed))
	n.until(time.Minute, "the end is heard", func() bool { return len(n.receivers[0].other) >= 3 })
	assert.Equal(t, "hello", string(n.receivers[0].other[1].Content))
	assert.Equal(t, norm.SenderEnded, n.receivers[0].other[2].Kind)

	n = newNetwork(t, norm.SenderConfig{Rate: 1e6}, 1, norm.ReceiverConfig{FromStart: true})
	n.enqueue(1_000_000)
	n.until(time.Minute, "a packet", func() bool { return n.receivers[0].Stats().Packets > 10 })
	l := n.receivers[0]
	for range 2000 {
		n.now = n.now.Add(100 * time.Millisecond)
		l.Advance(n.now)
	}
	e, ok := l.Event()
	require.True(t, ok)
	assert.Equal(t, norm.SenderLost, e.Kind)
}

func TestACrashedSenderIsTakenUpAnew(t *testing.T) {
	n := newNetwork(t, norm.SenderConfig{Rate: 20e6, Instance: 1}, 1, norm.ReceiverConfig{FromStart: true})
	n.enqueue(2_000_000)
	n.until(time.Minute, "half", func() bool { return n.sender.Stats().SourceBytes > 1_000_000 })
	var err error
	n.sender, err = norm.NewSender(norm.SenderConfig{Node: 1, Instance: 2, Rate: 20e6}, n.now)
	require.NoError(t, err)
	n.enqueue(2_000_000)
	n.until(time.Minute, "the file", n.all(1))
	assert.Len(t, n.receivers[0].broken, 1, "what the first one had begun")
	assert.EqualValues(t, 2, n.receivers[0].done[0].Instance)
}

// The rate goes up while nothing is lost, down to what the worst receiver can take
// when it loses, and stays between floor and ceiling.
func TestCongestionControl(t *testing.T) {
	n := newNetwork(t, norm.SenderConfig{Rate: 2e6, Congestion: &norm.Congestion{Floor: 1e6, Ceiling: 300e6}}, 4, norm.ReceiverConfig{Unicast: true, FromStart: true})
	n.delay = 10 * time.Millisecond
	n.enqueue(200_000_000)
	n.until(time.Minute, "the ceiling", func() bool { return n.sender.Stats().Rate >= 299e6 })
	t.Logf("at the ceiling after %v", n.now.Sub(start))
	assert.Less(t, n.now.Sub(start), 5*time.Second)
	t.Log("# one receiver loses 2 %: the rate is about what TCP would have with that loss and round trip")
	n.receivers[2].loss = 0.02
	at := n.now
	n.until(time.Minute, "some seconds", func() bool { return n.now.Sub(at) > 8*time.Second })
	want := 8 * 1470 / (0.02 * (math.Sqrt(2*0.02/3) + 12*math.Sqrt(3*0.02/8)*0.02*(1+32*0.02*0.02)))
	got := n.sender.Stats().Rate
	t.Logf("rate %.1f Mbit/s, the equation says %.1f", got/1e6, want/1e6)
	assert.InEpsilon(t, want, got, 0.6)
	t.Log("# it leaves: the others have the network to themselves again")
	n.receivers[2].deaf = true
	n.until(5*time.Minute, "a higher rate", func() bool { return n.sender.Stats().Rate > 3*got })
	t.Log("# all lose nearly everything: not below the floor")
	for _, l := range n.receivers {
		l.loss = 0.5
	}
	at = n.now
	n.until(time.Minute, "some seconds", func() bool { return n.now.Sub(at) > 5*time.Second })
	assert.InDelta(t, 1e6, n.sender.Stats().Rate, 1e5)
}

func TestWhatCannotBeSentIsRefused(t *testing.T) {
	for _, c := range []norm.SenderConfig{{}, {Node: 1}, {Node: norm.NodeAny, Rate: 1e6}, {Node: 1, Rate: 1e6, MaxBlock: 255}, {Node: 1, Rate: 1e6, SymbolSize: 70_000}} {
		_, err := norm.NewSender(c, start)
		assert.Error(t, err)
	}
	s, err := norm.NewSender(norm.SenderConfig{Node: 1, Rate: 1e6}, start)
	require.NoError(t, err)
	for _, o := range []norm.Object{{Kind: norm.Data}, {Kind: norm.Data, Size: 1 << 48}, {Kind: norm.Data, Size: 1, Info: make([]byte, 2000)}, {Kind: norm.Stream, Size: 5}} {
		_, err := s.Enqueue(start, o)
		assert.ErrorIs(t, err, norm.ErrObject)
	}
	t.Log("# a file that got shorter is given up, and what follows goes on")
	n := newNetwork(t, norm.SenderConfig{}, 1, norm.ReceiverConfig{FromStart: true})
	_, err = n.sender.Enqueue(n.now, norm.Object{Kind: norm.File, Size: 5000, Info: []byte("short"), Content: bytes.NewReader(make([]byte, 100))})
	require.NoError(t, err)
	n.enqueue(5000)
	n.until(time.Minute, "the second", n.all(1))
	assert.True(t, n.saw(norm.ReadFailed)())
	assert.Len(t, n.receivers[0].broken, 1)
}
