package norm

import (
	"bytes"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

type memory struct{ bytes []byte }

func (m *memory) WriteAt(p []byte, off int64) (int, error) {
	if end := off + int64(len(p)); end > int64(len(m.bytes)) {
		m.bytes = append(m.bytes, make([]byte, end-int64(len(m.bytes)))...)
	}
	return copy(m.bytes[off:], p), nil
}

// hostile lets a sender and a receiver that are busy with each other hear
// packets; the object must arrive all the same.
func hostile(t *testing.T, packets ...[]byte) {
	now := time.Unix(1_700_000_000, 0)
	content := bytes.Repeat([]byte("seeds "), 2000)
	s, err := NewSender(SenderConfig{Node: 1, Instance: 5, Rate: 1e9, MaxBlock: 4, SymbolSize: 1000}, now)
	require.NoError(t, err)
	_, err = s.Enqueue(now, Object{Kind: Data, Size: int64(len(content)), Content: bytes.NewReader(content)})
	require.NoError(t, err)
	home, stranger := netip.MustParseAddrPort("192.0.2.1:6003"), netip.MustParseAddrPort("192.0.2.66:6003")
	got := map[remoteKey]*memory{}
	r := NewReceiver(ReceiverConfig{Node: 2, Buffer: 1 << 20, MaxObject: 1 << 20, Unicast: true, FromStart: true, Open: func(h Head) Sink {
		m := &memory{}
		got[remoteKey{h.Sender, h.From}] = m
		return m
	}})
	whole := false
	buffer := make([]byte, 0, 2000)
	for step := 0; !whole && step < 3000; step++ {
		for i := 0; ; i++ {
			p, ok := s.Next(now, buffer)
			if !ok {
				break
			}
			if (step+i)%7 != 3 {
				require.NoError(t, r.Handle(now, p, home))
			}
			for _, q := range packets {
				if len(packets) == 1 || (step+i)%len(packets) == 0 {
					r.Handle(now, q, stranger)
					s.Handle(now, q, true)
				}
			}
		}
		r.Advance(now)
		for o, ok := r.Out(); ok; o, ok = r.Out() {
			if o.To == home {
				require.NoError(t, s.Handle(now, o.Packet, true))
			}
		}
		for e, ok := r.Event(); ok; e, ok = r.Event() {
			whole = whole || e.Kind == Completed && e.Sender == 1 && e.From == home
		}
		next := earliest(s.Deadline(now), r.Deadline())
		if !next.After(now) {
			next = now.Add(100 * time.Microsecond)
		}
		now = next
	}
	require.True(t, whole, "the object did not arrive")
	require.Equal(t, content, got[remoteKey{1, home}].bytes)
	require.LessOrEqual(t, r.held, int64(1<<20))
}

// A neighbour on the group says what it likes, in the sender's and in the
// receiver's name.
func TestAHostileNeighbourOnTheGroup(t *testing.T) {
	as := func(h senderHead) senderHead { h.Source, h.Instance = 1, 5; return h }
	sh := as(senderHead{Backoff: 15, GRTT: 255, GroupSize: 15})
	fb := feedback{head: head{Source: 2}, Sender: 1, Instance: 5, Response: time.Unix(1_700_000_000, 0)}
	everything := []request{{formRanges, wantObject | wantInfo, []position{{0, 0, 0}, {65535, 1<<24 - 1, 255}}}}
	for name, packets := range map[string][][]byte{
		"data of another size":      {(&dataMessage{senderHead: sh, position: position{}, extensions: extensions{FTI: &FTI{1 << 40, 60000, 200, 255}}, Payload: make([]byte, 1000)}).append(nil)},
		"other bytes":               {(&dataMessage{senderHead: sh, position: position{}, extensions: extensions{FTI: &FTI{12000, 1000, 4, 255}}, Payload: make([]byte, 1000)}).append(nil)},
		"objects far ahead":         {(&dataMessage{senderHead: sh, position: position{Object: 30000}, extensions: extensions{FTI: &FTI{12000, 1000, 4, 255}}, Payload: make([]byte, 1000)}).append(nil)},
		"everything is squelched":   {(&cmdMessage{senderHead: sh, Flavor: cmdSquelch, position: position{Object: 500}, Invalid: []ObjectID{0, 1, 2}}).append(nil)},
		"the end":                   {(&cmdMessage{senderHead: sh, Flavor: cmdEOT}).append(nil)},
		"a flush far ahead":         {(&cmdMessage{senderHead: sh, Flavor: cmdFlush, position: position{Object: 900, Block: 1 << 23}}).append(nil)},
		"a flood of NACKs":          {(&nackMessage{feedback: fb, Requests: everything}).append(nil)},
		"what others asked for":     {(&cmdMessage{senderHead: sh, Flavor: cmdRepairAdv, Requests: everything}).append(nil)},
		"a round trip of years":     {(&ackMessage{feedback: feedback{head: head{Source: 2}, Sender: 1, Instance: 5, Response: time.Unix(1, 0)}, Type: ackCC}).append(nil)},
		"a round trip in the past":  {(&ackMessage{feedback: feedback{head: head{Source: 2}, Sender: 1, Instance: 5, Response: time.Unix(3_000_000_000, 0)}, Type: ackCC}).append(nil)},
		"another sender, same node": {(&dataMessage{senderHead: senderHead{head: head{Source: 1}, Instance: 9}, extensions: extensions{FTI: &FTI{12000, 1000, 4, 255}}, Payload: make([]byte, 1000)}).append(nil)},
	} {
		t.Run(name, func(t *testing.T) { hostile(t, packets...) })
	}
}
