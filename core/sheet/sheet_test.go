package sheet_test

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/sheet"
)

func TestCSVHasNothingThatASpreadsheetRuns(t *testing.T) {
	type state string
	type machine struct {
		Model  string   `json:"model"`
		Notes  []string `json:"notes"`
		State  state    `json:"state"`
		Change int      `json:"change"`
	}
	var out bytes.Buffer
	require.NoError(t, sheet.Write(&out, []machine{
		{"=HYPERLINK(\"http://192.0.2.66\")", []string{"+1", "-2"}, "@state", -5},
		{"Brindle = Mini 2", []string{"a-b", "=c"}, "admitted", 5},
	}))
	assert.Equal(t, "model,notes,state,change\n\"'=HYPERLINK(\"\"http://192.0.2.66\"\")\",'+1;-2,'@state,-5\nBrindle = Mini 2,a-b;=c,admitted,5\n", out.String())
}

// What lies within has its place, whether it is there or not.
func TestFieldsWithin(t *testing.T) {
	type arrival struct {
		At    *time.Time `json:"at,omitempty"`
		Parts []struct {
			N int `json:"n"`
		} `json:"parts"`
	}
	type receipt struct {
		Arrival *arrival       `json:"arrival,omitempty"`
		Fields  map[string]int `json:"fields"`
		secret  string
	}
	at := time.Date(2026, 3, 1, 12, 0, 0, 0, time.FixedZone("", 3600))
	var out bytes.Buffer
	require.NoError(t, sheet.Write(&out, []receipt{
		{secret: "never shown"},
		{Arrival: &arrival{At: &at, Parts: []struct {
			N int `json:"n"`
		}{{1}}}, Fields: map[string]int{"room": 2}},
	}))
	assert.Equal(t, "arrival.at,arrival.parts,fields\n,,\n2026-03-01T11:00:00Z,\"[{\"\"n\"\":1}]\",\"{\"\"room\"\":2}\"\n", out.String())
}
