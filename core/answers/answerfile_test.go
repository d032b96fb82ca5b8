package answers_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/answers"
)

func TestAnswerFile(t *testing.T) {
	fresh, err := answers.RegisterInAnswerFile(nil, "amd64")
	require.NoError(t, err)
	text := string(fresh)
	for _, want := range []string{`<unattend xmlns="urn:schemas-microsoft-com:unattend">`, `<settings pass="specialize">`, `processorArchitecture="amd64"`, `wcm:action="add"`, "<Order>1</Order>",
		`<Path>cmd.exe /c pnputil.exe /add-driver %SystemDrive%\Jugate\Drivers\*.inf /subdirs /install</Path>`} {
		assert.Contains(t, text, want)
	}
	again, err := answers.RegisterInAnswerFile(fresh, "amd64")
	require.NoError(t, err)
	assert.Equal(t, fresh, again, "once is enough")
	other, err := answers.RegisterInAnswerFile(fresh, "arm64")
	require.NoError(t, err)
	assert.Equal(t, 2, strings.Count(string(other), "pnputil.exe"), "the component of another machine is another's")

	utf16 := "\xff\xfe" + wide(strings.Replace(text, "utf-8", "utf-16", 1))
	turned, err := answers.RegisterInAnswerFile([]byte(strings.Replace(utf16, wide("amd64"), wide("arm64"), 1)), "amd64")
	require.NoError(t, err, "an answer file in UTF-16")
	assert.Contains(t, string(turned), `encoding="utf-8"`)
	assert.Equal(t, 2, strings.Count(string(turned), "pnputil.exe"))
	for bad, says := range map[string]string{"hello": "no element unattend", "<html/>": "no element unattend", text[:60]: "not well-formed XML", strings.Repeat(" ", 5<<20): "larger than"} {
		_, err := answers.RegisterInAnswerFile([]byte(bad), "amd64")
		assert.ErrorContains(t, err, says)
	}
	_, err = answers.RegisterInAnswerFile(nil, "vax")
	assert.Error(t, err)
}

func FuzzAnswerFile(f *testing.F) {
	fresh, err := answers.RegisterInAnswerFile(nil, "amd64")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(fresh)
	f.Fuzz(func(t *testing.T, b []byte) {
		if out, err := answers.RegisterInAnswerFile(b, "amd64"); err == nil {
			again, err := answers.RegisterInAnswerFile(out, "amd64")
			require.NoError(t, err)
			assert.Equal(t, out, again)
		}
	})
}

// wide is a text in UTF-16, little endian.
func wide(s string) string {
	var b strings.Builder
	for _, c := range []byte(s) {
		b.WriteString(string(c) + "\x00")
	}
	return b.String()
}
