package access

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"strings"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/durable"
	"jugate/core/fault"
	"jugate/records"
)

// The key of last resort opens everything to whoever can read a file of the data folder, which is whoever is root on
// the machine. It can be renewed, and switched off once somebody else may administer.

// lastResortFile has the key, or the word off.
const lastResortFile = "admin.token"

// switchedOff stands in the file in place of a key. Whoever removes the file has the next start make another.
const switchedOff = "off"

// readLastResort reads the key of last resort, or makes one on the first start. It is empty if it is switched off.
func readLastResort(path string) (string, error) {
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		fresh := NewSecret()
		return fresh, durable.Write(path, []byte(fresh+"\n"), 0o600)
	}
	key := strings.TrimSpace(string(text))
	switch {
	case err != nil || key == switchedOff:
		return "", err
	case len(key) < 32:
		return "", fmt.Errorf("%s holds no token; remove it to have a new one made", path)
	}
	return key, nil
}

// NewSecret makes 256 random bits in hexadecimal.
func NewSecret() string {
	b := make([]byte, 32)
	rand.Read(b)
	return hex.EncodeToString(b)
}

// isToken tells whether it is the key of last resort, in constant time.
func (a *Access) isToken(given string) bool {
	key := a.Token()
	x, y := sha256.Sum256([]byte(given)), sha256.Sum256([]byte(key))
	return subtle.ConstantTimeCompare(x[:], y[:]) == 1 && key != ""
}

// Token is the key of last resort; empty if it is switched off.
func (a *Access) Token() string { return *a.token.Load() }

// ChangeLastResort renews the key of last resort, which is told once and stands in its file, or switches it off. Sessions
// that it has opened end.
func (a *Access) ChangeLastResort(ctx context.Context, in api.LastResort) (api.RenewedKey, error) {
	key, text := "", switchedOff
	if !in.Off {
		key = NewSecret()
		text = key
	} else if err := a.Records.MustHaveAdministrator(ctx); err != nil {
		return api.RenewedKey{}, err
	}
	if err := durable.Write(filepath.Join(a.dir, lastResortFile), []byte(text+"\n"), 0o600); err != nil {
		return api.RenewedKey{}, err
	}
	a.token.Store(&key)
	a.callers.forget()
	a.Log.Warn("the key of last resort was changed", "off", in.Off, "by", actor.From(ctx))
	return api.RenewedKey{Secret: key}, a.Records.EndLastResortSessions(ctx)
}

// noteLastResort writes that the key of last resort is in use; asked is what for, first.
func (a *Access) noteLastResort(ctx context.Context, from netip.Addr, asked string) error {
	a.Log.Info("the key of last resort is in use", "from", from, "asked", asked)
	_, err := a.Records.AddLine(context.WithoutCancel(ctx), records.Line{At: a.Now(), Who: actor.Administrator.String(), Kind: string(actor.Administrator.Kind), From: from.String(), Through: "service", Operation: "use-last-resort",
		Subject: "the key of last resort", Details: "{}"})
	if fault.KindOf(err) == fault.Full {
		return nil // whoever frees the disk needs it
	}
	return err
}
