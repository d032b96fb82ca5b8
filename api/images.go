package api

import (
	"time"

	"jugate/core/image"
	"jugate/core/partition"
	"jugate/core/readiness"
)

// Version is one capture of an image.
type Version struct {
	Image       string               `json:"image"`
	Version     int                  `json:"version"`
	Digest      string               `json:"digest" doc:"BLAKE3-256 of the manifest"`
	Captured    time.Time            `json:"captured"`
	Workstation string               `json:"workstation" doc:"The workstation that it was captured from"`
	Note        string               `json:"note"`
	DiskBytes   int64                `json:"disk_bytes" doc:"Size of the disk it was captured from"`
	NeedBytes   int64                `json:"need_bytes,omitempty" doc:"Size of the smallest disk it fits onto; told for a single version"`
	UsedBytes   int64                `json:"used_bytes" doc:"Bytes in use on that disk"`
	Slabs       int                  `json:"slabs"`
	NewSlabs    int                  `json:"new_slabs" doc:"Slabs that the store did not have before"`
	StoredBytes int64                `json:"stored_bytes" doc:"What those take in the store, and what it took to settle it"`
	Areas       []Area               `json:"areas,omitempty" nullable:"false" doc:"What the disk holds; told for a single version"`
	Findings    []Finding            `json:"findings,omitempty" nullable:"false" doc:"What spoke against the disk; told for a single version"`
	Despite     string               `json:"despite,omitempty" doc:"The reason to capture it all the same"`
	Unreadable  int64                `json:"unreadable_bytes,omitempty" doc:"What the golden disk could not read; zeros on copies"`
	State       image.Standing       `json:"state" enum:"in use,retired,pruned" doc:"Retired versions are not delivered until they are readmitted; of pruned ones only the record is left"`
	Leaning     int                  `json:"leaning_slabs,omitempty" doc:"Slabs that are stored as what differs from another one; told for a single version"`
	Leaned      *time.Time           `json:"leaned,omitempty" doc:"When it was held against the version before it, so that what differs is what is stored"`
	Settled     *time.Time           `json:"settled,omitempty" doc:"When it was made to stand alone: none of its slabs leans on another one"`
	Store       string               `json:"store" doc:"Where its slabs are: folder, or the name of a store elsewhere"`
	MovesTo     string               `json:"moves_to,omitempty" doc:"The store that it is moved to"`
	Expires     *time.Time           `json:"expires,omitempty" doc:"Of a disk that was saved before it was erased: when it is given up. It goes onto no other workstation"`
	Unchanged   bool                 `json:"unchanged,omitempty" doc:"Told by an import: it holds what this version holds, so none was made"`
	Layout      string               `json:"layout,omitempty" doc:"How its disk is laid out, in words; told for a single version"`
	StartsBy    []partition.Firmware `json:"starts_by,omitempty" doc:"Firmware that can start its system, as far as the partition table shows; told for a single version"`
}

// VersionSignature is what a service says of a version that is handed on.
type VersionSignature struct {
	Note string `json:"signed_note" doc:"Three lines, signed (C2SP signed-note): jugate version 1, the name, and the digest of the manifest"`
	Key  string `json:"signing_key" doc:"The public text of the key"`
}

// Finding is one thing that an engineer should know before a disk is captured.
type Finding struct {
	Code     string             `json:"code"`
	Severity readiness.Severity `json:"severity" enum:"blocking,warning,note"`
	Where    string             `json:"where" doc:"The disk, or a partition in words"`
	What     string             `json:"what" doc:"What was found"`
	Means    string             `json:"means" doc:"What that leads to"`
	Do       string             `json:"do" doc:"What to do about it"`
}

// Area is a stretch of an image's disk.
type Area struct {
	Partition int    `json:"partition" doc:"Its number in the table; 0 is the gap in front of the first"`
	Name      string `json:"name"`
	Kind      string `json:"kind"`
	Label     string `json:"label"`
	UUID      string `json:"uuid"`
	Start     int64  `json:"offset" doc:"Bytes from the start of the disk"`
	Size      int64  `json:"size" doc:"Bytes"`
	UsedBytes int64  `json:"used_bytes"`
	// ClusterSize is the unit of allocation.
	ClusterSize int64 `json:"cluster_size" doc:"Bytes"`
	LeftOut     int64 `json:"left_out,omitempty" doc:"Bytes of page and hibernation files among those used, restored as zeros"`
	Dirty       bool  `json:"dirty,omitempty" doc:"Its file system was not shut down cleanly"`
	Whole       bool  `json:"whole,omitempty" doc:"Every byte is taken, as nobody can tell what is in use"`
}

// NewNote replaces what is said of a version.
type NewNote struct {
	Note string `json:"note" maxLength:"1000" example:"scanner software 4.2"`
}

// Recipients says who may receive an image. All lists empty: everybody.
type Recipients struct {
	Groups    []string `json:"groups" nullable:"false" maxItems:"1000" example:"[\"herbarium\"]"`
	Addresses []string `json:"hardware_addresses" nullable:"false" maxItems:"10000" example:"[\"00:00:5e:00:53:11\"]"`
	Models    []string `json:"models" nullable:"false" maxItems:"1000" example:"[\"Alder Works A310\"]"`
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
	Start     int64  `json:"offset" doc:"Bytes from the start of the partition"`
	What      string `json:"what"`
}

// NewPrune asks to remove the slabs that no version needs.
type NewPrune struct {
	DryRun bool `json:"dry_run,omitempty" doc:"Only tell what would be removed"`
}

// Pruned is what a prune removed, or would.
type Pruned struct {
	DryRun      bool     `json:"dry_run"`
	Slabs       int      `json:"slabs"`
	Bytes       int64    `json:"bytes" doc:"What they take in the store"`
	Kept        int      `json:"kept" doc:"Slabs that are needed, those that others lean on included"`
	LeanedOn    int      `json:"leaned_on_slabs" doc:"Slabs that no version needs, but that slabs of one lean on"`
	LeanedBytes int64    `json:"leaned_on_bytes" doc:"What those take in the store"`
	Versions    []string `json:"versions" nullable:"false" doc:"Retired versions whose slabs are given up"`
}

// Settled is what came of having a version stand alone.
type Settled struct {
	Version Version `json:"settled_version"`
	Slabs   int     `json:"slabs" doc:"Slabs that leaned on others and do not any more"`
	Bytes   int64   `json:"bytes" doc:"What the store has more"`
}

// Rescanned is what a walk through the manifests found.
type Rescanned struct {
	Known    int      `json:"known" doc:"Versions that the records had"`
	Versions []string `json:"versions" nullable:"false" doc:"Versions that they have again"`
	Broken   []string `json:"broken" nullable:"false" doc:"Files that are not a sound version, and why"`
}

// NewImport begins to bring a version in from a person's machine.
type NewImport struct {
	Image     string `json:"image" minLength:"1" maxLength:"63" example:"garden-desk"`
	Note      string `json:"note,omitempty" maxLength:"1000" example:"from the old building"`
	KeepEqual bool   `json:"keep_equal,omitempty" doc:"Make a version although nothing has changed since the newest one"`
}

// Import is a version on its way in. Its slabs, map and manifest follow, in that
// order; it ends when the manifest has come, or when the service restarts.
type Import struct {
	ID string `json:"id"`
}

// ImageFile is what is in a folder of a version.
type ImageFile struct {
	Name string `json:"name"`
	Path string `json:"path" doc:"From the root of its volume"`
	Kind string `json:"kind" enum:"folder,file,link,other"`
	Size int64  `json:"size" doc:"Bytes, of a file"`
}

// FilesCompared tells which files differ between two versions.
type FilesCompared struct {
	Files     []FileDifference `json:"files" nullable:"false" doc:"The first thousand, by path"`
	Different int              `json:"different_count" doc:"All of them"`
	Unread    int              `json:"unread_count" doc:"Files of one size that were not held against each other, being larger than 256 KiB or unreadable, and folders that cannot be read"`
}

// FileDifference is a file that differs.
type FileDifference struct {
	Path   string `json:"path"`
	Change string `json:"change" enum:"added,changed,removed"`
	Before int64  `json:"size_before" doc:"Bytes"`
	After  int64  `json:"size_after" doc:"Bytes"`
}
