package main

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	classifier "github.com/google/licenseclassifier/v2"
	"github.com/google/licenseclassifier/v2/assets"
)

// suitable are the licences that let a program be shipped with what is under them, if their notices come with it. For MPL-2.0 the
// notices say where the source is, which is not changed.
var suitable = []string{"0BSD", "Apache-2.0", "BSD-2-Clause", "BSD-3-Clause", "CC0-1.0", "ISC", "MIT", "MPL-2.0", "Unlicense"}

// decided are the parts whose texts have to be read by somebody: by name, with what was found.
var decided = map[string]string{
	"kernel.org/pub/linux/libs/security/libcap/cap": "BSD-3-Clause", // "or alternatively" GPL 2: the choice is ours
	"kernel.org/pub/linux/libs/security/libcap/psx": "BSD-3-Clause",
}

// licenceFile are the names of files that have a licence, and notice those of texts that go with one.
var (
	licenceFile = regexp.MustCompile(`(?i)^(un)?licen[cs]e([.-](md|txt|mit|apache|apache2|bsd))?$|^copying(\.md|\.txt)?$`)
	noticeFile  = regexp.MustCompile(`(?i)^notices?(\.md|\.txt)?$`)
)

type judge struct{ classifier *classifier.Classifier }

func newJudge() (*judge, error) {
	c, err := assets.DefaultClassifier()
	return &judge{c}, err
}

// look finds the licence of a part, and tells what is wrong with it.
func (j *judge) look(p *part) error {
	files, err := os.ReadDir(p.dir)
	if err != nil {
		return fmt.Errorf("%s: %w", p.purl(), err)
	}
	var found []string
	for _, f := range files {
		is := licenceFile.MatchString(f.Name())
		if f.IsDir() || !is && !noticeFile.MatchString(f.Name()) {
			continue
		}
		text, err := os.ReadFile(filepath.Join(p.dir, f.Name()))
		if err != nil {
			return err
		}
		p.texts = append(p.texts, strings.TrimSpace(strings.ReplaceAll(string(text), "\r\n", "\n")))
		if !is {
			continue
		}
		for _, m := range j.classifier.Match(text).Matches {
			if m.MatchType == "License" {
				found = append(found, m.Name)
			}
		}
	}
	slices.Sort(found)
	found = slices.Compact(found)
	if licence, is := decided[p.name]; is {
		found = []string{licence}
	}
	if len(found) == 0 && p.kind == "npm" && slices.Contains(suitable, p.says) { // its package has no file, and says so in its description
		found = []string{p.says}
		p.texts = append(p.texts, "Its package says that it is under the licence "+p.says+", and has no text of that.")
	}
	if len(found) == 0 {
		return fmt.Errorf("%s: no licence that is known; look at %s and decide", p.purl(), p.dir)
	}
	for _, l := range found {
		if !slices.Contains(suitable, l) {
			return fmt.Errorf("%s: the licence %s is not among those that are suitable (%s)", p.purl(), l, strings.Join(suitable, ", "))
		}
	}
	p.licence = strings.Join(found, " AND ")
	return nil
}
