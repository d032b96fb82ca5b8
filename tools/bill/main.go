// Command bill says what a package is made of: every Go module in its programs and every npm package in its console, each with its
// licence. It writes a bill of materials (CycloneDX, ECMA-424) and the notices that have to be shipped, and fails if there is
// anything whose licence is unknown or unsuitable.
//
//	bill -name jugate -version 0.6.0 -to DIR [-console ../console] PROGRAM…
//
// sources.go finds what is in them, licences.go says which licences are suitable, notices.go writes.
package main

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// part is one thing that is shipped.
type part struct {
	kind    string // of its package URL: golang or npm
	name    string
	version string
	dir     string // where its source lies, with its licence
	says    string // what it says of its licence itself, if it does

	licence string   // SPDX identifier
	texts   []string // licence and notices
}

// purl is the part's package URL (ECMA-427).
func (p part) purl() string {
	return "pkg:" + p.kind + "/" + strings.Replace(p.name, "@", "%40", 1) + "@" + strings.ReplaceAll(p.version, "+", "%2B")
}

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "bill:", err)
		os.Exit(1)
	}
}

func run() error {
	name := flag.String("name", "", "name of the package")
	version := flag.String("version", "", "its version")
	to := flag.String("to", ".", "folder for NAME.cdx.json, NAME.copyright and NAME.notices")
	console := flag.String("console", "", "folder of the console whose npm packages are shipped")
	flag.Parse()
	parts, err := modules(flag.Args())
	if err != nil {
		return err
	}
	if *console != "" {
		npm, err := packages(*console)
		if err != nil {
			return err
		}
		parts = append(parts, npm...)
	}
	slices.SortFunc(parts, func(a, b part) int { return strings.Compare(a.purl(), b.purl()) })
	judge, err := newJudge()
	if err != nil {
		return err
	}
	var problems []error
	for i := range parts {
		problems = append(problems, judge.look(&parts[i]))
	}
	if err := errors.Join(problems...); err != nil {
		return err
	}
	if err := os.MkdirAll(*to, 0o755); err != nil {
		return err
	}
	if err := writeBill(filepath.Join(*to, *name+".cdx.json"), *name, *version, parts); err != nil {
		return err
	}
	if err := writeCopyright(filepath.Join(*to, *name+".copyright"), *name, parts); err != nil {
		return err
	}
	return writeNotices(filepath.Join(*to, *name+".notices"), parts)
}
