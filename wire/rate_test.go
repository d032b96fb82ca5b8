package wire_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"jugate/wire"
)

func TestRates(t *testing.T) {
	for text, want := range map[string]int64{"": 0, "200Mbit": 200e6, "200mbit/s": 200e6, "1G": 1e9, "1.5 Gbit": 15e8, "64kbit": 64e3, "64000": 64e3} {
		got, err := wire.ParseRate(text)
		assert.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"fast", "-1", "0", "63kbit", "200MB", "1e9", "9999Gbit", "Mbit", "1 2"} {
		_, err := wire.ParseRate(text)
		assert.Error(t, err, text)
	}
}
