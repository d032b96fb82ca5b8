package answers

import (
	"encoding/json"
	"errors"
	"regexp"
	"strings"

	"go.yaml.in/yaml/v3"

	"jugate/core/fault"
)

// Question is a value that is not known beforehand: a person is asked for it at the workstation,
// once, before anything is written.
type Question struct {
	Key     string `json:"-"`
	Ask     string `json:"ask"`               // the question
	Default string `json:"default,omitempty"` // what counts if nothing is typed; empty: something has to be
}

// maxQuestion is how long a question can be, so that it fits any screen.
const maxQuestion = 200

// Question tells whether a value is one, and which.
func (v Value) Question(key string) (Question, bool) {
	q := Question{Key: key}
	if !strings.HasPrefix(string(v), `{"ask":`) { // as question wrote it
		return q, false
	}
	return q, json.Unmarshal([]byte(v), &q) == nil
}

// IsQuestion tells whether a value is a question.
func (v Value) IsQuestion() bool {
	_, is := v.Question("")
	return is
}

// asks tells whether a value as YAML or JSON has it is a question.
func asks(v any) bool {
	m, is := v.(map[string]any)
	return is && m["ask"] != nil
}

var questionForm = regexp.MustCompile(`^\s*\{\s*"?ask"?\s*:`)

// questionIn reads a question that is written in a line, as in {ask: "Where does it stand?"}; nil
// if the text is none.
func questionIn(text string) (v any, err error) {
	if !questionForm.MatchString(text) {
		return nil, nil
	}
	if err := yaml.Unmarshal([]byte(text), &v); err != nil {
		return nil, errors.New(`it begins as a question and is not well-formed YAML; write the texts in quotes, as in {ask: "Where does it stand?"}`)
	}
	return v, nil
}

// question checks a question and its default.
func (k *Key) question(v any) (Value, error) {
	if !k.Cell {
		return "", k.wrong(errors.New("this cannot be asked at a workstation: it is not one line of text"))
	}
	text, err := json.Marshal(v)
	if err != nil {
		return "", k.wrong(err)
	}
	var fields map[string]string
	q := Question{}
	if err := json.Unmarshal(text, &fields); err == nil {
		q.Ask, q.Default = strings.TrimSpace(fields["ask"]), fields["default"]
		delete(fields, "ask")
		delete(fields, "default")
	} else {
		return "", k.wrong(errors.New("a question has the texts ask and default, as in {ask: Where does it stand?, default: \"2.14\"}"))
	}
	switch {
	case len(fields) > 0:
		return "", k.wrong(errors.New("a question has the texts ask and default, and nothing else"))
	case q.Ask == "":
		return "", k.wrong(errors.New("the question is empty"))
	}
	if err := oneLine(q.Ask, maxQuestion); err != nil {
		return "", k.wrong(err)
	}
	if q.Default != "" {
		if _, err := Parse(k.Name, q.Default); err != nil {
			return "", fault.Invalid.Errorf("the default: %w", err)
		}
	}
	text, err = json.Marshal(q)
	return Value(text), err
}

// Questions are those among told values, in the order of the reference.
func Questions(told map[string]string) (all []Question) {
	for _, k := range Keys {
		if q, is := Value(told[k.Name]).Question(k.Name); is {
			all = append(all, q)
		}
	}
	return all
}
