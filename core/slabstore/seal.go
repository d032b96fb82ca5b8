package slabstore

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// A sealed store is for a disk that may be stolen: without the key, which is never on it, its files tell how many slabs there are
// and how long each is, and nothing else.
//
//	sealed/ab/abcdef….sealed
//
// The name is the HMAC-SHA256 (RFC 2104) of the slab's digest. The file has its head, which is the digest, and then the frame, each
// sealed by AES-256-GCM (NIST SP 800-38D): a nonce of 12 random bytes, the sealed bytes, a tag of 16. The frame is bound to the digest,
// as additional data. Keys for names and for contents are made of the store's by HKDF-SHA256 (RFC 5869). No slab leans there.

// KeySize is how long the key of a sealed store is, in bytes.
const KeySize = 32

const (
	nonceSize  = 12
	tagSize    = 16
	sealedHead = nonceSize + len(Digest{}) + tagSize
)

// errSeal says that the key does not open a file.
var errSeal = errors.New("the key does not open it")

// ErrSealed says what a sealed store does not do.
var ErrSealed = errors.New("slabs of a sealed store do not lean")

type seal struct {
	names []byte
	aead  cipher.AEAD
}

// OpenSealed is Open for a store that is sealed by a key of KeySize bytes.
func OpenSealed(dir string, key []byte) (*Store, error) {
	if len(key) != KeySize {
		return nil, fmt.Errorf("a key of %d bytes for a sealed store, not %d", len(key), KeySize)
	}
	s, err := Open(dir)
	if err != nil {
		return nil, err
	}
	s.seal = &seal{}
	if s.seal.names, err = hkdf.Key(sha256.New, key, nil, "names of sealed slabs", KeySize); err != nil {
		return nil, err
	}
	contents, err := hkdf.Key(sha256.New, key, nil, "contents of sealed slabs", KeySize)
	if err != nil {
		return nil, err
	}
	block, err := aes.NewCipher(contents)
	if err != nil {
		return nil, err
	}
	s.seal.aead, err = cipher.NewGCM(block)
	return s, err
}

// name is what the file of a slab is called.
func (s *seal) name(d Digest) string {
	h := hmac.New(sha256.New, s.names)
	h.Write(d[:])
	return hex.EncodeToString(h.Sum(nil))
}

// close seals a frame.
func (s *seal) close(d Digest, frame []byte) []byte {
	nonces := make([]byte, 2*nonceSize)
	rand.Read(nonces)
	out := make([]byte, 0, sealedHead+nonceSize+len(frame)+tagSize)
	out = append(out, nonces[:nonceSize]...)
	out = s.aead.Seal(out, nonces[:nonceSize], d[:], nil)
	out = append(out, nonces[nonceSize:]...)
	return s.aead.Seal(out, nonces[nonceSize:], frame, d[:])
}

// of reads the head of a file: the digest of its slab.
func (s *seal) of(head []byte) (d Digest, err error) {
	if len(head) < sealedHead {
		return d, errSeal
	}
	plain, err := s.aead.Open(nil, head[:nonceSize], head[nonceSize:sealedHead], nil)
	if err != nil || copy(d[:], plain) != len(d) {
		return d, errSeal
	}
	return d, nil
}

// open opens a file.
func (s *seal) open(d Digest, file []byte) ([]byte, error) {
	if of, err := s.of(file); err != nil || of != d || len(file) < sealedHead+nonceSize+tagSize {
		return nil, errSeal
	}
	rest := file[sealedHead:]
	frame, err := s.aead.Open(nil, rest[:nonceSize], rest[nonceSize:], d[:])
	if err != nil {
		return nil, errSeal
	}
	return frame, nil
}

// ofFile is the digest of the slab in a file.
func (s *seal) ofFile(path string) (d Digest, err error) {
	f, err := os.Open(path)
	if err != nil {
		return d, err
	}
	defer f.Close()
	head := make([]byte, sealedHead)
	if _, err := io.ReadFull(f, head); err != nil {
		return d, errSeal
	}
	return s.of(head)
}

// Purge removes files of a sealed store that its key does not open: they were sealed by another one.
func (s *Store) Purge() (removed int, err error) {
	if s.seal == nil {
		return 0, nil
	}
	err = filepath.WalkDir(s.dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(path, ".sealed") {
			return err
		}
		if _, err := s.seal.ofFile(path); errors.Is(err, errSeal) {
			removed++
			return os.Remove(path)
		}
		return nil
	})
	return removed, err
}
