package access

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// A lookup that read the records before a change and ends after it is not remembered: what was taken
// from somebody is gone at once.
func TestALookupOfBeforeAChangeIsNotRemembered(t *testing.T) {
	var c callers
	now := time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)
	k := known{Caller: lastResort(), until: now.Add(lookEvery)}
	_, before, is := c.get("a", now)
	assert.False(t, is)
	c.forget()
	c.put("a", k, before)
	_, after, is := c.get("a", now)
	assert.False(t, is, "it was looked up in an earlier round")
	c.put("a", k, after)
	_, _, is = c.get("a", now)
	assert.True(t, is)
	_, _, is = c.get("a", k.until)
	assert.False(t, is, "and not for ever")
}
