package slabstore

import (
	"encoding/hex"

	"jugate/core/fault"

	"github.com/zeebo/blake3"
)

// Digest is the BLAKE3-256 digest of plain bytes, the name of a slab.
type Digest [32]byte

// Sum computes the digest of b.
func Sum(b []byte) Digest { return blake3.Sum256(b) }

// ParseDigest reads 64 hexadecimal digits.
func ParseDigest(s string) (Digest, error) {
	var d Digest
	if len(s) != 2*len(d) {
		return d, fault.Invalid.Errorf("a digest has 64 hexadecimal digits, not %d", len(s))
	}
	if _, err := hex.Decode(d[:], []byte(s)); err != nil {
		return Digest{}, fault.Invalid.Errorf("digest: %w", err)
	}
	return d, nil
}

// String gives 64 lower-case hexadecimal digits.
func (d Digest) String() string { return hex.EncodeToString(d[:]) }

// Short gives the first 12 digits, for people.
func (d Digest) Short() string { return d.String()[:12] }

// MarshalText is String.
func (d Digest) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// UnmarshalText is ParseDigest.
func (d *Digest) UnmarshalText(b []byte) (err error) {
	*d, err = ParseDigest(string(b))
	return err
}
