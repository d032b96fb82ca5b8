package wire_test

import (
	"encoding/binary"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"

	"jugate/wire"
)

// trial is a socket at which the packets of a trial come, each twice, and packets of others between them.
type trial struct {
	wire.Reader
	token     string
	sent, all int
}

func (r *trial) ReadBatch(ms []wire.Message, _ int) (n int, err error) {
	for n < len(ms) && r.sent < 3*r.all {
		token := r.token
		if r.sent%3 == 2 {
			token = "another's"
		}
		b := binary.BigEndian.AppendUint32([]byte(token), uint32(r.sent/3))
		ms[n].N = copy(ms[n].Buffers[0], b)
		n, r.sent = n+1, r.sent+1
	}
	if n == 0 {
		err = io.EOF
	}
	return n, err
}

// At the highest rate, too, what has come is not taken for lost.
func TestPacketsOfATrialAreCountedOnce(t *testing.T) {
	for _, packets := range []int{0, 400, wire.TrialRateAtMost / (8 * wire.TrialSize)} {
		assert.Equal(t, packets, wire.CountTrial(&trial{token: "k3v9x2m7q4", all: packets}, "k3v9x2m7q4"))
	}
}
