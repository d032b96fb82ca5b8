package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

// workstationWipe has disks wiped.
func (a *app) workstationWipe() *cobra.Command {
	in := api.NewWipe{}
	var sure []string
	cmd := &cobra.Command{
		Use: "wipe WORKSTATION…", Short: "Make what is on the disks of workstations unreadable, with a receipt", Args: cobra.MinimumNArgs(1),
		Long:    "Make what is on the disks of workstations unreadable, by the words of NIST SP 800-88: clear\noverwrites all that can be addressed, purge has the disk do what it offers for that. It is\nread back, and leaves a receipt of its own kind. It is asked twice, with each name typed\nagain; --sure NAME says it for programs.",
		Example: "  jugate workstation wipe kiosk-03\n  jugate workstation wipe kiosk-03 --read-back whole --when-done power-off --sure kiosk-03",
		RunE: func(cmd *cobra.Command, args []string) error {
			in.Workstations = args
			return a.wipe(cmd, in, sure)
		},
	}
	wipeFlags(cmd, &in.WipeOptions, &sure)
	return cmd
}

func wipeFlags(cmd *cobra.Command, o *api.WipeOptions, sure *[]string) {
	f := cmd.Flags()
	f.StringVar((*string)(&o.Method), "method", "clear", "how far it goes, by NIST SP 800-88: clear or purge")
	f.BoolVar(&o.Fast, "fast", false, "the kernel makes sectors read as zeros by whatever is fast there, in place of writing each")
	f.StringVar(&o.Verify, "read-back", "sample", "how much is read back: sample or whole")
	f.StringVar(&o.Disk, "disk", "only", "which disk: only, serial:NUMBER or size:200GB-600GB")
	f.StringVar(&o.WhenDone, "when-done", "stay", "what the workstation does afterwards: stay, restart or power-off")
	f.StringSliceVar(sure, "sure", nil, "name of a workstation that is to be wiped, in place of being asked")
	cmd.RegisterFlagCompletionFunc("method", cobra.FixedCompletions([]cobra.Completion{"clear", "purge"}, cobra.ShellCompDirectiveNoFileComp))
	cmd.RegisterFlagCompletionFunc("read-back", cobra.FixedCompletions([]cobra.Completion{"sample", "whole"}, cobra.ShellCompDirectiveNoFileComp))
	cmd.RegisterFlagCompletionFunc("when-done", cobra.FixedCompletions(toCompletions(whenDone), cobra.ShellCompDirectiveNoFileComp))
}

// wipe shows what would be lost, has each name typed again, and orders it.
func (a *app) wipe(cmd *cobra.Command, in api.NewWipe, sure []string) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	for _, name := range in.Workstations {
		if err := sureOf(cmd, c, name, in, sure); err != nil {
			return err
		}
	}
	all, err := c.Wipe(cmd.Context(), in)
	if err != nil {
		return err
	}
	return a.printErrands(cmd, all)
}

// sureOf shows one workstation and asks for its name, unless --sure has said it.
func sureOf(cmd *cobra.Command, c *apiclient.Client, name string, in api.NewWipe, sure []string) error {
	w, err := c.Workstation(cmd.Context(), name)
	if err != nil {
		return err
	}
	label := w.Name
	if label == "" {
		label = first(w.Addresses)
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "%s: %s %s, serial %s%s\n", label, w.Maker, w.Model, w.Serial, pick(in.Retire, ", is put out of service then", ""))
	if w.Inventory != nil {
		for _, d := range w.Inventory.Disks {
			fmt.Fprintf(cmd.ErrOrStderr(), "  %s %s, serial %s\n", size(d.Size), d.Model, d.Serial)
		}
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "  on it is %s\n", pick(w.Image == "", "something that Jugate has not brought", onDisk(w)))
	for _, said := range sure {
		if strings.EqualFold(said, label) {
			return nil
		}
	}
	if err := confirmOr(cmd, "--sure "+label, "all that is on the disk of "+label+" would be lost", "All that is on this disk is lost. Wipe it?"); err != nil {
		return err
	}
	return typed(cmd, label)
}

// typed asks for a name once more.
func typed(cmd *cobra.Command, name string) error {
	fmt.Fprintf(cmd.ErrOrStderr(), "Type its name, %s: ", name)
	said, err := readLine(cmd.InOrStdin())
	if err != nil || !strings.EqualFold(strings.TrimSpace(said), name) {
		return fmt.Errorf("that is not %s; nothing was done", name)
	}
	return nil
}
