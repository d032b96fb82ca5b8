package roster_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/fault"
	"jugate/core/roster"
)

func machines() []roster.Values {
	return []roster.Values{
		{"label": "one", "group": "herbarium", "serial": "AL-2611", "model": "Alder Works A310", "address": "00:00:5e:00:53:11"},
		{"label": "two", "group": "herbarium", "serial": "AL-2612", "model": "Alder Works A310", "address": "00:00:5e:00:53:12"},
		{"label": "three", "group": "seed-bank", "serial": "BM 77/013", "model": "Brindle Mini 2", "address": "00:00:5e:00:53:13"},
	}
}

func TestNamesByPattern(t *testing.T) {
	taken := func(name string) bool { return name == "herb-02" || name == "Herb-02" }
	for pattern, want := range map[string][]string{
		"herb-{number:02}":           {"herb-01", "herb-03", "herb-04"},
		"{group}-{number}":           {"herbarium-1", "herbarium-2", "seed-bank-1"},
		"{group}-{serial:last4}":     {"herbarium-2611", "herbarium-2612", "seed-bank-7013"},
		"{model:short}-{number:3}":   {"awa310-001", "awa310-002", "bm2-001"},
		"{model}.{serial}":           {"alder-works-a310.al-2611", "alder-works-a310.al-2612", "brindle-mini-2.bm-77013"},
		"pc{address:last2}":          {"pc11", "pc12", "pc13"},
		"{serial:first2}{number:04}": {"al0001", "al0002", "bm0001"},
	} {
		p, err := roster.ParsePattern(pattern)
		require.NoError(t, err, pattern)
		got, err := p.Names(machines(), taken)
		require.NoError(t, err, pattern)
		assert.Equal(t, want, got, pattern)
	}
}

func TestPatternsThatNameNobody(t *testing.T) {
	for pattern, says := range map[string]string{
		"herb-{number": "not closed", "herb-}": "not closed", "{colour}": "there are {number}, {group}", "{number:x}": "{number:02}", "{number:99}": "{number:02}",
		"{serial:last}": "last4, first4 or short", "{serial:last99}": "last4", "{serial:upper}": "last4",
	} {
		_, err := roster.ParsePattern(pattern)
		assert.ErrorIs(t, err, fault.Invalid, pattern)
		assert.ErrorContains(t, err, says, pattern)
	}
	for pattern, says := range map[string]string{
		"{uuid}": "one has no uuid", "desk": "the name desk would be there twice", "{group}": "herbarium would be there twice", "-{number}": "cannot be the name",
		"{model}-{model}-{model}-{model}": "cannot be the name",
	} {
		p, err := roster.ParsePattern(pattern)
		require.NoError(t, err)
		_, err = p.Names(machines(), func(string) bool { return false })
		assert.ErrorContains(t, err, says, pattern)
	}
}
