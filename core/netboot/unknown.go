package netboot

import "fmt"

// Unknown is what becomes of machines that nobody has admitted.
type Unknown string

// What may become of them.
const (
	Ignore  Unknown = "ignore"  // they get no answer
	Hold    Unknown = "hold"    // they boot, and wait on screen to be admitted
	Welcome Unknown = "welcome" // they show a menu, of which more is to be had by signing in
)

// ParseUnknown reads ignore, hold or welcome.
func ParseUnknown(text string) (Unknown, error) {
	switch u := Unknown(text); u {
	case Ignore, Hold, Welcome:
		return u, nil
	}
	return "", fmt.Errorf("%q is not one of ignore, hold, welcome", text)
}
