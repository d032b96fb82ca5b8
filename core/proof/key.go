package proof

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"math"
	"strings"
	"time"

	"github.com/transparency-dev/formats/log"
	cosign "github.com/transparency-dev/formats/note"
	"golang.org/x/mod/sumdb/note"
)

// Head is a tree as a whole: how many leaves it has, and the hash over them. Origin is the name of the key of
// whose tree it is.
type Head struct {
	Origin string
	Size   int64
	Root   Hash
}

// Key signs heads: Ed25519, in the encoding of C2SP signed-note.
type Key struct {
	signer   note.Signer
	verifier string
}

// NewKey makes the private text of a key. A name has no spaces and no plus sign.
func NewKey(name string) (private string, err error) {
	private, _, err = note.GenerateKey(rand.Reader, name)
	return private, err
}

// ParseKey reads the private text of a key.
func ParseKey(private string) (*Key, error) {
	private = strings.TrimSpace(private)
	signer, err := note.NewSigner(private)
	if err != nil {
		return nil, err
	}
	verifier, err := verifierOf(private)
	return &Key{signer, verifier}, err
}

// Name is the origin of the key's heads.
func (k *Key) Name() string { return k.signer.Name() }

// Verifier is the public text of the key.
func (k *Key) Verifier() string { return k.verifier }

// Sign is a head as a signed note (C2SP tlog-checkpoint).
func (k *Key) Sign(h Head) (string, error) {
	signed, err := note.Sign(&note.Note{Text: textOf(h)}, k.signer)
	return string(signed), err
}

func textOf(h Head) string {
	return string(log.Checkpoint{Origin: h.Origin, Size: uint64(h.Size), Hash: h.Root[:]}.Marshal())
}

// ErrSignature says that a head was not signed with the key that it has to be.
var ErrSignature = errors.New("the signature is not of the key that was named")

// longest is how long a signed head may be, in bytes, with the signatures of witnesses.
const longest = 64 << 10

// CheckVerifier tells whether a text is the verifier of a key.
func CheckVerifier(verifier string) error {
	_, err := parseVerifier(verifier)
	return err
}

func parseVerifier(text string) (note.Verifier, error) {
	v, err := note.NewVerifier(strings.TrimSpace(text))
	if err != nil {
		return nil, fmt.Errorf("the key that heads are checked with: %w", err)
	}
	return v, nil
}

// Open checks the signature of a head against the verifier of the key. Errors wrap ErrSignature, or say what
// cannot be read.
func Open(signed, verifier string) (h Head, err error) {
	v, err := parseVerifier(verifier)
	if err != nil {
		return h, err
	}
	if len(signed) > longest {
		return h, fmt.Errorf("a head of %d bytes is too long", len(signed))
	}
	n, err := note.Open([]byte(signed), note.VerifierList(v))
	if err != nil {
		return h, fmt.Errorf("%w: %w", ErrSignature, err)
	}
	var c log.Checkpoint
	if _, err := c.Unmarshal([]byte(n.Text)); err != nil {
		return h, err
	}
	if c.Size > math.MaxInt64/4 || len(c.Hash) != len(h.Root) {
		return h, errors.New("a head of a tree that cannot be")
	}
	if c.Origin != v.Name() {
		return h, fmt.Errorf("%w: it is of %q", ErrSignature, c.Origin)
	}
	return Head{c.Origin, int64(c.Size), Hash(c.Hash)}, nil
}

// Cosigner signs heads of others that it has seen (C2SP tlog-cosignature, version 1).
type Cosigner struct {
	signer   *cosign.Signer
	verifier string
}

// ParseCosigner reads the private text of a key; it is not to be one that signs heads, too.
func ParseCosigner(private string) (*Cosigner, error) {
	private = strings.TrimSpace(private)
	signer, err := cosign.NewSignerForCosignatureV1(private)
	if err != nil {
		return nil, err
	}
	plain, err := verifierOf(private)
	if err != nil {
		return nil, err
	}
	verifier, err := cosign.VKeyToCosignatureV1(plain)
	return &Cosigner{signer, verifier}, err
}

// verifierOf is the public text that belongs to a private one, which is PRIVATE+KEY+NAME+HASH+KEY, the last in
// base64: a byte for the kind of the key, and its seed.
func verifierOf(private string) (string, error) {
	parts := strings.Split(private, "+")
	if len(parts) < 5 {
		return "", errPrivate
	}
	seed, err := base64.StdEncoding.DecodeString(strings.Join(parts[4:], "+"))
	if err != nil || len(seed) != 1+ed25519.SeedSize {
		return "", errPrivate
	}
	return note.NewEd25519VerifierKey(parts[2], ed25519.NewKeyFromSeed(seed[1:]).Public().(ed25519.PublicKey))
}

var errPrivate = errors.New("the private text of a key cannot be read")

// Verifier is the public text of the key.
func (c *Cosigner) Verifier() string { return c.verifier }

// Cosign is the line that is added to a signed head.
func (c *Cosigner) Cosign(h Head) (line string, err error) {
	signed, err := note.Sign(&note.Note{Text: textOf(h)}, c.signer)
	if err != nil {
		return "", err
	}
	_, line, _ = strings.Cut(string(signed), "\n\n")
	return line, nil
}

// Cosigned checks that a witness has seen a head, and tells when.
func Cosigned(signed, witness string) (time.Time, error) {
	v, err := cosign.NewVerifierForCosignatureV1(strings.TrimSpace(witness))
	if err != nil {
		return time.Time{}, fmt.Errorf("the key of the witness: %w", err)
	}
	n, err := note.Open([]byte(signed), note.VerifierList(v))
	if err != nil {
		return time.Time{}, fmt.Errorf("%w: %w", ErrSignature, err)
	}
	return cosign.CoSigV1Timestamp(n.Sigs[0])
}
