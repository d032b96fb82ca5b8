package api

import "jugate/core/image"

// NewNote replaces what is said of a version.
type NewNote struct {
	Note string `json:"note" maxLength:"1000"`
}

// NewName renames an image.
type NewName struct {
	Name string `json:"name" minLength:"1" maxLength:"63"`
}

// Comparison is how two versions, A and B, differ. Places are compared by slabs.
type Comparison struct {
	Different bool             `json:"different"`
	SameTable bool             `json:"same_table" doc:"The partition tables are the same"`
	Areas     []AreaDifference `json:"areas" nullable:"false"`
	New       int64            `json:"new" doc:"Bytes of slabs that B has and A has nowhere"`
}

// AreaDifference is what differs in one partition. Counts are bytes in use.
type AreaDifference struct {
	Partition int    `json:"partition" doc:"0 is the gap in front of the first"`
	KindA     string `json:"kind_a" doc:"Empty if A does not have it"`
	KindB     string `json:"kind_b" doc:"Empty if B does not have it"`
	Same      int64  `json:"same"`
	Changed   int64  `json:"changed" doc:"At the same places, other bytes"`
	OnlyA     int64  `json:"only_a"`
	OnlyB     int64  `json:"only_b"`
}

// Compared describes a comparison.
func Compared(c *image.Comparison) Comparison {
	out := Comparison{Different: c.Different(), SameTable: c.SameTable, Areas: []AreaDifference{}, New: c.New}
	for _, d := range c.Areas {
		a := AreaDifference{Partition: d.Partition, Same: d.Same, Changed: d.Changed, OnlyA: d.OnlyA, OnlyB: d.OnlyB}
		if d.A != nil {
			a.KindA = string(d.A.Kind)
		}
		if d.B != nil {
			a.KindB = string(d.B.Kind)
		}
		out.Areas = append(out.Areas, a)
	}
	return out
}

// Verification is the result of reading every slab of a version.
type Verification struct {
	Image   string  `json:"image"`
	Version int     `json:"version"`
	Slabs   int     `json:"slabs" doc:"Slabs that were read"`
	Bytes   int64   `json:"bytes" doc:"What they take in the store"`
	Sound   bool    `json:"sound"`
	Faults  []Fault `json:"faults" nullable:"false" doc:"The first hundred"`
	Faulty  int     `json:"faulty" doc:"How many there are in all"`
}

// Fault is a slab that is missing or damaged.
type Fault struct {
	Digest    string `json:"digest"`
	Partition int    `json:"partition" doc:"Where it belongs; 0 is the gap in front of the first"`
	Start     int64  `json:"start" doc:"Bytes from the start of the partition"`
	What      string `json:"what"`
}

// NewPrune asks to remove the slabs that no version needs.
type NewPrune struct {
	DryRun bool `json:"dry_run,omitempty" doc:"Only tell what would be removed"`
}

// Pruned is what a prune removed, or would.
type Pruned struct {
	DryRun   bool     `json:"dry_run"`
	Slabs    int      `json:"slabs"`
	Bytes    int64    `json:"bytes" doc:"What they take in the store"`
	Kept     int      `json:"kept" doc:"Slabs that are needed"`
	Versions []string `json:"versions" nullable:"false" doc:"Retired versions whose slabs are given up"`
}

// Rescanned is what a walk through the manifests found.
type Rescanned struct {
	Known  int      `json:"known" doc:"Versions that the records had"`
	Added  []string `json:"added" nullable:"false" doc:"Versions that they have again"`
	Broken []string `json:"broken" nullable:"false" doc:"Files that are no sound version, and why"`
}

// NewImport begins to bring a version in from a person's machine.
type NewImport struct {
	Image string `json:"image" minLength:"1" maxLength:"63"`
	Note  string `json:"note,omitempty" maxLength:"1000"`
}

// Import is a version on its way in. Its slabs, map and manifest follow, in that
// order; it ends when the manifest has come, or when the service restarts.
type Import struct {
	ID string `json:"id"`
}
