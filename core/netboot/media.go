package netboot

import (
	"fmt"
	"strings"
)

// MediaMenu is what the loader of media shows: the boot environment, and boot entries that lie there, too.
type MediaMenu struct {
	Title string // of the boot environment
	Words string // for its kernel
	// Outpost says that the outpost's program is there, as a layer.
	Outpost bool
	Items   []MediaItem
}

// MediaItem is one way to start a boot entry. Its files are named from the root of the medium.
type MediaItem struct {
	Title     string
	EFI, BIOS bool // by which firmware
	Signed    bool // with Secure Boot, too
	Bits32    bool // for processors of 32 bits, and no others
	Entry     Entry
}

// mediaWait is how long the menu of media is shown, in seconds, before the boot environment starts.
const mediaWait = 10

// Script is the loader's script. Without items there is no menu.
func (m MediaMenu) Script() string {
	layers := "/jugate/initrd /jugate/settings"
	if m.Outpost {
		layers = "/jugate/initrd /jugate/outpost /jugate/settings"
	}
	boot := fmt.Sprintf("linux /jugate/vmlinuz %s\ninitrd %s\nboot\n", m.Words, layers)
	check := `set jugate_efi=n
set jugate_secure=n
if [ "$grub_platform" = "efi" ]; then
	set jugate_efi=y
	if [ "$lockdown" = "y" ]; then set jugate_secure=y; fi
elif cpuid -l; then
	set jugate_bits=64
elif cpuid -p; then
	set jugate_bits=32
fi
`
	boot = with64Bits(boot)
	if len(m.Items) == 0 {
		return "set pager=0\n" + check + "echo " + quote("Jugate: "+m.Title) + "\n" + boot
	}
	var b strings.Builder
	fmt.Fprintf(&b, "set pager=0\n%sset timeout=%d\nset default=0\nmenuentry %s {\n%s}\n", check, mediaWait, quote(m.Title), boot)
	for _, i := range m.Items {
		var only []string
		switch {
		case i.EFI && !i.BIOS:
			only = append(only, `[ "$jugate_efi" = "y" ]`)
		case i.BIOS && !i.EFI:
			only = append(only, `[ "$jugate_efi" = "n" ]`)
			if i.Bits32 {
				only = append(only, `[ "$jugate_bits" = "32" ]`)
			} else {
				only = append(only, `[ "$jugate_bits" != "32" ]`)
			}
		}
		if !i.Signed {
			only = append(only, `[ "$jugate_secure" = "n" ]`)
		}
		item := fmt.Sprintf("menuentry %s {\n%s}\n", quote(i.Title), entry("", i.BIOS, i.Entry))
		for _, condition := range only {
			item = "if " + condition + "; then\n" + item + "fi\n"
		}
		b.WriteString(item)
	}
	return b.String()
}
