// Package wipe makes what is on a disk unreadable, by the words of NIST SP 800-88 revision 1: clear overwrites all that can be addressed,
// purge has the disk itself do what it offers for that. Then the disk is read back, as a whole or as the representative sample of
// section 4.7.3, and Report says what was done and what was not.
//
//	report, err := wipe.Wipe(ctx, disk, wipe.Plan{Method: wipe.Clear, Verify: wipe.Sample, Tell: tell})
//
// A wipe that is cut off leaves a disk that says so (disk.Mark), and that starts nothing.
package wipe

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"time"

	"jugate/core/disk"
)

// Method is how far it goes (section 2.5).
type Method string

// The methods.
const (
	Clear Method = "clear"
	Purge Method = "purge"
)

// How much is read back.
const (
	Sample = "sample"
	Whole  = "whole"
)

// Target is a disk that is wiped.
type Target interface {
	io.ReaderAt
	io.WriterAt
	Size() int64
	SectorSize() int
	Sync() error
	Zero(off, n int64) error // makes a stretch read as zeros
}

// Purger is a disk that may offer to make itself unreadable.
type Purger interface {
	// Purge does it, and says by which technique. ErrNoPurge says that the disk offers none.
	Purge(ctx context.Context) (technique string, err error)
}

// ErrNoPurge says that a disk offers nothing that purges it.
var ErrNoPurge = errors.New("the disk offers no purge that the kernel passes on; clear it, or destroy it")

// Plan is what is to be done.
type Plan struct {
	Method Method
	Fast   bool // the kernel makes sectors read as zeros, by whatever is fast there, in place of writing each
	Verify string
	Tell   func(text string, done, total int64) // is told how far it is
	Now    func() time.Time                     // time.Now by default
}

// Report is what was done to a disk.
type Report struct {
	Method    Method   `json:"wipe_method" enum:"clear,purge" doc:"By NIST SP 800-88"`
	Technique string   `json:"technique" maxLength:"500" doc:"What was done to the disk, in words"`
	Maker     string   `json:"disk_maker,omitempty" maxLength:"200"`
	Model     string   `json:"disk_model" maxLength:"200"`
	Serial    string   `json:"disk_serial" maxLength:"200"`
	Size      int64    `json:"size" minimum:"0" doc:"Bytes that can be addressed"`
	Began     bool     `json:"wipe_began" doc:"Something of the disk was changed"`
	Verify    string   `json:"read_back" enum:"sample,whole,nothing"`
	Read      int64    `json:"verified_bytes" minimum:"0" doc:"That were read back and are zeros"`
	Seconds   float64  `json:"seconds" minimum:"0"`
	Remarks   []string `json:"remarks" nullable:"false" maxItems:"20" doc:"What was not verified, or cannot be reached by any of this"`
}

// zeroAtOnce is how much is overwritten between two looks at the context.
const zeroAtOnce = 64 << 20

// Wipe does it. With an error, the report says how far it came.
func Wipe(ctx context.Context, d Target, p Plan) (r Report, err error) {
	if p.Now == nil {
		p.Now = time.Now
	}
	if p.Tell == nil {
		p.Tell = func(string, int64, int64) {}
	}
	r = Report{Method: p.Method, Size: d.Size(), Verify: "nothing", Remarks: []string{}}
	began := p.Now()
	defer func() { r.Seconds = p.Now().Sub(began).Seconds() }()
	if p.Verify != Sample && p.Verify != Whole || p.Method != Clear && p.Method != Purge {
		return r, fmt.Errorf("a wipe by %q, read back by %q, is not known", p.Method, p.Verify)
	}
	purger, offers := d.(Purger)
	if p.Method == Purge && !offers {
		return r, ErrNoPurge
	}
	if err := ctx.Err(); err != nil {
		return r, err
	}
	if p.Method == Purge {
		p.Tell("the disk purges itself", 0, 0)
		technique, err := purger.Purge(ctx)
		r.Technique, r.Began = technique, !errors.Is(err, ErrNoPurge)
		if err != nil {
			return r, err
		}
		r.Remarks = append(r.Remarks, "the disk was overwritten with zeros after it had purged itself, so that it can be read back")
	}
	r.Began = true
	if err := mark(d); err != nil {
		return r, err
	}
	if err := overwrite(ctx, d, p); err != nil {
		return r, err
	}
	switch {
	case r.Technique != "":
	case p.Fast:
		r.Technique = "each sector made to read as zeros by the kernel's zero-out, from the first to the last"
		r.Remarks = append(r.Remarks, "with zero-out a disk may note that sectors are empty, and write nothing")
	default:
		r.Technique = "each sector overwritten once with zeros, from the first to the last"
	}
	if r.Method == Clear {
		r.Remarks = append(r.Remarks, "sectors that the disk has replaced, and room that it keeps for itself, cannot be reached by overwriting")
	}
	if err := r.readBack(ctx, d, p); err != nil {
		return r, err
	}
	// What the mark is on comes last: until here, whoever looks sees that it is not whole.
	start := make([]byte, max(d.SectorSize(), 512))
	if _, err := d.WriteAt(start, 0); err != nil {
		return r, fmt.Errorf("overwrite the start of the disk: %w", err)
	}
	if err := d.Sync(); err != nil {
		return r, fmt.Errorf("have the disk write the last of it: %w", err)
	}
	if err := zeros(d, start, 0); err != nil {
		return r, err
	}
	r.Read += int64(len(start))
	r.Verify = p.Verify
	return r, nil
}

// mark has the disk say that it is being wiped.
func mark(d Target) error {
	text := make([]byte, max(d.SectorSize(), 512))
	copy(text, disk.Mark{Wiping: true}.Encode())
	if _, err := d.WriteAt(text, 0); err != nil {
		return fmt.Errorf("mark the disk: %w", err)
	}
	return d.Sync()
}

// overwrite makes all zeros but where the mark is.
func overwrite(ctx context.Context, d Target, p Plan) error {
	start := int64(max(d.SectorSize(), 512))
	for at := start; at < d.Size(); {
		if err := ctx.Err(); err != nil {
			return err
		}
		n := min(readAtOnce-at%readAtOnce, d.Size()-at)
		var err error
		if p.Fast {
			n = min(zeroAtOnce-at%zeroAtOnce, d.Size()-at)
			err = d.Zero(at, n)
		} else {
			_, err = d.WriteAt(nothing[:n], at)
		}
		if err != nil {
			return fmt.Errorf("overwrite the disk at byte %d: %w", at, err)
		}
		at += n
		p.Tell("overwriting the disk with zeros", at, d.Size())
	}
	if err := d.Sync(); err != nil {
		return fmt.Errorf("have the disk write what it has: %w", err)
	}
	return nil
}

const (
	subsections = 1000
	sampleShare = 20 // a sample is at least 5 % of its subsection: one in so many
	readAtOnce  = 1 << 20
)

// readBack reads the disk, or a sample of it, without the place of the mark.
func (r *Report) readBack(ctx context.Context, d Target, p Plan) error {
	sector := int64(max(d.SectorSize(), 512))
	stretches := [][2]int64{{sector, d.Size()}}
	if p.Verify == Sample {
		stretches = Samples(d.Size(), sector, rand.Int64N)
	}
	total := int64(0)
	for _, s := range stretches {
		total += max(0, s[1]-max(s[0], sector))
	}
	b := make([]byte, readAtOnce)
	for _, s := range stretches {
		for at := max(s[0], sector); at < s[1]; {
			if err := ctx.Err(); err != nil {
				return err
			}
			part := b[:min(readAtOnce, s[1]-at)]
			if err := zeros(d, part, at); err != nil {
				return err
			}
			at += int64(len(part))
			r.Read += int64(len(part))
			p.Tell("reading the disk back", min(r.Read, total), total)
		}
	}
	if p.Verify == Sample {
		r.Remarks = append(r.Remarks, fmt.Sprintf("%d of %d bytes were read back: two places of each thousandth of the disk, the first and the last", r.Read, d.Size()))
	}
	return nil
}

// Samples are the places of a disk that section 4.7.3 has read back: of each of a thousand subsections two that do not overlap, each of at
// least 5 % of it, beside the first and the last sector. Each is a start and an end; pick(n) is a number below n.
func Samples(size, sector int64, pick func(n int64) int64) (all [][2]int64) {
	sectors := size / sector
	each := max(1, (sectors+subsections-1)/subsections)
	all = append(all, [2]int64{0, sector})
	for from := int64(0); from < sectors; from += each {
		n := min(each, sectors-from)
		long := max(1, (n+sampleShare-1)/sampleShare)
		if n < 2*long {
			all = append(all, [2]int64{from * sector, (from + n) * sector})
			continue
		}
		free := n - 2*long // sectors of the subsection that are in neither
		first := pick(free + 1)
		second := first + long + pick(free-first+1)
		all = append(all, [2]int64{(from + first) * sector, (from + first + long) * sector}, [2]int64{(from + second) * sector, (from + second + long) * sector})
	}
	all = append(all, [2]int64{(sectors - 1) * sector, sectors * sector})
	slices.SortStableFunc(all, func(a, b [2]int64) int { return cmp.Compare(a[0], b[0]) })
	return all
}

var nothing [readAtOnce]byte

// zeros reads at most readAtOnce bytes and refuses anything but zeros.
func zeros(d io.ReaderAt, b []byte, at int64) error {
	if n, err := d.ReadAt(b, at); n < len(b) {
		return fmt.Errorf("read the disk back at byte %d: %w", at, err)
	}
	if bytes.Equal(b, nothing[:len(b)]) {
		return nil
	}
	first := slices.IndexFunc(b, func(v byte) bool { return v != 0 })
	return fmt.Errorf("the disk still has data at byte %d, although it was overwritten: it is not wiped; destroy it", at+int64(first))
}
