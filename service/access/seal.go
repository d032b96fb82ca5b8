package access

import (
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/chacha20poly1305"

	"jugate/core/durable"
)

// sealed stands before a text that was sealed.
const sealed = "sealed:"

// sealKey reads the key that secrets are sealed with, or makes one on the first start.
func sealKey(dir string) ([]byte, error) {
	path := filepath.Join(dir, "seal.key")
	key, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		key = make([]byte, chacha20poly1305.KeySize)
		if _, err := rand.Read(key); err != nil {
			return nil, err
		}
		return key, durable.Write(path, key, 0o600)
	}
	if err == nil && len(key) != chacha20poly1305.KeySize {
		err = fmt.Errorf("%s is not a key of %d bytes", path, chacha20poly1305.KeySize)
	}
	return key, err
}

// Seal encrypts a secret for the records (XChaCha20-Poly1305): whoever has them, and not the
// key beside them, reads nothing. about is what it is for; it opens for nothing else.
func (a *Access) Seal(about, text string) (string, error) {
	aead, err := chacha20poly1305.NewX(a.sealing)
	if err != nil {
		return "", err
	}
	nonce := make([]byte, aead.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return "", err
	}
	return sealed + base64.StdEncoding.EncodeToString(aead.Seal(nonce, nonce, []byte(text), []byte(about))), nil
}

// Unseal is the text of a secret. What was never sealed is returned as it is.
func (a *Access) Unseal(about, text string) (string, error) {
	encoded, is := strings.CutPrefix(text, sealed)
	if !is {
		return text, nil
	}
	b, err := base64.StdEncoding.DecodeString(encoded)
	if err != nil || len(b) < chacha20poly1305.NonceSizeX {
		return "", fmt.Errorf("the sealed value of %s cannot be read", about)
	}
	aead, err := chacha20poly1305.NewX(a.sealing)
	if err != nil {
		return "", err
	}
	plain, err := aead.Open(nil, b[:aead.NonceSize()], b[aead.NonceSize():], []byte(about))
	if err != nil {
		return "", fmt.Errorf("the sealed value of %s was not sealed with this service's key (seal.key in its data folder); set it again", about)
	}
	return string(plain), nil
}
