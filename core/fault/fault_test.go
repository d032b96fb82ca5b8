package fault_test

import (
	"errors"
	"fmt"
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

func TestAnErrorHasOneKind(t *testing.T) {
	cause := errors.New("cause")
	for name, tc := range map[string]struct {
		err  error
		kind fault.Kind
		text string
	}{
		"made":            {fault.NotFound.Errorf("workstation %s does not exist", "herb-09"), fault.NotFound, "workstation herb-09 does not exist"},
		"marked":          {fault.Invalid.Mark(cause), fault.Invalid, "cause"},
		"wrapped":         {fmt.Errorf("order: %w", fault.Conflict.Errorf("taken: %w", cause)), fault.Conflict, "order: taken: cause"},
		"marked again":    {fault.Forbidden.Mark(fault.NotFound.Mark(cause)), fault.Forbidden, "cause"},
		"the kind itself": {fmt.Errorf("%w: of the records", fault.Full), fault.Full, "full: of the records"},
		"of no kind":      {cause, "", "cause"},
	} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, tc.kind, fault.KindOf(tc.err))
			assert.EqualError(t, tc.err, tc.text)
			if tc.kind != "" {
				assert.ErrorIs(t, tc.err, tc.kind)
			}
		})
	}
	assert.ErrorIs(t, fault.Invalid.Mark(cause), cause, "what was marked can still be found")
	assert.NoError(t, fault.Invalid.Mark(nil))
	assert.Equal(t, []string{"a", "b"}, fault.DetailsOf(fmt.Errorf("x: %w", fault.Conflict.Errorf("two things").With("a", "b"))))
	assert.Empty(t, fault.KindOf(nil))
}
