package access

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"jugate/core/durable"
	"jugate/core/trust"
)

// openSigner reads the key that signs what agents do and load, or makes it on the first start. It is none of those that
// TLS uses, so that whoever finds one of those can listen, and not give errands.
func openSigner(dir string, a *authority) (*trust.Signer, error) {
	file := filepath.Join(dir, "signer.pem")
	b, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			return nil, err
		}
		if b, err = a.issueSigner(key); err != nil {
			return nil, err
		}
		if err := durable.Write(file, b, 0o600); err != nil {
			return nil, err
		}
	} else if err != nil {
		return nil, err
	}
	pair, err := tls.X509KeyPair(b, b)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	key, is := pair.PrivateKey.(*ecdsa.PrivateKey)
	if !is || pair.Leaf.CheckSignatureFrom(a.certificate) != nil {
		return nil, fmt.Errorf("%s is not a key that this service's authority has certified; take it away and another is made", file)
	}
	return &trust.Signer{Key: key, Certificate: pair.Leaf}, nil
}
