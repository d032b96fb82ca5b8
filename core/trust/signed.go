package trust

import (
	"crypto/ecdsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/go-jose/go-jose/v4"

	"jugate/core/slabstore"
)

// ErrUnsigned says that something does not come from whom it should.
var ErrUnsigned = errors.New("it is not signed by the service")

// headerPass is the header parameter with the digest of the pass that something is said to.
const headerPass = "pass"

// Signer signs what agents do and load, with a key that is certified for that alone.
type Signer struct {
	Key         *ecdsa.PrivateKey // on P-256
	Certificate *x509.Certificate // for signing code (RFC 5280, 4.2.1.12), by the authority that agents know, and as long as that is good
}

// Sign makes a JSON Web Signature of v in compact form (RFC 7515), by ES256, with the certificate in x5c. It is good as what
// kind names, and for whoever has the pass.
func (s *Signer) Sign(kind, pass string, v any) (string, error) {
	payload, err := json.Marshal(v)
	if err != nil {
		return "", err
	}
	options := (&jose.SignerOptions{}).WithType(jose.ContentType(kind)).WithHeader(headerPass, slabstore.Sum([]byte(pass))).
		WithHeader("x5c", []string{base64.StdEncoding.EncodeToString(s.Certificate.Raw)})
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: s.Key}, options)
	if err != nil {
		return "", err
	}
	signed, err := signer.Sign(payload)
	if err != nil {
		return "", err
	}
	return signed.CompactSerialize()
}

// OpenSigned reads what Sign has made into v, which points to something. Authority is the certificate of the one who certifies
// signers (PEM). Dates are not looked at, as clocks of workstations are often wrong. What does not come from there, is of another
// kind, or was said to another pass is an ErrUnsigned.
func OpenSigned(signed string, authority []byte, kind, pass string, v any) error {
	root, err := Certificate(authority)
	if err != nil {
		return fmt.Errorf("the authority: %w", err)
	}
	roots := x509.NewCertPool()
	roots.AddCert(root)
	j, err := jose.ParseSignedCompact(signed, []jose.SignatureAlgorithm{jose.ES256})
	if err != nil {
		return fmt.Errorf("%w: %w", ErrUnsigned, err)
	}
	header := j.Signatures[0].Protected
	chains, err := header.Certificates(x509.VerifyOptions{Roots: roots, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageCodeSigning}, CurrentTime: root.NotBefore})
	if err != nil {
		return fmt.Errorf("%w: %w", ErrUnsigned, err)
	}
	payload, err := j.Verify(chains[0][0].PublicKey)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrUnsigned, err)
	}
	if got := header.ExtraHeaders[jose.HeaderType]; got != kind {
		return fmt.Errorf("%w as %s, but as %v", ErrUnsigned, kind, got)
	}
	if header.ExtraHeaders[headerPass] != slabstore.Sum([]byte(pass)).String() {
		return fmt.Errorf("%w for this workstation", ErrUnsigned)
	}
	return json.Unmarshal(payload, v)
}
