package main

import (
	"bytes"
	"debug/buildinfo"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// modules are the Go modules that programs were built from, and Go's own library.
func modules(programs []string) (parts []part, err error) {
	goroot, err := exec.Command("go", "env", "GOROOT").Output() // a program that was built with -trimpath does not know it
	if err != nil {
		return nil, fmt.Errorf("ask where Go is: %w", err)
	}
	seen := map[string]bool{}
	for _, path := range programs {
		info, err := buildinfo.ReadFile(path)
		if err != nil {
			return nil, err
		}
		if !seen["std"] {
			seen["std"] = true
			parts = append(parts, part{kind: "golang", name: "std", version: strings.TrimPrefix(info.GoVersion, "go"), dir: strings.TrimSpace(string(goroot))})
		}
		for _, m := range info.Deps {
			if m.Replace != nil {
				return nil, fmt.Errorf("%s: %s is replaced by %s; say here where the licence of that is", path, m.Path, m.Replace.Path)
			}
			if id := m.Path + "@" + m.Version; !seen[id] {
				seen[id] = true
				parts = append(parts, part{kind: "golang", name: m.Path, version: m.Version})
			}
		}
	}
	return download(parts)
}

// download gets the sources of modules, and says where they are.
func download(parts []part) ([]part, error) {
	args := []string{"mod", "download", "-json"}
	for _, p := range parts {
		if p.dir == "" {
			args = append(args, p.name+"@"+p.version)
		}
	}
	cmd := exec.Command("go", args...)
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	if err != nil {
		return nil, fmt.Errorf("get the sources of the modules: %w", err)
	}
	dirs := map[string]string{}
	for d := json.NewDecoder(bytes.NewReader(out)); ; {
		var m struct{ Path, Version, Dir string }
		if err := d.Decode(&m); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return nil, err
		}
		dirs[m.Path+"@"+m.Version] = m.Dir
	}
	for i, p := range parts {
		if p.dir == "" {
			parts[i].dir = dirs[p.name+"@"+p.version]
		}
	}
	return parts, nil
}

// packages are the npm packages that the console is built from. Those that only build and test it are not shipped.
func packages(console string) (parts []part, err error) {
	text, err := os.ReadFile(filepath.Join(console, "package-lock.json"))
	if err != nil {
		return nil, err
	}
	var lock struct {
		Packages map[string]struct {
			Version, License string
			Dev, DevOptional bool
		}
	}
	if err := json.Unmarshal(text, &lock); err != nil {
		return nil, fmt.Errorf("package-lock.json: %w", err)
	}
	for path, p := range lock.Packages {
		if path == "" || p.Dev || p.DevOptional {
			continue
		}
		name := path[strings.LastIndex(path, "node_modules/")+len("node_modules/"):]
		parts = append(parts, part{kind: "npm", name: name, version: p.Version, dir: filepath.Join(console, path), says: p.License})
	}
	return parts, nil
}
