package check

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"
)

// SurfaceReport is what reading a disk has shown. Offsets and lengths are in bytes.
type SurfaceReport struct {
	Serial     string    `json:"disk_serial" maxLength:"200"`
	Size       int64     `json:"size" minimum:"0"`
	Read       int64     `json:"read_bytes" minimum:"0" doc:"That were tried"`
	Seconds    float64   `json:"read_seconds" minimum:"0"`
	Sample     bool      `json:"is_sample" doc:"Only some of each stretch was read"`
	Speeds     []float64 `json:"speeds" nullable:"false" maxItems:"256" doc:"Bytes a second of stretches of the same length, from the start of the disk to its end"`
	Unreadable []Stretch `json:"unreadable" nullable:"false" maxItems:"100" doc:"The first places that cannot be read"`
	Lost       int64     `json:"unread_bytes" minimum:"0" doc:"How much could not be read in all"`
	Untried    int64     `json:"untried_bytes" minimum:"0" doc:"Beside places that fail, what was left alone, as each try takes long"`
}

// Stretch is a stretch of a disk.
type Stretch struct {
	Start  int64 `json:"from_byte" minimum:"0"`
	Length int64 `json:"length" minimum:"0"`
}

// SurfaceOptions say how a disk is read.
type SurfaceOptions struct {
	Sample bool                    // some of each stretch, and not all
	Now    func() time.Time        // time.Now by default
	Tell   func(done, total int64) // is told how far it is; nobody by default
}

const (
	stretches    = 256
	readAtOnce   = 1 << 20
	sampleBytes  = 4 << 20 // of each stretch
	placesKept   = 100
	lostAtMost   = 64 << 20 // a disk that has lost so much is not read any more
	failuresEach = 64       // places of one stretch that fail; the rest of it is left alone
)

// Surface reads a disk of size bytes, and tells how fast each part of it is and what cannot be read. What fails is tried again sector by
// sector, so that the places are told exactly. Once very much was lost the rest is not read. An error is that of ctx.
func Surface(ctx context.Context, disk io.ReaderAt, size int64, sector int, o SurfaceOptions) (*SurfaceReport, error) {
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Tell == nil {
		o.Tell = func(done, total int64) {}
	}
	if sector <= 0 || size < int64(sector) {
		return nil, fmt.Errorf("a disk of %d bytes with sectors of %d cannot be read", size, sector)
	}
	r := surface{ctx: ctx, disk: disk, sector: int64(sector), SurfaceOptions: o, report: &SurfaceReport{Size: size, Sample: o.Sample, Speeds: []float64{}, Unreadable: []Stretch{}}}
	each := max(int64(sector), (size+stretches-1)/stretches)
	each = (each + int64(sector) - 1) / int64(sector) * int64(sector)
	most := each
	if o.Sample {
		most = min(each, sampleBytes)
	}
	r.total = min(size, (size+each-1)/each*most)
	buffer := make([]byte, readAtOnce)
	began := o.Now()
	for start := int64(0); start < size && r.report.Lost < lostAtMost; start += each {
		end := min(start+most, size)
		from, read, failures := o.Now(), int64(0), 0
		for at := start; at < end && failures < failuresEach; at += readAtOnce {
			if err := ctx.Err(); err != nil {
				return nil, err
			}
			b := buffer[:min(readAtOnce, end-at)]
			n, failed := r.read(b, at)
			if read, failures = read+n, failures+failed; failures >= failuresEach {
				r.report.Untried += end - at - int64(len(b))
			}
			o.Tell(min(r.report.Read, r.total), r.total)
		}
		speed := 0.0
		if took := o.Now().Sub(from).Seconds(); took > 0 {
			speed = float64(read) / took
		}
		r.report.Speeds = append(r.report.Speeds, speed)
	}
	r.report.Seconds = o.Now().Sub(began).Seconds()
	return r.report, nil
}

type surface struct {
	ctx    context.Context
	disk   io.ReaderAt
	sector int64
	SurfaceOptions
	total  int64
	report *SurfaceReport
}

// read tries a piece, and where it fails its sectors. It tells how much was read, and how many places were not.
func (r *surface) read(b []byte, at int64) (read int64, failed int) {
	if whole(r.disk.ReadAt(b, at)) == len(b) {
		r.report.Read += int64(len(b))
		return int64(len(b)), 0
	}
	for len(b) > 0 && failed < failuresEach {
		one := b[:min(r.sector, int64(len(b)))]
		r.report.Read += int64(len(one))
		if whole(r.disk.ReadAt(one, at)) == len(one) {
			read += int64(len(one))
		} else {
			failed++
			r.lose(at, int64(len(one)))
		}
		b, at = b[len(one):], at+int64(len(one))
	}
	r.report.Untried += int64(len(b))
	return read, failed
}

// whole is how much was read for certain.
func whole(n int, err error) int {
	if err != nil && !errors.Is(err, io.EOF) {
		return -1
	}
	return n
}

func (r *surface) lose(at, length int64) {
	r.report.Lost += length
	if last := len(r.report.Unreadable) - 1; last >= 0 && r.report.Unreadable[last].Start+r.report.Unreadable[last].Length == at {
		r.report.Unreadable[last].Length += length
	} else if len(r.report.Unreadable) < placesKept {
		r.report.Unreadable = append(r.report.Unreadable, Stretch{at, length})
	}
}

// A stretch is slow if it has less than a share of the usual speed, and took longer than usual by more than chance.
const (
	slowShare   = 0.25
	slowSeconds = 0.05
)

// Usual is the median speed of the stretches that were read; 0 without any.
func (s *SurfaceReport) Usual() float64 {
	sorted := slices.DeleteFunc(slices.Clone(s.Speeds), func(v float64) bool { return v <= 0 })
	if len(sorted) == 0 {
		return 0
	}
	slices.Sort(sorted)
	return sorted[len(sorted)/2]
}

// Slow are the stretches that are much slower than the others.
func (s *SurfaceReport) Slow() (all []Stretch) {
	if len(s.Speeds) == 0 {
		return nil
	}
	usual, each := s.Usual(), (s.Size+int64(len(s.Speeds))-1)/int64(len(s.Speeds))
	read := float64(s.Read) / float64(len(s.Speeds)) // of each
	for i, v := range s.Speeds {
		if v > 0 && v < usual*slowShare && read/v-read/usual > slowSeconds {
			all = append(all, Stretch{int64(i) * each, min(each, s.Size-int64(i)*each)})
		}
	}
	return all
}
