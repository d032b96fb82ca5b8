package bootentry

import (
	"bufio"
	"bytes"
	"cmp"
	"debug/elf"
	"debug/pe"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/smallstep/pkcs7"

	"jugate/core/archive"
	"jugate/core/fault"
)

// candidate is a file that may be started, or be an initial root file system.
type candidate struct {
	path   string
	size   int64
	start  *Start // of a program or kernel
	initrd bool
	linux  bool // it follows the boot protocol of Linux
	pe     bool
}

// look tells what a file is; nil if it is nothing that could be started.
func look(given fs.FS, name string) (*candidate, error) {
	f, err := given.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	head := make([]byte, headLength)
	n, err := io.ReadFull(f, head)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.EOF) {
		return nil, err
	}
	head = head[:n]
	c := &candidate{path: name, size: info.Size()}
	s := Start{Files: []File{{Path: name}}, Memory: info.Size() + systemMemory}
	if c.linux = isLinux(head); c.linux {
		s.Way, s.Arch = Kernel, IA32
		if loadFlags := binary.LittleEndian.Uint16(head[linuxLoadFlags:]); binary.LittleEndian.Uint16(head[linuxVersion:]) >= 0x020c && loadFlags&1 != 0 {
			s.Arch = X64
		}
	}
	if len(head) > armMagic+4 && string(head[armMagic:armMagic+4]) == "ARM\x64" {
		c.linux, s.Way, s.Arch = true, Kernel, ARM64
	}
	if r, is := f.(io.ReaderAt); is && bytes.HasPrefix(head, []byte("MZ")) {
		arch, signer, err := readPE(r, info.Size())
		if err == nil {
			c.pe, s.Arch, s.Signer = true, arch, signer
			if !c.linux {
				s.Way = Program
			}
		} else if !errors.Is(err, errNoEFI) && (c.linux || strings.EqualFold(path.Ext(name), ".efi")) {
			return nil, fault.Invalid.Errorf("%s is damaged or cut off: %v", name, err)
		}
	}
	if s.Way != "" {
		c.start = &s
		return c, nil
	}
	if c.initrd = isInitrd(name, head); c.initrd {
		return c, nil
	}
	return nil, nil
}

// Places of the boot protocol of Linux (the kernel's documentation, "The Linux/x86 Boot Protocol"), and of arm64's header.
const (
	linuxFlag      = 0x1fe
	linuxHeader    = 0x202
	linuxVersion   = 0x206
	linuxLoadFlags = 0x236
	armMagic       = 0x38
)

func isLinux(head []byte) bool {
	return len(head) > linuxLoadFlags+2 && binary.LittleEndian.Uint16(head[linuxFlag:]) == 0xaa55 && string(head[linuxHeader:linuxHeader+4]) == "HdrS"
}

// isInitrd tells by name and content: archives of other kinds are compressed in the same ways.
func isInitrd(name string, head []byte) bool {
	base := strings.ToLower(path.Base(name))
	named := strings.HasPrefix(base, "initrd") || strings.HasPrefix(base, "initramfs") || strings.HasSuffix(base, ".initrd")
	if !named {
		return false
	}
	for _, magic := range []string{"\x1f\x8b", "\xfd7zXZ", "\x28\xb5\x2f\xfd", "070701", "070702", "BZh", "\x5d\x00\x00", "\x02\x21\x4c\x18", "\x04\x22\x4d\x18"} {
		if bytes.HasPrefix(head, []byte(magic)) {
			return true
		}
	}
	return false
}

// securityTable is the entry of a PE file's directory that names its certificates (PE/COFF, "The Attribute Certificate Table").
const securityTable = 4

// errNoEFI says that a program is for another system, or is part of one.
var errNoEFI = errors.New("not a program of UEFI")

// readPE reads the architecture of a PE file, and who signed it.
func readPE(r io.ReaderAt, size int64) (arch Arch, signer string, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("%v", p)
		}
	}()
	f, err := pe.NewFile(io.NewSectionReader(r, 0, size))
	if err != nil {
		return "", "", err
	}
	var directory pe.DataDirectory
	var subsystem uint16
	switch h := f.OptionalHeader.(type) {
	case *pe.OptionalHeader64:
		directory, subsystem = h.DataDirectory[securityTable], h.Subsystem
	case *pe.OptionalHeader32:
		directory, subsystem = h.DataDirectory[securityTable], h.Subsystem
	default:
		return "", "", errors.New("it has no optional header")
	}
	if subsystem != pe.IMAGE_SUBSYSTEM_EFI_APPLICATION {
		return "", "", errNoEFI
	}
	switch f.Machine {
	case pe.IMAGE_FILE_MACHINE_AMD64:
		arch = X64
	case pe.IMAGE_FILE_MACHINE_I386:
		arch = IA32
	case pe.IMAGE_FILE_MACHINE_ARM64:
		arch = ARM64
	default:
		arch = Arch(fmt.Sprintf("%#x", f.Machine))
	}
	for _, s := range f.Sections {
		if int64(s.Offset)+int64(s.Size) > size {
			return "", "", errors.New("it is shorter than it says")
		}
	}
	if directory.Size == 0 {
		return arch, "", nil
	}
	if int64(directory.VirtualAddress)+int64(directory.Size) > size {
		return "", "", errors.New("its signature lies behind its end")
	}
	return arch, whoSigned(io.NewSectionReader(r, int64(directory.VirtualAddress), int64(directory.Size))), nil
}

// whoSigned is the name in the certificate of a signature (Authenticode: a PKCS#7 message, RFC 2315, behind eight bytes).
// Whether a machine trusts it, only its firmware can tell.
func whoSigned(r io.Reader) string {
	b, err := io.ReadAll(io.LimitReader(r, maxSignature))
	if err != nil || len(b) < 8 {
		return ""
	}
	length := int64(binary.LittleEndian.Uint32(b))
	if length < 8 || length > int64(len(b)) {
		return ""
	}
	message, err := pkcs7.Parse(b[8:length])
	if err != nil {
		return ""
	}
	who := message.GetOnlySigner()
	if who == nil {
		return "somebody"
	}
	return cmp.Or(who.Subject.CommonName, who.Subject.String())
}

// insideInitrd is how large an initial root file system is, unpacked, and of which architecture its first program is.
func insideInitrd(f io.Reader) (size int64, machine elf.Machine, err error) {
	in, done, err := archive.Decompress(f)
	if errors.Is(err, archive.ErrUnknown) { // the kernel knows others
		return 0, elf.EM_NONE, nil
	}
	if err != nil {
		return 0, 0, err
	}
	defer done()
	b := bufio.NewReaderSize(in, 64<<10)
	for {
		// Files begin at multiples of four, with the magic number of ELF (its specification, "ELF Header").
		head, err := b.Peek(20)
		if machine == elf.EM_NONE && len(head) == 20 && string(head[:4]) == elf.ELFMAG && head[5] == byte(elf.ELFDATA2LSB) {
			machine = elf.Machine(binary.LittleEndian.Uint16(head[18:]))
		}
		if machine != elf.EM_NONE || err != nil {
			n, err := io.Copy(io.Discard, io.LimitReader(b, maxUnpacked))
			if size += n; err == nil && size >= maxUnpacked {
				err = fmt.Errorf("it has more than %s", humanize.IBytes(maxUnpacked))
			}
			return size, machine, err
		}
		if _, err := b.Discard(4); err != nil {
			return size, machine, err
		}
		if size += 4; size >= maxUnpacked {
			return size, machine, fmt.Errorf("it has more than %s", humanize.IBytes(maxUnpacked))
		}
	}
}
