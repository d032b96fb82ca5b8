package access

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"strings"

	"jugate/core/durable"
	"jugate/core/fault"
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

// CheckToken tells whether a token is the administrator's, as long as not too many
// others came from the same place; asked is for the log. Errors are fault.Stranger and
// fault.TooMany.
func (a *Access) CheckToken(from netip.Addr, token, asked string) error {
	now := a.Now()
	if !a.tries.may(now, 0, from) {
		a.Log.Warn("too many wrong tokens", "from", from)
		return errTooManyTries
	}
	if a.isToken(token) {
		return nil
	}
	a.tries.wrong(now, 0, from)
	a.Log.Warn("a wrong token was refused", "from", from, "asked", asked)
	return fault.Stranger.Errorf("the token is wrong; the right one is in the file admin.token of the service's data folder")
}
