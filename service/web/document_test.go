package web

import (
	"compress/gzip"
	"encoding/json"
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"

	"jugate/api"
	"jugate/core/version"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestEveryOperationIsDescribed(t *testing.T) {
	text, err := OpenAPI()
	require.NoError(t, err)
	var doc struct {
		Tags  []struct{ Name string }
		Paths map[string]map[string]struct {
			OperationID string   `json:"operationId"`
			Description string   `json:"description"`
			Tags        []string `json:"tags"`
			Responses   map[string]any
		}
	}
	require.NoError(t, json.Unmarshal(text, &doc))
	known := map[string]bool{}
	for _, tag := range doc.Tags {
		known[tag.Name] = true
	}
	said := maps.Clone(descriptions)
	for path, operations := range doc.Paths {
		for method, o := range operations {
			assert.NotEmpty(t, o.Description, "%s %s", method, path)
			assert.True(t, known[o.Tags[0]], o.Tags[0])
			assert.Contains(t, o.Responses, "401", o.OperationID)
			delete(said, o.OperationID)
		}
	}
	assert.Empty(t, said, "descriptions of operations that are not there")
}

// schema is what the tests need of a schema of the document.
type schema struct {
	Ref        string `json:"$ref"`
	Type       any
	Format     string
	Enum       []string
	Items      *schema
	Properties map[string]*schema
	Examples   []any
	MaxLength  *int `json:"maxLength"`
	MaxItems   *int `json:"maxItems"`
	Minimum    *float64
}

// kind is the kind of JSON value, with "array of" in front of what arrays have.
func (s *schema) kind() string {
	if s.Ref != "" {
		return "object"
	}
	kind, _ := s.Type.(string)
	for _, k := range anySlice(s.Type) {
		if k != "null" {
			kind = k
		}
	}
	switch kind {
	case "array":
		return "array of " + s.Items.kind()
	case "integer":
		return "number"
	}
	return kind
}

func (s *schema) nullable() bool { return slices.Contains(anySlice(s.Type), "null") }

func anySlice(v any) []string {
	list, _ := v.([]any)
	out := []string{}
	for _, one := range list {
		out = append(out, one.(string))
	}
	return out
}

// document is the OpenAPI document, as far as the tests read it.
type document struct {
	Paths map[string]map[string]struct {
		Parameters []struct {
			Name, In, Description string
			Example               any
			Schema                *schema
		}
		RequestBody struct {
			Content map[string]struct{ Schema *schema }
		} `json:"requestBody"`
	}
	Components struct{ Schemas map[string]*schema }
}

func theDocument(t *testing.T) document {
	text, err := OpenAPI()
	require.NoError(t, err)
	var doc document
	require.NoError(t, json.Unmarshal(text, &doc))
	return doc
}

// bounded checks that a value from outside has a limit, and an example where its form is
// not plain.
func bounded(t *testing.T, s *schema, where string) {
	switch kind := s.kind(); {
	case strings.HasPrefix(kind, "array"):
		assert.NotNil(t, s.MaxItems, "%s has no limit of items", where)
		assert.False(t, s.nullable(), "%s may be null", where)
	case kind == "string" && len(s.Enum) == 0:
		assert.True(t, s.MaxLength != nil || s.Format != "", "%s has no limit of length", where)
	case kind == "number":
		assert.NotNil(t, s.Minimum, "%s has no least value", where)
	case kind == "boolean", len(s.Enum) > 0:
		return // says by itself what it may be
	}
	assert.NotEmpty(t, s.Examples, "%s has no example", where)
}

func TestWhatIsSentHasBoundsAndExamples(t *testing.T) {
	doc := theDocument(t)
	seen := map[string]bool{}
	var fields func(s *schema, where string)
	fields = func(s *schema, where string) {
		for strings.HasPrefix(s.kind(), "array of object") {
			s = s.Items
		}
		name, is := strings.CutPrefix(s.Ref, "#/components/schemas/")
		if !is || seen[name] {
			return
		}
		seen[name] = true
		for field, p := range doc.Components.Schemas[name].Properties {
			switch {
			case field == "$schema":
			case strings.HasSuffix(p.kind(), "object"):
				fields(p, name+"."+field)
			default:
				bounded(t, p, name+"."+field)
			}
		}
	}
	for path, operations := range doc.Paths {
		for method, o := range operations {
			for _, p := range o.Parameters {
				if p.In == "path" || p.In == "query" {
					bounded(t, p.Schema, method+" "+path+" "+p.Name)
				}
			}
			if body, is := o.RequestBody.Content["application/json"]; is {
				fields(body.Schema, path)
			}
		}
	}
	assert.Greater(t, len(seen), 20, "request bodies were looked at")
}

// A name means the same on every route: parameters have one type and one limit, fields one
// kind of value.
func TestANameMeansTheSameOnEveryRoute(t *testing.T) {
	doc := theDocument(t)
	limits := map[string]map[string]string{}
	for path, operations := range doc.Paths {
		for method, o := range operations {
			for _, p := range o.Parameters {
				if len(p.Schema.Enum) > 0 {
					continue // a state is one of its own list
				}
				s := *p.Schema
				s.Examples = nil
				text, err := json.Marshal(s)
				require.NoError(t, err)
				if limits[p.Name] == nil {
					limits[p.Name] = map[string]string{}
				}
				limits[p.Name][string(text)] = method + " " + path
			}
		}
	}
	for name, different := range limits {
		assert.Len(t, different, 1, "parameter %s", name)
	}

	// These have more than one kind, for the reason given.
	apart := map[string]string{
		"id":    "numbers of the records, and digests of packages and keys",
		"value": "of a field that was wrong, which may be anything",
	}
	ofAgents := []string{"DriverFile", "Inventory", "Hello"} // speak to programs that are out there
	kinds := map[string]map[string][]string{}
	for name, s := range doc.Components.Schemas {
		if slices.Contains(ofAgents, name) {
			continue
		}
		for field, p := range s.Properties {
			if kinds[field] == nil {
				kinds[field] = map[string][]string{}
			}
			kinds[field][p.kind()] = append(kinds[field][p.kind()], name)
		}
	}
	for field, different := range kinds {
		if apart[field] == "" {
			assert.Len(t, different, 1, "field %s: %v", field, different)
		}
	}
	for field := range apart {
		assert.Greater(t, len(kinds[field]), 1, "%s is no exception any more", field)
	}
}

// Whoever uses the interface can tell from its version whether something was added. What would break them is found by make check.
func TestAnInterfaceThatHasGrownHasAnotherVersion(t *testing.T) {
	f, err := os.Open("testdata/openapi.json.gz")
	require.NoError(t, err)
	defer f.Close()
	z, err := gzip.NewReader(f)
	require.NoError(t, err)
	published, err := io.ReadAll(z)
	require.NoError(t, err)
	now, err := OpenAPI()
	require.NoError(t, err)
	var was struct{ Info struct{ Version string } }
	require.NoError(t, json.Unmarshal(published, &was))
	if !assert.ObjectsAreEqual(strings.TrimSpace(string(published)), strings.TrimSpace(string(now))) {
		assert.True(t, version.Before(was.Info.Version, api.InterfaceVersion),
			"the interface differs from what was published as %s: raise the second number of api.InterfaceVersion, and run make interface when a version is tagged", was.Info.Version)
	}
}
