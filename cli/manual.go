package cli

import (
	"os"
	"path/filepath"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"jugate/core/version"
)

// writeManual writes a manual page for each command into a folder, and completions for three shells, under the names that
// Debian's folders for them want.
func writeManual(root *cobra.Command, dir string) error {
	pages := filepath.Join(dir, "man")
	if err := os.MkdirAll(pages, 0o755); err != nil {
		return err
	}
	root.DisableAutoGenTag = true
	for _, cmd := range root.Commands() { // is for shells alone
		cmd.Hidden = cmd.Hidden || cmd.Name() == "completion" || cmd.Name() == "help"
	}
	header := &doc.GenManHeader{Section: "1", Source: "Jugate " + version.Program(), Manual: "Jugate"}
	if err := doc.GenManTree(root, header, pages); err != nil {
		return err
	}
	if err := root.GenBashCompletionFileV2(filepath.Join(dir, "jugate.bash"), true); err != nil {
		return err
	}
	if err := root.GenZshCompletionFile(filepath.Join(dir, "_jugate")); err != nil {
		return err
	}
	return root.GenFishCompletionFile(filepath.Join(dir, "jugate.fish"), true)
}
