package hwaddr

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParseTakesEveryUsualSpelling(t *testing.T) {
	for _, spelling := range []string{
		"00:00:5e:00:53:0a",
		"00:00:5E:00:53:0A",
		"00-00-5E-00-53-0A",
		"0000.5e00.530a",
		"0000:5e00:530a",
		"0000-5e00-530a",
		"00005E-00530A",
		"00005e00530a",
		"0:0:5e:0:53:a",
		"00 00 5E 00 53 0A",
		"  00:00:5e:00:53:0a\n",
	} {
		a, err := Parse(spelling)
		if assert.NoError(t, err, spelling) {
			assert.Equal(t, "00:00:5e:00:53:0a", a.String(), spelling)
		}
	}
}

func TestParseRefuses(t *testing.T) {
	for text, want := range map[string]error{
		"":                        ErrSyntax,
		"herb-01":                 ErrSyntax,
		"00:00:5e:00:53":          ErrSyntax,
		"00:00:5e:00:53:01:02":    ErrSyntax,
		"00:00:5e:00-53-01":       ErrSyntax,
		"00:00:5e:00:53:0g":       ErrSyntax,
		"00::5e:00:53:01":         ErrSyntax,
		"000:00:5e:00:53:1":       ErrSyntax,
		"00:00:5e:00:53:01:":      ErrSyntax,
		"00:00:00:00:00:00":       ErrNotStation,
		"ff:ff:ff:ff:ff:ff":       ErrNotStation,
		"01:00:5e:00:53:01":       ErrNotStation,
		"00005e0053010000000000a": ErrSyntax,
	} {
		_, err := Parse(text)
		assert.ErrorIs(t, err, want, text)
	}
}

func TestJSONKeepsTheCanonicalForm(t *testing.T) {
	var a Address
	require.NoError(t, json.Unmarshal([]byte(`"00-00-5E-00-53-FF"`), &a))
	text, err := json.Marshal(a)
	require.NoError(t, err)
	assert.Equal(t, `"00:00:5e:00:53:ff"`, string(text))
}

func FuzzParse(f *testing.F) {
	f.Add("00:00:5e:00:53:01")
	f.Add("0000.5e00.5301")
	f.Fuzz(func(t *testing.T, s string) {
		a, err := Parse(s)
		if err != nil {
			return
		}
		again, err := Parse(a.String())
		if err != nil || again != a {
			t.Fatalf("%q became %v, which reads back as %v, %v", s, a, again, err)
		}
	})
}
