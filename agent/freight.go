package agent

import (
	"bytes"
	"context"
	"io"
	"sync"

	"github.com/zeebo/blake3"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/image"
	"jugate/core/parcel"
	"jugate/core/slabstore"
)

// carried opens the content of a payload that is part of a delivery; nil if it is not. What is
// read has to be held against the digest.
type carried func(ctx context.Context, digest string) io.Reader

// freight are the payloads that come in the stream. They wait in memory until the copy has
// a file system to put them into; what has no room there is fetched then.
type freight struct {
	cargo *parcel.Cargo

	mu      sync.Mutex
	lacking *image.SlabSet // pieces that are still to come
	pieces  map[int][]byte
}

// freightShare is the part of a workstation's memory that payloads may wait in.
const freightShare = 4

// newFreight takes of a delivery's payloads what a workstation needs, as long as there is
// room for so many bytes.
func newFreight(slabs int, carried []parcel.Payload, needed []api.ToPayload, room int64) *freight {
	f := &freight{cargo: parcel.NewCargo(slabs, carried), lacking: &image.SlabSet{}, pieces: map[int][]byte{}}
	for _, p := range needed {
		if first, end := f.cargo.Numbers(p.Digest); first < end && p.Size <= room && !f.lacking.Has(first) {
			room -= p.Size
			for n := first; n < end; n++ {
				f.lacking.Add(n)
			}
		}
	}
	return f
}

// lacks is what is still to come.
func (f *freight) lacks() *image.SlabSet {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.lacking.Clone()
}

// left is how many pieces are still to come.
func (f *freight) left() int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.lacking.Len()
}

func (f *freight) needs(number int) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.lacking.Has(number)
}

// put takes a piece, and tells whether it was of use. One of the wrong length is none.
func (f *freight) put(number int, content []byte) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	if !f.lacking.Has(number) || len(content) != f.cargo.Part(number).Length {
		return false
	}
	f.lacking.Remove(number)
	f.pieces[number] = content
	return true
}

// forgo gives up on a piece: its payload is fetched in the end.
func (f *freight) forgo(number int) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.lacking.Remove(number)
}

// open is the content of a payload, if all of it has come and is right.
func (f *freight) open(digest string) (content io.Reader, has bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	first, end := f.cargo.Numbers(digest)
	var all []io.Reader
	h := blake3.New()
	for n := first; n < end; n++ {
		piece, has := f.pieces[n]
		if !has {
			return nil, false
		}
		h.Write(piece)
		all = append(all, bytes.NewReader(piece))
	}
	return io.MultiReader(all...), first < end && slabstore.Digest(h.Sum(nil)).String() == digest
}

// keep keeps a piece that came in the stream, and counts it.
func (r *receiver) keep(number int, content []byte) {
	if n := int64(len(content)); r.freight.put(number, content) {
		r.wrote(n, n, 0)
	}
}

// fetchPiece gets a piece to keep. If the service does not give it, that is said when its
// payload is brought onto the copy.
func (r *receiver) fetchPiece(ctx context.Context, number int) error {
	piece, err := r.piece(ctx, number)
	switch {
	case isTold(err):
		r.freight.forgo(number)
		return nil
	case err == nil && r.freight.put(number, piece):
		r.wrote(int64(len(piece)), 0, 0)
	}
	return err
}

// piece gets a piece by unicast.
func (r *receiver) piece(ctx context.Context, number int) ([]byte, error) {
	b, err := authorized(ctx, r.agent, func(c *apiclient.Client) ([]byte, error) { return c.DeliveryPiece(ctx, r.to.Delivery, number) })
	if err != nil {
		return nil, err
	}
	r.wrote(0, 0, int64(len(b)))
	return r.unsealed(b)
}

// carried is of the kind carried: what has come, or what is fetched while it is read.
func (r *receiver) carried(ctx context.Context, digest string) io.Reader {
	if content, has := r.freight.open(digest); has {
		return content
	}
	if first, end := r.freight.cargo.Numbers(digest); first < end {
		return &pieceReader{next: first, end: end, piece: func(n int) ([]byte, error) { return r.piece(ctx, n) }}
	}
	return nil
}

// pieceReader reads pieces one after the other.
type pieceReader struct {
	next, end int
	piece     func(number int) ([]byte, error)
	left      []byte // of the last one
}

func (p *pieceReader) Read(b []byte) (n int, err error) {
	for len(p.left) == 0 {
		if p.next == p.end {
			return 0, io.EOF
		}
		if p.left, err = p.piece(p.next); err != nil {
			return 0, err
		}
		p.next++
	}
	n = copy(b, p.left)
	p.left = p.left[n:]
	return n, nil
}
