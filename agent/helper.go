package agent

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/answers"
)

// System is the running system that a helper stays on.
type System interface {
	// SignedIn is how many people work on it now.
	SignedIn() int
	// Warn shows them a text.
	Warn(text string)
	// Restart restarts it, into the boot environment if the firmware can be told so.
	Restart() error
	PowerOff() error
}

// helperPause is how long a helper waits after an error of its service.
const helperPause = 30 * time.Second

// ErrReplaced says that the service does not know a helper any more: its system was replaced.
var ErrReplaced = errors.New("the service does not know this helper any more")

// Stay is the helper: it asks its service what to do until ctx ends, or with ErrReplaced. Boot
// names this start of the system.
func Stay(ctx context.Context, c *apiclient.Client, boot string, sys System) error {
	wishes := make(chan api.HelperWish)
	asking, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	go func() {
		for has := int64(0); asking.Err() == nil; {
			wish, err := c.HelperWish(asking, boot, has)
			switch {
			case apiclient.IsUnauthorized(err):
				stop(fmt.Errorf("%w: %w", ErrReplaced, err))
			case err != nil:
				select {
				case <-time.After(helperPause):
				case <-asking.Done():
				}
			default:
				if has = wish.Number; sent(asking, wishes, wish) {
					continue
				}
			}
		}
	}()
	obey(asking, sys, wishes)
	return context.Cause(asking)
}

func sent(ctx context.Context, to chan<- api.HelperWish, wish api.HelperWish) bool {
	select {
	case to <- wish:
		return true
	case <-ctx.Done():
		return false
	}
}

// lastWarning is how long before the end people are warned once more.
const lastWarning = time.Minute

// obey does what it is told, once whoever is signed in has had time to save their work, and
// forgets it if it is withdrawn before.
func obey(ctx context.Context, sys System, wishes <-chan api.HelperWish) {
	var now api.HelperWish
	var soon, due <-chan time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case wish := <-wishes:
			if wish.Number == now.Number {
				continue
			}
			if wish.Number == 0 && due != nil {
				sys.Warn("This computer stays on after all.")
			}
			now, soon, due = wish, nil, nil
			if wish.Number == 0 {
				continue
			}
			wait := time.Duration(wish.WarnSeconds) * time.Second
			if wait > 0 && sys.SignedIn() > 0 {
				sys.Warn(warning(wish, wait))
				if wait > lastWarning {
					soon = time.After(wait - lastWarning)
				}
			} else {
				wait = 0
			}
			due = time.After(wait)
		case <-soon:
			soon = nil
			sys.Warn(warning(now, lastWarning))
		case <-due:
			soon, due = nil, nil
			do := sys.Restart
			if now.Verb == api.TellPowerOff {
				do = sys.PowerOff
			}
			if err := do(); err != nil {
				slog.Error("it cannot be done", "verb", now.Verb, "error", err)
			}
		}
	}
}

// warning is what people read.
func warning(wish api.HelperWish, left time.Duration) string {
	what := "restarts"
	if wish.Verb == api.TellPowerOff {
		what = "is switched off"
	}
	text := fmt.Sprintf("This computer %s in %s. Please save your work.", what, minutes(left))
	if wish.Why != "" {
		text += " " + wish.Why
	}
	return text
}

func minutes(d time.Duration) string {
	if d <= time.Minute {
		return "a minute"
	}
	return fmt.Sprintf("%d minutes", int(d.Round(time.Minute)/time.Minute))
}

// helperCertificate is the helper's own, by a key that is made on the system below root and
// never leaves it.
func helperCertificate(root string) (*tls.Certificate, error) {
	path := filepath.Join(root, answers.HelperKey)
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return nil, err
		}
		_, key, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return nil, err
		}
		der, err := x509.MarshalPKCS8PrivateKey(key)
		if err != nil {
			return nil, err
		}
		if text = pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}); os.WriteFile(path, text, 0o600) != nil {
			return nil, fmt.Errorf("keep the helper's key in %s: %w", path, err)
		}
	} else if err != nil {
		return nil, err
	}
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, fmt.Errorf("%s has no key", path)
	}
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	signer, is := key.(ed25519.PrivateKey)
	if !is {
		return nil, fmt.Errorf("%s has a key of another kind", path)
	}
	return apiclient.CertificateOf(signer)
}

// settle has the configuration of a system that has arrived name no token any more.
func settle(root string, a answers.Arrival) error {
	a.Token = ""
	text, err := json.Marshal(a)
	if err != nil {
		return err
	}
	path := filepath.Join(root, answers.ArrivalConfig)
	if err := os.WriteFile(path+".new", text, 0o600); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}
