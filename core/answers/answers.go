// Package answers decides what a workstation is to become: its name, locale, accounts,
// network and so on.
//
// A value is set on the service, an image, a model, a group or a workstation; the more
// particular one counts. Resolve puts them together and says where each came from:
//
//	v, err := answers.Parse("time_zone", "Europe/Vienna")
//	r, err := answers.Resolve([]answers.Layer{{Of: "the service", Rank: answers.OfService, Values: map[string]answers.Value{"time_zone": v}}})
//
// Plan (linux.go) turns the result into changes of a system's files, without touching any:
// the agent carries them out on a fresh copy, and a preview shows them. Keys are in keys.go,
// their typed form in settings.go.
package answers

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"jugate/core/fault"
)

// Value is a checked value of a key, as JSON in a canonical form.
type Value string

// Parse reads a value from YAML, of which plain text is a part, and checks it. Errors are
// fault.Invalid and repeat nothing of a secret.
func Parse(key, text string) (Value, error) {
	k := Find(key)
	if k == nil {
		return "", unknown(key)
	}
	var v any = text
	if q, err := questionIn(text); err != nil {
		return "", k.wrong(err)
	} else if q != nil {
		v = q
	} else if !k.Cell || k.Form == trueOrFalse {
		if err := yaml.Unmarshal([]byte(text), &v); err != nil {
			return "", k.wrong(errors.New("it is not well-formed YAML"))
		}
	}
	return k.take(v)
}

func unknown(key string) error {
	names := make([]string, len(Keys))
	for i, k := range Keys {
		names[i] = k.Name
	}
	return fault.Invalid.Errorf("%q is not an answer; the answers are %s", clipped(key), strings.Join(names, ", "))
}

// take checks a value as YAML or JSON has it.
func (k *Key) take(v any) (Value, error) {
	if asks(v) {
		return k.question(v)
	}
	text, err := json.Marshal(v)
	if err != nil {
		return "", k.wrong(err)
	}
	if len(text) > maxValue {
		return "", k.wrong(fmt.Errorf("it is larger than %d KiB", maxValue>>10))
	}
	s, err := decode(map[string]Value{k.Name: Value(text)})
	if err != nil {
		return "", k.wrong(fmt.Errorf("it has to be %s", k.Form))
	}
	if list, is := v.([]any); is && len(list) > maxItems {
		return "", k.wrong(fmt.Errorf("it has more than %d items", maxItems))
	}
	if err := k.check(s); err != nil {
		return "", k.wrong(err)
	}
	return s.value(k.Name)
}

// wrong says of which key an error is.
func (k *Key) wrong(err error) error { return fault.Invalid.Errorf("%s: %w", k.Name, err) }

// decode reads values into their typed form. Fields that are not known are an error.
func decode(values map[string]Value) (*Settings, error) {
	raw := make(map[string]json.RawMessage, len(values))
	for key, v := range values {
		raw[key] = json.RawMessage(v)
	}
	text, err := json.Marshal(raw)
	if err != nil {
		return nil, err
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	var s Settings
	return &s, d.Decode(&s)
}

// value is one field in its canonical form.
func (s *Settings) value(key string) (Value, error) {
	text, err := json.Marshal(s)
	if err != nil {
		return "", err
	}
	var all map[string]json.RawMessage
	if err := json.Unmarshal(text, &all); err != nil {
		return "", err
	}
	if all[key] == nil { // it is empty
		return "", fault.Invalid.Errorf("%s is empty; unset it instead", key)
	}
	return Value(all[key]), nil
}

// Show is a value for people, as YAML. Of a secret it only says that it is set.
func (v Value) Show(key string) string {
	if k := Find(key); k != nil && k.Secret {
		return "(set)"
	}
	if _, is := v.Question(key); is {
		return string(v) // which Parse reads
	}
	var any any
	if err := json.Unmarshal([]byte(v), &any); err != nil {
		return string(v)
	}
	if text, is := any.(string); is {
		return text
	}
	text, err := yaml.Marshal(any)
	if err != nil {
		return string(v)
	}
	return strings.TrimSpace(string(text))
}

// Rank is how particular a layer is.
type Rank int

// Ranks, the more particular one later.
const (
	OfService Rank = iota
	OfImage
	OfModel
	OfGroup
	OfWorkstation
	OfDelivery
)

// Layer is what is set in one place.
type Layer struct {
	Of     string // in words: "the group herbarium"
	Rank   Rank
	Values map[string]Value
}

// Resolved is the value that counts for a key.
type Resolved struct {
	Key   string
	Value Value
	From  string // Layer.Of
	// Hides are the places whose values do not count, the most particular one first.
	Hides []string
}

// Resolve decides which values count. Where two layers of one rank say different things of a
// key, and no more particular one decides, the error is a fault.Conflict that names both.
func Resolve(layers []Layer) ([]Resolved, error) {
	layers = slices.Clone(layers)
	slices.SortStableFunc(layers, func(a, b Layer) int { return cmp.Compare(b.Rank, a.Rank) })
	found := map[string]*Resolved{}
	rank := map[string]Rank{}
	var conflicts []string
	for _, l := range layers {
		for _, key := range slices.Sorted(maps.Keys(l.Values)) {
			v := l.Values[key]
			has := found[key]
			switch {
			case has == nil:
				found[key], rank[key] = &Resolved{Key: key, Value: v, From: l.Of}, l.Rank
			case rank[key] == l.Rank && has.Value != v:
				conflicts = append(conflicts, fmt.Sprintf("%s is set by %s and by %s; set it where both are overruled", key, has.From, l.Of))
			case rank[key] != l.Rank:
				has.Hides = append(has.Hides, l.Of)
			}
		}
	}
	if conflicts != nil {
		return nil, fault.Conflict.Errorf("%s", strings.Join(conflicts, "; "))
	}
	all := make([]Resolved, 0, len(found))
	for _, k := range Keys { // in the order of the reference
		if r := found[k.Name]; r != nil {
			all = append(all, *r)
		}
	}
	return all, nil
}

// Target is what takes answers: the system of an image.
type Target struct {
	Partition int    // that it is on
	Windows   string // its architecture; empty for Linux
	None      string // why nothing takes answers; all else is empty then
	Broken    string // why answers cannot be merged with what is there; empty if they can
}

// Verdict is what becomes of the answers of one workstation: they are carried out, or there is a
// problem that a delivery waits for, or they are left out for a reason.
type Verdict struct {
	Answered        bool
	Problem, Remark string
	// Away says that the domain which the copy is to join does not answer; empty if it does.
	Away string
	// Payloads are the names of what comes onto the copy.
	Payloads []string
}

// SettingsOf are the resolved values in their typed form. What is asked at the workstation has
// its default, if it has one.
func SettingsOf(resolved []Resolved) (s *Settings, asked []Question, err error) {
	values := map[string]Value{}
	for _, r := range resolved {
		if q, is := r.Value.Question(r.Key); is {
			if asked = append(asked, q); q.Default == "" {
				continue
			}
			if r.Value, err = Parse(r.Key, q.Default); err != nil {
				return nil, nil, err
			}
		}
		values[r.Key] = r.Value
	}
	s, err = decode(values)
	return s, asked, err
}

// FromTold are settings as one process tells them to another: by key, as JSON.
func FromTold(told map[string]string) (*Settings, error) {
	values := map[string]Value{}
	for key, v := range told {
		values[key] = Value(v)
	}
	return decode(values)
}

// Read reads many values by their keys: each as it is, or as a text that Parse reads. nil unsets
// one, and is the empty Value.
func Read(all map[string]any) (map[string]Value, error) {
	values := map[string]Value{}
	for key, v := range all {
		k := Find(key)
		if k == nil {
			return nil, unknown(key)
		}
		var err error
		switch v := v.(type) {
		case nil:
			values[key] = ""
		case string:
			values[key], err = Parse(key, v)
		default:
			values[key], err = k.take(v)
		}
		if err != nil {
			return nil, err
		}
	}
	return values, nil
}
