package stock

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/driver"
)

func TestWhatChangesWhileTheFleetIsReadIsReadNext(t *testing.T) {
	var f fleet
	devices := []driver.Device{{Modalias: "pci:v0000FE01d00001000sv00000000sd00000000bc02sc00i00", Class: driver.Network}}
	roster := map[int64]driver.Machine{1: {Name: "seed-01", Model: "A310", Devices: devices}, 2: {Name: "seed-02", Model: "A310", Devices: devices}}
	var asked [][]int64
	meanwhile := func() {}
	read := func(ids []int64) (map[int64]driver.Machine, error) {
		asked = append(asked, ids)
		found := map[int64]driver.Machine{}
		for id, m := range roster {
			if ids == nil || id == ids[0] {
				found[id] = m
			}
		}
		meanwhile() // after this reader has seen the records
		return found, nil
	}
	names := func() (all []string) {
		require.NoError(t, f.refresh(read))
		for _, m := range f.machines(nil, true) {
			all = append(all, m.Name)
		}
		return all
	}

	t.Log("# during the first reading, one workstation and then many change")
	meanwhile = func() {
		roster[1] = driver.Machine{Name: "press-01", Model: "A310", Devices: devices}
		f.news.touch(1)
	}
	assert.Equal(t, []string{"seed-01", "seed-02"}, names())
	meanwhile = func() {
		roster[2] = driver.Machine{Name: "press-02", Model: "A520", Devices: devices}
		f.news.touch(0)
	}
	assert.Equal(t, []string{"press-01", "seed-02"}, names())
	assert.Len(t, f.models(), 1)
	meanwhile = func() {}
	assert.Equal(t, []string{"press-01", "press-02"}, names())
	assert.Len(t, f.models(), 2, "the models are those of the machines")
	assert.Equal(t, [][]int64{nil, {1}, nil}, asked)

	t.Log("# nothing is read where nothing has changed, and one that has gone goes")
	names()
	assert.Len(t, asked, 3)
	delete(roster, 2)
	f.news.touch(2)
	assert.Equal(t, []string{"press-01"}, names())
	assert.Len(t, f.models(), 1)

	t.Log("# after a reading that failed everything is read anew")
	f.news.touch(1)
	away := errors.New("away")
	assert.ErrorIs(t, f.refresh(func([]int64) (map[int64]driver.Machine, error) { return nil, away }), away)
	names()
	assert.Nil(t, asked[len(asked)-1])
}
