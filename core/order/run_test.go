package order_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"jugate/core/order"
)

func TestPartsOfARunAreDoneOneAfterTheOther(t *testing.T) {
	const w, r, d, f, s = order.Waiting, order.Running, order.Done, order.Failed, order.Stopped
	for _, c := range []struct {
		parts []order.State
		begin int
		now   order.State
	}{
		{[]order.State{w, w}, 0, r}, {[]order.State{r, w}, -1, r}, {[]order.State{d, w}, 1, r}, {[]order.State{d, r}, -1, r}, {[]order.State{d, d}, -1, d},
		{[]order.State{f, w}, -1, f}, {[]order.State{d, s, w}, -1, s}, {nil, -1, d},
	} {
		begin, now := order.Next(c.parts)
		assert.Equal(t, c.begin, begin, "%v", c.parts)
		assert.Equal(t, c.now, now, "%v", c.parts)
	}
	for _, s := range order.States {
		assert.Equal(t, s != w && s != r, s.Over(), s)
	}
}
