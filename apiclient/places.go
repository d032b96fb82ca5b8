package apiclient

import (
	"slices"
	"strings"
	"sync"
)

// places are where a service may answer: another machine may become it.
type places struct {
	mu  sync.Mutex
	all []string
	at  int
}

func (p *places) now() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.all[p.at]
}

// failed has the next one be tried, unless somebody was faster.
func (p *places) failed(base string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.all[p.at] == base {
		p.at = (p.at + 1) % len(p.all)
	}
}

// AlsoAt says where else the service may answer, for this client and those that were made of it: when it
// does not where it is, the next request goes to the next place. It has to show the same authority
// everywhere.
func (c *Client) AlsoAt(addresses []string) {
	p := c.places
	p.mu.Lock()
	defer p.mu.Unlock()
	all := []string{p.all[p.at]}
	for _, a := range addresses {
		if a = strings.TrimSuffix(a, "/"); strings.HasPrefix(a, "https://") && !slices.Contains(all, a) {
			all = append(all, a)
		}
	}
	p.all, p.at = all, 0
}
