package keyboard_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/keyboard"
)

// typed is what the kernel is told that a key writes, with a table of modifiers.
func typed(t *testing.T, layout string, table, key uint8) uint16 {
	t.Helper()
	l, known := keyboard.Find(layout)
	require.True(t, known, layout)
	for _, e := range l.Entries() {
		if e.Table == table && e.Key == key {
			return e.Value
		}
	}
	t.Fatalf("%s says nothing of key %d in table %d", layout, key, table)
	return 0
}

// The numbers are those of linux/input-event-codes.h and linux/keyboard.h.
func TestKeysWriteWhatIsOnThem(t *testing.T) {
	const (
		plain, shift, altGr                                 = 0, 1, 2
		keyQ, keyY, keyE, key2, keyMinus, keyEqual, keySemi = 16, 21, 18, 3, 12, 13, 39
		latin, letter, dead                                 = 0x0000, 0x0b00, 0x0400
	)
	for _, c := range []struct {
		layout     string
		table, key uint8
		want       uint16
	}{
		{"us", plain, keyY, letter | 'y'}, {"de", plain, keyY, letter | 'z'}, {"de", shift, keyY, letter | 'Z'}, {"fr", plain, keyQ, letter | 'a'},
		{"fr", plain, key2, letter | 'é'}, {"fr", shift, key2, latin | '2'}, {"de", plain, keyMinus, latin | 'ß'}, {"de", altGr, keyMinus, latin | '\\'},
		{"de", altGr, keyQ, latin | '@'}, {"de", altGr, keyE, 0x20ac ^ 0xf000}, {"de", plain, keySemi, letter | 'ö'}, {"gb", shift, key2, latin | '"'}, {"us", shift, key2, latin | '@'},
		{"de", plain, keyEqual, dead | 1}, {"de(nodeadkeys)", plain, keyEqual, latin | '\''}, {"de", shift, keyEqual, dead},
		{"us", plain, 42, 0x0700}, {"us", 3, 42, 0x0700}, {"fr", altGr, 100, 0x0701}, {"fr", 3, 28, 0x0201},
	} {
		assert.Equal(t, c.want, typed(t, c.layout, c.table, c.key), "%+v", c)
	}
}

func TestLayoutsAreFoundHoweverTheyAreWritten(t *testing.T) {
	for name, want := range map[string]string{"de": "de", " DE ": "de", "de(nodeadkeys)": "de(nodeadkeys)", "de nodeadkeys": "de(nodeadkeys)", "de(no-such)": "de", "gb": "gb", keyboard.Default: "us"} {
		l, known := keyboard.Find(name)
		assert.True(t, known, name)
		assert.Equal(t, want, l.Name, name)
	}
	for _, name := range []string{"", "  ", "xx", "ru", "(", "garden gate"} { // with ru alone, no name can be typed
		_, known := keyboard.Find(name)
		assert.False(t, known, name)
	}
	assert.Contains(t, keyboard.Like("d"), "de(nodeadkeys)")
	assert.Contains(t, keyboard.Like("C"), "ch")
	assert.Empty(t, keyboard.Like("%"))
}

func TestAllLayoutsAreWhatTheKernelTakes(t *testing.T) {
	names := keyboard.Like("")
	assert.Greater(t, len(names), 300)
	for _, name := range names {
		l, known := keyboard.Find(name)
		require.True(t, known)
		require.Equal(t, name, l.Name)
		written := map[uint16]bool{}
		for _, e := range l.Entries() {
			assert.Less(t, e.Table, uint8(4), name)
			assert.Less(t, e.Key, uint8(128), name)
			if kind := e.Value >> 8; kind < 15 { // otherwise it is a character
				assert.Contains(t, []uint16{0x0, 0x2, 0x4, 0x7, 0xb}, kind, "%s: %x", name, e.Value)
			}
			written[e.Value] = true
		}
		for c := 'a'; c <= 'z'; c++ {
			assert.True(t, written[0x0b00|uint16(c)], "%s has no %c", name, c)
		}
		assert.LessOrEqual(t, len(l.Compositions()), keyboard.CompositionsAtMost, name)
	}
	de, _ := keyboard.Find("de")
	assert.Contains(t, de.Compositions(), keyboard.Composition{Accent: '\'', Base: 'e', Result: 'é'})
	assert.Contains(t, de.Compositions(), keyboard.Composition{Accent: '^', Base: 'I', Result: 'Î'})
	us, _ := keyboard.Find("us")
	assert.Empty(t, us.Compositions())
}
