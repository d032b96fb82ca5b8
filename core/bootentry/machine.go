package bootentry

import (
	"fmt"

	"github.com/dustin/go-humanize"

	"jugate/core/fault"
)

// Firmware is what a machine starts with.
type Firmware string

// The kinds of firmware. An empty one is not known.
const (
	UEFI Firmware = "UEFI"
	BIOS Firmware = "BIOS"
)

// Machine is what is known of a machine that is to start something. What is not known is empty, and speaks against nothing.
type Machine struct {
	Firmware   Firmware
	SecureBoot bool
	Memory     int64 // bytes
	Loader     bool  // it has loaded the loader already, so that its firmware takes no disc into memory
}

// For is how a machine starts it. The error is a fault.Conflict and says in words why it cannot.
func (f *Found) For(m Machine) (*Start, error) {
	var why error = fault.Conflict.Errorf("nothing of it starts on a machine of 64 bits (it has: %s)", f.Ways())
	told := false
	for _, arch := range []Arch{X64, IA32} {
		for i := range f.Starts {
			s := &f.Starts[i]
			if s.Arch != arch {
				continue
			}
			if err := s.on(m); err == nil {
				return s, nil
			} else if arch == X64 && (!told || s.fits(m.Firmware)) {
				why, told = err, true
			}
		}
	}
	return nil, why
}

// fits tells whether it is for a kind of firmware.
func (s *Start) fits(f Firmware) bool {
	return s.Way == Kernel || f == BIOS && s.Way == Old || f == UEFI && s.Way != Old
}

// on says why a machine cannot start it this way; nil if it can.
func (s *Start) on(m Machine) error {
	switch {
	case s.Arch != X64 && (s.Arch != IA32 || s.Way != Old):
		return fault.Conflict.Errorf("it is for processors of the architecture %s", s.Arch)
	case m.Firmware == BIOS && s.Way == Program:
		return fault.Conflict.Errorf("it is a program of UEFI and has no part that a BIOS starts")
	case m.Firmware == BIOS && s.Way == Disc:
		return fault.Conflict.Errorf("it is a disc, which only UEFI firmware that loads by HTTP takes into its memory; a BIOS does not")
	case m.Firmware == UEFI && s.Way == Old:
		return fault.Conflict.Errorf("it has only a part for a BIOS, and this machine starts by UEFI")
	case s.Way == Disc && m.Loader:
		return fault.Conflict.Errorf("it is a disc, which firmware takes into its memory when it loads by HTTP; this machine came by its network card's loader")
	case m.SecureBoot && s.Signer == "":
		return fault.Conflict.Errorf("it is not signed, so that machines with Secure Boot cannot start it")
	}
	if m.Memory > 0 && s.Memory > m.Memory {
		return fault.Conflict.Errorf("it takes %s of memory at least, and this machine has %s", humanize.IBytes(uint64(s.Memory)), humanize.IBytes(uint64(m.Memory)))
	}
	return nil
}

// Lacks says in words which machines cannot start it, for whoever adds it.
func (f *Found) Lacks() (all []string) {
	for _, m := range []struct {
		who string
		Machine
	}{
		{"UEFI", Machine{Firmware: UEFI}},
		{"UEFI with Secure Boot", Machine{Firmware: UEFI, SecureBoot: true}},
		{"BIOS", Machine{Firmware: BIOS}},
	} {
		if _, err := f.For(m.Machine); err != nil {
			all = append(all, fmt.Sprintf("not by %s: %v", m.who, err))
		}
	}
	return all
}
