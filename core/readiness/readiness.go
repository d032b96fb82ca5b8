// Package readiness says whether a disk is fit to be a golden image: generalised,
// clean, not hibernated, not encrypted, without an identity that every copy would
// claim as its own.
//
// Check looks at what packages partition and volume found out, and at a few files
// that operating systems leave, through read-only views of the volumes. It only
// reports; what a blocking finding stops is for the caller to decide.
package readiness

import (
	"fmt"
	"io/fs"
	"slices"

	"jugate/core/partition"
	"jugate/core/volume"
)

// Severity says how much a finding matters.
type Severity string

// A blocking finding stops a capture unless the engineer gives a reason. A
// warning is likely to make trouble later. A note is good to know.
const (
	Blocking Severity = "blocking"
	Warning  Severity = "warning"
	Note     Severity = "note"
)

// Finding is one thing that an engineer should know before a disk is captured.
type Finding struct {
	Code     string   `json:"code"` // stays the same from release to release
	Severity Severity `json:"severity"`
	Where    string   `json:"where"` // "the disk", or a partition in words
	What     string   `json:"what"`  // what was found
	Means    string   `json:"means"` // what that leads to
	Do       string   `json:"do"`    // what to do about it
}

func (f Finding) String() string { return f.Where + ": " + f.What }

// Volume is one volume of the disk.
type Volume struct {
	*volume.Volume
	Where     string
	UsedBytes int64
	// Blank says that both ends of it are zeros and nothing in it is known.
	Blank bool
	// Damaged is why the file system's records are not to be believed.
	Damaged error
	// Files shows what is on the volume; nil if nothing here can read it, and
	// Hidden says why.
	Files  fs.FS
	Hidden error
}

// Rules are what an engineer can set.
type Rules struct {
	// IdentityFiles are patterns of files that tell one machine from another, such
	// as a management agent's; DefaultIdentityFiles if nil. A ** stands for any
	// number of folders.
	IdentityFiles []string
	// AllowEncrypted takes encrypted volumes whole instead of refusing them.
	AllowEncrypted bool
	// Answered tells that copies will take answers, which give each an identity of its own:
	// what answers cure is a note then.
	Answered bool
}

// Cured are the codes of findings that answers cure (core/answers).
var Cured = []string{"machine-id", "ssh-host-keys", "domain-member", "dhcp-leases", "network-names", "helper-key"}

// NeedsAnswers names the findings of an image whose copies need answers: what is a note
// because answers cure it.
func NeedsAnswers(findings []Finding) (codes []string) {
	for _, f := range findings {
		if f.Severity == Note && slices.Contains(Cured, f.Code) && !slices.Contains(codes, f.Code) {
			codes = append(codes, f.Code)
		}
	}
	return codes
}

// DefaultIdentityFiles are names under which agents of many kinds keep who they are.
var DefaultIdentityFiles = []string{
	"etc/**/agent-id", "etc/**/agent_id", "etc/**/agent.id", "var/lib/**/agent-id", "var/lib/**/agent.id", "opt/*/agent.id",
	"ProgramData/*/agent-id", "ProgramData/*/agent.id", "ProgramData/*/*/agent.id",
}

// fullShare is the share of a volume in use from which on it is called nearly
// full; small volumes are made to be full.
const (
	fullShare     = 0.9
	fullFromBytes = 256 << 20
)

// Check goes through all rules, those for the disk first.
func Check(t *partition.Table, volumes []Volume, rules Rules) []Finding {
	if rules.IdentityFiles == nil {
		rules.IdentityFiles = DefaultIdentityFiles
	}
	c := &check{rules: rules}
	c.table(t)
	for _, v := range volumes {
		c.where = v.Where
		c.volume(v)
		c.files(v)
	}
	c.where = theDisk
	c.system(t, volumes)
	return c.findings
}

const theDisk = "the disk"

type check struct {
	rules    Rules
	findings []Finding
	where    string
	windows  bool // one of the volumes has it
}

func (c *check) add(code string, s Severity, what, means, do string) {
	c.findings = append(c.findings, Finding{code, s, c.where, what, means, do})
}

func (c *check) table(t *partition.Table) {
	c.where = theDisk
	for _, text := range t.Findings {
		c.add("table-fault", Warning, text, "the disk may have been damaged or cut short",
			"look whether anything else is wrong with the disk; copies get a sound table")
	}
}

func (c *check) volume(v Volume) {
	switch {
	case v.Damaged != nil:
		c.add("damaged", Blocking, v.Damaged.Error(), "nobody can tell which of its blocks are in use",
			"let the file system's own checker mend it; with a reason it is copied whole")
	case v.LogElsewhere:
		c.add("log-elsewhere", Blocking, "its journal or log is on another device", "copies have no such device, and nobody can tell here whether the file system was unmounted",
			"give it a log of its own; with a reason it is copied whole")
	case v.MapsStale:
		c.add("unclean", Blocking, "its file system was not shut down cleanly", "its record of used blocks can lag behind the truth, and copies would miss data",
			"start the workstation, shut it down properly, and capture again; with a reason it is copied whole")
	case !v.Clean:
		c.add("not-unmounted", Warning, "its file system is marked as not shut down cleanly", "every copy will check it at its first start",
			"start the workstation, shut it down properly, and capture again")
	}
	if v.Encrypted {
		severity := Blocking
		if c.rules.AllowEncrypted {
			severity = Note
		}
		c.add("encrypted", severity, "it is encrypted ("+string(v.Kind)+")", "every copy would open with the same key, and all of its bytes would have to be copied",
			"decrypt it before the capture, or ask for a whole copy")
	}
	if v.Hibernated {
		c.add("hibernated", Blocking, "a system sleeps on it: it was hibernated, or shut down so that it starts fast", "every copy would wake up as this one machine and write to a disk it no longer knows",
			"start it, turn fast start off or hold Shift while shutting down, and capture again")
	}
	if v.RAID != "" {
		c.add("raid-member", Blocking, "it is a member of "+v.RAID, "the other members are not part of the image, and what is at its end is not copied: copies would be plain volumes, or parts of a RAID that is not there",
			"capture the assembled RAID's content from a plain disk; with a reason the volume is copied as it is")
	}
	for _, n := range v.Notes {
		c.add("volume-note", Note, n, "", "")
	}
	if share := float64(v.UsedBytes) / float64(max(v.Needs, 1)); share > fullShare && v.Size >= fullFromBytes && !v.Encrypted && v.Kind != volume.Unknown && v.Kind != volume.LVM {
		c.add("nearly-full", Warning, fmt.Sprintf("it is %.0f %% full", 100*share), "copies will run out of room soon",
			"remove what copies do not need, or make the partition larger")
	}
}

// system looks for what a disk with an operating system should have.
func (c *check) system(t *partition.Table, volumes []Volume) {
	if c.blank(t, volumes) {
		c.add("blank", Blocking, "there is nothing on it", "the image would be empty", "choose another disk")
		return
	}
	has := func(ok func(p partition.Partition) bool) bool {
		for _, p := range t.Partitions {
			if ok(p) {
				return true
			}
		}
		return false
	}
	switch t.Scheme {
	case partition.GPT:
		if !has(func(p partition.Partition) bool { return p.Type == partition.EFISystem }) {
			c.add("no-efi-partition", Warning, "it has no EFI system partition", "UEFI firmware finds nothing to start on copies", "make one, unless copies start another way")
		}
		if c.windows && !has(func(p partition.Partition) bool { return p.Type == partition.WindowsRecovery }) {
			c.add("no-recovery-partition", Note, "it has no recovery partition", "copies cannot mend themselves when they do not start", "nothing, if it is intended")
		}
	case partition.MBR:
		if !has(func(p partition.Partition) bool { return p.Active }) {
			c.add("no-active-partition", Warning, "no partition is marked as the one to start", "most boot code starts nothing on copies", "mark the partition with the boot loader as active")
		}
	}
}

// blank tells whether a disk holds nothing at all that is known or in use.
func (c *check) blank(t *partition.Table, volumes []Volume) bool {
	if t.Scheme != partition.None {
		return len(t.Partitions) == 0
	}
	return len(volumes) == 0 || volumes[0].Blank
}
