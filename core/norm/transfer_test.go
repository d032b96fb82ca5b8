package norm_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/fec"
	"jugate/core/norm"
)

func TestObjectsArriveWholeWhateverIsLost(t *testing.T) {
	sizes := []int{0, 1, 1440, 1441, 5000, 100_000, 300_000, 2_000_000}
	for _, points := range []fec.Points{fec.Standard, fec.ZeroFirst} {
		for _, unicast := range []bool{false, true} {
			for _, loss := range []float64{0, 0.01, 0.1, 0.4} {
				for _, receivers := range []int{1, 4} {
					t.Run(fmt.Sprintf("points %d, unicast %v, loss %g, %d receivers", points, unicast, loss, receivers), func(t *testing.T) {
						n := newNetwork(t, norm.SenderConfig{Points: points, MaxBlock: 100}, receivers, norm.ReceiverConfig{Unicast: unicast, FromStart: true})
						for _, l := range n.receivers {
							l.loss = loss
						}
						for i, size := range sizes {
							_, err := n.sender.Enqueue(n.now, file(fmt.Sprint(i), random(uint64(i), size)))
							require.NoError(t, err)
						}
						n.until(time.Minute, "all objects", n.all(len(sizes)))
						n.until(time.Minute, "the flush", n.saw(norm.Flushed))
						for _, l := range n.receivers {
							assert.Len(t, l.done, len(sizes))
							assert.Empty(t, l.broken)
							for _, e := range l.done {
								require.Equal(t, fmt.Sprint(e.Object), string(e.Info))
								require.Equal(t, random(uint64(e.Object), sizes[e.Object]), append([]byte{}, l.objects[e.Object].bytes...))
							}
						}
					})
				}
			}
		}
	}
}

// What the wire carries beyond the payload, against the least that is possible.
func TestTheWireCarriesLittleMoreThanThePayload(t *testing.T) {
	const size = 20 << 20
	for _, c := range []struct {
		receivers int
		loss      float64
		rate      float64
		wire      float64 // Ethernet bytes to payload bytes
		time      float64 // to payload bits over the rate
	}{
		{1, 0, 200e6, 1.07, 1.08},
		{4, 0.01, 200e6, 1.10, 1.15},
		{8, 0.02, 100e6, 1.13, 1.20},
		{16, 0.01, 50e6, 1.10, 1.15},
	} {
		n := newNetwork(t, norm.SenderConfig{Rate: c.rate, Overhead: 42}, c.receivers, norm.ReceiverConfig{Unicast: true, FromStart: true})
		for _, l := range n.receivers {
			l.loss = c.loss
		}
		_, err := n.sender.Enqueue(n.now, file("disk", random(1, size)))
		require.NoError(t, err)
		n.until(time.Minute, "the object", n.all(1))
		st := n.sender.Stats()
		var took time.Duration
		nacks := int64(0)
		for _, l := range n.receivers {
			took = max(took, l.finished.Sub(start))
			nacks += l.Stats().Nacks
		}
		wire, ratio := float64(st.Bytes)/size, took.Seconds()/(size*8/c.rate)
		t.Logf("%d receivers, %g %%: wire %.3f, time %.3f, %d repairs, %d NACKs, GRTT %v", c.receivers, 100*c.loss, wire, ratio, st.Repairs, nacks, st.GRTT)
		assert.LessOrEqual(t, wire, c.wire)
		assert.LessOrEqual(t, ratio, c.time)
	}
}

// Many blocks that each lack a symbol are asked for in few rounds: where a round trip takes long, each round does.
func TestManyRepairsTakeFewRounds(t *testing.T) {
	const blocks, block, symbol = 2400, 8, 64
	n := newNetwork(t, norm.SenderConfig{Rate: 20e6, MaxBlock: block, SymbolSize: symbol}, 1, norm.ReceiverConfig{Unicast: true, FromStart: true})
	n.delay = 300 * time.Millisecond
	l := n.receivers[0]
	_, err := n.sender.Enqueue(n.now, file("disk", random(1, blocks*block*symbol)))
	require.NoError(t, err)
	l.loss = 0.05 // a symbol in each third block, in the first pass alone
	n.until(time.Minute, "the first pass", func() bool { return n.sender.Stats().SourceBytes == blocks*block*symbol })
	over := n.now
	n.until(10*time.Minute, "the file", n.all(1))
	took, round := l.finished.Sub(over), n.sender.Stats().GRTT
	t.Logf("%v after the first pass, %v a round trip, %d NACKs", took, round, l.Stats().Nacks)
	assert.Less(t, took, 25*round)
}
