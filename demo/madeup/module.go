// Package madeup makes driver packages of makers that do not exist, and programs that nothing starts, for the demo and
// for tests: INF files with catalogues that a made-up authority has signed, and kernel
// modules that say what they drive and hold no code.
package madeup

import (
	"bytes"
	"debug/elf"
	"encoding/binary"
	"strings"
)

// Module is an object file with the section .modinfo, as the kernel's build makes it
// from MODULE_ALIAS and the like; entries are "key=value". No kernel would load it.
func Module(machine elf.Machine, entries ...string) []byte {
	const header, entry = 64, 64 // bytes of the ELF header and of a section's (gABI, ch. 4)
	info := []byte(strings.Join(entries, "\x00") + "\x00")
	names := []byte("\x00.modinfo\x00.shstrtab\x00")
	at := uint64(header)
	sections := []elf.Section64{
		{},
		{Name: 1, Type: uint32(elf.SHT_PROGBITS), Flags: uint64(elf.SHF_ALLOC), Off: at, Size: uint64(len(info)), Addralign: 1},
		{Name: 10, Type: uint32(elf.SHT_STRTAB), Off: at + uint64(len(info)), Size: uint64(len(names)), Addralign: 1},
	}
	table := at + uint64(len(info)+len(names))
	var b bytes.Buffer
	binary.Write(&b, binary.LittleEndian, elf.Header64{
		Ident: [elf.EI_NIDENT]byte{0x7f, 'E', 'L', 'F', byte(elf.ELFCLASS64), byte(elf.ELFDATA2LSB), byte(elf.EV_CURRENT)},
		Type:  uint16(elf.ET_REL), Machine: uint16(machine), Version: uint32(elf.EV_CURRENT), Shoff: table,
		Ehsize: header, Shentsize: entry, Shnum: uint16(len(sections)), Shstrndx: 2,
	})
	b.Write(info)
	b.Write(names)
	binary.Write(&b, binary.LittleEndian, sections)
	return b.Bytes()
}

// Kernel is the release of the made-up kernel.
const Kernel = "6.1.0-9-garden"

// KernelModule is a Module for the made-up kernel, on amd64.
func KernelModule(name, depends string, entries ...string) []byte {
	return Module(elf.EM_X86_64, append([]string{"name=" + name, "vermagic=" + Kernel + " SMP preempt mod_unload modversions ", "depends=" + depends, "license=GPL"}, entries...)...)
}
