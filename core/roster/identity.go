package roster

import (
	"slices"
	"strings"

	"github.com/google/uuid"
)

// Identity is what a machine's firmware says that it is (SMBIOS, type 1). Either part
// may be empty, as many makers leave one out or write the same into every machine.
type Identity struct {
	UUID   string // lower case, with hyphens
	Serial string
}

// hollowSerials are what firmware says that has no serial number to tell.
var hollowSerials = []string{"", "0", "none", "unknown", "default string", "system serial number", "not specified", "not applicable",
	"n/a", "to be filled by o.e.m.", "empty", "invalid", "123456789", "0123456789", "1234567890", "serial number", "chassis serial number"}

// hollowUUIDs are numbers that were found in boards of many owners.
var hollowUUIDs = []string{"03000200-0400-0500-0006-000700080009", "00020003-0004-0005-0006-000700080009", "12345678-1234-5678-90ab-cddeefaabbcc", "12345678-1234-1234-1234-123456789abc", "fefefefe-fefe-fefe-fefe-fefefefefefe"}

// NewIdentity takes what firmware says, and leaves out what says nothing.
func NewIdentity(systemUUID, serial string) Identity {
	var i Identity
	if u, err := uuid.Parse(strings.TrimSpace(systemUUID)); err == nil && !uniform(u[:]) && !slices.Contains(hollowUUIDs, u.String()) {
		i.UUID = u.String()
	}
	serial = strings.TrimSpace(serial)
	if !slices.Contains(hollowSerials, strings.ToLower(serial)) && !uniform([]byte(serial)) {
		i.Serial = serial
	}
	return i
}

// uniform tells of bytes that are all the same, as in ffffffff-ffff-….
func uniform(b []byte) bool {
	return !slices.ContainsFunc(b, func(c byte) bool { return c != b[0] })
}

// Certain tells whether both parts are there: enough to know a machine by.
func (i Identity) Certain() bool { return i.UUID != "" && i.Serial != "" }

// Is tells whether both are certain and the same.
func (i Identity) Is(o Identity) bool { return i.Certain() && i == o }

// Differs tells whether the two cannot be of one machine: a part that both have is
// another one.
func (i Identity) Differs(o Identity) bool {
	return i.UUID != "" && o.UUID != "" && i.UUID != o.UUID || i.Serial != "" && o.Serial != "" && i.Serial != o.Serial
}

// String is for messages.
func (i Identity) String() string {
	var parts []string
	if i.Serial != "" {
		parts = append(parts, "serial number "+i.Serial)
	}
	if i.UUID != "" {
		parts = append(parts, "UUID "+i.UUID)
	}
	if parts == nil {
		return "neither serial number nor UUID"
	}
	return strings.Join(parts, ", ")
}
