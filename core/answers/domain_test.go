package answers_test

import (
	"maps"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/answers"
)

func TestALinuxSystemBelongsToADomain(t *testing.T) {
	f := fresh()
	f.Joined = &answers.Joined{Domain: "fennholt.example", Host: "herb-01.fennholt.example", Keytab: []byte("keys")}
	for name, system := range map[string]map[string]string{"debian": debian, "fedora": fedora} {
		system = maps.Clone(system)
		system["usr/lib/systemd/system/sssd.service"] = ""
		system["var/lib/sss/db/cache_fennholt.ldb"] = "people"
		p, err := answers.Linux(layout(system), settings(t), f)
		require.NoError(t, err, name)
		after := map[string]answers.Change{}
		for _, c := range p.Changes {
			after[c.Path] = c
		}
		keytab := after["etc/krb5.keytab"]
		assert.Equal(t, "keys", string(keytab.Content))
		assert.True(t, keytab.Secret)
		assert.EqualValues(t, 0o600, keytab.Mode)
		assert.Contains(t, string(after["etc/sssd/sssd.conf"].Content), "ad_hostname = herb-01.fennholt.example\nkrb5_realm = FENNHOLT.EXAMPLE\nldap_sasl_authid = HERB-01$@FENNHOLT.EXAMPLE\n")
		assert.EqualValues(t, 0o600, after["etc/sssd/sssd.conf"].Mode)
		assert.Contains(t, string(after["etc/krb5.conf"].Content), "default_realm = FENNHOLT.EXAMPLE")
		assert.Equal(t, answers.Remove, after["var/lib/sss/db/cache_fennholt.ldb"].Do)
		assert.Equal(t, answers.Link, after["etc/systemd/system/multi-user.target.wants/sssd.service"].Do)
		assert.Contains(t, string(after["etc/hosts"].Content), "127.0.1.1\therb-01.fennholt.example herb-01")
	}
	p, err := answers.Linux(layout(debian), settings(t), f)
	require.NoError(t, err)
	assert.Contains(t, p.Remarks, "the computer is a member of fennholt.example, but the system has no SSSD, so nobody of the domain can sign in")

	t.Log("# a copy that joins none has nothing of the golden machine's place in one")
	f.Joined = nil
	was := maps.Clone(debian)
	was["etc/krb5.keytab"] = "golden"
	p, err = answers.Linux(layout(was), settings(t), f)
	require.NoError(t, err)
	for _, c := range p.Changes {
		if c.Path == "etc/krb5.keytab" {
			assert.Equal(t, answers.Remove, c.Do)
			return
		}
	}
	assert.Fail(t, "the golden machine's keys stay")
}

func TestNamesOfDomains(t *testing.T) {
	v, err := answers.Parse("domain", "Fennholt.Example.")
	require.NoError(t, err)
	assert.EqualValues(t, `"fennholt.example"`, v)
	for _, bad := range []string{"FENNHOLT", "fennholt.example/x", "", "a b.example"} {
		_, err := answers.Parse("domain", bad)
		assert.Error(t, err, bad)
	}
}
