package cli

import (
	"encoding/json"
	"strings"

	"jugate/service"
)

const schemaPrefix = "#/components/schemas/"

// orderSchema describes the file of an order (JSON Schema 2020-12, which OpenAPI 3.1 has within), for editors that check YAML.
func orderSchema() (string, error) {
	document, err := service.OpenAPI()
	if err != nil {
		return "", err
	}
	var all struct {
		Components struct {
			Schemas map[string]map[string]any `json:"schemas"`
		} `json:"components"`
	}
	if err := json.Unmarshal(document, &all); err != nil {
		return "", err
	}
	defs := map[string]any{}
	schema := rewritten(all.Components.Schemas["Order"], all.Components.Schemas, defs).(map[string]any)
	schema["$schema"], schema["title"], schema["$defs"] = "https://json-schema.org/draft/2020-12/schema", "An order of Jugate", defs
	text, err := json.MarshalIndent(schema, "", "  ")
	return string(text) + "\n", err
}

// rewritten is a schema whose references lead into defs, which are filled with what it needs.
func rewritten(v any, from map[string]map[string]any, defs map[string]any) any {
	switch v := v.(type) {
	case map[string]any:
		out := map[string]any{}
		for key, sub := range v {
			name, is := strings.CutPrefix(asText(sub), schemaPrefix)
			if key != "$ref" || !is {
				out[key] = rewritten(sub, from, defs)
				continue
			}
			out[key] = "#/$defs/" + name
			if _, done := defs[name]; !done {
				defs[name] = nil // on its way
				defs[name] = rewritten(from[name], from, defs)
			}
		}
		if props, is := out["properties"].(map[string]any); is {
			delete(props, "$schema") // which answers of the interface name
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, sub := range v {
			out[i] = rewritten(sub, from, defs)
		}
		return out
	}
	return v
}

func asText(v any) string {
	text, _ := v.(string)
	return text
}
