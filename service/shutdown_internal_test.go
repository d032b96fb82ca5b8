package service

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// What a service takes for its end at the most is less than its unit gives it, and than people wait.
func TestAnEndTakesTenSecondsAtTheMost(t *testing.T) {
	assert.LessOrEqual(t, shutdownGrace+leaseGrace, 10*time.Second)
}
