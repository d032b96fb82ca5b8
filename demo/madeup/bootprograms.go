package madeup

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"debug/elf"
	"debug/pe"
	"encoding/binary"
)

// UEFIProgram is a small program of UEFI, which does nothing: a PE file with one section, which is empty.
func UEFIProgram(machine uint16) []byte {
	var b bytes.Buffer
	b.WriteString("MZ")
	b.Write(make([]byte, 0x3a))
	put(&b, uint32(0x400)) // where the header is
	b.Write(make([]byte, 0x400-b.Len()))
	b.WriteString("PE\x00\x00")
	put(&b, pe.FileHeader{Machine: machine, NumberOfSections: 1, SizeOfOptionalHeader: uint16(binary.Size(pe.OptionalHeader64{})), Characteristics: pe.IMAGE_FILE_EXECUTABLE_IMAGE})
	put(&b, pe.OptionalHeader64{Magic: 0x20b, Subsystem: pe.IMAGE_SUBSYSTEM_EFI_APPLICATION, NumberOfRvaAndSizes: 16,
		SectionAlignment: 0x1000, FileAlignment: 0x200, SizeOfHeaders: 0x600, SizeOfImage: 0x2000, AddressOfEntryPoint: 0x1000})
	put(&b, pe.SectionHeader32{Name: [8]uint8{'.', 't', 'e', 'x', 't'}, VirtualSize: 0x200, VirtualAddress: 0x1000, SizeOfRawData: 0x200, PointerToRawData: 0x600})
	b.Write(make([]byte, 0x800-b.Len()))
	return b.Bytes()
}

// put writes what is of a fixed size.
func put(b *bytes.Buffer, v any) {
	if err := binary.Write(b, binary.LittleEndian, v); err != nil {
		panic(err)
	}
}

// LinuxKernel makes a program one that follows the boot protocol of Linux, too, for 64 bits or for 32.
func LinuxKernel(program []byte, bits64 bool) []byte {
	b := bytes.Clone(program)
	if len(b) < 0x400 {
		b = append(b, make([]byte, 0x400-len(b))...)
	}
	binary.LittleEndian.PutUint16(b[0x1fe:], 0xaa55)
	copy(b[0x202:], "HdrS")
	binary.LittleEndian.PutUint16(b[0x206:], 0x020f)
	if bits64 {
		b[0x236] = 1
	}
	return b
}

// Initrd is a compressed file with the beginning of a program of a machine, as ELF numbers them, in it.
func Initrd(machine uint16) []byte {
	content := make([]byte, 4096)
	copy(content, "070701 and so on")
	copy(content[512:], "\x7fELF\x02\x01\x01")
	binary.LittleEndian.PutUint16(content[512+18:], machine)
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	z.Write(content)
	z.Close()
	return b.Bytes()
}

// Tar is an archive of files.
func Tar(files map[string][]byte) *bytes.Buffer {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for name, content := range files {
		w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Size: int64(len(content)), Mode: 0o644})
		w.Write(content)
	}
	w.Close()
	return &b
}

// Installer is laid out as Debian's installer for network boot is. Nothing would start it.
func Installer() *bytes.Buffer {
	return Tar(map[string][]byte{
		"debian-installer/amd64/linux":     LinuxKernel(UEFIProgram(pe.IMAGE_FILE_MACHINE_AMD64), true),
		"debian-installer/amd64/initrd.gz": Initrd(uint16(elf.EM_X86_64)),
		"version.info":                     []byte("Debian version:  12 (bookworm)\n"),
	})
}
