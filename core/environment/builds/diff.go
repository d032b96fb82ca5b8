package builds

import (
	"slices"
	"strings"

	"jugate/core/slabstore"
)

// Change is one difference between two builds.
type Change struct {
	What string `json:"what"` // "added", "removed" or "changed"
	Path string `json:"path"`
	From string `json:"from,omitempty"` // origins
	To   string `json:"to,omitempty"`
}

// Diff is what b has that a has not, and the other way round: files of layers, and
// parts, by path.
func Diff(a, b *Build) (changes []Change) {
	type entry struct {
		digest slabstore.Digest
		origin string
	}
	all := func(b *Build) map[string]entry {
		m := map[string]entry{}
		for name, p := range b.Parts {
			m[name] = entry{p.Digest, b.Origins[name]}
		}
		for _, l := range b.Layers {
			for _, f := range l.Files {
				m["/"+f.Path] = entry{f.Digest, f.Origin}
			}
		}
		return m
	}
	old, now := all(a), all(b)
	for path, e := range now {
		if was, there := old[path]; !there {
			changes = append(changes, Change{What: "added", Path: path, To: e.origin})
		} else if was.digest != e.digest {
			changes = append(changes, Change{What: "changed", Path: path, From: was.origin, To: e.origin})
		}
	}
	for path, e := range old {
		if _, there := now[path]; !there {
			changes = append(changes, Change{What: "removed", Path: path, From: e.origin})
		}
	}
	slices.SortFunc(changes, func(a, b Change) int { return strings.Compare(a.Path, b.Path) })
	return changes
}
