package answers_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/answers"
)

func TestQuestionsAreCheckedAsValuesAre(t *testing.T) {
	const canonical = `{"ask":"Where does it stand?","default":"2.14"}`
	v := parse(t, "description", `{ask: "Where does it stand?", default: "2.14"}`)
	assert.EqualValues(t, canonical, v)
	again := parse(t, "description", v.Show("description"))
	assert.Equal(t, v, again, "what is shown can be set")
	fromTable, err := answers.Read(map[string]any{"description": map[string]any{"ask": " Where does it stand? ", "default": "2.14"}})
	require.NoError(t, err)
	assert.Equal(t, v, fromTable["description"])
	for complaint, c := range map[string][2]string{
		"the default: time_zone":      {"time_zone", `{ask: "Which?", default: Vienna}`},
		"cannot be asked":             {"commands", `{ask: "Which?"}`},
		"the question is empty":       {"description", "{ask: ' '}"},
		"more than one line":          {"description", `{ask: "a\nb"}`},
		"and nothing else":            {"description", `{ask: "Which?", else: x}`},
		"has the texts ask and":       {"description", "{ask: {a: b}}"},
		"write the texts in quotes":   {"description", "{ask: Where does it stand?}"},
		"product_key: this cannot be": {"product_key", `{ask: "Which?"}`},
	} {
		_, err := answers.Parse(c[0], c[1])
		assert.ErrorContains(t, err, complaint)
	}
	for _, text := range []string{"{not a mapping", "{a: b}", "ask"} {
		assert.NotContains(t, parse(t, "description", text), `{"ask"`, "a text stays one")
	}

	s, asked, err := answers.SettingsOf([]answers.Resolved{{Key: "description", Value: v}, {Key: "locale", Value: parse(t, "locale", `{"ask":"Which language?"}`)}})
	require.NoError(t, err)
	assert.Equal(t, "2.14", s.Description, "the default stands for what nobody has typed yet")
	assert.Empty(t, s.Locale)
	assert.Equal(t, []answers.Question{{Key: "description", Ask: "Where does it stand?", Default: "2.14"}, {Key: "locale", Ask: "Which language?"}}, asked)
}
