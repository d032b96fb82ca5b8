package norm

import (
	"bytes"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSignedPackets(t *testing.T) {
	key := []byte("a key that the group shares")
	a, b, other := NewAuth(key), NewAuth(key), NewAuth([]byte("another group's"))
	data := dataMessage{senderHead: senderHead{head: head{Source: 1}, Instance: 5}, extensions: extensions{FTI: &FTI{12000, 1000, 4, 255}}, Payload: []byte("a symbol")}
	plain := data.append(nil)
	signed := a.sign(bytes.Clone(plain))
	require.Len(t, signed, len(plain)+AuthSize)
	assert.True(t, b.good(signed))
	assert.False(t, other.good(signed))
	assert.False(t, a.good(plain))
	t.Log("# it is still a message, for those who do not look")
	typ, h, header, content, err := split(signed)
	require.NoError(t, err)
	var read dataMessage
	require.NoError(t, read.parse(typ, h, header, content))
	assert.Equal(t, data.Payload, read.Payload)
	assert.Equal(t, data.FTI, read.FTI)
	t.Log("# no bit of it can be changed, and nothing cut off")
	for i := range signed {
		forged := bytes.Clone(signed)
		forged[i] ^= 1 << rand.IntN(8)
		assert.False(t, b.good(forged), "byte %d", i)
		assert.False(t, b.good(signed[:i]))
	}
	t.Log("# what a receiver has signed does not pass for a sender's")
	nack := (&nackMessage{feedback: feedback{head: head{Source: 2}, Sender: 1, Instance: 5}}).append(nil)
	signed = a.sign(nack)
	assert.True(t, b.good(signed))
	signed[0] = signed[0]&0xf0 | byte(typeCmd)
	assert.False(t, b.good(signed))
	var none *Auth
	assert.Equal(t, plain, none.sign(plain))
	assert.True(t, none.good(nil))
}

// group is a sender and a receiver that are busy with each other while a neighbour
// talks, in virtual time. It tells how many bytes went onto the wire until the object
// was whole.
func group(t *testing.T, auth, from, spoofed bool, neighbour func(step int) []byte) (wire int64, took time.Duration, whole int) {
	t.Helper()
	begin := time.Unix(1_700_000_000, 0)
	now := begin
	content := make([]byte, 2<<20)
	var sa, ra *Auth
	if auth {
		sa, ra = NewAuth([]byte("key")), NewAuth([]byte("key"))
	}
	s, err := NewSender(SenderConfig{Node: 1, Instance: 5, Rate: 1e8, Auth: sa, GroupSize: 2, Accept: func(n NodeID) bool { return n == 2 || n == 3 }}, now)
	require.NoError(t, err)
	home, stranger := netip.MustParseAddrPort("192.0.2.1:6003"), netip.MustParseAddrPort("192.0.2.66:6003")
	if spoofed {
		stranger = home
	}
	config := ReceiverConfig{Node: 2, Unicast: true, Auth: ra, Window: 8192, Open: func(h Head) Sink {
		if h.Size > 4<<20 {
			return nil
		}
		return &memory{}
	}}
	if from {
		config.From = home.Addr()
	}
	r := NewReceiver(config)
	for i := range 32 {
		_, err = s.Enqueue(now, Object{Kind: Data, Size: 64 << 10, Content: bytes.NewReader(content[i*64<<10 : (i+1)*64<<10])})
		require.NoError(t, err)
	}
	dice := rand.New(rand.NewPCG(1, 2))
	buffer := make([]byte, 0, 2000)
	for step := 0; whole < 32 && now.Sub(begin) < time.Minute; step++ {
		for {
			p, ok := s.Next(now, buffer)
			if !ok {
				break
			}
			if dice.Float64() >= 0.02 {
				require.NoError(t, r.Handle(now, p, home))
			}
		}
		if q := neighbour(step); q != nil {
			r.Handle(now, q, stranger)
			s.Handle(now, q, true)
		}
		r.Advance(now)
		for o, ok := r.Out(); ok; o, ok = r.Out() {
			if o.To == home {
				require.NoError(t, s.Handle(now, o.Packet, true))
			}
		}
		for e, ok := r.Event(); ok; e, ok = r.Event() {
			if e.Kind == Completed && e.From == home {
				whole++
			}
		}
		for _, ok := s.Event(); ok; _, ok = s.Event() {
		}
		now = now.Add(time.Millisecond)
	}
	t.Logf("%d of 32 in %v: %+v, %+v", whole, now.Sub(begin), s.Stats(), r.Stats())
	return s.Stats().Bytes, now.Sub(begin), whole
}

func TestANeighbourCostsLittle(t *testing.T) {
	sh := senderHead{head: head{Source: 1}, Instance: 5, Backoff: 4, GRTT: 100, GroupSize: 1}
	rubbish := func(step int) []byte {
		return (&dataMessage{senderHead: sh, position: position{Object: ObjectID(step * 7919)}, extensions: extensions{FTI: &FTI{64 << 10, 1440, 192, 255}}, Payload: make([]byte, 1440)}).append(nil)
	}
	everything := []request{{formRanges, wantObject, []position{{0, 0, 0}, {31, 1<<24 - 1, 255}}}}
	greedy := func(step int) []byte {
		return (&nackMessage{feedback: feedback{head: head{Source: 3, Sequence: uint16(step)}, Sender: 1, Instance: 5}, Requests: everything}).append(nil)
	}
	quietBytes, quietTime, whole := group(t, false, false, false, func(int) []byte { return nil })
	require.Equal(t, 32, whole)
	t.Run("rubbish with the service's own address, in the open", func(t *testing.T) { // nothing prevents that
		bytes, took, whole := group(t, false, true, true, rubbish)
		t.Logf("%d of 32 objects, %.2f times the bytes, %.2f times the time", whole, float64(bytes)/float64(quietBytes), took.Seconds()/quietTime.Seconds())
	})
	for name, c := range map[string]struct {
		auth, from bool
		say        func(int) []byte
		more       float64 // times the bytes and the time of a quiet group, at most
	}{
		"rubbish from another address":      {false, true, rubbish, 1.05},
		"rubbish, sealed":                   {true, false, rubbish, 1.1},
		"NACKs for everything, sealed":      {true, false, greedy, 1.1},
		"NACKs for everything, in the open": {false, false, greedy, 3},
	} {
		t.Logf("# %s", name)
		bytes, took, whole := group(t, c.auth, c.from, false, c.say)
		assert.Equal(t, 32, whole)
		t.Logf("%s: %.2f times the bytes, %.2f times the time", name, float64(bytes)/float64(quietBytes), took.Seconds()/quietTime.Seconds())
		assert.Less(t, float64(bytes)/float64(quietBytes), c.more, name)
		assert.Less(t, took.Seconds()/quietTime.Seconds(), c.more, name)
	}
}
