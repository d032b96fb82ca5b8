package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"
)

// renamed are commands that had another name before: whoever says the old one is told the
// new one.
var renamed = map[string]string{
	"bootenv":      "environment",
	"group put":    "group include",
	"group take":   "group exclude",
	"driver put":   "driver install",
	"image access": "image recipients",
}

// renamedFlags are flags that had another name before.
var renamedFlags = map[string]string{
	"--wait-at-most": "--at-latest",
	"--plan":         "--dry-run",
	"--out":          "--into",
	"--whole":        "--drivers-whole",
	"--undo":         "jugate image readmit",
	"--listen-tls":   "--listen, which speaks TLS, too, and",
}

// refuseOldNames adds a hidden command for each old name.
func refuseOldNames(root *cobra.Command) {
	for old, now := range renamed {
		words := strings.Fields(old)
		parent, name := root, words[len(words)-1]
		if len(words) > 1 {
			parent, _, _ = root.Find(words[:1])
		}
		parent.AddCommand(&cobra.Command{
			Use: name, Hidden: true, DisableFlagParsing: true, Args: cobra.ArbitraryArgs,
			RunE: func(*cobra.Command, []string) error {
				return usageError{fmt.Errorf("jugate %s is called jugate %s now", old, now)}
			},
		})
	}
}

// flagError is a complaint about flags, which names the new flag if an old one was meant.
func flagError(_ *cobra.Command, err error) error {
	for old, now := range renamedFlags {
		if strings.HasSuffix(err.Error(), "flag: "+old) {
			err = fmt.Errorf("%s is called %s now", old, now)
		}
	}
	return usageError{err}
}
