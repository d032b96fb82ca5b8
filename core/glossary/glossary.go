// Package glossary says what the words, states and findings of Jugate mean: the same text
// for the command line, the reference and the console.
//
//	for _, t := range glossary.Find("mending") {
//		fmt.Println(t.Kind, t.Text)
//	}
package glossary

import (
	"slices"
	"strings"
)

// Kinds of terms, which the states of one thing share.
const (
	Word           = "word"
	Finding        = "finding"
	OfWorkstations = "state of a workstation"
	OfCards        = "state of a hardware address"
	OfVersions     = "state of a version"
	OfErrands      = "state of an errand"
	OfDeliveries   = "state of a delivery"
	OfRuns         = "state of a run"
	OfMembers      = "phase of a workstation in a delivery"
	Outcomes       = "outcome of a receipt"
	Verdicts       = "verdict of a check"
	OfDevices      = "what becomes of a device"
	OfUnknown      = "what becomes of unknown machines"
	Severities     = "severity of a finding"
	OfNetworkBoot  = "mode of network boot"
	ExitCodes      = "exit code"
)

// Term is a term with its meaning.
type Term struct {
	Name string
	Kind string
	Text string // a sentence or more
}

// Find returns the terms of a name, whatever its letters' case; hyphens count as spaces. A
// name can mean something in several places.
func Find(name string) (found []Term) {
	for _, t := range Terms {
		if plain(t.Name) == plain(name) {
			found = append(found, t)
		}
	}
	return found
}

// Near are names that contain a text, or that a text contains.
func Near(text string) (names []string) {
	for _, t := range Terms {
		a, b := plain(t.Name), plain(text)
		if len(b) > 2 && (strings.Contains(a, b) || strings.Contains(b, a)) && !slices.Contains(names, t.Name) {
			names = append(names, t.Name)
		}
	}
	return names
}

func plain(name string) string {
	return strings.ReplaceAll(strings.ToLower(strings.TrimSpace(name)), "-", " ")
}
