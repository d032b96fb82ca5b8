package readiness_test

import (
	"errors"
	"io/fs"
	"testing"
	"testing/fstest"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/hive"
	"jugate/core/partition"
	"jugate/core/readiness"
	"jugate/core/volume"
)

func file(text string) *fstest.MapFile { return &fstest.MapFile{Data: []byte(text)} }

func state(s string) *fstest.MapFile { return file("[State]\r\nImageState=" + s + "\r\n") }

// utf16Text is how some systems write such files.
func utf16Text(s string) *fstest.MapFile {
	b := []byte{0xFF, 0xFE}
	for _, u := range utf16.Encode([]rune(s)) {
		b = append(b, byte(u), byte(u>>8))
	}
	return &fstest.MapFile{Data: b}
}

// settings is a file of a Windows' settings database with one key.
func settings(t *testing.T, key string, values map[string]hive.Value) *fstest.MapFile {
	h, err := hive.New("ROOT")
	require.NoError(t, err)
	k, err := h.Make(key)
	require.NoError(t, err)
	for name, v := range values {
		require.NoError(t, k.Set(name, v))
	}
	b, err := h.Bytes()
	require.NoError(t, err)
	return &fstest.MapFile{Data: b}
}

const stateFile = "Windows/Setup/State/State.ini"

var windows = fstest.MapFS{"Windows/System32/config/x": file("x")}

func with(base fstest.MapFS, more fstest.MapFS) fstest.MapFS {
	all := fstest.MapFS{}
	for _, m := range []fstest.MapFS{base, more} {
		for name, f := range m {
			all[name] = f
		}
	}
	return all
}

func TestWhatFilesTell(t *testing.T) {
	linux := fstest.MapFS{"etc/os-release": file("NAME=x\n"), "etc/machine-id": file("\n")}
	for name, c := range map[string]struct {
		files fstest.MapFS
		rules readiness.Rules
		want  map[string]readiness.Severity // by code
		says  string
	}{
		"no system at all":           {fstest.MapFS{"notes.txt": file("leaf")}, readiness.Rules{}, nil, ""},
		"windows, prepared":          {with(windows, fstest.MapFS{stateFile: state("IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE")}), readiness.Rules{}, nil, ""},
		"windows, prepared, UTF-16":  {with(windows, fstest.MapFS{stateFile: utf16Text("[State]\r\nImageState = IMAGE_STATE_GENERALIZE_RESEAL_TO_AUDIT\r\n")}), readiness.Rules{}, nil, ""},
		"windows, not prepared":      {with(windows, fstest.MapFS{stateFile: state("IMAGE_STATE_COMPLETE")}), readiness.Rules{}, map[string]readiness.Severity{"not-prepared": readiness.Blocking}, "was not run"},
		"windows, no state":          {windows, readiness.Rules{}, map[string]readiness.Severity{"not-prepared": readiness.Blocking}, "is missing"},
		"windows, half prepared":     {with(windows, fstest.MapFS{stateFile: state("IMAGE_STATE_UNDEPLOYABLE")}), readiness.Rules{}, map[string]readiness.Severity{"preparation-unfinished": readiness.Blocking}, "IMAGE_STATE_UNDEPLOYABLE"},
		"windows, garbage for state": {with(windows, fstest.MapFS{stateFile: file("\x00\x01[[[")}), readiness.Rules{}, map[string]readiness.Severity{"preparation-unfinished": readiness.Blocking}, ""},
		"windows, updates": {with(windows, fstest.MapFS{stateFile: state("IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE"), "Windows/WinSxS/pending.xml": file("<x/>")}), readiness.Rules{},
			map[string]readiness.Severity{"updates-pending": readiness.Warning}, "pending.xml"},
		"windows, evaluation": {with(windows, fstest.MapFS{stateFile: state("IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE"), "Windows/System32/config/SOFTWARE": settings(t, `Microsoft\Windows NT\CurrentVersion`, map[string]hive.Value{"EditionID": hive.Of("EnterpriseEval"), "ProductName": hive.Of("Windows 10 Enterprise Evaluation"), "CurrentBuild": hive.Of("26100")})}),
			readiness.Rules{}, map[string]readiness.Severity{"evaluation": readiness.Warning}, "Windows 11 Enterprise Evaluation (build 26100)"},
		"windows, preparation failed": {with(windows, fstest.MapFS{stateFile: state("IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE"), "Windows/System32/config/SYSTEM": settings(t, `Setup\Status\SysprepStatus`, map[string]hive.Value{"GeneralizationState": hive.Number(3)})}),
			readiness.Rules{}, map[string]readiness.Severity{"preparation-unfinished": readiness.Blocking}, "GeneralizationState is 3"},
		"windows, preparation done": {with(windows, fstest.MapFS{stateFile: state("IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE"), "Windows/System32/config/SYSTEM": settings(t, `Setup\Status\SysprepStatus`, map[string]hive.Value{"GeneralizationState": hive.Number(7)})}), readiness.Rules{}, nil, ""},
		"windows, files to be moved": {with(windows, fstest.MapFS{stateFile: state("IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE"), "Windows/System32/config/SYSTEM": settings(t, `ControlSet001\Control\Session Manager`, map[string]hive.Value{"PendingFileRenameOperations": hive.OfAll("a")})}),
			readiness.Rules{}, map[string]readiness.Severity{"updates-pending": readiness.Warning}, "PendingFileRenameOperations"},
		"windows, damaged settings": {with(windows, fstest.MapFS{stateFile: state("IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE"), "Windows/System32/config/SYSTEM": file("regf")}), readiness.Rules{},
			map[string]readiness.Severity{"settings-unread": readiness.Warning}, "not a sound registry file"},
		"linux, generalised":               {linux, readiness.Rules{}, nil, ""},
		"linux, uninitialized":             {with(linux, fstest.MapFS{"etc/machine-id": file("uninitialized\n")}), readiness.Rules{}, nil, ""},
		"linux, identity":                  {with(linux, fstest.MapFS{"etc/machine-id": file("7f3a\n")}), readiness.Rules{}, map[string]readiness.Severity{"machine-id": readiness.Blocking}, "etc/machine-id"},
		"linux, host keys":                 {with(linux, fstest.MapFS{"etc/ssh/ssh_host_rsa_key": file("k"), "etc/ssh/ssh_host_ed25519_key": file("k")}), readiness.Rules{}, map[string]readiness.Severity{"ssh-host-keys": readiness.Blocking}, "and 1 more"},
		"linux, in a domain":               {with(linux, fstest.MapFS{"etc/krb5.keytab": file("keys")}), readiness.Rules{}, map[string]readiness.Severity{"domain-member": readiness.Blocking}, "etc/krb5.keytab"},
		"linux, in a domain, and answered": {with(linux, fstest.MapFS{"etc/krb5.keytab": file("keys")}), readiness.Rules{Answered: true}, map[string]readiness.Severity{"domain-member": readiness.Note}, "etc/krb5.keytab"},
		"linux, leases":                    {with(linux, fstest.MapFS{"var/lib/dhcp/dhclient.eth0.leases": file("lease {}")}), readiness.Rules{}, map[string]readiness.Severity{"dhcp-leases": readiness.Warning}, ""},
		"linux, empty lease":               {with(linux, fstest.MapFS{"var/lib/dhcp/dhclient.leases": file("")}), readiness.Rules{}, nil, ""},
		"linux, network names":             {with(linux, fstest.MapFS{"etc/udev/rules.d/70-persistent-net.rules": file("SUBSYSTEM")}), readiness.Rules{}, map[string]readiness.Severity{"network-names": readiness.Warning}, ""},
		"linux, packages cut off":          {with(linux, fstest.MapFS{"var/lib/dpkg/updates/0001": file("x")}), readiness.Rules{}, map[string]readiness.Severity{"updates-pending": readiness.Warning}, "dpkg"},
		"agent, usual name":                {fstest.MapFS{"ProgramData/Fennholt/agent.id": file("7f3a")}, readiness.Rules{}, map[string]readiness.Severity{"agent-identity": readiness.Blocking}, "ProgramData/Fennholt/agent.id"},
		"agent, configured":                {fstest.MapFS{"opt/care/who": file("7f3a")}, readiness.Rules{IdentityFiles: []string{`\opt\**\who`}}, map[string]readiness.Severity{"agent-identity": readiness.Blocking}, "opt/care/who"},
		"agent, switched off":              {fstest.MapFS{"ProgramData/Fennholt/agent.id": file("7f3a")}, readiness.Rules{IdentityFiles: []string{}}, nil, ""},
		"a pattern that is none":           {fstest.MapFS{"a": file("")}, readiness.Rules{IdentityFiles: []string{"etc/[x"}}, map[string]readiness.Severity{"bad-pattern": readiness.Warning}, "etc/[x"},
	} {
		t.Run(name, func(t *testing.T) {
			table := &partition.Table{Scheme: partition.GPT, Partitions: []partition.Partition{
				{Number: 1, Type: partition.EFISystem}, {Number: 2, Type: partition.WindowsRecovery}}}
			found := readiness.Check(table, []readiness.Volume{{Volume: sound(), Where: "partition 1", Files: c.files}}, c.rules)
			got := map[string]readiness.Severity{}
			text := ""
			for _, f := range found {
				got[f.Code] = f.Severity
				text += f.String()
				assert.NotEmpty(t, f.Means)
				assert.NotEmpty(t, f.Do)
				assert.Equal(t, "partition 1", f.Where)
			}
			if c.want == nil {
				c.want = map[string]readiness.Severity{}
			}
			assert.Equal(t, c.want, got)
			assert.Contains(t, text, c.says)
		})
	}
}

func sound() *volume.Volume { v := volume.Opaque(1 << 30); v.Kind = volume.NTFS; return v }

func TestWhatDisksAndVolumesTell(t *testing.T) {
	gpt := &partition.Table{Scheme: partition.GPT, Partitions: []partition.Partition{{Number: 1, Type: partition.EFISystem}}}
	for name, c := range map[string]struct {
		table *partition.Table
		vol   func(v *readiness.Volume)
		rules readiness.Rules
		want  map[string]readiness.Severity
	}{
		"sound":       {gpt, func(*readiness.Volume) {}, readiness.Rules{}, map[string]readiness.Severity{}},
		"table":       {&partition.Table{Scheme: partition.GPT, Partitions: gpt.Partitions, Findings: []string{"the backup is gone"}}, func(*readiness.Volume) {}, readiness.Rules{}, map[string]readiness.Severity{"table-fault": readiness.Warning}},
		"no EFI":      {&partition.Table{Scheme: partition.GPT, Partitions: []partition.Partition{{Number: 1}}}, func(*readiness.Volume) {}, readiness.Rules{}, map[string]readiness.Severity{"no-efi-partition": readiness.Warning}},
		"none active": {&partition.Table{Scheme: partition.MBR, Partitions: []partition.Partition{{Number: 1}}}, func(*readiness.Volume) {}, readiness.Rules{}, map[string]readiness.Severity{"no-active-partition": readiness.Warning}},
		"no recovery": {gpt, func(v *readiness.Volume) {
			v.Files = with(windows, fstest.MapFS{stateFile: state("IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE")})
		}, readiness.Rules{}, map[string]readiness.Severity{"no-recovery-partition": readiness.Note}},
		"blank":               {&partition.Table{Scheme: partition.None}, func(v *readiness.Volume) { v.Blank = true }, readiness.Rules{}, map[string]readiness.Severity{"blank": readiness.Blocking}},
		"damaged":             {gpt, func(v *readiness.Volume) { v.Damaged = errors.New("it claims to be larger than it is") }, readiness.Rules{}, map[string]readiness.Severity{"damaged": readiness.Blocking}},
		"stale":               {gpt, func(v *readiness.Volume) { v.Clean, v.MapsStale = false, true }, readiness.Rules{}, map[string]readiness.Severity{"unclean": readiness.Blocking}},
		"not unmounted":       {gpt, func(v *readiness.Volume) { v.Clean = false }, readiness.Rules{}, map[string]readiness.Severity{"not-unmounted": readiness.Warning}},
		"encrypted":           {gpt, func(v *readiness.Volume) { v.Encrypted = true }, readiness.Rules{}, map[string]readiness.Severity{"encrypted": readiness.Blocking}},
		"copied all the same": {gpt, func(v *readiness.Volume) { v.Encrypted = true }, readiness.Rules{AllowEncrypted: true}, map[string]readiness.Severity{"encrypted": readiness.Note}},
		"hibernated":          {gpt, func(v *readiness.Volume) { v.Hibernated = true }, readiness.Rules{}, map[string]readiness.Severity{"hibernated": readiness.Blocking}},
		"nearly full":         {gpt, func(v *readiness.Volume) { v.UsedBytes = v.Size * 95 / 100 }, readiness.Rules{}, map[string]readiness.Severity{"nearly-full": readiness.Warning}},
		"cannot look in":      {gpt, func(v *readiness.Volume) { v.Hidden = errors.New("no reader") }, readiness.Rules{}, map[string]readiness.Severity{"not-looked-into": readiness.Warning}},
		"files that panic":    {gpt, func(v *readiness.Volume) { v.Files = fstest.MapFS(nil); v.Files = panicking{} }, readiness.Rules{}, map[string]readiness.Severity{"not-looked-into": readiness.Warning}},
	} {
		t.Run(name, func(t *testing.T) {
			v := readiness.Volume{Volume: sound(), Where: "partition 1"}
			c.vol(&v)
			got := map[string]readiness.Severity{}
			for _, f := range readiness.Check(c.table, []readiness.Volume{v}, c.rules) {
				got[f.Code] = f.Severity
				require.NotEmpty(t, f.What)
			}
			assert.Equal(t, c.want, got)
		})
	}
}

// panicking is a view by a library that trusts a broken disk.
type panicking struct{}

func (panicking) Open(string) (fs.File, error) { panic("index out of range") }
