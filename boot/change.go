package boot

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"time"

	"jugate/core/fault"
	"jugate/core/netboot"
)

// Change has other interfaces served, or in other modes, or other addresses given. Interfaces for which nothing has changed go on
// without noticing. If one cannot be served, everything is as it was before, and the error says why.
func (b *Boot) Change(interfaces []Interface, pools []netboot.PoolConfig, force bool) error {
	b.changing.Lock()
	defer b.changing.Unlock()
	before := b.Config
	b.Config.Interfaces, b.Config.Pools, b.Config.Force = interfaces, pools, force
	if b.until == nil { // Start has yet to come
		return nil
	}
	others := force != before.Force || !reflect.DeepEqual(pools, before.Pools) // for mode whole
	goesOn := func(l *link) bool {
		return slices.Contains(interfaces, Interface{l.Name, l.Mode}) && !(l.Mode == netboot.Whole && others)
	}
	old := b.all()
	var ended []*link
	for _, l := range old {
		if !goesOn(l) {
			l.end()
			ended = append(ended, l)
		}
	}
	var links, begun []*link
	for _, want := range interfaces {
		if i := slices.IndexFunc(old, func(l *link) bool { return l.Name == want.Name && goesOn(l) }); i >= 0 {
			links = append(links, old[i])
			continue
		}
		l, err := b.begin(b.until, want)
		if err != nil {
			for _, l := range begun {
				l.end()
			}
			b.Config = before
			return errors.Join(fault.Conflict.Mark(err), b.bringBack(old, ended))
		}
		links, begun = append(links, l), append(begun, l)
	}
	b.mu.Lock()
	b.links = links
	b.mu.Unlock()
	return nil
}

// bringBack serves interfaces again that were ended.
func (b *Boot) bringBack(links, ended []*link) error {
	links = slices.Clone(links)
	var problems []error
	for _, e := range ended {
		want := Interface{e.Name, e.Mode}
		l, err := b.begin(b.until, want)
		if err != nil {
			problems = append(problems, fmt.Errorf("what was served before does not come back: %w", err))
			l = b.outOfOrder(want, err)
		}
		links[slices.Index(links, e)] = l
	}
	b.mu.Lock()
	b.links = links
	b.mu.Unlock()
	return errors.Join(problems...)
}

// Restart ends network boot on an interface and begins it anew, with the address that the interface has now. Machines that are loading
// ask again. If it cannot begin, the interface says why, and can be tried again. It goes on when whoever asked for it has left.
func (b *Boot) Restart(name string) error {
	b.changing.Lock()
	defer b.changing.Unlock()
	links := b.all()
	i := slices.IndexFunc(links, func(l *link) bool { return l.Name == name })
	if i < 0 {
		return fault.NotFound.Errorf("network boot is not served on %s", name)
	}
	return fault.Conflict.Mark(b.again(links, i))
}

// again ends a link and begins it anew.
func (b *Boot) again(links []*link, i int) error {
	links[i].end()
	want := Interface{links[i].Name, links[i].Mode}
	l, err := b.begin(b.until, want)
	if err != nil {
		l = b.outOfOrder(want, err)
	}
	links[i] = l
	b.mu.Lock()
	b.links = links
	b.mu.Unlock()
	return err
}

// mendEach is how often interfaces are tried again.
const mendEach = time.Minute

// keepMending mends until all ends.
func (b *Boot) keepMending() {
	tick := time.NewTicker(mendEach)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			b.Mend()
		case <-b.until.Done():
			return
		}
	}
}

// Mend tries interfaces again that could not be served: one may have come since, or have an address by now. Where another server gives
// addresses, somebody has to decide, whether it still does or not.
func (b *Boot) Mend() {
	b.changing.Lock()
	defer b.changing.Unlock()
	links := b.all()
	for i, l := range links {
		if l.broken != nil && !errors.Is(l.broken, errTwoServers) && b.until.Err() == nil && b.again(links, i) == nil {
			b.Log.Info("an interface is served again", "interface", l.Name)
		}
	}
}

// begin opens an interface and serves it.
func (b *Boot) begin(ctx context.Context, want Interface) (*link, error) {
	l, err := b.open(ctx, want)
	if err == nil {
		if err = b.serve(l); err == nil {
			return l, nil
		}
		l.end()
	}
	return nil, fmt.Errorf("network boot on %s: %w", want.Name, err)
}

// outOfOrder is an interface that could not be served, with the reason.
func (b *Boot) outOfOrder(want Interface, why error) *link {
	l := &link{state: why.Error(), broken: why, Link: netboot.Link{Name: want.Name, Mode: want.Mode}}
	l.until, l.stop = context.WithCancel(b.until)
	return l
}
