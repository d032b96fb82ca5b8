package join

import (
	"fmt"
	"strings"
	"time"

	"github.com/jcmturner/gokrb5/v8/crypto"
	"github.com/jcmturner/gokrb5/v8/iana/etypeID"
	"github.com/jcmturner/gokrb5/v8/keytab"
)

// Keytab holds the computer's keys for its account and its services, as Kerberos programs read
// them from /etc/krb5.keytab (the file format of MIT Kerberos, version 2), for AES with 256 and
// 128 bits (RFC 3962). now is only noted.
func (m *Member) Keytab(now time.Time) ([]byte, error) {
	// The salt of a computer's keys (MS-KILE, 3.1.1.2).
	salt := m.Domain.Realm() + "host" + m.Host()
	table := keytab.New()
	for _, kind := range []int32{etypeID.AES256_CTS_HMAC_SHA1_96, etypeID.AES128_CTS_HMAC_SHA1_96} {
		e, err := crypto.GetEtype(kind)
		if err != nil {
			return nil, err
		}
		key, err := e.StringToKey(m.Password, salt, e.GetDefaultStringToKeyParams())
		if err != nil {
			return nil, fmt.Errorf("key of %s: %w", m.Name, err)
		}
		name := strings.ToUpper(m.Name)
		for _, principal := range []string{name + "$", "host/" + m.Host(), "host/" + name, "RestrictedKrbHost/" + m.Host(), "RestrictedKrbHost/" + name} {
			if err := table.AddEntry(principal, m.Domain.Realm(), "", now, uint8(m.KeyVersion), kind); err != nil {
				return nil, err
			}
			entry := &table.Entries[len(table.Entries)-1]
			entry.Key.KeyValue, entry.KVNO = key, m.KeyVersion
		}
	}
	return table.Marshal()
}
