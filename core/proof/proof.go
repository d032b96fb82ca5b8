// Package proof shows that records are complete and as they were written.
//
// Every record is a leaf of a Merkle tree (RFC 6962, 2.1), and the tree only grows. Its head, which is how many
// leaves it has and the hash over all of them, is signed. Whoever keeps a head can check later that the records
// of then are all there, unchanged, and that whoever shows a record has not made it up:
//
//	head, err := key.Sign(proof.Head{Origin: key.Name(), Size: size, Root: root})
//	p, err := proof.Of(hashes, size, n, leaf, head)      // leaf n is in the tree of that head
//	leaf, head, err := proof.Verify(p, key.Verifier())   // by somebody else, later, offline
//
// key.go has keys and signed heads (C2SP tlog-checkpoint, signed-note and tlog-cosignature), proof.go proofs (C2SP
// tlog-proof), and witness.go what a witness takes (C2SP tlog-witness). Hashes are in the order of
// golang.org/x/mod/sumdb/tlog.
package proof

import (
	"crypto/sha256"
	"errors"
	"fmt"

	format "github.com/transparency-dev/formats/proof"
	"golang.org/x/mod/sumdb/tlog"
)

// Hashes are those of a tree that are kept: 32 bytes each, by tlog.StoredHashIndex.
type Hashes = tlog.HashReader

// Hash is one of them.
type Hash = tlog.Hash

// Leaf is the hash of a leaf's content.
func Leaf(content []byte) Hash { return tlog.RecordHash(content) }

// Grown are the hashes to keep when leaf n, counted from 0, is added; the first belongs at First(n), and the
// others follow it.
func Grown(hashes Hashes, n int64, leaf Hash) ([]Hash, error) {
	return tlog.StoredHashesForRecordHash(n, leaf, hashes)
}

// First is where the first hash of a leaf is kept.
func First(n int64) int64 { return tlog.StoredHashIndex(0, n) }

// Root is the hash over the first leaves, which are size.
func Root(hashes Hashes, size int64) (Hash, error) { return tlog.TreeHash(size, hashes) }

// Of proves that leaf n, whose content is leaf, is in the tree of a signed head. It returns a text.
func Of(hashes Hashes, head Head, n int64, leaf []byte, signed string) (string, error) {
	if n >= head.Size {
		return "", fmt.Errorf("leaf %d is behind the head of %d leaves", n, head.Size)
	}
	path, err := Path(hashes, head.Size, n)
	if err != nil {
		return "", err
	}
	return Text(n, leaf, path, signed)
}

// Path are the hashes that prove leaf n of a tree of size leaves (RFC 6962, 2.1.1).
func Path(hashes Hashes, size, n int64) ([][]byte, error) {
	path, err := tlog.ProveRecord(size, n, hashes)
	out := make([][]byte, len(path))
	for i, h := range path {
		out[i] = h[:]
	}
	return out, err
}

// Text is a proof as a text (C2SP tlog-proof).
func Text(n int64, leaf []byte, path [][]byte, signed string) (string, error) {
	p := format.TLogProof{Index: uint64(n), Checkpoint: []byte(signed), ExtraData: leaf}
	for _, h := range path {
		if len(h) != sha256.Size {
			return "", ErrProof
		}
		p.Hashes = append(p.Hashes, [sha256.Size]byte(h))
	}
	return string(p.Marshal()), nil
}

// ErrProof says that a proof does not prove what it says.
var ErrProof = errors.New("the proof does not fit: what it is about was changed, or is not of this service")

// atMost bounds the hashes of a proof: no tree has more levels.
const atMost = 63

// Verify checks a proof against the verifier of a service's key, and returns what was proven to be on record,
// and the head. Errors wrap ErrProof, ErrSignature, or say what is not to be read.
func Verify(text, verifier string) (leaf []byte, head Head, err error) {
	var p format.TLogProof
	if err := p.Unmarshal([]byte(text)); err != nil {
		return nil, head, err
	}
	if head, err = Open(string(p.Checkpoint), verifier); err != nil {
		return nil, head, err
	}
	if len(p.Hashes) > atMost || p.Index >= uint64(head.Size) {
		return nil, head, ErrProof
	}
	path := make(tlog.RecordProof, len(p.Hashes))
	for i, h := range p.Hashes {
		path[i] = Hash(h)
	}
	if err := tlog.CheckRecord(path, head.Size, head.Root, int64(p.Index), Leaf(p.ExtraData)); err != nil {
		return nil, head, ErrProof
	}
	return p.ExtraData, head, nil
}

// Grows proves that a tree of size leaves begins with one of old leaves.
func Grows(hashes Hashes, old, size int64) ([]Hash, error) {
	if old == 0 || old == size {
		return nil, nil
	}
	return tlog.ProveTree(size, old, hashes)
}

// HasGrown checks that: old and now are heads that are believed. It returns ErrProof if not.
func HasGrown(path []Hash, old, now Head) error {
	switch {
	case old.Origin != now.Origin, old.Size > now.Size, len(path) > 2*atMost:
		return ErrProof
	case old.Size == now.Size:
		if old.Root != now.Root {
			return ErrProof
		}
		return nil
	case old.Size == 0:
		return nil
	}
	if tlog.CheckTree(path, now.Size, now.Root, old.Size, old.Root) != nil {
		return ErrProof
	}
	return nil
}

// RootOf is the hash over leaves whose hashes are at hand.
func RootOf(leaves []Hash) (Hash, error) {
	kept := make(growing, 0, 2*len(leaves))
	for n, h := range leaves {
		grown, err := Grown(&kept, int64(n), h)
		if err != nil {
			return Hash{}, err
		}
		kept = append(kept, grown...)
	}
	return Root(&kept, int64(len(leaves)))
}

// growing is a tree in memory.
type growing []Hash

// ReadHashes is Hashes's.
func (g *growing) ReadHashes(at []int64) ([]Hash, error) {
	all := make([]Hash, len(at))
	for i, n := range at {
		all[i] = (*g)[n]
	}
	return all, nil
}
