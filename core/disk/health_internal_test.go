package disk

import (
	"encoding/binary"
	"testing"
	"unsafe"

	"github.com/stretchr/testify/assert"
)

func TestWhatDisksSayOfThemselves(t *testing.T) {
	nvme := make([]byte, smartSize)
	nvme[5] = 12
	assert.Equal(t, "good", judgeNVMe(nvme).String())
	nvme[0], nvme[5] = 1<<2|1<<3, 104
	binary.LittleEndian.PutUint64(nvme[160:], 7)
	assert.Equal(t, "it has become unreliable, it can only be read, 104 % of its life are used, 7 media errors", judgeNVMe(nvme).String())

	values, thresholds := make([]byte, smartSize), make([]byte, smartSize)
	copy(values[2:], []byte{5, 0, 0, 100, 100})     // replaced sectors
	copy(values[2+12:], []byte{194, 0, 0, 60, 50})  // temperature
	copy(values[2+24:], []byte{197, 0, 0, 100, 99}) // waiting
	copy(thresholds[2:], []byte{5, 10})
	assert.Equal(t, "good", judgeATA(values, thresholds).String())
	values[2+3], values[2+5] = 9, 0x38
	values[2+24+5] = 3
	assert.Equal(t, "attribute 5 has fallen to 9, its limit is 10, 56 sectors were replaced, 3 sectors wait to be replaced", judgeATA(values, thresholds).String())
	values[2+3], values[2+5] = 100, 3
	values[2+24+5] = 0
	v := judgeATA(values, thresholds)
	assert.Equal(t, []string{"3 sectors were replaced"}, v.Odd)
	assert.Empty(t, v.Wrong)
	assert.EqualValues(t, 3, v.Defects)
}

// The kernel's headers say how long these are on 64-bit machines.
func TestStructuresAreTheKernels(t *testing.T) {
	assert.EqualValues(t, 72, unsafe.Sizeof(nvmeAdmin{}))
	assert.EqualValues(t, 88, unsafe.Sizeof(sgHeader{}))
}

// Whatever a disk says of itself, it is said in words.
func FuzzWhatDisksSay(f *testing.F) {
	f.Add(make([]byte, smartSize), make([]byte, smartSize))
	f.Fuzz(func(t *testing.T, a, b []byte) {
		if len(a) != smartSize || len(b) != smartSize {
			return
		}
		for _, v := range []*Vitals{judgeNVMe(a), judgeATA(a, b)} {
			assert.NotEmpty(t, v.String())
			assert.GreaterOrEqual(t, v.Hours, int64(0))
			assert.GreaterOrEqual(t, v.Defects, int64(0))
		}
	})
}
