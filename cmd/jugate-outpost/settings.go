package main

import (
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"maps"
	"slices"

	"github.com/knadh/koanf/parsers/yaml"
	"github.com/knadh/koanf/providers/file"
	"github.com/knadh/koanf/v2"
)

// settingsFile is read if no other is named.
const settingsFile = "/etc/jugate/outpost.yaml"

// notSettings are flags that a file does not have.
var notSettings = []string{"config", "version", "hand-in"}

// readSettings sets the flags that were not given from a file, whose keys are called like them; one that may be given again is a list.
// The file need not be there if it was not named.
func readSettings(flags *flag.FlagSet, path string) error {
	values := koanf.New("\x00") // no setting lies within another
	err := values.Load(file.Provider(path), yaml.Parser())
	if errors.Is(err, fs.ErrNotExist) && path == settingsFile {
		return nil
	}
	if err != nil {
		return fmt.Errorf("read the settings in %s: %w", path, err)
	}
	given := map[string]bool{}
	flags.Visit(func(f *flag.Flag) { given[f.Name] = true })
	raw := values.Raw()
	for _, name := range slices.Sorted(maps.Keys(raw)) {
		if flags.Lookup(name) == nil || slices.Contains(notSettings, name) {
			return fmt.Errorf("%s: %q is not a setting; they are called like the flags (jugate-outpost --help)", path, name)
		}
		if given[name] {
			continue
		}
		list, is := raw[name].([]any)
		if !is {
			list = []any{raw[name]}
		}
		for _, value := range list {
			if err := flags.Set(name, fmt.Sprint(value)); err != nil {
				return fmt.Errorf("%s: %s: %w", path, name, err)
			}
		}
	}
	return nil
}
