package slabstore

import "iter"

// Slabs is a store of slabs: a folder (Store), or a folder before stores elsewhere (Front).
type Slabs interface {
	// Has reports whether the slab is there, with what it leans on.
	Has(d Digest) bool
	// Put takes the frame of a slab, checks it against d and keeps it, and tells whether it was
	// new.
	Put(d Digest, frame []byte) (added bool, err error)
	// Flush makes every slab put so far survive a loss of power.
	Flush() error
	// Frame is the slab as a frame, whose digest nobody has checked; Get its plain bytes, checked.
	Frame(d Digest) ([]byte, error)
	Get(d Digest) ([]byte, error)
	// Check reads a slab where it is kept and compares its digest; size is in bytes, as it is
	// stored.
	Check(d Digest) (size int64, err error)
	// Delta is a slab as it is stored, if it leans; nobody has checked anything of it. Leans tells
	// whether it does.
	Delta(d Digest) ([]byte, error)
	Leans(d Digest) bool
	// Lean and Settle have slabs lean on others, or stand alone again.
	Lean(slabs []Leaning) (leaned int, saved int64, err error)
	Settle(slabs []Digest) (settled int, added int64, err error)
	// All goes through what is in the folder, and Remove takes a slab out of it.
	All() iter.Seq2[Slab, error]
	Remove(d Digest) error
}
