package main

import (
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"

	cdx "github.com/CycloneDX/cyclonedx-go"
)

func writeBill(path, name, version string, parts []part) error {
	bom := cdx.NewBOM()
	bom.Metadata = &cdx.Metadata{Component: &cdx.Component{Type: cdx.ComponentTypeApplication, Name: name, Version: version}}
	components := []cdx.Component{}
	for _, p := range parts {
		components = append(components, cdx.Component{Type: cdx.ComponentTypeLibrary, BOMRef: p.purl(), Name: p.name, Version: p.version, PackageURL: p.purl(),
			Licenses: &cdx.Licenses{{Expression: p.licence}}})
	}
	bom.Components = &components
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	if err := cdx.NewBOMEncoder(f, cdx.BOMFileFormatJSON).SetPretty(true).Encode(bom); err != nil {
		f.Close()
		return err
	}
	return f.Close()
}

const own = `%s is part of Jugate.

Copyright: 2026 the makers of Jugate

All rights are reserved; it is used under the terms that its users have agreed on with its makers.

It has in it what follows, each under its own licence, whose text is in NOTICES.gz beside this file; that of the Apache License 2.0 is in
/usr/share/common-licenses/Apache-2.0, too. The source of every part is where its package URL says, and is not changed.

`

// writeCopyright writes who has made what, and under which licence it is.
func writeCopyright(path, name string, parts []part) error {
	var b strings.Builder
	fmt.Fprintf(&b, own, name)
	for _, p := range parts {
		fmt.Fprintf(&b, "%s (%s)\n", p.purl(), p.licence)
		for _, line := range p.copyrights() {
			b.WriteString("    " + line + "\n")
		}
	}
	return os.WriteFile(path, []byte(b.String()), 0o644)
}

var copyrightLine = regexp.MustCompile(`(?i)^copyright (\(c\)|©|[0-9]|by|the )`)

// copyrights are the lines of the licence that say whose it is.
func (p part) copyrights() (lines []string) {
	for _, text := range p.texts {
		for line := range strings.Lines(text) {
			if line = strings.TrimSpace(line); copyrightLine.MatchString(line) && !slices.Contains(lines, line) {
				lines = append(lines, line)
			}
		}
	}
	return lines
}

// writeNotices writes the parts with their texts; a text that several have is written once.
func writeNotices(path string, parts []part) error {
	var order []string
	who := map[string][]part{}
	for _, p := range parts {
		text := strings.Join(p.texts, "\n\n")
		if who[text] == nil {
			order = append(order, text)
		}
		who[text] = append(who[text], p)
	}
	var b strings.Builder
	for _, text := range order {
		for _, p := range who[text] {
			fmt.Fprintf(&b, "%s (%s)\n", p.purl(), p.licence)
		}
		b.WriteString("\n" + text + "\n\n" + strings.Repeat("-", 70) + "\n\n")
	}
	return os.WriteFile(path, []byte(b.String()), 0o644)
}
