package kmod

import (
	"bytes"
	"io"
	"strings"
)

// maxBuiltin bounds the file modules.builtin.modinfo, in bytes.
const maxBuiltin = 16 << 20

// ReadBuiltin reads the file modules.builtin.modinfo: what the modules that a
// kernel has inside say of themselves, as strings of NAME.KEY=VALUE, each ended by a
// zero byte. Only names and aliases are taken.
func ReadBuiltin(r io.Reader) ([]Info, error) {
	text, err := io.ReadAll(io.LimitReader(r, maxBuiltin))
	if err != nil {
		return nil, err
	}
	var all []Info
	at := map[string]int{}
	for entry := range bytes.SplitSeq(text, []byte{0}) {
		key, value, found := strings.Cut(string(entry), "=")
		name, key, dotted := strings.Cut(key, ".")
		if !found || !dotted || name == "" {
			continue
		}
		i, known := at[name]
		if !known {
			i = len(all)
			at[name] = i
			all = append(all, Info{Name: Canonical(name)})
		}
		if key == "alias" {
			all[i].Aliases = append(all[i].Aliases, value)
		}
	}
	return all, nil
}
