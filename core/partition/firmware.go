package partition

// Firmware is what starts a machine.
type Firmware string

// The kinds of firmware.
const (
	UEFI Firmware = "UEFI"
	BIOS Firmware = "BIOS"
)

const (
	efiCode        = 0xef   // type of an EFI system partition in an MBR (UEFI 2.10, section 5.2.2)
	legacyBootable = 1 << 2 // attribute of a GPT partition that BIOS boot code starts (section 5.3.3)
)

// StartsBy tells which firmware can start the system on a disk of this table, as far as
// the table shows; nothing if it shows none.
func (t *Table) StartsBy() (all []Firmware) {
	uefi, bios := false, t.Scheme == MBR && len(t.BootCode) > 0
	for _, p := range t.Partitions {
		switch t.Scheme {
		case GPT:
			uefi = uefi || p.Type == EFISystem
			bios = bios || p.Type == BIOSBoot || p.Attributes&legacyBootable != 0
		case MBR:
			uefi = uefi || p.Code == efiCode
			bios = bios || p.Active
		}
	}
	if uefi {
		all = append(all, UEFI)
	}
	if bios {
		all = append(all, BIOS)
	}
	return all
}
