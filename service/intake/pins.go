package intake

import (
	"slices"
	"sync"

	"jugate/core/slabstore"
)

// pins protect slabs that no version needs yet from a prune: an open upload was told that
// the store has them, or has just stored them.
type pins struct {
	mu      sync.Mutex
	uploads map[string]map[slabstore.Digest]struct{}
	pruning bool
	// late are pins released during a prune: what they held may belong to a version
	// that the prune does not know of.
	late map[slabstore.Digest]struct{}
}

func (p *pins) pin(upload string, d slabstore.Digest) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.uploads == nil {
		p.uploads = map[string]map[slabstore.Digest]struct{}{}
	}
	held := p.uploads[upload]
	if held == nil {
		held = map[slabstore.Digest]struct{}{}
		p.uploads[upload] = held
	}
	held[d] = struct{}{}
}

// release unpins an upload's slabs. By now a version needs them, or they may be pruned.
func (p *pins) release(upload string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.pruning {
		for d := range p.uploads[upload] {
			p.late[d] = struct{}{}
		}
	}
	delete(p.uploads, upload)
}

// holds tells whether an upload is known.
func (p *pins) holds(upload string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	_, known := p.uploads[upload]
	return known
}

// begin starts a prune; only one can run.
func (p *pins) begin() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.pruning {
		return false
	}
	p.pruning, p.late = true, map[slabstore.Digest]struct{}{}
	return true
}

func (p *pins) end() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.pruning, p.late = false, nil
}

// unless calls f if no upload holds the slab. None can begin to hold it before f returns.
func (p *pins) unless(d slabstore.Digest, f func() error) (done bool, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.held(d) {
		return false, nil
	}
	return true, f()
}

// unlessHeld calls f with those of some slabs that no upload holds. None can begin to hold them
// before f returns.
func (p *pins) unlessHeld(slabs []slabstore.Digest, f func([]slabstore.Digest) error) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	return f(slices.DeleteFunc(slices.Clone(slabs), p.held))
}

func (p *pins) held(d slabstore.Digest) bool {
	if _, late := p.late[d]; late {
		return true
	}
	for _, upload := range p.uploads {
		if _, held := upload[d]; held {
			return true
		}
	}
	return false
}
