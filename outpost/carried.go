package outpost

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"jugate/api"
	"jugate/core/hwaddr"
	"jugate/core/roster"
	"jugate/core/slabstore"
)

// carried is what media carry for the outpost that was started from them; nothing for all others. Of a delivery that is carried,
// only those take part who have turned up: the others may do so another day.
type carried struct {
	api.Carried
	deliveries map[int64]bool
	passes     map[slabstore.Digest]int // places among the workstations, by the digest of what they are authorized by

	mu      sync.Mutex
	here    map[member]bool
	told    map[member]bool           // that they are through
	tickets map[string]hwaddr.Address // that machines got here, in place of the service's
}

// ticketsAtMost is how many tickets are remembered.
const ticketsAtMost = 10_000

func openCarried(dir string) (*carried, error) {
	c := &carried{deliveries: map[int64]bool{}, passes: map[slabstore.Digest]int{}, here: map[member]bool{}, told: map[member]bool{}, tickets: map[string]hwaddr.Address{}}
	text, err := os.ReadFile(filepath.Join(dir, "carried.json"))
	if errors.Is(err, fs.ErrNotExist) {
		return c, nil
	}
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(text, &c.Carried); err != nil {
		return nil, fmt.Errorf("carried.json: %w", err)
	}
	for _, d := range c.Work.Deliveries {
		c.deliveries[d.ID] = true
	}
	for i, w := range c.Workstations {
		c.passes[authorizedBy(w.Pass)] = i
	}
	return c, nil
}

// authorizedBy is the digest of what a request with a pass is authorized by.
func authorizedBy(pass string) slabstore.Digest { return slabstore.Sum([]byte("Bearer " + pass)) }

// is tells whether a delivery is carried.
func (c *carried) is(delivery int64) bool { return c.deliveries[delivery] }

// arrives notes that a workstation has turned up for its delivery.
func (c *carried) arrives(m member) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.here[m] = true
}

// isHere tells whether a workstation has turned up.
func (c *carried) isHere(m member) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.here[m]
}

// isNews tells whether a workstation hears for the first time that it is through.
func (c *carried) isNews(m member) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	told := c.told[m]
	c.told[m] = true
	return !told
}

// aloneWords is why nobody streams to a workstation.
const aloneWords = "is served by the media that it was started from"

// waits is how long a delivery waits for its gather rule, once somebody is there.
func waits(in api.OutpostDelivery) time.Duration { return max(0, in.AtLatest.Sub(in.Ordered)) }

// ticketFor notes the ticket that a machine gets here.
func (c *carried) ticketFor(a hwaddr.Address, ticket string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.tickets) >= ticketsAtMost {
		clear(c.tickets) // who has one of them starts again
	}
	c.tickets[ticket] = a
}

// lets tells whether somebody may check in by a ticket, or as the machine that was started from the media.
func (c *carried) lets(ticket string, addresses []hwaddr.Address) bool {
	if c.Key != "" && slabstore.Sum([]byte(ticket)).String() == c.Key {
		return true
	}
	c.mu.Lock()
	of, is := c.tickets[ticket]
	c.mu.Unlock()
	return is && slices.Contains(addresses, of)
}

// whose are the places of a machine among the workstations, by what it says of itself.
func (c *carried) whose(addresses []hwaddr.Address, id roster.Identity) (places []int) {
	for i, w := range c.Workstations {
		its := roster.NewIdentity(w.UUID, w.Serial)
		shown := slices.ContainsFunc(w.Addresses, func(a hwaddr.Address) bool { return slices.Contains(addresses, a) })
		if !its.Differs(id) && (shown || its.Is(id) || len(w.Addresses) == 0 && (its.Serial != "" && its.Serial == id.Serial || its.UUID != "" && its.UUID == id.UUID)) {
			places = append(places, i)
		}
	}
	return places
}

// to says for whom the deliveries are that are carried.
func (c *carried) to() string {
	var names []string
	for _, w := range c.Workstations {
		names = append(names, w.Name)
	}
	const most = 6
	if len(names) > most {
		names = append(names[:most], fmt.Sprintf("%d others", len(names)-most))
	}
	return strings.Join(names, ", ")
}

// file is what an agent asks for by a path.
func (c *carried) file(asked string) (api.OutpostFile, bool) {
	for _, f := range c.Files {
		if f.Asked == asked {
			return f.File, true
		}
	}
	return api.OutpostFile{}, false
}
