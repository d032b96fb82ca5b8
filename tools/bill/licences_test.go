package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// What is under a licence that nobody knows, or that is not suitable, is not shipped.
func TestLicencesAreLookedAt(t *testing.T) {
	judge, err := newJudge()
	if err != nil {
		t.Fatal(err)
	}
	text := func(spdx string) string { // the classifier's own text of a licence
		files, err := filepath.Glob(filepath.Join(moduleDir(t, "github.com/google/licenseclassifier/v2"), "assets", "License", spdx, "*.txt"))
		if err != nil || len(files) == 0 {
			t.Fatal(err, spdx)
		}
		b, err := os.ReadFile(files[0])
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	for name, c := range map[string]struct {
		files         map[string]string
		part          part
		licence, says string
	}{
		"known":                        {files: map[string]string{"LICENSE": text("MIT"), "NOTICE": "by the gardeners"}, licence: "MIT"},
		"two":                          {files: map[string]string{"LICENSE.md": text("MIT"), "COPYING": text("ISC")}, licence: "ISC AND MIT"},
		"not suitable":                 {files: map[string]string{"LICENSE": text("AGPL-3.0")}, says: "the licence AGPL-3.0 is not among those that are suitable"},
		"one of two is not":            {files: map[string]string{"LICENSE": text("MIT"), "COPYING": text("GPL-2.0")}, says: "the licence GPL-2.0 is not"},
		"nobody knows it":              {files: map[string]string{"LICENSE": "You may look at this on Tuesdays."}, says: "no licence that is known"},
		"none":                         {says: "no licence that is known"},
		"just said":                    {part: part{kind: "npm", says: "MIT"}, licence: "MIT"},
		"just said, and not suitable":  {part: part{kind: "npm", says: "SSPL-1.0"}, says: "no licence that is known"},
		"a Go module says nothing":     {part: part{kind: "golang", says: "MIT"}, says: "no licence that is known"},
		"somebody has read and chosen": {part: part{kind: "golang", name: "kernel.org/pub/linux/libs/security/libcap/cap"}, files: map[string]string{"License": text("GPL-2.0")}, licence: "BSD-3-Clause"},
	} {
		t.Run(name, func(t *testing.T) {
			p := c.part
			p.dir = t.TempDir()
			for name, text := range c.files {
				if err := os.WriteFile(filepath.Join(p.dir, name), []byte(text), 0o644); err != nil {
					t.Fatal(err)
				}
			}
			switch err := judge.look(&p); {
			case c.says == "" && (err != nil || p.licence != c.licence || len(p.texts) < len(c.files)):
				t.Errorf("%v, %q with %d texts, want %q", err, p.licence, len(p.texts), c.licence)
			case c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says)):
				t.Errorf("%v, want an error that says %q", err, c.says)
			}
		})
	}
}

func TestPackageURLs(t *testing.T) {
	for want, p := range map[string]part{
		"pkg:golang/github.com/go-chi/chi/v5@v5.2.0": {kind: "golang", name: "github.com/go-chi/chi/v5", version: "v5.2.0"},
		"pkg:npm/%40ant-design/icons@6.3.4":          {kind: "npm", name: "@ant-design/icons", version: "6.3.4"},
	} {
		if got := p.purl(); got != want {
			t.Errorf("%s, want %s", got, want)
		}
	}
}

// moduleDir is where the source of a module lies.
func moduleDir(t *testing.T, path string) string {
	t.Helper()
	parts, err := download([]part{{kind: "golang", name: path, version: "v2.0.0"}})
	if err != nil {
		t.Fatal(err)
	}
	return parts[0].dir
}
