// Package hwaddr reads and writes the hardware address of a network card, the
// 48-bit EUI by which Jugate knows a workstation.
//
// Engineers paste addresses from labels, switch tables, firmware screens and
// spreadsheets, each with its own spelling. Parse takes them all; String gives
// the one form that is stored, compared and shown:
//
//	a, err := hwaddr.Parse("0000.5E00.5301")
//	a.String() // "00:00:5e:00:53:01"
//
// It knows nothing of interfaces or vendors.
package hwaddr

import (
	"fmt"
	"strings"

	"jugate/core/fault"
)

// Address is a 48-bit hardware address in transmission order. The zero value
// is not a workstation's address; see IsZero.
type Address [6]byte

// ErrSyntax says that a text does not spell a 48-bit hardware address.
var ErrSyntax = fault.Invalid.Errorf("not a hardware address (12 hexadecimal digits, such as 00:00:5e:00:53:01)")

// ErrNotStation says that the text is an address, but one that no single
// network card can have: all zeros, or with the group bit of IEEE 802 set.
var ErrNotStation = fault.Invalid.Errorf("not the address of one network card")

// Parse reads one address in any usual spelling: pairs of digits apart by
// colons, hyphens or blanks (a leading zero may be missing), groups of four
// apart by dots, colons or hyphens, two halves of six, or twelve bare digits; in either case.
// Errors wrap ErrSyntax or ErrNotStation and repeat the text.
func Parse(s string) (Address, error) {
	var a Address
	digits, ok := twelveDigits(strings.TrimSpace(s))
	if !ok {
		return a, fmt.Errorf("%q: %w", clip(s), ErrSyntax)
	}
	for i := range a {
		hi, ok1 := nibble(digits[2*i])
		lo, ok2 := nibble(digits[2*i+1])
		if !ok1 || !ok2 {
			return Address{}, fmt.Errorf("%q: %w", clip(s), ErrSyntax)
		}
		a[i] = hi<<4 | lo
	}
	if a.IsZero() || a[0]&1 != 0 {
		return Address{}, fmt.Errorf("%q: %w", clip(s), ErrNotStation)
	}
	return a, nil
}

// MustParse is Parse for addresses written in code; it panics on an error.
func MustParse(s string) Address {
	a, err := Parse(s)
	if err != nil {
		panic(err)
	}
	return a
}

// twelveDigits takes the separators out of s and puts missing leading zeros in.
func twelveDigits(s string) (string, bool) {
	sep := strings.IndexAny(s, ":-. ")
	if sep < 0 {
		return s, len(s) == 12
	}
	parts := strings.Split(s, s[sep:sep+1])
	width := 12 / len(parts)
	switch len(parts) {
	case 6:
		for i, p := range parts {
			if len(p) == 1 {
				parts[i] = "0" + p
			}
		}
	case 3, 2:
	default:
		return "", false
	}
	for _, p := range parts {
		if len(p) != width {
			return "", false
		}
	}
	return strings.Join(parts, ""), true
}

func nibble(c byte) (byte, bool) {
	switch {
	case c >= '0' && c <= '9':
		return c - '0', true
	case c >= 'a' && c <= 'f':
		return c - 'a' + 10, true
	case c >= 'A' && c <= 'F':
		return c - 'A' + 10, true
	}
	return 0, false
}

// clip keeps a hostile text from filling an error message.
func clip(s string) string {
	if len(s) > 40 {
		return s[:40] + "…"
	}
	return s
}

// String gives the canonical form: lower-case pairs apart by colons.
func (a Address) String() string {
	return fmt.Sprintf("%02x:%02x:%02x:%02x:%02x:%02x", a[0], a[1], a[2], a[3], a[4], a[5])
}

// IsZero reports whether a is the zero value.
func (a Address) IsZero() bool { return a == Address{} }

// MarshalText gives the canonical form, or nothing for the zero value.
func (a Address) MarshalText() ([]byte, error) {
	if a.IsZero() {
		return nil, nil
	}
	return []byte(a.String()), nil
}

// UnmarshalText takes every spelling that Parse takes, and nothing for the zero value.
func (a *Address) UnmarshalText(text []byte) error {
	if len(text) == 0 {
		*a = Address{}
		return nil
	}
	parsed, err := Parse(string(text))
	if err != nil {
		return err
	}
	*a = parsed
	return nil
}
