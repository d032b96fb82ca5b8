package demo

import (
	"bytes"
	"context"
	"debug/pe"
	"fmt"
	"strings"

	"jugate/api"
	"jugate/demo/madeup"
)

// playEntries takes what workstations can boot beside builds: an installer and a memory test, which nothing would start.
func (s *Stage) playEntries(ctx context.Context) error {
	kernel := madeup.LinuxKernel(madeup.UEFIProgram(pe.IMAGE_FILE_MACHINE_AMD64), true)
	if _, err := s.Client.AddBootEntry(ctx, "debian-installer", "made-up-netboot.tar", "", madeup.Installer()); err != nil {
		return err
	}
	if _, err := s.Client.AddBootEntry(ctx, "memory-test", "made-up-memory-test.efi", "", bytes.NewReader(append(kernel, "a memory test"...))); err != nil {
		return err
	}
	_, err := s.Client.SetBootEntry(ctx, "memory-test", api.BootEntrySettings{Title: "Test the memory", Released: []string{"everybody"}, To: []string{scanning}, Note: "for the walk"})
	if err != nil {
		return err
	}
	p, err := s.Client.PreviewBootEntry(ctx, "debian-installer", api.BootPreviewOf{Workstation: "herb-01"})
	if err != nil {
		return err
	}
	s.say("boot entries: memory-test is in the menu of %s; debian-installer would tell herb-01", scanning)
	for line := range strings.Lines(p.AnswerFile) {
		if strings.Contains(line, "get_hostname") || strings.Contains(line, "time/zone") {
			s.say("  %s", strings.TrimSpace(line))
		}
	}
	made, err := s.Client.ChooseBootEntry(ctx, api.BootChoice{To: []string{"herb-01"}, When: "once", Entry: "memory-test"})
	if err == nil && len(made.Workstations) != 1 {
		err = fmt.Errorf("memory-test is booted by %d workstations, and not by herb-01 alone", len(made.Workstations))
	}
	if err == nil {
		s.say("herb-01 boots memory-test once, at its next start")
	}
	return err
}
