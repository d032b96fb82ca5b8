package netboot

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"jugate/core/hwaddr"
)

// Loader is what asks for a boot script.
type Loader struct {
	EFI    bool   `json:"efi"`
	HTTP   bool   `json:"http"`   // it can load by HTTP; else by TFTP alone
	Server string `json:"server"` // HOST:PORT of the service's HTTP, as seen by the machine
	Model  string `json:"model"`  // as the firmware tells it, with underscores for spaces
}

// Root is how a loader names the folder of boot files.
func (l Loader) Root() string {
	if l.HTTP {
		return "(http," + l.Server + ")" + FilesPath
	}
	return "(tftp)/"
}

// Do is what a machine boots.
type Do string

// What a machine can boot.
const (
	Environment Do = "environment"
	Disk        Do = "disk"
	BootEntry   Do = "boot entry"
)

// Choice is what one machine is to boot now.
type Choice struct {
	Do      Do             `json:"do"`
	Name    string         `json:"name"` // of the workstation, or its address
	Address hwaddr.Address `json:"hardware_address"`
	Why     string         `json:"why"`
	Menu    time.Duration  `json:"menu"`    // how long a menu is shown first; 0 shows none
	Items   []MenuItem     `json:"items"`   // of the menu, between this disk and signing in
	SignIn  bool           `json:"sign_in"` // the menu offers to sign in for more
	Build   int            `json:"build"`
	Words   string         `json:"words"`   // for the kernel
	Service string         `json:"service"` // URL that the agent calls
	Ticket  string         `json:"ticket"`
	Initrd  string         `json:"initrd"` // name of the layers, if it is not the build's own
	Entry   *Entry         `json:"entry"`  // of BootEntry
}

// Entry is a boot entry, as one machine starts it. Files are named as loaders ask for them.
type Entry struct {
	Name    string   `json:"name"`    // NAME@VERSION
	Kernel  string   `json:"kernel"`  // a Linux kernel, or what starts like one
	Initrds []string `json:"initrds"` // its initial root file systems
	Words   string   `json:"words"`   // for the kernel or program: words without quotes, one space between them
	Program string   `json:"program"` // of UEFI; Kernel is empty then
	Bits64  bool     `json:"bits64"`  // a BIOS machine with an older processor cannot start it
}

// MenuItem is an item of the menu: a boot entry, or what the agent is told.
type MenuItem struct {
	Title string `json:"title"`
	Wish  string `json:"wish"`
	Entry *Entry `json:"entry"`
}

// Bootstrap is the loader's first script, the same for every machine: it asks for
// the one that is made for this machine. The loader has the hardware address of the
// card that it came by, and knows whether Secure Boot keeps it from loading its own
// module for HTTP.
func Bootstrap(server string) string {
	return fmt.Sprintf(`set pager=0
set jugate_http=n
set jugate_model=
if smbios --type 1 --get-string 5 --set jugate_model; then
	while regexp --set 1:jugate_a --set 2:jugate_b '^(.*) (.*)$' "$jugate_model"; do
		set jugate_model="${jugate_a}_${jugate_b}"
	done
	if regexp '^[A-Za-z0-9._+()-]+$' "$jugate_model"; then
		set jugate_model="/$jugate_model"
	else
		set jugate_model=
	fi
fi
if [ "$grub_platform" = "efi" ]; then
	if [ "$lockdown" != "y" ]; then
		if insmod http; then set jugate_http=y; fi
	fi
else
	set jugate_http=y
	if cpuid -l; then
		set jugate_bits=64
	elif cpuid -p; then
		set jugate_bits=32
	fi
fi
set jugate_script=script/$grub_platform/$jugate_http/$net_default_mac$jugate_model
if [ "$jugate_http" = "y" ]; then
	source (http,%[1]s)/boot/$jugate_script
else
	source (tftp)/$jugate_script
fi
if [ "$jugate_menu" != "y" ]; then
	echo "The boot script of $net_default_mac could not be loaded from the service."
	echo "This machine restarts in a minute."
	sleep 60
	reboot
fi
`, server)
}

// ScriptRequest reads the name that Bootstrap asks for, below the root:
// script/PLATFORM/HTTP/ADDRESS, and behind it the model that the firmware tells, with
// underscores for spaces.
func ScriptRequest(name string) (Loader, hwaddr.Address, bool) {
	parts := strings.Split(name, "/")
	if len(parts) != 4 && len(parts) != 5 || parts[0] != "script" {
		return Loader{}, hwaddr.Address{}, false
	}
	l := Loader{EFI: parts[1] == "efi", HTTP: parts[2] == "y"}
	if len(parts) == 5 && len(parts[4]) <= maxModel {
		l.Model = parts[4]
	}
	a, err := hwaddr.Parse(parts[3])
	return l, a, err == nil
}

// maxModel bounds what the firmware tells of a model, in bytes.
const maxModel = 64

// Script makes the script for one machine, in the loader's language.
func Script(l Loader, c Choice) string {
	var b strings.Builder
	fmt.Fprintf(&b, "echo %s\n", quote(fmt.Sprintf("Jugate: %s (%s)", c.Name, c.Why)))
	if c.Menu <= 0 {
		switch c.Do {
		case Environment:
			b.WriteString(environment(l, c, ""))
		case BootEntry:
			b.WriteString(entry(l.Root(), !l.EFI, *c.Entry))
		default:
			b.WriteString(disk(l))
		}
		return b.String()
	}
	// The menu comes up when all scripts have ended, the first one too.
	fmt.Fprintf(&b, "set jugate_menu=y\nset timeout=%d\nset default=0\n", int(c.Menu/time.Second))
	item := func(title, script string) {
		fmt.Fprintf(&b, "menuentry %s {\n%s}\n", quote(title), script)
	}
	switch c.Do {
	case Environment:
		item("Boot environment: "+c.Why, environment(l, c, ""))
	case BootEntry:
		item(c.Why, entry(l.Root(), !l.EFI, *c.Entry))
	}
	item("This disk", disk(l))
	for _, o := range c.Items {
		if o.Entry != nil {
			item(o.Title, entry(l.Root(), !l.EFI, *o.Entry))
		} else {
			item(o.Title, environment(l, c, o.Wish))
		}
	}
	if c.SignIn {
		item("Sign in for more", environment(l, c, WishSignIn))
	}
	return b.String()
}

// entry starts a boot entry, whose files are below root.
func entry(root string, bios bool, e Entry) string {
	var b strings.Builder
	switch {
	case e.Program != "":
		fmt.Fprintf(&b, "if chainloader %s%s%s; then\n\tboot\nfi\n", root, e.Program, wordsOf(e.Words))
	case len(e.Initrds) == 0:
		fmt.Fprintf(&b, "if linux %s%s%s; then\n\tboot\nfi\n", root, e.Kernel, wordsOf(e.Words))
	default:
		fmt.Fprintf(&b, "if linux %s%s%s; then\n\tif initrd", root, e.Kernel, wordsOf(e.Words))
		for _, i := range e.Initrds {
			fmt.Fprintf(&b, " %s%s", root, i)
		}
		b.WriteString("; then\n\t\tboot\n\tfi\nfi\n")
	}
	fmt.Fprintf(&b, "echo %s\nsleep 30\nreboot\n", quote("The boot entry "+e.Name+" could not be loaded; it may have been removed meanwhile. This machine restarts in half a minute."))
	if bios && e.Bits64 {
		return with64Bits(b.String())
	}
	return b.String()
}

// with64Bits is a script for processors of 64 bits. A loader of an older build does not tell.
func with64Bits(script string) string {
	return `if [ "$jugate_bits" = "32" ]; then
	echo "The processor of this machine has 32 bits. What it should start needs 64."
	sleep 60
	exit
fi
` + script
}

// wordsOf are words for a kernel, each of which is one word of the loader's language, too.
func wordsOf(words string) string {
	var b strings.Builder
	for _, w := range strings.Fields(words) {
		b.WriteString(" " + quote(w))
	}
	return b.String()
}

// WishSignIn asks for a person to sign in at the workstation.
const WishSignIn = "sign-in"

// environment loads kernel and layers. What fails is tried again after a while: the
// service may be about to start.
func environment(l Loader, c Choice, wish string) string {
	words := []string{c.Words, "jugate.service=" + c.Service, "jugate.card=" + c.Address.String()}
	if c.Ticket != "" {
		words = append(words, "jugate.ticket="+c.Ticket)
	}
	if wish != "" {
		words = append(words, "jugate.wish="+wish)
	}
	root := fmt.Sprintf("%s%d/", l.Root(), c.Build)
	script := fmt.Sprintf(`if linux %[1]svmlinuz %[2]s; then
	if initrd %[1]s%[4]s; then
		boot
	fi
fi
echo "Build %[3]d could not be loaded; see the steps of this workstation at the service."
echo "This machine restarts in half a minute."
sleep 30
reboot
`, root, strings.Join(words, " "), c.Build, cmp.Or(c.Initrd, "initrd"))
	if !l.EFI {
		return with64Bits(script)
	}
	return script
}

// disk starts the machine's own disk. Handing back to the firmware is not enough
// everywhere: some then show their setup. So the loaders of the disk are looked for
// first, the system's own before the fallback of the UEFI specification, 3.5.1.1.
func disk(l Loader) string {
	if !l.EFI {
		return `set root=(hd0)
if chainloader +1; then
	boot
fi
exit
`
	}
	var b strings.Builder
	for _, file := range []string{"/EFI/Microsoft/Boot/bootmgfw.efi", "/EFI/debian/shimx64.efi", "/EFI/BOOT/BOOTX64.EFI"} {
		// The loader tells what it starts to look around on its root.
		fmt.Fprintf(&b, `if search --no-floppy --set=root --file %[1]s; then
	if chainloader %[1]s; then
		boot
	fi
fi
`, file)
	}
	b.WriteString("exit\n")
	return b.String()
}

// quote makes a text one word of the loader's language.
func quote(s string) string {
	return "'" + strings.Map(func(r rune) rune {
		if r == '\'' || r < ' ' {
			return ' '
		}
		return r
	}, s) + "'"
}
