package bootentry_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/answers"
	"jugate/core/bootentry"
	"jugate/core/fault"
)

func values(t *testing.T, set map[string]any) bootentry.Values {
	t.Helper()
	read, err := answers.Read(set)
	require.NoError(t, err)
	told := map[string]string{}
	for key, v := range read {
		told[key] = string(v)
	}
	s, err := answers.FromTold(told)
	require.NoError(t, err)
	v, err := bootentry.NewValues(s)
	require.NoError(t, err)
	v[bootentry.OfWorkstation], v[bootentry.OfAddress] = "herb-01", "00:00:5e:00:53:11"
	v[bootentry.AnswerURL], v[bootentry.EndURL] = "https://192.0.2.1:7460/boot/own/abc/preseed.cfg", "https://192.0.2.1:7460/boot/own/abc/ended"
	v[bootentry.Parameters] = map[string]any{"mirror": "mirror.fennholt.example", "disk": nil}
	return v
}

func desk(t *testing.T) bootentry.Values {
	return values(t, map[string]any{
		"computer_name": "herb-01", "locale": "de_AT.UTF-8", "keyboard": "de(nodeadkeys)", "time_zone": "Europe/Vienna", "remote_access": true,
		"description": "Herbarium, by the window", "packages": []any{"scanner-tools", "lsof"},
		"accounts": []any{map[string]any{"name": "scan", "full_name": "Ines O'Hara", "administrator": true, "password": "a secret word"},
			map[string]any{"name": "guest", "ssh_keys": []any{"ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIEUpX0TURw98D/MaUya/toCKXGtdB5vRDVRpCJ1KN8RZ desk"}}},
		"files": []any{map[string]any{"path": "/etc/motd", "content": "one\ntwo'; reboot\n"}},
	})
}

func TestReadyMadeAnswerFiles(t *testing.T) {
	text, err := bootentry.AnswerFile.Render(bootentry.Preseed.Template(), desk(t))
	require.NoError(t, err)
	for _, line := range []string{
		"d-i netcfg/get_hostname string herb-01\n", "d-i debian-installer/locale string de_AT.UTF-8\n", "d-i keyboard-configuration/xkb-keymap select de\n",
		"d-i time/zone string Europe/Vienna\n", "d-i passwd/username string scan\n", "d-i passwd/user-fullname string Ines O'Hara\n", "d-i passwd/root-login boolean false\n",
		"d-i mirror/http/hostname string mirror.fennholt.example\n", "d-i pkgsel/include string openssh-server scanner-tools lsof\n",
		"wget -q -O /dev/null 'https://192.0.2.1:7460/boot/own/abc/ended'\n",
	} {
		assert.Contains(t, text, line)
	}
	assert.NotContains(t, text, "partman-auto/disk", "with one disk the installer knows which")
	assert.NotContains(t, text, "a secret word", "installers take a hash")
	assert.Regexp(t, `user-password-crypted password \$6\$`, text)
	assert.NotContains(t, text, "reboot\n  ", "what a file has in it is no command")
	named := bootentry.AnswerFile.Named(bootentry.Preseed.Template(), []string{"mirror", "disk"})
	assert.Equal(t, []string{"description"}, desk(t).Unused(named))
	assert.Contains(t, named.Values, bootentry.EndURL)
	assert.Empty(t, named.Needed, "it goes without parameters")

	text, err = bootentry.AnswerFile.Render(bootentry.Kickstart.Template(), desk(t))
	require.NoError(t, err)
	assert.Contains(t, text, "network --bootproto=dhcp --hostname=herb-01\n")
	assert.Contains(t, text, `user --name=scan --gecos='Ines O'\''Hara' --groups=wheel --iscrypted --password='$6$`)
	assert.Contains(t, text, "user --name=guest --gecos='guest' --lock\n")
	assert.Contains(t, text, "openssh-server\nscanner-tools\nlsof\n%end")

	_, err = bootentry.AnswerFile.Render(bootentry.Preseed.Template(), values(t, nil))
	assert.ErrorContains(t, err, ".computer_name has no value")
	assert.Equal(t, fault.Conflict, fault.KindOf(err))
}

func TestWordsOfAKernel(t *testing.T) {
	v := desk(t)
	v[bootentry.Parameters].(map[string]any)["suite"] = "trixie"
	line, err := bootentry.Line.Render("auto=true  hostname={{.computer_name}}\n suite={{.parameter.suite}} {{with .domain}}domain={{.}}{{end}} url={{.answer_file}}", v)
	require.NoError(t, err)
	assert.Equal(t, "auto=true hostname=herb-01 suite=trixie url=https://192.0.2.1:7460/boot/own/abc/preseed.cfg", line)

	for _, attack := range []string{"x init=/bin/sh", "x\nreboot", "x'; reboot; '", `x"`, `x\`, "\x1b[2J"} {
		v[bootentry.Parameters].(map[string]any)["suite"] = attack
		_, err := bootentry.Line.Render("suite={{.parameter.suite}}", v)
		assert.ErrorContains(t, err, "more than one word", "%q", attack)
		_, err = bootentry.Line.Render("suite={{or .parameter.suite .domain}}", v)
		assert.Error(t, err, "%q", attack)
	}
	_, err = bootentry.Line.Render("note={{.description}}", v)
	assert.ErrorContains(t, err, ".description is more than one word")
	named := bootentry.Line.Named("a={{ .parameter.suite }} b={{or .parameter.mirror .domain}}{{with .parameter.disk}} c={{.}}{{end}}", []string{"suite", "mirror", "disk"})
	assert.Equal(t, []string{"suite"}, named.Needed)
	for _, secret := range []string{"{{(index .accounts 0).password_hash}}", "{{range .accounts}}{{.password_hash}}{{end}}", "key={{$.product_key}}"} {
		assert.ErrorContains(t, bootentry.Line.Check(secret, nil), "has secrets", secret)
		assert.NoError(t, bootentry.AnswerFile.Check(secret, nil), secret)
	}
	_, err = bootentry.Line.Render("a='b'", v)
	assert.Error(t, err)
	_, err = bootentry.Line.Render(strings.Repeat("word ", 400), v)
	assert.ErrorContains(t, err, "longer than")
}

func TestTemplatesThatMakeNoSense(t *testing.T) {
	for text, why := range map[string]string{
		"{{.hostname}}":                        `"hostname" is not an answer`,
		"{{if .hostname}}x{{end}}":             `"hostname" is not an answer`,
		"{{range .accounts}}{{$.host}}{{end}}": `"host" is not an answer`,
		"{{.parameter.nobody}}":                `no parameter "nobody"`,
		"{{.computer_name":                     "unclosed action",
		"{{printf \"%100000d\" 1}}":            "no function printf here",
		"{{call .computer_name}}":              "no function call here",
		"{{nothing .computer_name}}":           `"nothing" not defined`,
		"{{define \"a\"}}{{template \"a\"}}{{end}}{{template \"a\"}}":                      "cannot define others",
		"{{range 1000000000}}x{{end}}":                                                     "range takes a list that has a name",
		"{{range len .accounts}}x{{end}}":                                                  "range takes a list that has a name",
		"{{range .accounts}}{{range $.accounts}}{{range $.accounts}}{{end}}{{end}}{{end}}": "lists are in lists",
		strings.Repeat("x", 65<<10):                                                        "larger than 64 KiB",
	} {
		err := bootentry.AnswerFile.Check(text, []string{"mirror"})
		assert.ErrorContains(t, err, why, "%.60s", text)
		assert.Equal(t, fault.Invalid, fault.KindOf(err), "%.60s", text)
	}
	assert.NoError(t, bootentry.AnswerFile.Check("", nil))
	assert.NoError(t, bootentry.AnswerFile.Check("{{.parameter.mirror}}", []string{"mirror"}))
}

func TestTextsEnd(t *testing.T) {
	list := make([]any, 200)
	for i := range list {
		list[i] = map[string]any{"name": "a" + strings.Repeat("b", i%20), "full_name": strings.Repeat("long ", 35)}
	}
	v := values(t, map[string]any{"computer_name": "herb-01"})
	v["accounts"] = list
	_, err := bootentry.AnswerFile.Render("{{range .accounts}}{{range $.accounts}}{{.full_name}}{{end}}{{end}}", v)
	assert.ErrorContains(t, err, "more than 262144 bytes")

	v = desk(t)
	_, err = bootentry.AnswerFile.Render("{{range .files}}{{.content}}{{end}}", v)
	assert.ErrorContains(t, err, "more than one line")
	_, err = bootentry.AnswerFile.Render("{{.packages}}", v)
	assert.ErrorContains(t, err, ".packages is a list")
	_, err = bootentry.AnswerFile.Render("{{range .files}}{{.colour}}{{end}}", v)
	assert.ErrorContains(t, err, `there is nothing called`)
}

func FuzzTemplates(f *testing.F) {
	f.Add("{{range .accounts}}{{.name}}{{end}}", "a b")
	f.Add(bootentry.Preseed.Template(), "x")
	f.Add("{{with $x := .parameter.mirror}}{{$x}}{{else}}{{break}}{{end}}", "'")
	f.Fuzz(func(t *testing.T, text, value string) {
		v := bootentry.Values{"computer_name": value, bootentry.Parameters: map[string]any{"mirror": value}, "accounts": []any{map[string]any{"name": value}}}
		for _, name := range bootentry.Names() {
			if _, is := v[name]; !is {
				v[name] = nil
			}
		}
		if line, err := bootentry.Line.Render(text, v); err == nil {
			assert.NotContains(t, line, "\n")
			assert.NotContains(t, line, "'")
		}
		bootentry.AnswerFile.Render(text, v)
	})
}
