package selection_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/fault"
	"jugate/core/selection"
)

var herb = selection.Machine{
	Name: "herb-01", State: "admitted", Maker: "Alder Works", Model: "A310", Serial: "AL-2611", Addresses: []string{"00:00:5e:00:53:11"},
	Groups: []string{"herbarium", "scanners"}, Memory: 8 << 30, Firmware: "UEFI", Disks: []selection.Disk{{Size: 256e9, Health: "good"}},
	Image: "garden-desk", Version: 3, Note: "by the window", Field: map[string]string{"room": "2.14"}, LastSeen: time.Now().Add(-48 * time.Hour),
}

func TestConditions(t *testing.T) {
	for text, want := range map[string]bool{
		`name == "herb-01"`:                        true,
		`name startsWith "herb-" and version < 3`:  false,
		`memory >= 8GiB and memory < 8.5GiB`:       true,
		`memory > 8GB`:                             true,
		`any(disks, .size > 250GB)`:                true,
		`disks[0].size <= 256000MB`:                true,
		`"herbarium" in groups`:                    true,
		`not ("seed-bank" in groups) and !online`:  true,
		`field.room == "2.14"`:                     true,
		`field.owner == ""`:                        true,
		`image != "garden-desk" || version >= 3`:   true,
		`model matches "^A[0-9]+$"`:                true,
		`lower(maker) contains "alder"`:            true,
		`note contains "8GiB"`:                     false,
		`all(disks, .health == "good")`:            true,
		`now() - last_seen > duration("24h")`:      true,
		`state in ["admitted", "expected"]`:        true,
		`serial == "AL-2611" ? true : false`:       true,
		"name == `herb-01` and firmware == 'UEFI'": true,
	} {
		s, err := selection.Parse(text)
		require.NoError(t, err, text)
		got, err := s.Match(herb)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
		assert.Equal(t, text, s.String())
	}
}

func TestWhatIsWrongIsPointedAt(t *testing.T) {
	for text, says := range map[string]string{
		``:                                  "is empty",
		`memory > 8GiB and colour == "red"`: `at character 19 (ory > 8GiB and  ⟶ here colour == "red"`,
		`memory > 8GiB and`:                 "at character 1",
		`memory`:                            "bool",
		`name > 3`:                          "at character 6",
		`memory < 8parsecs`:                 "at character 1",
		`name == "herb`:                     "at character 14",
		`readFile("x")`:                     "at character 1",
		`reduce(disks, #acc, 0) == 1`:       "the function reduce is not to be had",
		`any(disks, any(disks, true))`:      "a list within a list",
		`len(1..1000000) > 3`:               "ranges",
		strings.Repeat("true or ", 200):     "longer than",
		"name == \"\xff\"":                  "not text",
	} {
		_, err := selection.Parse(text)
		assert.ErrorIs(t, err, fault.Invalid, text)
		assert.ErrorContains(t, err, says, text)
	}
	s, err := selection.Parse(`disks[2].size > 1GB`)
	require.NoError(t, err)
	_, err = s.Match(herb)
	assert.ErrorIs(t, err, fault.Invalid)
	assert.ErrorContains(t, err, "makes no sense of herb-01")
}

func TestOnlySomeConditionsNeedInventories(t *testing.T) {
	for text, want := range map[string]bool{`model == "A310"`: false, `"firmware" == name`: false, `firmware == "BIOS"`: true, `any(disks, .size > 1TB)`: true, `not secure_boot`: true} {
		s, err := selection.Parse(text)
		require.NoError(t, err)
		assert.Equal(t, want, s.NeedsInventory(), text)
	}
}

func FuzzParse(f *testing.F) {
	f.Add(`memory > 8GiB and any(disks, .size < 1TB)`)
	f.Add(`"8GiB" == 'x`)
	f.Fuzz(func(t *testing.T, text string) {
		if s, err := selection.Parse(text); err == nil {
			s.Match(herb)
		}
	})
}
