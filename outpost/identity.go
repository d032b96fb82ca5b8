package outpost

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/durable"
	"jugate/core/trust"
	"jugate/core/version"
)

// identity is who an outpost is: its key, the certificate that the service has made for it, and whose it is.
type identity struct {
	file      string
	name      string
	service   string
	authority []byte // certificate, PEM
	key       *ecdsa.PrivateKey

	pair atomic.Pointer[tls.Certificate]
}

// ErrNotJoined says that an outpost has neither joined nor a code to do so.
var ErrNotJoined = errors.New("this outpost has not joined a service; start it with --service URL --join CODE, as jugate outpost add shows them")

// open reads who the outpost is, and has it join if it has a code that it has not joined by.
func (i *identity) open(ctx context.Context, c Config) error {
	i.file = filepath.Join(c.Data, "outpost.pem")
	known, err := i.read(c.Data)
	if err != nil {
		return err
	}
	if c.Service != "" {
		i.service = c.Service
	}
	if i.name != "" && c.Code == "" {
		return nil
	}
	if c.Code == "" || i.service == "" {
		return ErrNotJoined
	}
	code, err := trust.ParseJoinCode(c.Code)
	if err != nil {
		return err
	}
	if known && i.joinedBy(c.Data, code) { // the flag is still there at the next start
		return nil
	}
	return i.join(ctx, c, code)
}

// read reads the files of the data folder, as far as they are there.
func (i *identity) read(dir string) (known bool, err error) {
	text, err := os.ReadFile(i.file)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	block, rest := pem.Decode(text)
	if block == nil {
		return false, fmt.Errorf("%s has no key", i.file)
	}
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return false, fmt.Errorf("%s: %w", i.file, err)
	}
	var is bool
	if i.key, is = key.(*ecdsa.PrivateKey); !is {
		return false, fmt.Errorf("%s has a key of another kind", i.file)
	}
	if len(bytes.TrimSpace(rest)) == 0 {
		return false, nil // it was ended while it joined
	}
	pair, err := tls.X509KeyPair(rest, text)
	if err != nil {
		return false, fmt.Errorf("%s: %w", i.file, err)
	}
	if i.authority, err = os.ReadFile(filepath.Join(dir, "authority.pem")); err != nil {
		return false, err
	}
	about, err := os.ReadFile(filepath.Join(dir, "outpost.json"))
	if err != nil {
		return false, err
	}
	var j api.OutpostIs
	if err := json.Unmarshal(about, &j); err != nil {
		return false, fmt.Errorf("outpost.json: %w", err)
	}
	i.name, i.service = j.Name, j.Service
	i.pair.Store(&pair)
	return true, nil
}

func (i *identity) codeFile(dir string) string { return filepath.Join(dir, "joined-by") }

// joinedBy tells whether this is the code that it has joined by.
func (i *identity) joinedBy(dir string, code trust.JoinCode) bool {
	text, err := os.ReadFile(i.codeFile(dir))
	return err == nil && string(text) == trust.Mark(code.Secret)
}

// join makes a key, unless there is one, and shows the code. The key is kept before: if the answer is lost, the same code
// is good for the same key again.
func (i *identity) join(ctx context.Context, c Config, code trust.JoinCode) (err error) {
	if i.key == nil {
		if i.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
			return err
		}
		if err := i.write(nil); err != nil {
			return err
		}
	}
	request, err := apiclient.NewRequest(i.key)
	if err != nil {
		return err
	}
	out, authority, err := apiclient.Join(ctx, i.service, code, request, version.Program())
	if err != nil {
		return fmt.Errorf("join %s: %w", i.service, err)
	}
	about, err := json.Marshal(api.OutpostIs{Name: out.Name, Service: i.service})
	if err != nil {
		return err
	}
	i.name, i.authority = out.Name, authority
	err = errors.Join(durable.Write(filepath.Join(c.Data, "authority.pem"), authority, 0o644), durable.Write(filepath.Join(c.Data, "outpost.json"), about, 0o600),
		i.take(out.Certificate), durable.Write(i.codeFile(c.Data), []byte(trust.Mark(code.Secret)), 0o600))
	if err == nil {
		c.Log.Info("joined", "outpost", i.name, "service", i.service)
	}
	return err
}

// take keeps a certificate.
func (i *identity) take(chain string) error {
	if err := i.write([]byte(chain)); err != nil {
		return err
	}
	text, err := os.ReadFile(i.file)
	if err != nil {
		return err
	}
	pair, err := tls.X509KeyPair([]byte(chain), text)
	if err != nil {
		return fmt.Errorf("the certificate from the service: %w", err)
	}
	i.pair.Store(&pair)
	return nil
}

// write writes the key, and the certificates behind.
func (i *identity) write(chain []byte) error {
	der, err := x509.MarshalPKCS8PrivateKey(i.key)
	if err != nil {
		return err
	}
	return durable.Write(i.file, append(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), chain...), 0o600)
}

// certificate is what it shows now.
func (i *identity) certificate() (*tls.Certificate, error) { return i.pair.Load(), nil }

// serverConfig is how it answers: by that certificate, and asking agents for theirs.
func (i *identity) serverConfig() *tls.Config {
	return &tls.Config{GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return i.pair.Load(), nil }, ClientAuth: tls.RequestClientCert}
}

// stale tells whether a third of the certificate's time is over.
func (i *identity) stale(now time.Time) bool {
	leaf := i.pair.Load().Leaf
	return now.After(leaf.NotBefore.Add(leaf.NotAfter.Sub(leaf.NotBefore) / 3))
}

// renew asks for the next certificate.
func (i *identity) renew(ctx context.Context, client *apiclient.Client) error {
	request, err := apiclient.NewRequest(i.key)
	if err != nil {
		return err
	}
	out, err := client.RenewOutpost(ctx, api.OutpostRenewal{Request: request})
	if err != nil {
		return err
	}
	return i.take(out.Certificate)
}
