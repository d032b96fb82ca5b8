package norm

import (
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// packet makes random messages of every kind, and what reads each again.
func randomMessage(dice *rand.Rand) (m interface{ append([]byte) []byte }, read func(t messageType, h head, header, content []byte) (any, error)) {
	n16, n32 := func() uint16 { return uint16(dice.Uint32()) }, dice.Uint32
	source := func() NodeID { return NodeID(1 + dice.Uint32N(1<<31)) }
	sh := senderHead{head{n16(), source()}, n16(), uint8(n32()), uint8(dice.IntN(16)), uint8(dice.IntN(16))}
	at := position{ObjectID(n16()), dice.Uint32N(1 << 24), uint8(n32())}
	stamp := time.Unix(int64(n32()), int64(dice.IntN(1e6))*1000)
	fb := feedback{head{n16(), source()}, source(), n16(), stamp}
	ext := extensions{}
	if dice.IntN(2) == 0 {
		ext.CC = &CC{n16(), uint8(n32()), uint8(n32()), n16(), n16()}
	}
	bytes := make([]byte, dice.IntN(50))
	for i := range bytes {
		bytes[i] = byte(n32())
	}
	requests := func() (list []request) {
		for range dice.IntN(4) {
			r := request{Form: formItems, Level: level(1 + dice.IntN(15))}
			for range 1 + dice.IntN(3) {
				r.Items = append(r.Items, position{ObjectID(n16()), dice.Uint32N(1 << 24), uint8(n32())})
			}
			list = append(list, r)
		}
		return list
	}
	var nodes []NodeID
	for range dice.IntN(4) {
		nodes = append(nodes, NodeID(n32()))
	}
	readData := func(t messageType, h head, header, content []byte) (any, error) {
		d := &dataMessage{}
		return d, d.parse(t, h, header, content)
	}
	readCmd := func(_ messageType, h head, header, content []byte) (any, error) {
		c := &cmdMessage{}
		return c, c.parse(h, header, content)
	}
	switch dice.IntN(11) {
	case 0:
		return &dataMessage{senderHead: sh, Flags: uint8(n32()), position: at, Payload: bytes,
			extensions: extensions{FTI: &FTI{int64(n32()) << 8, n16(), uint8(n32()), uint8(n32())}}}, readData
	case 1:
		return &dataMessage{senderHead: sh, Info: true, Flags: uint8(n32()), position: position{Object: at.Object}, Payload: bytes}, readData
	case 2:
		return &cmdMessage{senderHead: sh, Flavor: cmdFlush, position: at, Nodes: nodes}, readCmd
	case 3:
		return &cmdMessage{senderHead: sh, Flavor: cmdEOT}, readCmd
	case 4:
		return &cmdMessage{senderHead: sh, Flavor: cmdSquelch, position: at, Invalid: []ObjectID{1, 70, 65535}}, readCmd
	case 5:
		rate := n16()
		return &cmdMessage{senderHead: sh, Flavor: cmdCC, Sequence: n16(), SendTime: stamp, CCNodes: []ccNode{{source(), 3, 4, n16()}}, extensions: extensions{Rate: &rate}}, readCmd
	case 6:
		return &cmdMessage{senderHead: sh, Flavor: cmdRepairAdv, Limited: dice.IntN(2) == 0, Requests: requests()}, readCmd
	case 7:
		return &cmdMessage{senderHead: sh, Flavor: cmdAckReq, AckType: uint8(n32()), AckID: uint8(n32()), Nodes: nodes}, readCmd
	case 8:
		return &cmdMessage{senderHead: sh, Flavor: cmdApplication, Content: bytes}, readCmd
	case 9:
		return &nackMessage{feedback: fb, extensions: ext, Requests: requests()}, func(_ messageType, h head, header, content []byte) (any, error) {
			n := &nackMessage{}
			return n, n.parse(h, header, content)
		}
	}
	return &ackMessage{feedback: fb, Type: ackFlush, ID: uint8(n32()), position: at, extensions: ext}, func(_ messageType, h head, header, content []byte) (any, error) {
		a := &ackMessage{}
		return a, a.parse(h, header, content)
	}
}

func TestMessagesReadAsTheyWereWritten(t *testing.T) {
	dice := rand.New(rand.NewPCG(4, 1))
	for range 3000 {
		m, read := randomMessage(dice)
		b := m.append(nil)
		mt, h, header, content, err := split(b)
		require.NoError(t, err)
		got, err := read(mt, h, header, content)
		require.NoError(t, err, "%T %+v", m, m)
		if d, ok := got.(*dataMessage); ok && len(d.Payload) == 0 {
			d.Payload = m.(*dataMessage).Payload
		}
		if c, ok := got.(*cmdMessage); ok && len(c.Content) == 0 {
			c.Content = m.(*cmdMessage).Content
		}
		require.True(t, reflect.DeepEqual(m, got), "%+v\n%+v", m, got)
		for n := range b { // nothing reads behind the end
			if mt, h, header, content, err := split(b[:n]); err == nil {
				read(mt, h, header, content)
			}
		}
	}
}

// These are a sender's first packets as the reference library sent them.
func TestKnownPackets(t *testing.T) {
	d := dataMessage{senderHead: senderHead{head{2, 1}, 0x56bd, 0x6b, 4, 2}, Flags: 0x14, position: position{0, 0, 1},
		extensions: extensions{FTI: &FTI{3000, 1000, 4, 3}}}
	assert.Equal(t, []byte{0x12, 8, 0, 2, 0, 0, 0, 1, 0x56, 0xbd, 0x6b, 0x42, 0x14, 5, 0, 0, 0, 0, 0, 1, 0x40, 3, 0, 0, 0, 0, 0x0b, 0xb8, 3, 0xe8, 4, 3}, d.append(nil))
	c := cmdMessage{senderHead: d.senderHead, Flavor: cmdFlush, position: position{0, 0, 2}}
	assert.Equal(t, []byte{0x13, 5, 0, 2, 0, 0, 0, 1, 0x56, 0xbd, 0x6b, 0x42, 1, 5, 0, 0, 0, 0, 0, 2}, c.append(nil))
	assert.InDelta(t, 125_000, UnquantizeRate(0x2005), 0.1)
	assert.EqualValues(t, 0x2005, QuantizeRate(125_000))
}

func TestWhatIsNoMessageIsRefused(t *testing.T) {
	good := (&cmdMessage{senderHead: senderHead{head: head{Source: 1}}, Flavor: cmdEOT}).append(nil)
	change := func(i int, v byte) []byte {
		b := append([]byte(nil), good...)
		b[i] = v
		return b
	}
	for name, b := range map[string][]byte{
		"empty": nil, "short": good[:7], "another version": change(0, 0x23), "a header longer than the packet": change(1, 5), "a header shorter than the least": change(1, 1),
		"from nobody": change(7, 0), "too long": make([]byte, MaxPacket+1),
	} {
		_, _, _, _, err := split(b)
		assert.ErrorIs(t, err, ErrMessage, name)
	}
	for name, b := range map[string][]byte{"extension without length": {3, 0, 0, 0}, "extension too long": {3, 9, 0, 0}, "half an extension": {200, 0}} {
		_, err := parseExtensions(b)
		assert.ErrorIs(t, err, ErrMessage, name)
	}
	e, err := parseExtensions([]byte{200, 1, 2, 3, 90, 1, 0, 0})
	assert.NoError(t, err, "unknown ones are passed over")
	assert.Equal(t, extensions{}, e)
	for name, b := range map[string][]byte{"cut": {1, 1, 0}, "of odd length": {1, 1, 0, 4, 5, 0, 0, 0}, "no such form": {9, 1, 0, 0}, "half a range": {2, 1, 0, 8, 5, 0, 0, 0, 0, 0, 0, 0},
		"longer than the packet": {1, 1, 0xff, 0xf8}, "another code": {1, 1, 0, 8, 6, 0, 0, 0, 0, 0, 0, 0}} {
		_, err := parseRequests(b)
		assert.ErrorIs(t, err, ErrMessage, name)
	}
}

func TestQuantizedValuesAreNeverBelow(t *testing.T) {
	for _, d := range []time.Duration{time.Microsecond, 31 * time.Microsecond, 33 * time.Microsecond, time.Millisecond, 20 * time.Millisecond, time.Second, 999 * time.Second} {
		got := UnquantizeRTT(QuantizeRTT(d))
		assert.GreaterOrEqual(t, got, d-time.Nanosecond)
		assert.LessOrEqual(t, got, d*11/10+time.Microsecond)
	}
	assert.Equal(t, UnquantizeRTT(0), UnquantizeRTT(QuantizeRTT(0)))
	for n, want := range map[int]int{1: 10, 10: 10, 11: 50, 50: 50, 51: 100, 1000: 1000, 3000: 5000, 1e9: 500_000_000} {
		assert.Equal(t, want, UnquantizeGroupSize(QuantizeGroupSize(n)), "%d", n)
	}
	for _, r := range []float64{0, 1, 64_000, 12.5e6, 1.25e9} {
		assert.InEpsilon(t, r+1, UnquantizeRate(QuantizeRate(r))+1, 0.002)
	}
	assert.InDelta(t, 0.18, UnquantizeLoss(QuantizeLoss(0.18)), 0.0001)
}

func TestBlocksAreCutAsTheRFCSays(t *testing.T) {
	// RFC 5052, section 9.1: 1000 symbols in blocks of at most 300 are 4 blocks of 250.
	l, err := newLayout(1000*10, 10, 300-100)
	require.NoError(t, err)
	assert.EqualValues(t, 5, l.blocks)
	for _, size := range []int64{1, 9, 10, 11, 999, 12345, 1_000_003} {
		for _, most := range []int{1, 2, 7, 64, 254} {
			l, err := newLayout(size, 10, most)
			require.NoError(t, err)
			var bytes, symbols int64
			for b := range l.blocks {
				assert.Equal(t, bytes, l.blockStart(b))
				assert.LessOrEqual(t, l.blockSymbols(b), most)
				n := 0
				for s := range l.blockSymbols(b) {
					assert.Positive(t, l.symbolBytes(b, s))
					n += l.symbolBytes(b, s)
				}
				assert.Equal(t, l.blockBytes(b), n)
				bytes += int64(n)
				symbols += int64(l.blockSymbols(b))
			}
			assert.Equal(t, size, bytes)
			assert.Equal(t, l.symbols, symbols)
		}
	}
	_, err = newLayout(1<<48, 1440, 100)
	assert.ErrorIs(t, err, ErrObject)
	_, err = newLayout(1<<40, 10, 1)
	assert.ErrorIs(t, err, ErrObject, "more blocks than their number has bits for")
}

// In a group as large as the timers are made for, few speak early.
func TestBackoffKeepsMostSilent(t *testing.T) {
	dice := rand.New(rand.NewPCG(5401, 1))
	early := 0
	const rounds = 200
	for range rounds {
		first := time.Hour
		var all []time.Duration
		for range 100 {
			d := backoff(dice, 400*time.Millisecond, 100)
			require.True(t, d >= 0 && d <= 400*time.Millisecond)
			all = append(all, d)
			first = min(first, d)
		}
		for _, d := range all {
			if d <= first+50*time.Millisecond { // half a round trip later it has been heard
				early++
			}
		}
	}
	assert.Less(t, float64(early)/rounds, 8.0, "on average, of a hundred")
	assert.Zero(t, backoff(dice, 0, 100))
}

func TestObjectIDsWrap(t *testing.T) {
	assert.True(t, ObjectID(65535).Before(0))
	assert.True(t, ObjectID(1).Before(2))
	assert.False(t, ObjectID(2).Before(2))
	assert.False(t, ObjectID(3).Before(65500))
}

func FuzzHandle(f *testing.F) {
	dice := rand.New(rand.NewPCG(4, 2))
	for range 100 {
		m, _ := randomMessage(dice)
		f.Add(m.append(nil))
	}
	f.Fuzz(func(t *testing.T, packet []byte) {
		hostile(t, packet)
	})
}
