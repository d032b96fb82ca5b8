package proof

import (
	"errors"
	"fmt"
	"strings"

	"golang.org/x/mod/sumdb/note"
)

// Version is what a key says of a version that it is handed on with: what the service that captured it,
// or took it in, calls it, and the digest of its manifest, from which follows all that it holds.
type Version struct {
	Name   string // garden-desk@3
	Digest string // BLAKE3-256 of the manifest, in hexadecimal digits
}

// versionHead begins the note of a version, which none of a head begins with: a key's name has no space.
const versionHead = "jugate version 1"

func (v Version) text() string { return versionHead + "\n" + v.Name + "\n" + v.Digest + "\n" }

// SignVersion is what is said of a version, as a signed note (C2SP): three lines, which are the words
// "jugate version 1", the name and the digest.
func (k *Key) SignVersion(v Version) (string, error) {
	if strings.ContainsAny(v.Name+v.Digest, "\n ") {
		return "", errors.New("a version's name has no spaces")
	}
	signed, err := note.Sign(&note.Note{Text: v.text()}, k.signer)
	return string(signed), err
}

// OpenVersion checks what is said of a version against the verifier of the key. Errors wrap
// ErrSignature, or say what cannot be read.
func OpenVersion(signed, verifier string) (v Version, err error) {
	key, err := parseVerifier(verifier)
	if err != nil {
		return v, err
	}
	if len(signed) > longest {
		return v, fmt.Errorf("a note of %d bytes is too long", len(signed))
	}
	n, err := note.Open([]byte(signed), note.VerifierList(key))
	if err != nil {
		return v, fmt.Errorf("%w: %w", ErrSignature, err)
	}
	lines := strings.Split(n.Text, "\n")
	if len(lines) != 4 || lines[0] != versionHead {
		return v, errors.New("what was signed says nothing of a version")
	}
	return Version{lines[1], lines[2]}, nil
}
