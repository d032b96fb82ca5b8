package glossary_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/delivery"
	"jugate/core/driver"
	"jugate/core/errand"
	"jugate/core/glossary"
	"jugate/core/image"
	"jugate/core/order"
	"jugate/core/readiness"
	"jugate/core/roster"
)

func kindsOf(name string) (kinds []string) {
	for _, t := range glossary.Find(name) {
		kinds = append(kinds, t.Kind)
	}
	return kinds
}

func explained[S ~string](t *testing.T, kind string, all []S) {
	t.Helper()
	for _, s := range all {
		assert.Contains(t, kindsOf(string(s)), kind, "%s", s)
	}
}

func TestEveryStateAndFindingIsExplained(t *testing.T) {
	explained(t, glossary.OfWorkstations, roster.States)
	explained(t, glossary.OfCards, roster.CardStates)
	explained(t, glossary.OfVersions, image.Standings)
	explained(t, glossary.OfErrands, errand.States)
	explained(t, glossary.OfDeliveries, delivery.States)
	explained(t, glossary.OfRuns, order.States)
	explained(t, glossary.OfMembers, delivery.Phases)
	explained(t, glossary.Outcomes, delivery.Outcomes)
	explained(t, glossary.OfDevices, driver.States)
	explained(t, glossary.Finding, codes(t))
	explained(t, glossary.Severities, []readiness.Severity{readiness.Blocking, readiness.Warning, readiness.Note})
}

// codes are those of findings, as the rooms that make findings have them.
func codes(t *testing.T) (all []string) {
	t.Helper()
	literal := regexp.MustCompile(`(?:add\(|\{|Code: |= )"([a-z]+(?:-[a-z]+)*)", ?(?:Blocking|Warning|Note|severity|Severity|readiness\.)|(?:Code: |NotLookedInto += )"([a-z-]+)"`)
	for _, pattern := range []string{"../readiness/*.go", "../capture/*.go"} {
		files, err := filepath.Glob(pattern)
		require.NoError(t, err)
		for _, name := range files {
			text, err := os.ReadFile(name)
			require.NoError(t, err)
			if !strings.HasSuffix(name, "_test.go") {
				for _, m := range literal.FindAllStringSubmatch(string(text), -1) {
					all = append(all, m[1]+m[2])
				}
			}
		}
	}
	require.Greater(t, len(all), 20)
	return all
}

func TestTermsAreFound(t *testing.T) {
	assert.Equal(t, []string{glossary.OfDeliveries, glossary.OfMembers}, kindsOf("Mending"))
	assert.Equal(t, []string{glossary.Finding}, kindsOf("machine id"))
	assert.Empty(t, glossary.Find("nothing"))
	assert.Contains(t, glossary.Near("slabs"), "slab")
	said := map[string]bool{}
	for _, term := range glossary.Terms {
		assert.Regexp(t, `^[A-Z].*\.$`, term.Text, term.Name)
		key := term.Kind + "/" + term.Name
		assert.False(t, said[key], key)
		said[key] = true
	}
}
