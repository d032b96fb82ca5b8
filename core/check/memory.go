package check

import (
	"context"
	"math/bits"
	"slices"
	"time"
)

// Memory is memory that can be tried: pieces of words, all of them held at the same time, so that each is another part of the machine's.
type Memory interface {
	// Pieces takes what is free, and gives it as words. Whoever is told how far that is may end it with the context.
	Pieces(ctx context.Context) ([][]uint64, error)
	// Settle is called between writing and reading.
	Settle()
	// Address is the physical address of a word, if that can be told.
	Address(piece, word int) (address uint64, known bool)
	// Close gives the memory back.
	Close() error
}

// MemoryReport is what a walk over memory has found.
type MemoryReport struct {
	Bytes   int64     `json:"memory_bytes" minimum:"0" doc:"That were tried"`
	Seconds float64   `json:"memory_seconds" minimum:"0"`
	Rounds  int       `json:"rounds" minimum:"0" doc:"Backgrounds that were walked with"`
	Wrong   int64     `json:"wrong_words" minimum:"0" doc:"Words of eight bytes that did not keep what was written"`
	Faults  []BadWord `json:"faults" nullable:"false" maxItems:"100" doc:"The first of them"`
}

// BadWord is a word that did not keep what was written.
type BadWord struct {
	Address uint64 `json:"physical_address" doc:"0 if it cannot be told"`
	Offset  int64  `json:"offset" doc:"In what was tried, in bytes"`
	Bits    uint64 `json:"wrong_bits" doc:"As a mask"`
	Times   int    `json:"times" doc:"How often it was wrong"`
}

// SecondsPerGiB is how long a gigabyte took.
func (m *MemoryReport) SecondsPerGiB() float64 {
	if m.Bytes == 0 {
		return 0
	}
	return m.Seconds / (float64(m.Bytes) / (1 << 30))
}

// faultsKept bounds the faults that are told; a broken module has millions.
const faultsKept = 100

// background is what words are filled with: one word everywhere, or with that another value for each address, so that two addresses that
// are one and the same show.
type background struct {
	word      uint64
	addressed bool
}

// at is the value of the word of a number.
func (b background) at(n uint64) uint64 {
	if b.addressed {
		return b.word ^ bits.RotateLeft64(n*0x9e3779b97f4a7c15, 29)
	}
	return b.word
}

// turned is the complement.
func (b background) turned() background { return background{^b.word, b.addressed} }

var backgrounds = []background{{}, {addressed: true}, {word: 0x5555555555555555}, {word: 0x3333333333333333}, {word: 0x0f0f0f0f0f0f0f0f}, {word: 0x00ff00ff00ff00ff}}

// quickRounds is how many backgrounds a quick walk has.
const quickRounds = 2

// WalkMemory marches over memory (the march C- of van de Goor, word-wise): for each background, upwards and downwards, each word is read and
// its complement written, so that cells that stick, and cells that take others along, show. Quick walks with two backgrounds of six.
// tell is told how far it is, and ctx ends it.
func WalkMemory(ctx context.Context, m Memory, quick bool, now func() time.Time, tell func(done, total int64)) (*MemoryReport, error) {
	defer m.Close()
	pieces, err := m.Pieces(ctx)
	if err != nil {
		return nil, err
	}
	rounds := backgrounds
	if quick {
		rounds = backgrounds[:quickRounds]
	}
	w := walk{ctx: ctx, memory: m, pieces: pieces, tell: tell, places: map[int64]int{}, report: &MemoryReport{Rounds: len(rounds), Faults: []BadWord{}}}
	for _, p := range pieces {
		w.report.Bytes += int64(len(p)) * 8
	}
	w.total = w.report.Bytes * int64(len(rounds)) * steps
	began := now()
	for _, b := range rounds {
		if err := w.march(b); err != nil {
			return nil, err
		}
	}
	w.report.Seconds = now().Sub(began).Seconds()
	return w.report, nil
}

// steps is how often a march goes over all of the memory.
const steps = 6

type walk struct {
	ctx         context.Context
	memory      Memory
	pieces      [][]uint64
	tell        func(done, total int64)
	done, total int64
	places      map[int64]int // of faults in the report, by offset
	report      *MemoryReport
}

func (w *walk) march(plain background) error {
	turned := plain.turned()
	for _, step := range []struct {
		down        bool
		read, write *background // nil for neither
	}{{write: &plain}, {read: &plain, write: &turned}, {read: &turned, write: &plain}, {down: true, read: &plain, write: &turned}, {down: true, read: &turned, write: &plain}, {read: &plain}} {
		w.memory.Settle()
		if err := w.over(step.down, step.read, step.write); err != nil {
			return err
		}
	}
	return nil
}

func (w *walk) over(down bool, read, write *background) error {
	order := make([]int, len(w.pieces))
	base := make([]uint64, len(w.pieces))
	for i := range order {
		order[i] = i
		if i > 0 {
			base[i] = base[i-1] + uint64(len(w.pieces[i-1]))
		}
	}
	if down {
		slices.Reverse(order)
	}
	for _, i := range order {
		if err := w.ctx.Err(); err != nil {
			return err
		}
		w.piece(i, base[i], down, read, write)
		w.done += int64(len(w.pieces[i])) * 8
		w.tell(w.done, w.total)
	}
	return nil
}

// piece reads each word, and writes another, one after the other.
func (w *walk) piece(i int, base uint64, down bool, read, write *background) {
	p := w.pieces[i]
	at, step := 0, 1
	if down {
		at, step = len(p)-1, -1
	}
	for range p {
		n := base + uint64(at)
		if read != nil {
			if want, is := read.at(n), p[at]; is != want {
				w.fault(i, at, int64(n)*8, is^want)
			}
		}
		if write != nil {
			p[at] = write.at(n)
		}
		at += step
	}
}

func (w *walk) fault(piece, word int, offset int64, wrong uint64) {
	if at, known := w.places[offset]; known {
		f := &w.report.Faults[at]
		f.Bits |= wrong
		f.Times++
		return
	}
	w.report.Wrong++ // beyond what is kept, a word counts each time that it is wrong
	if len(w.report.Faults) >= faultsKept {
		return
	}
	f := BadWord{Offset: offset, Bits: wrong, Times: 1}
	f.Address, _ = w.memory.Address(piece, word)
	w.places[offset] = len(w.report.Faults)
	w.report.Faults = append(w.report.Faults, f)
}
