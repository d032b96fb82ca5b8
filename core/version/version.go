// Package version tells which version a program is of. All programs that are built from one commit have the same: that of its
// tag, such as v0.6.0, and between two tags a pseudo-version such as 0.6.1-0.20261130034430-60d0cf1abcde, which comes after 0.6.0
// and before 0.6.1 (Go modules reference, "Pseudo-versions"; Semantic Versioning 2.0.0, 11). Go writes it into every program
// that is built in a checkout.
//
// A program of a checkout without tags is of a version 0.0.0-…, which comes neither before nor after any other.
package version

import (
	"runtime/debug"
	"strings"

	"golang.org/x/mod/semver"
)

// stamped is the version of programs that are not built in a checkout:
//
//	go build -ldflags "-X jugate/core/version.stamped=0.6.0"
var stamped string

// untagged begins the versions that cannot be compared.
const untagged = "0.0.0-"

var program = read()

func read() string {
	if stamped != "" {
		return strings.TrimPrefix(stamped, "v")
	}
	info, ok := debug.ReadBuildInfo()
	if !ok || !semver.IsValid(info.Main.Version) { // such as "(devel)", in tests
		return untagged + "unknown"
	}
	return strings.TrimPrefix(info.Main.Version, "v")
}

// Program is the version of this program, without a v.
func Program() string { return program }

// Valid tells whether a text is a version, without a v.
func Valid(text string) bool { return semver.IsValid("v" + text) }

// Before tells whether a version comes before another one. What is not a version, or not of a tagged checkout, does not.
func Before(this, other string) bool {
	if strings.HasPrefix(this, untagged) || strings.HasPrefix(other, untagged) || !Valid(this) || !Valid(other) {
		return false
	}
	return semver.Compare("v"+this, "v"+other) < 0
}
