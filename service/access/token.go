package access

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"jugate/core/durable"
)

// token reads the administrator's token, or makes one on the first start.
func token(path string) (string, error) {
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		fresh := NewSecret()
		return fresh, durable.Write(path, []byte(fresh+"\n"), 0o600)
	}
	if err == nil && len(strings.TrimSpace(string(text))) < 32 {
		err = fmt.Errorf("%s holds no token; remove it to have a new one made", path)
	}
	return strings.TrimSpace(string(text)), err
}

// NewSecret makes 256 random bits in hexadecimal.
func NewSecret() string {
	b := make([]byte, 32)
	rand.Read(b)
	return hex.EncodeToString(b)
}

// isToken compares in constant time.
func (a *Access) isToken(given string) bool {
	x, y := sha256.Sum256([]byte(given)), sha256.Sum256([]byte(a.token))
	return subtle.ConstantTimeCompare(x[:], y[:]) == 1
}

// Token is the administrator's token.
func (a *Access) Token() string { return a.token }
