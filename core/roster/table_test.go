package roster_test

import (
	"bytes"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/roster"
)

const room = `name,hardware_addresses,serial,groups,note,field.room
herb-01,00:00:5e:00:53:11,AL-2611,herbarium,,2.14
herb-02,00-00-5E-00-53-12 00005e005392,,herbarium scanners,"the cable, ""loose""",-
herb-03,,AL-2613,-,,
`

// utf16le is a text as spreadsheets write it: UTF-16 with a byte order mark.
func utf16le(text string) string {
	var b bytes.Buffer
	for _, u := range utf16.Encode([]rune("\ufeff" + text)) {
		b.Write([]byte{byte(u), byte(u >> 8)})
	}
	return b.String()
}

func TestATableIsReadHoweverASpreadsheetWroteIt(t *testing.T) {
	want, err := roster.ReadTable(strings.NewReader(room), nil)
	require.NoError(t, err)
	require.Len(t, want, 3)
	assert.Equal(t, roster.Row{Line: 2, Name: "herb-01", Addresses: []hwaddr.Address{hwaddr.MustParse("00:00:5e:00:53:11")},
		Identity: roster.Identity{Serial: "AL-2611"}, Groups: []string{"herbarium"}, Fields: map[string]string{"room": "2.14"}}, want[0])
	assert.Len(t, want[1].Addresses, 2)
	assert.Equal(t, `the cable, "loose"`, *want[1].Note)
	assert.Equal(t, map[string]string{"room": ""}, want[1].Fields, "a hyphen empties")
	assert.Equal(t, []string{}, want[2].Groups)
	assert.Nil(t, want[2].Note, "an empty cell says nothing")

	semicolons := strings.ReplaceAll(strings.ReplaceAll(strings.ReplaceAll(room, ",", ";"), "cable; ", "cable, "), "\n", "\r\n")
	for name, text := range map[string]string{
		"UTF-8 with a mark":  "\ufeff" + room,
		"UTF-16":             utf16le(room),
		"semicolons, CRLF":   semicolons,
		"tabs":               strings.ReplaceAll(strings.ReplaceAll(room, ",", "\t"), "cable\t ", "cable, "),
		"blank lines at end": room + ",,,,,\n\n",
		"other cases":        strings.Replace(room, "name,hardware_addresses", " Name , Hardware_Addresses", 1),
	} {
		got, err := roster.ReadTable(strings.NewReader(text), nil)
		require.NoError(t, err, name)
		assert.Equal(t, want, got, name)
	}
}

func TestTablesThatMakeNoSense(t *testing.T) {
	for says, text := range map[string]string{
		"the table is empty":             " \n",
		"line 2 is not UTF-8":            "name,note\nherb-01,Gr\xfcn\n",
		"line 1 is not UTF-8":            "\x1f\x8b\x08\x00name",
		`column 2 of the table, "room"`:  "name,room\n",
		"two columns name":               "name,serial,name\n",
		"column 2 of the table":          "name,,serial\n",
		"cannot be the name of a field":  "name,field.my room\n",
		"has to name the columns":        "groups,note\n",
		`line 3 of the table, column 14`: "name,note\nherb-01,\nherb-02,\"open\"x\n",
		"extraneous or missing":          "name,note\nherb-01,\"never ends\n",
		"larger than":                    "name\n" + strings.Repeat("x", roster.MaxTable),
	} {
		_, err := roster.ReadTable(strings.NewReader(text), nil)
		assert.ErrorIs(t, err, fault.Invalid, says)
		assert.ErrorContains(t, err, says)
	}
}

func TestRowsInDoubtAreNamedWithTheirReason(t *testing.T) {
	rows, err := roster.ReadTable(strings.NewReader(`name,hardware_addresses,uuid,serial,groups,time_zone
Herb-01,,,A-1,,
herb-01,,,A-2,,
herb-03,00:00:5e:00:53,,,,
herb-04,,00000000-0000-0000-0000-000000000000,,,
herb-05,,,Default string,,
herb 06,,,A-6,,
herb-07,,,A-1,,
,,,,herbarium,
herb-09,,,A-9,,,more
herb-10,,,A-10,no/group,
herb-11,,,A-11,,Europe/Vienna
`), func(column string) bool { return column == "time_zone" })
	require.NoError(t, err)
	for i, says := range []string{"line 3 has the name herb-01, too", "line 2 has the name herb-01, too", "hardware address", "does not tell one machine", "does not tell one machine",
		"cannot be the name", "line 2 has the serial number A-1, too", "does not say which workstation", "more cells", "cannot be the name of a group"} {
		assert.ErrorContains(t, rows[i].Problem, says, "line %d", rows[i].Line)
	}
	last := rows[len(rows)-1]
	assert.NoError(t, last.Problem)
	assert.Equal(t, map[string]string{"time_zone": "Europe/Vienna"}, last.Others)
}

func TestATableIsReadAsItWasWritten(t *testing.T) {
	rows, err := roster.ReadTable(strings.NewReader(strings.Replace(room, ",,2.14", ",=1+1,@home", 1)), nil)
	require.NoError(t, err)
	var out bytes.Buffer
	require.NoError(t, roster.WriteTable(&out, rows))
	assert.Contains(t, out.String(), `'=1+1,'@home`, "no spreadsheet runs it")
	again, err := roster.ReadTable(&out, nil)
	require.NoError(t, err)
	assert.Equal(t, "=1+1", *again[0].Note)
	assert.Equal(t, rows[0].Fields, again[0].Fields)
	assert.Equal(t, rows[1].Addresses, again[1].Addresses)
}

func FuzzReadTable(f *testing.F) {
	f.Add([]byte(room))
	f.Add([]byte(utf16le(room)))
	f.Add([]byte("name;serial\n\"a"))
	f.Fuzz(func(t *testing.T, text []byte) {
		rows, err := roster.ReadTable(bytes.NewReader(text), nil)
		if err != nil {
			return
		}
		for _, r := range rows {
			if r.Problem == nil && r.Name == "" && r.Addresses == nil && r.Identity == (roster.Identity{}) {
				t.Fatal("a row of nobody")
			}
		}
		var out bytes.Buffer
		if err := roster.WriteTable(&out, rows); err != nil {
			t.Fatal(err)
		}
	})
}

// Where a workstation stands is said by columns of their own.
func TestPlacesInARoom(t *testing.T) {
	rows, err := roster.ReadTable(strings.NewReader("name,Row,seat\nherb-01,1,2\nherb-02,-,\n"), nil)
	require.NoError(t, err)
	require.Len(t, rows, 2)
	assert.Equal(t, map[string]string{"row": "1", "seat": "2"}, rows[0].Fields)
	assert.Equal(t, map[string]string{"row": ""}, rows[1].Fields)
	_, err = roster.ReadTable(strings.NewReader("name,row,field.row\nherb-01,1,2\n"), nil)
	assert.ErrorContains(t, err, "two columns field.row")
}
