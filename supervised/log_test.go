package supervised

import (
	"bytes"
	"errors"
	"log/slog"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestLinesForTheJournalSayHowBadItIs(t *testing.T) {
	var b bytes.Buffer
	log := slog.New(forJournal(&b))
	log.Info("network boot", "interface", "eth1")
	log.With("workstation", "herb-01").Warn("it is slow", "time", "at noon")
	log.WithGroup("disk").Error("it cannot be read", "error", errors.New("in one place"))
	assert.Equal(t, "<6>msg=\"network boot\" interface=eth1\n<4>msg=\"it is slow\" workstation=herb-01\n<3>msg=\"it cannot be read\" disk.error=\"in one place\"\n", b.String())
}
