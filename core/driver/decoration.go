package driver

import (
	"fmt"
	"strconv"
	"strings"
)

// Decoration is what a section of models is for: ".NTamd64.10.0...16299" says 64-bit
// PC, version 10.0 from build 16299 on. Zero values say nothing.
type Decoration struct {
	Arch    string `json:"arch,omitempty"` // as Go calls it
	Major   int    `json:"major,omitempty"`
	Minor   int    `json:"minor,omitempty"`
	Product int    `json:"product,omitempty"` // 1 workstation, 2 domain controller, 3 server
	Build   int    `json:"build,omitempty"`
}

// parseDecoration reads NT[ARCH][.MAJOR[.MINOR[.PRODUCT[.SUITE[.BUILD]]]]], the
// TargetOSVersion of the INF reference's [Manufacturer] section.
func parseDecoration(s string) (Decoration, error) {
	var d Decoration
	parts := strings.Split(s, ".")
	arch, nt := strings.CutPrefix(strings.ToUpper(parts[0]), "NT")
	if !nt {
		return d, fmt.Errorf("%q is for no system that is known here", s)
	}
	if arch != "" {
		known := false
		if d.Arch, known = architectures[arch]; !known {
			return d, fmt.Errorf("%q is for an architecture that is not known here", s)
		}
	}
	for i, into := range []*int{&d.Major, &d.Minor, &d.Product, nil, &d.Build} {
		if i+1 >= len(parts) || parts[i+1] == "" || into == nil {
			continue
		}
		n, err := strconv.ParseInt(parts[i+1], 0, 32)
		if err != nil || n < 0 {
			return d, fmt.Errorf("%q has a version that is not a number", s)
		}
		*into = int(n)
	}
	return d, nil
}

// String is the decoration as people read it.
func (d Decoration) String() string {
	var parts []string
	if d.Arch != "" {
		parts = append(parts, d.Arch)
	}
	if d.Major > 0 {
		parts = append(parts, fmt.Sprintf("from %d.%d", d.Major, d.Minor))
	}
	if d.Build > 0 {
		parts = append(parts, fmt.Sprintf("build %d", d.Build))
	}
	switch d.Product {
	case 2, 3:
		parts = append(parts, "servers")
	case 1:
		parts = append(parts, "workstations")
	}
	return strings.Join(parts, ", ")
}

// Target is a system that wants drivers.
type Target struct {
	System System
	Arch   string // as Go calls it; empty fits every one
	// Of Windows, where known: 10.0, and the build.
	Major, Minor, Build int
	// Of Linux: the kernel's release.
	Kernel string
}

// Fits tells whether what is decorated so is for a target. A version of the target
// that is not known fits all.
func (d Decoration) Fits(t Target) bool {
	if d.Arch != "" && t.Arch != "" && d.Arch != t.Arch || d.Product > 1 {
		return false
	}
	if t.Major == 0 || d.Major == 0 {
		return true
	}
	if d.Major != t.Major {
		return d.Major < t.Major
	}
	if d.Minor != t.Minor {
		return d.Minor < t.Minor
	}
	return d.Build == 0 || t.Build == 0 || d.Build <= t.Build
}

// closer tells whether d says more of a target's version than o: of the sections of
// one maker, the system takes the closest alone.
func (d Decoration) closer(o Decoration) int {
	for _, c := range [][2]int{{d.Major, o.Major}, {d.Minor, o.Minor}, {d.Build, o.Build}, {len(d.Arch), len(o.Arch)}} {
		if c[0] != c[1] {
			return c[0] - c[1]
		}
	}
	return 0
}
