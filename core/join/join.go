// Package join makes what a computer belongs to a domain by, without anybody's password but its
// own: the blob that a Windows reads while it is set up, and the keytab of a Linux system.
//
//	m := join.Member{Name: "HERB-01", Password: join.NewPassword(), KeyVersion: 2, Domain: d}
//	blob := m.Blob()          // for the answer file
//	keys, err := m.Keytab(now) // for /etc/krb5.keytab
//
// The computer's account has to be in the directory, with that password (service/domains).
package join

import (
	"crypto/rand"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"strings"

	"github.com/google/uuid"
)

// Domain is what a member has to know of its domain.
type Domain struct {
	DNS    string    // "fennholt.example"
	Forest string    // DNS name of the forest's root
	Short  string    // NetBIOS name, "FENNHOLT"
	GUID   uuid.UUID // of the domain
	SID    SID
	Site   string // of the domain controller

	Controller string     // DNS name of the domain controller
	Address    netip.Addr // where it was reached
}

// Realm is the domain's Kerberos realm.
func (d *Domain) Realm() string { return strings.ToUpper(d.DNS) }

// Member is a computer with an account in a domain.
type Member struct {
	Name       string // as in the account, without its "$": at most MaxName characters
	Password   string // ASCII
	KeyVersion uint32 // msDS-KeyVersionNumber, as it is with this password
	SID        SID    // of the account
	Domain     Domain
}

// ErrAway says that no domain controller answers.
var ErrAway = errors.New("no domain controller answers")

// MaxName is the longest name of a computer in a domain (NetBIOS).
const MaxName = 15

// Host is the computer's DNS name.
func (m *Member) Host() string { return strings.ToLower(m.Name) + "." + m.Domain.DNS }

// Services are the names of the services that a computer answers for (servicePrincipalName).
func (m *Member) Services() []string {
	var all []string
	for _, service := range []string{"HOST", "RestrictedKrbHost"} {
		all = append(all, service+"/"+strings.ToUpper(m.Name), service+"/"+m.Host())
	}
	return all
}

// NewPassword is a password for a computer: 120 characters, as computers choose them, with 720
// bits of chance.
func NewPassword() string {
	b := make([]byte, 90)
	rand.Read(b)
	return base64.RawURLEncoding.EncodeToString(b)
}

// SID is a security identifier in its binary form (MS-DTYP, 2.4.2.2).
type SID []byte

// ParseSID checks the binary form of a SID, as a directory has it in objectSid.
func ParseSID(b []byte) (SID, error) {
	if len(b) < 8 || b[0] != 1 || b[1] > 15 || len(b) != 8+4*int(b[1]) {
		return nil, errors.New("this is not a security identifier")
	}
	return SID(b), nil
}

// String is the form that people write: "S-1-5-21-…" (MS-DTYP, 2.4.2.1).
func (s SID) String() string {
	if _, err := ParseSID(s); err != nil {
		return ""
	}
	authority := uint64(0)
	for _, b := range s[2:8] {
		authority = authority<<8 | uint64(b)
	}
	text := fmt.Sprintf("S-1-%d", authority)
	for at := 8; at < len(s); at += 4 {
		text += fmt.Sprintf("-%d", binary.LittleEndian.Uint32(s[at:]))
	}
	return text
}

// relative is the last number of a SID, which tells it from others of its domain.
func (s SID) relative() uint32 {
	if len(s) < 12 {
		return 0
	}
	return binary.LittleEndian.Uint32(s[len(s)-4:])
}
