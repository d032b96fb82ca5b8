package machine

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"jugate/core/environment"
	"jugate/core/hwaddr"
)

// Settings is what the environment was told, by its build and by the boot script.
type Settings struct {
	environment.Settings
	Ticket string         // lets this workstation call the service, for this boot
	Card   hwaddr.Address // that the loader came by; zero if it does not say
	Wish   string         // what was chosen in the boot menu
	Serial bool           // a serial console shows the screen's text, too
}

// Words of the kernel's command line that are for the agent.
const (
	wordService = "jugate.service="
	wordTicket  = "jugate.ticket="
	wordCard    = "jugate.card="
	wordWish    = "jugate.wish="
)

// readSettings reads the build's settings below root and the kernel's command line,
// which goes before.
func readSettings(root, commandLine string) (Settings, error) {
	var s Settings
	text, err := os.ReadFile(filepath.Join(root, environment.SettingsFile))
	if err != nil && !os.IsNotExist(err) {
		return s, err
	}
	if err == nil {
		if err := json.Unmarshal(text, &s.Settings); err != nil {
			return s, fmt.Errorf("%s: %w", environment.SettingsFile, err)
		}
	}
	for _, word := range strings.Fields(commandLine) {
		switch {
		case strings.HasPrefix(word, wordService):
			s.Service = word[len(wordService):]
		case strings.HasPrefix(word, wordTicket):
			s.Ticket = word[len(wordTicket):]
		case strings.HasPrefix(word, wordCard):
			s.Card, _ = hwaddr.Parse(word[len(wordCard):]) // a hint only
		case strings.HasPrefix(word, wordWish):
			s.Wish = word[len(wordWish):]
		case strings.HasPrefix(word, "console=ttyS"):
			s.Serial = true
		}
	}
	if s.Service == "" {
		return s, fmt.Errorf("neither the build nor the boot script says where the service is")
	}
	return s, nil
}
