package machine

import (
	"context"
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/agent"
	"jugate/api"
	"jugate/core/environment"
)

func TestAnAddressIsTyped(t *testing.T) {
	p := &person{screen: &terminal{}}
	enter := func(keys string) page {
		p.listen(context.Background(), strings.NewReader(keys))
		return p.screen.view.page
	}
	for text, says := range map[string]string{
		"":                       "Type an address such as 192.0.2.70/24",
		"192.0.2.70":             "is no IPv4 address with the length of its prefix",
		"2001:db8::7/64":         "is no IPv4 address",
		"192.0.2.70/24 router":   "is not the address of a router",
		"192.0.2.70/24 ::1":      "is not the address of a router",
		"192.0.2.70/24 1.1.1. 9": "Type an address",
	} {
		assert.Contains(t, enter("f"+text+"\r").title, says, "%q", text)
		assert.Nil(t, p.typedNetwork(), "%q", text)
	}

	t.Log("# it ends the search that is under way, and one that is about to begin")
	searching, stop := context.WithCancel(t.Context())
	p.interrupts(stop)
	assert.Equal(t, "Trying 192.0.2.70/24 …", enter("f192.0.2.70/24 192.0.2.1\r").title)
	assert.Error(t, searching.Err())
	searching, stop = context.WithCancel(t.Context())
	p.interrupts(stop)
	assert.Error(t, searching.Err())
	fixed := p.typedNetwork()
	require.NotNil(t, fixed)
	assert.Equal(t, environment.FixedNetwork{Address: "192.0.2.70/24", Gateway: "192.0.2.1"}, *fixed)
	p.tried(fixed, errors.New("another machine has 192.0.2.70"))
	assert.Equal(t, "192.0.2.70/24 was not taken: another machine has 192.0.2.70", p.screen.view.page.title)
	assert.Nil(t, p.typedNetwork(), "it is tried once")
	p.tried(fixed, nil)
	assert.Empty(t, p.screen.view.page.title)

	t.Log("# not where there is a network")
	p.connected(agent.New(nil, nil, agent.Options{}), api.Inventory{}, nil)
	assert.Empty(t, enter("f").title)
}

func TestABootEntryIsChosenAtTheScreen(t *testing.T) {
	p := &person{screen: &terminal{}, agent: agent.New(nil, nil, agent.Options{})}
	enter := func(keys string) page {
		p.listen(context.Background(), strings.NewReader(keys))
		return p.screen.view.page
	}
	assert.Empty(t, enter("b").title, "not before signing in")
	p.come(api.SignedIn{Entries: []api.BootEntryAt{{Name: "memory-test", Title: "Test the memory"}, {Name: "installer", Title: "Install Debian (all data on this disk is lost)",
		Parameters: []api.BootParameter{{Name: "suite", Ask: "Which release?", Default: "trixie", Choices: []string{"bookworm", "trixie"}}, {Name: "disk", Ask: "Which disk?"}}}}, Bench: true}, nil)
	assert.Contains(t, p.keys(), "B boot entry")
	assert.Contains(t, enter("b").lines, "2  Install Debian (all data on this disk is lost)")
	g := enter("2\r")
	assert.Equal(t, "suite:", g.ask)
	assert.Contains(t, g.lines, "Which release? (bookworm, trixie)")
	assert.Contains(t, g.lines, "Enter alone takes: trixie")
	assert.Equal(t, "disk:", enter("\r").ask)
	g = enter("/dev/sda\r")
	assert.Equal(t, "Install Debian (all data on this disk is lost)", g.title, "what is lost is said before it starts")
	assert.Equal(t, "Enter: start it", g.ask)
	assert.Equal(t, "For which job?", enter("\r").title, "nobody has admitted the machine")
}
