package roster_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"jugate/core/roster"
)

func TestNames(t *testing.T) {
	for _, good := range []string{"herb-01", "A310", "seed_bank.2", "9", strings.Repeat("a", 63)} {
		assert.NoError(t, roster.CheckName("a workstation", good), good)
	}
	for _, bad := range []string{"", "-herb", ".", "..", "herb 01", "a/b", "herb@1", "grün", strings.Repeat("a", 64)} {
		assert.ErrorContains(t, roster.CheckName("a workstation", bad), "a workstation", bad)
	}
}

func TestRefs(t *testing.T) {
	for text, want := range map[string]roster.Ref{
		"garden-desk":   {Image: "garden-desk"},
		"garden-desk@3": {Image: "garden-desk", Version: 3},
	} {
		got, err := roster.ParseRef(text)
		assert.NoError(t, err)
		assert.Equal(t, want, got)
		assert.Equal(t, text, got.String())
	}
	for _, bad := range []string{"", "@1", "garden-desk@", "garden-desk@0", "garden-desk@-1", "garden-desk@x", "a b@1"} {
		_, err := roster.ParseRef(bad)
		assert.Error(t, err, bad)
	}
}
