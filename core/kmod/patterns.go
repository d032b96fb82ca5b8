package kmod

import "strings"

// Patterns finds, among very many patterns, those that a modalias fits. They are kept
// by what stands before their first wildcard, so that a modalias is held against
// those only that begin as it does. The zero value is empty.
type Patterns[V any] struct {
	byStart map[string][]pattern[V]
	longest int // bytes of the longest start
}

type pattern[V any] struct {
	text  string
	value V
}

// wildcards are what a pattern is more than a text by.
const wildcards = `*?[\`

// Add adds a pattern with what it stands for.
func (p *Patterns[V]) Add(text string, value V) {
	if p.byStart == nil {
		p.byStart = map[string][]pattern[V]{}
	}
	start := text
	if i := strings.IndexAny(start, wildcards); i >= 0 {
		start = start[:i]
	}
	p.byStart[start] = append(p.byStart[start], pattern[V]{text, value})
	p.longest = max(p.longest, len(start))
}

// Match tells yield every pattern that a modalias fits, in no order.
func (p *Patterns[V]) Match(modalias string, yield func(pattern string, value V)) {
	for n := range min(len(modalias), p.longest) + 1 {
		for _, c := range p.byStart[modalias[:n]] {
			if Fits(c.text, modalias) {
				yield(c.text, c.value)
			}
		}
	}
}
