package machine

import (
	"context"
	"fmt"
	"net/netip"
	"strings"

	"jugate/core/environment"
)

// Where nobody gives addresses, one can be typed. It is tried before it is taken: whether another machine has it, and whether the
// service answers.

// fixedAddress asks for an address, and for a router.
func (p *person) fixedAddress() {
	lines := []string{"An address that no other machine has, with the length of its prefix, and the router behind a space, if the service is behind one:", "", "192.0.2.70/24        192.0.2.70/24 192.0.2.1"}
	p.ask("Fixed address", lines, "address:", func(_ context.Context, text string) {
		fixed, err := parseFixed(text)
		if err != nil {
			p.say("%v", err)
			return
		}
		p.typedFixed = fixed
		if p.interrupt != nil {
			p.interrupt()
		}
		p.show(page{title: "Trying " + fixed.Address + " …"})
	})
}

// parseFixed reads what was typed.
func parseFixed(text string) (*environment.FixedNetwork, error) {
	words := strings.Fields(text)
	if len(words) == 0 || len(words) > 2 {
		return nil, fmt.Errorf("type an address such as 192.0.2.70/24, and the router behind a space")
	}
	fixed := &environment.FixedNetwork{Address: words[0]}
	if _, err := fixed.Addresses(); err != nil {
		return nil, err
	}
	if len(words) == 2 {
		router, err := netip.ParseAddr(words[1])
		if err != nil || !router.Is4() {
			return nil, fmt.Errorf("%q is not the address of a router", words[1])
		}
		fixed.Gateway = router.String()
	}
	return fixed, nil
}

// typedNetwork is what somebody has typed and nobody has tried.
func (p *person) typedNetwork() *environment.FixedNetwork {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.typedFixed
}

// interrupts has what is typed end a search.
func (p *person) interrupts(stop context.CancelFunc) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.interrupt = stop; p.typedFixed != nil {
		stop()
	}
}

// tried says what came of an address that was typed.
func (p *person) tried(fixed *environment.FixedNetwork, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.typedFixed = nil
	if err != nil {
		p.say("%s was not taken: %v", fixed.Address, err)
		return
	}
	p.show(page{})
}
