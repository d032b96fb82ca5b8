package wire

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

var rateText = regexp.MustCompile(`^(?i)(\d+(?:\.\d+)?) ?([kmg]?)(?:bit(?:/s)?)?$`)

// ParseRate reads bits a second, such as "200Mbit", "1G" or "64000"; nothing is 0.
func ParseRate(s string) (int64, error) {
	if s == "" {
		return 0, nil
	}
	m := rateText.FindStringSubmatch(strings.TrimSpace(s))
	if m == nil {
		return 0, fmt.Errorf("%q is not a rate (such as 200Mbit)", s)
	}
	n, err := strconv.ParseFloat(m[1], 64)
	n *= map[string]float64{"": 1, "k": 1e3, "m": 1e6, "g": 1e9}[strings.ToLower(m[2])]
	if err != nil || n < 64e3 || n > 1e12 {
		return 0, fmt.Errorf("%q is not a rate for a stream (64kbit is the least)", s)
	}
	return int64(n), nil
}

// FormatRate writes a rate as ParseRate reads it, in the largest unit that is exact; "" for none.
func FormatRate(bits int64) string {
	switch {
	case bits == 0:
		return ""
	case bits%1e9 == 0:
		return fmt.Sprintf("%dGbit", bits/1e9)
	case bits%1e6 == 0:
		return fmt.Sprintf("%dMbit", bits/1e6)
	case bits%1e3 == 0:
		return fmt.Sprintf("%dkbit", bits/1e3)
	}
	return fmt.Sprintf("%dbit", bits)
}
