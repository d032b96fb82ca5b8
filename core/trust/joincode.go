package trust

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"errors"
	"fmt"
	"strings"
)

// A code to join by is two things in one: a secret that is good once, and a commitment to the authority of the service,
// so that whoever joins knows that it speaks to that one and sends its secret to nobody else. It is pasted, not typed:
//
//	KRTW-7Q2M-XB4Y-…   12 letters of the secret, 16 of the commitment

const (
	// codeAlphabet has 32 letters without those that look like others.
	codeAlphabet  = "ABCDEFGHJKLMNPQRSTUVWXYZ23456789"
	secretLetters = 12 // 60 bits
	commitLetters = 16 // 80 bits
	codeGroup     = 4
)

// ErrJoinCode says that a text is not a join code.
var ErrJoinCode = errors.New("this is not a join code; one has 28 letters and digits, as jugate outpost add shows it")

// JoinCode is one that was read.
type JoinCode struct {
	Secret string // to be shown to the service
	commit string
}

// NewJoinCode makes a code for a service with this authority.
func NewJoinCode(authority *x509.Certificate) (text string, code JoinCode) {
	var b [secretLetters]byte
	rand.Read(b[:])
	code = JoinCode{letters(b[:]), commitment(authority)}
	all := code.Secret + code.commit
	var groups []string
	for i := 0; i < len(all); i += codeGroup {
		groups = append(groups, all[i:i+codeGroup])
	}
	return strings.Join(groups, "-"), code
}

// ParseJoinCode reads a code, however it was written.
func ParseJoinCode(text string) (JoinCode, error) {
	plain := strings.NewReplacer("-", "", " ", "", "\n", "").Replace(strings.ToUpper(text))
	if len(plain) != secretLetters+commitLetters || strings.Trim(plain, codeAlphabet) != "" {
		return JoinCode{}, ErrJoinCode
	}
	return JoinCode{plain[:secretLetters], plain[secretLetters:]}, nil
}

// For tells whether the code is for a service with this authority.
func (c JoinCode) For(authority *x509.Certificate) bool { return c.commit == commitment(authority) }

func commitment(authority *x509.Certificate) string {
	sum := sha256.Sum256(append([]byte("jugate: code to join by\n"), authority.RawSubjectPublicKeyInfo...))
	return letters(sum[:commitLetters])
}

// letters are five bits of each byte.
func letters(b []byte) string {
	out := make([]byte, len(b))
	for i, one := range b {
		out[i] = codeAlphabet[one&31]
	}
	return string(out)
}

// Mark is what is kept of a secret that was used, to know it again.
func Mark(secret string) string {
	return fmt.Sprintf("%x", sha256.Sum256([]byte("jugate: used\n"+secret)))
}
