package windows

import (
	"io/fs"
	"strings"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
	"gopkg.in/ini.v1"

	"jugate/core/fileview"
)

// SetupFile is where Windows' setup notes how far an installation is.
const SetupFile = "Windows/Setup/State/State.ini"

// States of an installation in there.
const (
	ResealedToFirstStart = "IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE"  // generalised; the next start is a first start
	ResealedToAudit      = "IMAGE_STATE_GENERALIZE_RESEAL_TO_AUDIT" // generalised, for the maker's next work on it
	Complete             = "IMAGE_STATE_COMPLETE"                   // it has had its first start
)

// SetupState is how far an installation is, in capitals. The error is fs.ErrNotExist if setup has
// noted nothing.
func SetupState(volume fs.FS) (string, error) {
	name, there := fileview.FindFold(volume, SetupFile)
	if !there {
		return "", fs.ErrNotExist
	}
	raw, err := fs.ReadFile(volume, name)
	if err != nil {
		return "", err
	}
	text, _, err := transform.Bytes(unicode.BOMOverride(unicode.UTF8.NewDecoder()), raw)
	if err != nil {
		return "", err
	}
	file, err := ini.LoadSources(ini.LoadOptions{Insensitive: true, SkipUnrecognizableLines: true}, text)
	if err != nil {
		return "", err
	}
	return strings.ToUpper(file.Section("state").Key("imagestate").String()), nil
}
