package agent

import (
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/parcel"
	"jugate/core/slabstore"
)

func TestFreightIsWholeOrNotThere(t *testing.T) {
	content := strings.Repeat("x", 1<<20) + "end"
	payload := func(text string) parcel.Payload {
		return parcel.Payload{Digest: slabstore.Sum([]byte(text)).String(), Size: int64(len(text))}
	}
	large, small, foreign := payload(content), payload("small"), payload("of another workstation")
	needs := func(all ...parcel.Payload) (told []api.ToPayload) {
		for _, p := range all {
			told = append(told, api.ToPayload{Name: "p", Digest: p.Digest, Size: p.Size})
		}
		return told
	}
	carried := []parcel.Payload{foreign, large, small}
	f := newFreight(5, carried, needs(large, small, large, payload("not in the stream")), 2<<20)
	assert.Equal(t, [][2]int{{6, 8}}, f.lacks().Ranges())
	assert.False(t, f.put(5, []byte("of another workstation")))
	assert.False(t, f.put(7, []byte("ends")), "longer than it can be")
	assert.True(t, f.put(7, []byte("end")))
	assert.False(t, f.put(7, []byte("dne")), "it is there already")
	_, has := f.open(large.Digest)
	assert.False(t, has)
	assert.True(t, f.put(6, []byte(content[:1<<20])))
	assert.True(t, f.put(8, []byte("swall")), "a neighbour can send what it likes in an open delivery")
	got, has := f.open(large.Digest)
	require.True(t, has)
	read, err := io.ReadAll(got)
	require.NoError(t, err)
	assert.Equal(t, content, string(read))
	_, has = f.open(small.Digest)
	assert.False(t, has, "and is noticed")
	assert.Zero(t, f.left())

	assert.Equal(t, [][2]int{{8, 8}}, newFreight(5, carried, needs(large, small), 1<<20).lacks().Ranges(), "no room for the large one")
	f = newFreight(5, carried, needs(large), 2<<20)
	f.forgo(6)
	f.put(7, []byte("end"))
	_, has = f.open(large.Digest)
	assert.False(t, has || f.left() > 0)
}
