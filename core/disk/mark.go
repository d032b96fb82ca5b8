package disk

import (
	"bytes"
	"fmt"
	"io"
	"strings"

	"jugate/core/readiness"
	"jugate/core/slabstore"
)

// markMagic begins the mark of an unfinished restore.
const markMagic = "JUGATE UNFINISHED 1\n"

// markCode is what stands before a mark that shares its sector with a partition table: the
// machine's firmware takes such a sector for a program, and is told to go on with the next
// disk (INT 18h), or stops.
const markCode = "\xCD\x18\xEB\xFE"

// bootCodeLen is how much of the sector is free beside a partition table, in bytes.
const bootCodeLen = 440

// markLen is how many bytes of a disk's first sector the mark takes at most.
const markLen = 512

// Mark is what the first sector of a disk says while a restore onto it is under
// way, or while it is wiped, in text, so that whoever looks at the disk knows. It takes the place of
// the partition table, which comes last.
type Mark struct {
	// Label names the image for people; it can be empty.
	Label string `json:"label"`
	// Plan is the digest of the manifest and of the table planned for this disk. A
	// restore with the same goes on where the other stopped.
	Plan slabstore.Digest `json:"plan"`
	// Wiping says that no restore was cut off, but a wipe.
	Wiping bool `json:"wiping,omitempty"`
}

func (m Mark) Encode() []byte {
	b := make([]byte, markLen)
	label := strings.Map(func(r rune) rune {
		if r < ' ' {
			return -1
		}
		return r
	}, m.Label)
	label = label[:min(len(label), 120)]
	if m.Wiping {
		copy(b, markMagic+"This disk was being wiped, and is not yet: what was on it is partly there.\nWipe it to the end.\nwipe unfinished\n")
		return b
	}
	copy(b, markMagic+
		"The image on this disk is not complete. Restore it to the end before use.\n"+
		"image "+label+"\nplan "+m.Plan.String()+"\n")
	return b
}

// Beside is the mark as boot code, for a disk whose partition table stays.
func (m Mark) Beside() []byte {
	return append([]byte(markCode), bytes.TrimRight(m.Encode(), "\x00")...)
}

// ReadMark reads the mark of a disk; nil if it bears none.
func ReadMark(disk io.ReaderAt) (*Mark, error) {
	b := make([]byte, markLen)
	if n, err := disk.ReadAt(b, 0); n < len(b) {
		return nil, fmt.Errorf("read the first sector of the disk: %w", err)
	}
	if code, found := bytes.CutPrefix(b[:bootCodeLen], []byte(markCode)); found {
		b = code
	}
	text, found := bytes.CutPrefix(b, []byte(markMagic))
	if !found {
		return nil, nil
	}
	m := &Mark{}
	for line := range strings.Lines(string(text)) {
		key, value, _ := strings.Cut(strings.TrimRight(line, "\n"), " ")
		switch key {
		case "wipe":
			m.Wiping = true
		case "image":
			m.Label = value
		case "plan":
			m.Plan, _ = slabstore.ParseDigest(value) // none at all fits no plan
		}
	}
	return m, nil
}

func (m *Mark) Finding() readiness.Finding {
	if m.Wiping {
		return readiness.Finding{Code: "unfinished-wipe", Severity: readiness.Blocking, Where: "the disk", What: "a wipe of it was cut off",
			Means: "what was on it is partly there, and it starts nothing", Do: "wipe it to the end, or deliver an image to it"}
	}
	what := "a restore onto it was cut off"
	if m.Label != "" {
		what += " (" + m.Label + ")"
	}
	return readiness.Finding{Code: "unfinished-restore", Severity: readiness.Blocking, Where: "the disk", What: what,
		Means: "what is on it is incomplete", Do: "restore it to the end; that goes on where it stopped"}
}
