package check_test

import (
	"testing"
	"time"

	"jugate/core/check"
)

func BenchmarkMemory(b *testing.B) {
	b.SetBytes(64 * mib)
	for b.Loop() {
		m := &memory{pieces: [][]uint64{make([]uint64, 64*mib/8)}}
		if _, err := check.WalkMemory(b.Context(), m, true, time.Now, func(int64, int64) {}); err != nil {
			b.Fatal(err)
		}
	}
}
