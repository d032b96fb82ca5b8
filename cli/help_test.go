package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every command that does something says what it does, shows how it is called, and what it
// shows can be read by it.
func TestEveryCommandHasAnExampleThatItUnderstands(t *testing.T) {
	var walk func(cmd *cobra.Command)
	walk = func(cmd *cobra.Command) {
		for _, sub := range cmd.Commands() {
			walk(sub)
		}
		if cmd.Hidden || cmd.HasSubCommands() || cmd.Name() == "help" || cmd.HasParent() && cmd.Parent().Name() == "completion" {
			return
		}
		path := cmd.CommandPath()
		assert.NotEmpty(t, cmd.Short, path)
		assert.NotRegexp(t, `\.$`, cmd.Short, path)
		cmd.LocalNonPersistentFlags().VisitAll(func(f *pflag.Flag) {
			assert.Nil(t, cmd.Root().PersistentFlags().Lookup(f.Name), "%s: --%s means something else everywhere", path, f.Name)
		})
		if !assert.NotEmpty(t, cmd.Example, path) {
			return
		}
		for line := range strings.Lines(cmd.Example) {
			line = strings.TrimSpace(line)
			words, ok := strings.CutPrefix(line, path)
			if !assert.True(t, ok, "%s: its example is %q", path, line) {
				continue
			}
			root := newRoot()
			found, args, err := root.Find(append(strings.Fields(path)[1:], unquoted(words)...))
			assert.NoError(t, err, line)
			assert.Equal(t, path, found.CommandPath(), line)
			assert.NoError(t, found.ParseFlags(args), line)
			assert.NoError(t, found.ValidateArgs(found.Flags().Args()), line)
			assert.NoError(t, found.PreRunE(found, nil), line)
		}
	}
	walk(newRoot())
}

func TestTheReferenceIsWhatTheProgramSays(t *testing.T) {
	pages, err := referencePages(newRoot())
	require.NoError(t, err)
	for name, want := range pages {
		is, err := os.ReadFile(filepath.Join("../docs/reference", name))
		require.NoError(t, err)
		assert.True(t, want == string(is), "docs/reference/%s is old: make reference", name)
	}
}

// unquoted splits words as a shell does that knows quotes.
func unquoted(line string) (words []string) {
	quote, word, begun := rune(0), strings.Builder{}, false
	for _, c := range line + " " {
		switch {
		case quote == 0 && (c == '"' || c == '\''):
			quote, begun = c, true
		case c == quote:
			quote = 0
		case quote == 0 && c == ' ':
			if begun {
				words = append(words, word.String())
			}
			word.Reset()
			begun = false
		default:
			begun = true
			word.WriteRune(c)
		}
	}
	return words
}
