package volume

import (
	"encoding/binary"
	"io"
	"slices"

	"github.com/google/uuid"
)

// Linux swap: the last ten bytes of its first page are a signature, which a
// hibernating system replaces by another. All behind the first page is worthless
// on another machine.
var (
	swapSignatures      = []string{"SWAPSPACE2", "SWAP-SPACE"}
	hibernateSignatures = []string{"S1SUSPEND\x00", "S2SUSPEND\x00", "ULSUSPEND\x00", "LINHIB0001"}
)

func probeSwap(r io.ReaderAt, size int64) (*Volume, error) {
	for _, page := range []int64{4096, 8192, 16384, 32768, 65536} {
		b, err := head(r, size, 0, int(page))
		if b == nil || err != nil {
			return nil, err
		}
		signature := string(b[page-10:])
		hibernated := slices.Contains(hibernateSignatures, signature)
		if !hibernated && !slices.Contains(swapSignatures, signature) {
			continue
		}
		le := binary.LittleEndian
		v := &Volume{
			Kind: Swap, ClusterSize: page, Clean: true, Hibernated: hibernated,
			Needs: (int64(le.Uint32(b[1028:])) + 1) * page, // its last page's number
			Label: untilZero(b[1052:1068]),
			used:  whole(page),
		}
		if id, _ := uuid.FromBytes(b[1036:1052]); id != uuid.Nil {
			v.UUID = id.String()
		}
		return v, nil
	}
	return nil, nil
}
