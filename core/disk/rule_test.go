package disk_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/disk"
)

func TestADiskIsChosenByWhatItIs(t *testing.T) {
	one := []disk.Candidate{{Serial: "S20X", Size: 256e9}}
	two := []disk.Candidate{{Serial: "S20X", Size: 256e9}, {Serial: "W7", Size: 1e12}}
	for name, c := range map[string]struct {
		rule  string
		disks []disk.Candidate
		want  int
		err   string
	}{
		"the only one":            {"only", one, 0, ""},
		"nothing said":            {"", one, 0, ""},
		"none there":              {"only", nil, 0, "has no disk"},
		"two there":               {"only", two, 0, "has 2 disks; say which is meant"},
		"by serial":               {"serial:W7", two, 1, ""},
		"by serial, other case":   {"serial:w7", two, 1, ""},
		"by another serial":       {"serial:W8", two, 0, "none of this workstation's 2 disks is meant by serial:W8"},
		"by size":                 {"size:200GB-300GB", two, 0, ""},
		"at least":                {"size:500GB-", two, 1, ""},
		"at most":                 {"size:-500GB", two, 0, ""},
		"a size that two have":    {"size:1GB-2TB", two, 0, "more than one"},
		"a size that nobody has":  {"size:2TB-", two, 0, "none of"},
		"a size on a single disk": {"size:1TB-", one, 0, "none of"},
	} {
		t.Run(name, func(t *testing.T) {
			rule, err := disk.ParseRule(c.rule)
			require.NoError(t, err)
			again, err := disk.ParseRule(rule.String())
			require.NoError(t, err)
			assert.Equal(t, rule, again)
			got, err := rule.Choose(c.disks)
			if c.err != "" {
				assert.ErrorContains(t, err, c.err)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.want, got)
		})
	}
	for _, text := range []string{"sda", "nvme0n1", "/dev/sda", "serial:", "size:", "size:-", "size:200GB", "size:large-", "size:300GB-200GB"} {
		_, err := disk.ParseRule(text)
		assert.ErrorContains(t, err, "chooses no disk", text)
	}
}
