package agent

import (
	"encoding/binary"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"unicode/utf16"

	"golang.org/x/sys/unix"
)

// efiVariables is where the kernel has the firmware's variables: a file each, whose
// first four bytes are the attributes.
const (
	efiFolder    = "/sys/firmware/efi"
	efiVariables = efiFolder + "/efivars"
	// efiGlobal is the vendor of the variables that the UEFI specification, 3.3,
	// defines.
	efiGlobal = "-8be4df61-93ca-11d2-aa0d-00e098032b8c"
)

// Attributes of a variable: it is kept, and the running system may read it.
const efiKept = 1 | 2 | 4

// firmware tells how the machine was started.
func firmware() (kind string, secureBoot bool) {
	if _, err := os.Stat(efiFolder); err != nil {
		return "BIOS", false
	}
	b, err := os.ReadFile(filepath.Join(efiVariables, "SecureBoot"+efiGlobal))
	return "UEFI", err == nil && len(b) == 5 && b[4] == 1
}

// errNoEntry says that the firmware has no entry for a disk, or for the network. Most firmware then makes one
// by itself.
var errNoEntry = errors.New("the firmware has no boot entry for that")

// nextBootFromDisk sets BootNext to the first entry, in the firmware's order, that
// stands for a disk (UEFI specification, 3.1). On BIOS there is nothing to set.
func nextBootFromDisk() error { return nextBoot(startsDisk) }

// nextBoot sets BootNext to the first entry that is as wanted.
func nextBoot(wanted func(option []byte) bool) error {
	if kind, _ := firmware(); kind != "UEFI" {
		return nil
	}
	order, err := os.ReadFile(filepath.Join(efiVariables, "BootOrder"+efiGlobal))
	if err != nil {
		return err
	}
	for b := order[min(4, len(order)):]; len(b) >= 2; b = b[2:] {
		number := binary.LittleEndian.Uint16(b)
		entry, err := os.ReadFile(filepath.Join(efiVariables, "Boot"+hex4(number)+efiGlobal))
		if err == nil && len(entry) > 4 && wanted(entry[4:]) {
			return writeVariable("BootNext", binary.LittleEndian.AppendUint16(nil, number))
		}
	}
	return errNoEntry
}

func hex4(n uint16) string {
	const digits = "0123456789ABCDEF"
	return string([]byte{digits[n>>12], digits[n>>8&15], digits[n>>4&15], digits[n&15]})
}

// writeVariable writes a variable, which the kernel may protect from being written by
// mistake.
func writeVariable(name string, value []byte) error {
	path := filepath.Join(efiVariables, name+efiGlobal)
	if f, err := os.Open(path); err == nil {
		unix.IoctlSetPointerInt(int(f.Fd()), unix.FS_IOC_SETFLAGS, 0)
		f.Close()
	}
	return os.WriteFile(path, append(binary.LittleEndian.AppendUint32(nil, efiKept), value...), 0o644)
}

// Parts of a load option (UEFI specification, 3.1.3) and of device paths (10.3).
const (
	optionActive    = 1
	pathHardware    = 1
	hardwarePCI     = 1
	pathMedia       = 4
	pathHardDrive   = 1
	pathMessaging   = 3
	pathEnd         = 0x7f
	messagingMAC    = 11
	messagingURI    = 24
	messagingUSB    = 5
	pathHeader      = 4
	optionFixedPart = 6
)

// startsDisk tells whether a load option stands for a fixed disk: a partition of one,
// or the disk as such, but neither a network card nor USB.
func startsDisk(b []byte) bool {
	if len(b) < optionFixedPart || binary.LittleEndian.Uint32(b)&optionActive == 0 {
		return false
	}
	disk := false
	ended := walk(b, func(kind, sub byte) bool {
		switch {
		case kind == pathMessaging && (sub == messagingMAC || sub == messagingURI || sub == messagingUSB):
			return false
		case kind == pathMedia && sub == pathHardDrive:
			disk = true
		case kind == pathMessaging: // SATA, NVMe and the like
			disk = true
		case kind == pathHardware && sub == hardwarePCI: // all that there is of a virtual disk
			disk = true
		}
		return true
	})
	return ended && disk
}

// walk goes through the device path of a load option; false from f ends that. It tells whether
// it has come to the path's end.
func walk(b []byte, f func(kind, sub byte) bool) bool {
	if len(b) < optionFixedPart {
		return false
	}
	length := int(binary.LittleEndian.Uint16(b[4:]))
	rest := b[optionFixedPart:]
	end := 0
	for end+2 <= len(rest) && (rest[end] != 0 || rest[end+1] != 0) {
		end += 2
	}
	if end+2 > len(rest) || strings.Contains(description(rest[:end]), "UiApp") {
		return false
	}
	rest = rest[end+2:]
	if length > len(rest) {
		return false
	}
	for p := rest[:length]; len(p) >= pathHeader; {
		kind, sub, size := p[0], p[1], int(binary.LittleEndian.Uint16(p[2:]))
		switch {
		case size < pathHeader || size > len(p):
			return false
		case kind == pathEnd:
			return true
		case !f(kind, sub):
			return false
		}
		p = p[size:]
	}
	return false
}

func description(b []byte) string {
	var units []uint16
	for ; len(b) >= 2; b = b[2:] {
		units = append(units, binary.LittleEndian.Uint16(b))
	}
	return string(utf16.Decode(units))
}
