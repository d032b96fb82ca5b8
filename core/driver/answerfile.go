package driver

import (
	"fmt"
	"io"
	"strconv"

	"github.com/beevik/etree"
)

// AnswerFiles are the places where the first start of a generalised Windows looks for
// its answer file, in the order in which it looks. The first that is there is used; of
// none, the last is made.
var AnswerFiles = []string{"Windows/Panther/Unattend/unattend.xml", "Windows/System32/Sysprep/unattend.xml", "Windows/Panther/unattend.xml"}

// registerCommand has the system take the packages below WindowsFolder.
const registerCommand = `cmd.exe /c pnputil.exe /add-driver %SystemDrive%\Jugate\Drivers\*.inf /subdirs /install`

// xmlDeclaration says what is written here, whatever was read.
const xmlDeclaration = `version="1.0" encoding="utf-8"`

const maxAnswerFile = 4 << 20 // bytes

// architectureNames are those of answer files.
var architectureNames = map[string]string{"amd64": "amd64", "386": "x86", "arm64": "arm64"}

// RegisterInAnswerFile adds to an answer file the command that registers the packages
// at the first start, in the pass "specialize", when the devices are looked for. What
// the file says otherwise stays; nil makes a new one. A command that is there already is
// not added again.
func RegisterInAnswerFile(existing []byte, arch string) ([]byte, error) {
	machine, known := architectureNames[arch]
	if !known {
		return nil, fmt.Errorf("answer files for %q are not known here", arch)
	}
	if len(existing) > maxAnswerFile {
		return nil, fmt.Errorf("the answer file is larger than %d bytes", maxAnswerFile)
	}
	doc := etree.NewDocument()
	if len(existing) > 0 {
		text, err := decodeText(existing)
		if err != nil {
			return nil, fmt.Errorf("the answer file that is there cannot be read: %w", err)
		}
		doc.ReadSettings.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil } // it is UTF-8 by now
		if err := doc.ReadFromString(text); err != nil {
			return nil, fmt.Errorf("the answer file that is there cannot be read: %w", err)
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
	root := doc.Root()
	if root == nil || root.Tag != "unattend" {
		return nil, fmt.Errorf("the answer file that is there has no element unattend")
	}
	settings := child(root, "settings", "pass", "specialize")
	component := childOf(settings, "component", func(e *etree.Element) bool {
		return e.SelectAttrValue("name", "") == "Microsoft-Windows-Deployment" && e.SelectAttrValue("processorArchitecture", "") == machine
	}, func(e *etree.Element) {
		for _, a := range [][2]string{{"name", "Microsoft-Windows-Deployment"}, {"processorArchitecture", machine}, {"publicKeyToken", "31bf3856ad364e35"}, {"language", "neutral"}, {"versionScope", "nonSxS"}} {
			e.CreateAttr(a[0], a[1])
		}
	})
	commands := childOf(component, "RunSynchronous", func(*etree.Element) bool { return true }, func(*etree.Element) {})
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
	command := commands.CreateElement("RunSynchronousCommand")
	command.CreateAttr("xmlns:wcm", "http://schemas.microsoft.com/WMIConfig/2002/State")
	command.CreateAttr("wcm:action", "add")
	command.CreateElement("Order").SetText(strconv.Itoa(last + 1))
	command.CreateElement("Description").SetText("Jugate: take the drivers of this workstation")
	command.CreateElement("Path").SetText(registerCommand)
	doc.Indent(2)
	return doc.WriteToBytes()
}

func child(in *etree.Element, tag, key, value string) *etree.Element {
	return childOf(in, tag, func(e *etree.Element) bool { return e.SelectAttrValue(key, "") == value }, func(e *etree.Element) { e.CreateAttr(key, value) })
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
