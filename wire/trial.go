package wire

import (
	"encoding/binary"
	"time"
)

// TrialSize is how many bytes each packet of a trial has.
const TrialSize = 1200

// TrialRateAtMost is the highest rate of a trial, in bits a second. It takes a second.
const TrialRateAtMost = 2_000_000_000

// TrialLate is how long after the last packet of a trial was sent others are listened for.
const TrialLate = 300 * time.Millisecond

// trialPacketsAtMost bounds what is kept of the packets of a trial, whoever sends them.
const trialPacketsAtMost = TrialRateAtMost / (8 * TrialSize)

// CountTrial counts the packets of a trial, each once, until the socket is closed.
func CountTrial(socket Reader, token string) int {
	seen := map[uint32]bool{}
	batch := make([]Message, 16)
	for i := range batch {
		batch[i].Buffers = [][]byte{make([]byte, 2048)}
	}
	for {
		n, err := socket.ReadBatch(batch, 0)
		if err != nil {
			return len(seen)
		}
		for _, m := range batch[:n] {
			b := m.Buffers[0][:m.N]
			if len(b) >= len(token)+4 && string(b[:len(token)]) == token && len(seen) < trialPacketsAtMost {
				seen[binary.BigEndian.Uint32(b[len(token):])] = true
			}
		}
	}
}
