package version

import (
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestBefore(t *testing.T) {
	for _, c := range []struct {
		this, other string
		before      bool
	}{
		{"0.5.0", "0.6.0", true},
		{"0.6.0", "0.6.0", false},
		{"0.10.0", "0.9.0", false},
		{"0.6.0", "0.6.1-0.20261130034430-60d0cf1abcde", true},
		{"0.6.1-0.20261130034430-60d0cf1abcde", "0.6.1", true},
		{"0.6.1-0.20261130034430-60d0cf1abcde+dirty", "0.6.1-0.20261130034430-60d0cf1abcde", false},
		{"0.0.0-20261130034430-60d0cf1abcde", "0.6.0", false}, // nobody knows
		{"0.5.0", "0.0.0-unknown", false},
		{"", "0.6.0", false},
		{"of last week", "0.6.0", false},
	} {
		assert.Equal(t, c.before, Before(c.this, c.other), "%s before %s", c.this, c.other)
	}
	assert.True(t, Valid(Program()), "%s can be compared everywhere", Program())
}

// What is built without a checkout is told its version, and all programs are told the same.
func TestProgramsAreStamped(t *testing.T) {
	for _, name := range []string{"jugate", "jugate-agent", "jugate-outpost"} {
		path := filepath.Join(t.TempDir(), name)
		out, err := exec.Command("go", "build", "-ldflags", "-X jugate/core/version.stamped=v7.8.9", "-o", path, "jugate/cmd/"+name).CombinedOutput()
		require.NoError(t, err, "%s", out)
		out, err = exec.Command(path, "--version").CombinedOutput()
		require.NoError(t, err, "%s", out)
		assert.Contains(t, string(out), "7.8.9")
	}
}
