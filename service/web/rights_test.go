package web

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestEveryOperationSaysWhichRightItTakes(t *testing.T) {
	text, err := OpenAPI()
	require.NoError(t, err)
	var doc struct {
		Paths map[string]map[string]struct {
			OperationID string                 `json:"operationId"`
			Security    *[]map[string][]string `json:"security"`
		}
	}
	require.NoError(t, json.Unmarshal(text, &doc))
	there := map[string]bool{}
	for path, operations := range doc.Paths {
		for method, o := range operations {
			if o.Security != nil && len(*o.Security) == 0 {
				continue // signing in
			}
			there[o.OperationID] = true
			assert.True(t, needed[o.OperationID] != (needs{}), "%s of %s %s", o.OperationID, method, path)
		}
	}
	for id := range needed {
		assert.True(t, there[id], "%s is no operation", id)
	}
}
