package fault_test

import (
	"io"
	"testing"

	"github.com/stretchr/testify/assert"

	"jugate/core/fault"
)

func TestAFaultEndsNothingElse(t *testing.T) {
	err := fault.Guard(func() error { panic("odd") })
	assert.ErrorIs(t, err, fault.Err)
	assert.ErrorContains(t, err, "a fault of the program: odd")
	assert.ErrorContains(t, err, "fault_test.go", "it tells where")
	assert.ErrorIs(t, fault.Guard(func() error { return io.EOF }), io.EOF)
	assert.NoError(t, fault.Guard(func() error { return nil }))
}
