package answers

import (
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/beevik/etree"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"jugate/core/fault"
)

// AnswerFiles are the places where the first start of a generalised Windows looks for
// its answer file, in the order in which it looks. The first that is there is used; of
// none, the last is made.
var AnswerFiles = []string{"Windows/Panther/Unattend/unattend.xml", "Windows/System32/Sysprep/unattend.xml", "Windows/Panther/unattend.xml"}

// registerCommand has the system take the packages below driver.WindowsFolder.
const registerCommand = `cmd.exe /c pnputil.exe /add-driver %SystemDrive%\Jugate\Drivers\*.inf /subdirs /install`

const (
	// xmlDeclaration says what is written here, whatever was read.
	xmlDeclaration = `version="1.0" encoding="utf-8"`
	maxAnswerFile  = 4 << 20 // bytes
	wcm            = "http://schemas.microsoft.com/WMIConfig/2002/State"
)

// Passes of Windows' setup, and the components that answers go to.
const (
	specialize = "specialize"
	oobeSystem = "oobeSystem"

	deployment     = "Microsoft-Windows-Deployment"
	shellSetup     = "Microsoft-Windows-Shell-Setup"
	international  = "Microsoft-Windows-International-Core"
	unattendedJoin = "Microsoft-Windows-UnattendedJoin"
)

// architectureNames are those of answer files.
var architectureNames = map[string]string{"amd64": "amd64", "386": "x86", "arm64": "arm64"}

// answerFile is the answer file of a Windows, for one architecture. What it says already
// stays, unless it is set.
type answerFile struct {
	doc     *etree.Document
	machine string // processorArchitecture
}

// readAnswerFile reads an answer file in any of the encodings that editors write; empty makes
// a new one.
func readAnswerFile(existing []byte, arch string) (*answerFile, error) {
	machine, known := architectureNames[arch]
	if !known {
		return nil, fmt.Errorf("answer files for %q are not known here", arch)
	}
	if len(existing) > maxAnswerFile {
		return nil, fmt.Errorf("it is larger than %d bytes", maxAnswerFile)
	}
	doc := etree.NewDocument()
	if len(existing) > 0 {
		legacy := charmap.Windows1252.NewDecoder()
		if utf8.Valid(existing) {
			legacy = unicode.UTF8.NewDecoder()
		}
		text, _, err := transform.Bytes(unicode.BOMOverride(legacy), existing)
		if err == nil {
			doc.ReadSettings.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil } // it is UTF-8 by now
			err = doc.ReadFromBytes(text)
		}
		if err != nil {
			return nil, fmt.Errorf("it is not well-formed XML: %w", err)
		}
		for _, t := range doc.Child {
			if declaration, is := t.(*etree.ProcInst); is && declaration.Target == "xml" {
				declaration.Inst = xmlDeclaration
			}
		}
	} else {
		doc.CreateProcInst("xml", xmlDeclaration)
		doc.CreateElement("unattend").CreateAttr("xmlns", "urn:schemas-microsoft-com:unattend")
	}
	if root := doc.Root(); root == nil || root.Tag != "unattend" {
		return nil, errors.New("it has no element unattend")
	}
	return &answerFile{doc, machine}, nil
}

func (f *answerFile) bytes() ([]byte, error) {
	f.doc.Indent(2)
	return f.doc.WriteToBytes()
}

// component finds the settings of a component in a pass, or makes them.
func (f *answerFile) component(pass, name string) *etree.Element {
	settings := childOf(f.doc.Root(), "settings", func(e *etree.Element) bool { return e.SelectAttrValue("pass", "") == pass }, func(e *etree.Element) { e.CreateAttr("pass", pass) })
	return childOf(settings, "component", func(e *etree.Element) bool {
		return e.SelectAttrValue("name", "") == name && e.SelectAttrValue("processorArchitecture", "") == f.machine
	}, func(e *etree.Element) {
		for _, a := range [][2]string{{"name", name}, {"processorArchitecture", f.machine}, {"publicKeyToken", "31bf3856ad364e35"}, {"language", "neutral"}, {"versionScope", "nonSxS"}} {
			e.CreateAttr(a[0], a[1])
		}
	})
}

// childOf finds an element, or makes it.
func childOf(in *etree.Element, tag string, is func(*etree.Element) bool, make func(*etree.Element)) *etree.Element {
	for _, e := range in.SelectElements(tag) {
		if is(e) {
			return e
		}
	}
	e := in.CreateElement(tag)
	make(e)
	return e
}

func only(*etree.Element) bool { return true }
func plain(*etree.Element)     {}

// set sets an element below a component, by its path: "OOBE/ProtectYourPC".
func (f *answerFile) set(pass, component, path, value string) {
	e := f.component(pass, component)
	for part := range strings.SplitSeq(path, "/") {
		e = childOf(e, part, only, plain)
	}
	e.SetText(value)
}

// suggest sets an element that is not there.
func (f *answerFile) suggest(pass, component, path, value string) {
	if f.component(pass, component).FindElement(path) == nil {
		f.set(pass, component, path, value)
	}
}

// add adds an item to a list, as setup wants it.
func add(list *etree.Element, tag string) *etree.Element {
	e := list.CreateElement(tag)
	e.CreateAttr("xmlns:wcm", wcm)
	e.CreateAttr("wcm:action", "add")
	return e
}

// RegisterInAnswerFile adds to an answer file the command that registers driver packages
// at the first start, in the pass "specialize", when the devices are looked for. What
// the file says otherwise stays; nil makes a new one. A command that is there already is
// not added again.
func RegisterInAnswerFile(existing []byte, arch string) ([]byte, error) {
	f, err := readAnswerFile(existing, arch)
	if err != nil {
		return nil, err
	}
	commands := childOf(f.component(specialize, deployment), "RunSynchronous", only, plain)
	last := 0
	for _, c := range commands.SelectElements("RunSynchronousCommand") {
		if p := c.SelectElement("Path"); p != nil && p.Text() == registerCommand {
			return existing, nil
		}
		if o := c.SelectElement("Order"); o != nil {
			if n, err := strconv.Atoi(o.Text()); err == nil {
				last = max(last, n)
			}
		}
	}
	command := add(commands, "RunSynchronousCommand")
	command.CreateElement("Order").SetText(strconv.Itoa(last + 1))
	command.CreateElement("Description").SetText("Jugate: take the drivers of this workstation")
	command.CreateElement("Path").SetText(registerCommand)
	return f.bytes()
}

// maxNetBIOS is the longest name of a computer that Windows takes (NetBIOS).
const maxNetBIOS = 15

// answer sets what settings say; firstCard is the hardware address of the first network card. remarks are what Windows cannot be told.
func (f *answerFile) answer(s *Settings, firstCard string) (remarks []string, err error) {
	if s.ComputerName != "" {
		if len(s.ComputerName) > maxNetBIOS {
			return nil, fault.Invalid.Errorf("%s is longer than the %d characters that Windows takes for the name of a computer; set computer_name", s.ComputerName, maxNetBIOS)
		}
		f.set(specialize, shellSetup, "ComputerName", s.ComputerName)
	}
	if s.TimeZone != "" {
		zone, known := windowsZones[s.TimeZone]
		if !known {
			return nil, fault.Invalid.Errorf("Windows has no name for the time zone %s", s.TimeZone)
		}
		f.set(specialize, shellSetup, "TimeZone", zone)
		f.set(oobeSystem, shellSetup, "TimeZone", zone)
	}
	if s.Owner != "" {
		f.set(specialize, shellSetup, "RegisteredOwner", s.Owner)
	}
	if s.Organisation != "" {
		f.set(specialize, shellSetup, "RegisteredOrganization", s.Organisation)
	}
	if s.ProductKey != "" {
		f.set(specialize, shellSetup, "ProductKey", s.ProductKey)
	}
	if s.Locale != "" {
		m := localeForm.FindStringSubmatch(s.Locale)
		tag := strings.ReplaceAll(m[1]+m[2], "_", "-")
		f.set(oobeSystem, international, "SystemLocale", tag)
		f.set(oobeSystem, international, "UserLocale", tag)
		f.suggest(oobeSystem, international, "UILanguage", tag)
	}
	if s.Keyboard != "" {
		if layout := windowsKeyboards[s.Keyboard]; layout != "" {
			f.set(oobeSystem, international, "InputLocale", layout[4:]+":"+layout)
		} else {
			remarks = append(remarks, "Windows has no layout for the keyboard "+s.Keyboard+" that is known here")
		}
	}
	f.skipPages(s.SkipPages)
	if s.NetProfile != "" {
		f.set(oobeSystem, shellSetup, "OOBE/NetworkLocation", networkLocations[s.NetProfile])
	}
	if s.RemoteAccess != nil {
		f.remoteAccess(*s.RemoteAccess)
	}
	remarks = append(remarks, f.network(s.Network, firstCard)...)
	if s.Accounts == nil && f.component(oobeSystem, shellSetup).FindElement("UserAccounts") == nil {
		remarks = append(remarks, "no account is set, so the first start asks for one")
	}
	for _, a := range s.Accounts {
		if a.Password == "" {
			remarks = append(remarks, fmt.Sprintf("Windows cannot take the password_hash of %s; set its password", a.Name))
			continue
		}
		f.account(a)
	}
	for key, has := range map[string]bool{"root_ssh_keys": s.RootSSHKeys != nil, "packages": s.Packages != nil} {
		if has {
			remarks = append(remarks, key+" is for Linux systems")
		}
	}
	slices.Sort(remarks)
	return remarks, nil
}

// account makes a local account, in place of one of that name.
func (f *answerFile) account(a Account) {
	list := childOf(childOf(f.component(oobeSystem, shellSetup), "UserAccounts", only, plain), "LocalAccounts", only, plain)
	for _, e := range list.SelectElements("LocalAccount") {
		if n := e.SelectElement("Name"); n != nil && strings.EqualFold(n.Text(), a.Name) {
			list.RemoveChild(e)
		}
	}
	e := add(list, "LocalAccount")
	password := e.CreateElement("Password")
	// Hidden as setup hides it: UTF-16 of the password and this word, in base64.
	wide, _ := unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM).NewEncoder().Bytes([]byte(a.Password + "Password"))
	password.CreateElement("Value").SetText(base64.StdEncoding.EncodeToString(wide))
	password.CreateElement("PlainText").SetText("false")
	if a.FullName != "" {
		e.CreateElement("DisplayName").SetText(a.FullName)
	}
	group := "Users"
	if a.Administrator {
		group = "Administrators"
	}
	e.CreateElement("Group").SetText(group)
	e.CreateElement("Name").SetText(a.Name)
}

// join has the computer join its domain by a blob, in place of any other way that the file has,
// which would need somebody's password.
func (f *answerFile) join(blob string) {
	c := f.component(specialize, unattendedJoin)
	for _, e := range c.SelectElements("Identification") {
		c.RemoveChild(e)
	}
	f.set(specialize, unattendedJoin, "OfflineIdentification/Provisioning/AccountData", blob)
}

// windowsKeyboards are the layouts of Windows for those of XKB.
var windowsKeyboards = map[string]string{
	"us": "00000409", "us(intl)": "00020409", "gb": "00000809", "ie": "00001809", "de": "00000407", "at": "00000407", "ch": "00000807", "ch(fr)": "0000100c", "fr": "0000040c", "be": "0000080c", "ca": "00001009",
	"nl": "00000413", "lu": "0000046e", "it": "00000410", "es": "0000040a", "latam": "0000080a", "pt": "00000816", "br": "00000416", "dk": "00000406", "no": "00000414", "se": "0000041d", "fi": "0000040b",
	"is": "0000040f", "pl": "00000415", "cz": "00000405", "sk": "0000041b", "hu": "0000040e", "ro": "00000418", "bg": "00000402", "hr": "0000041a", "si": "00000424", "rs": "00000c1a", "gr": "00000408",
	"tr": "0000041f", "ru": "00000419", "ua": "00000422", "ee": "00000425", "lv": "00000426", "lt": "00000427", "il": "0000040d", "jp": "00000411", "kr": "00000412",
}
