package lease

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/objects"
)

// While a machine sleeps one of its clocks stands still: the other one tells that it did. A clock that is set
// back tells nothing.
func TestAHolderThatSlept(t *testing.T) {
	h, err := Take(t.Context(), objects.OpenFolder(t.TempDir()), Lease{Service: "garden", Holder: "one", For: time.Hour}, Options{})
	require.NoError(t, err)
	assert.True(t, h.Valid())
	clock := h.wall
	h.wall = func() time.Time { return clock().Add(8 * time.Hour) }
	assert.False(t, h.Valid())
	h.wall = func() time.Time { return clock().Add(-8 * time.Hour) }
	assert.True(t, h.Valid())
}
