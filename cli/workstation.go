package cli

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/roster"
)

func (a *app) workstationCommand() *cobra.Command {
	cmd := noun("workstation", "See, admit and retire workstations",
		a.workstationList(), a.workstationShow(), a.workstationAdmit(), a.workstationRename(), a.workstationRetire(), a.workstationWipe(), a.workstationWake(),
		a.workstationTell(api.TellRestart, "Restart systems that are on, into the boot environment if something waits there", helperHelp), a.workstationTell(api.TellPowerOff, "Switch systems off that are on", helperHelp), a.workstationAddress())
	cmd.AddCommand(a.tableVerbs()...)
	cmd.AddCommand(a.strangerVerbs()...)
	return cmd
}

func first(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return list[0]
}

func (a *app) workstationList() *cobra.Command {
	return list(a, lister[api.Workstation]{
		short: "List workstations and newcomers", example: "  jugate workstation list --group herbarium\n  jugate workstation list --state newcomer -o json",
		what: "workstations", none: "no workstation has called yet; have one boot over the network, or enter it: jugate workstation admit HARDWARE-ADDRESS NAME",
		fetch: (*apiclient.Client).Workstations, sort: []string{"name", "model", "serial", "state", "last_seen"},
		filters: []filter{{name: "state", help: "only workstations in a state", values: []string{"newcomer", "expected", "admitted", "retired"}}, {name: "group", help: "only workstations of a group", complete: a.complete(groupNames)},
			{name: "where", help: "only workstations that fit a condition (jugate explain condition)"}},
		columns: []column[api.Workstation]{
			{title: "name", value: func(w api.Workstation) string { return w.Name }},
			{title: "state", value: func(w api.Workstation) string { return string(w.State) }},
			{title: "hardware address", value: func(w api.Workstation) string { return first(w.Addresses) }},
			{title: "model", value: func(w api.Workstation) string { return w.Model }},
			{title: "serial", value: func(w api.Workstation) string { return w.Serial }},
			{title: "disk", value: disks, right: true},
			{title: "groups", value: func(w api.Workstation) string { return strings.Join(w.Groups, " ") }},
			{title: "image", value: onDisk},
			{title: "behind", value: func(w api.Workstation) string { return pick(w.Behind, strings.Join(w.Wanted, " or "), "") }},
			{title: "doing", value: doing},
			{title: "note", value: func(w api.Workstation) string { return w.Note }},
		},
	})
}

func disks(w api.Workstation) string {
	var all []string
	for _, n := range w.Disks {
		all = append(all, size(n))
	}
	if all == nil && w.LastSeen != nil {
		return "none"
	}
	return strings.Join(all, " + ")
}

// onDisk is which image a workstation has.
func onDisk(w api.Workstation) string {
	if w.Unfinished {
		return w.Image + ", unfinished"
	}
	return w.Image
}

func doing(w api.Workstation) string {
	switch {
	case w.State == roster.Expected:
		return "" // the state says it
	case w.LastSeen == nil:
		return "never seen"
	case !w.Online && w.Helper != nil && w.Helper.Running:
		return "its system is on"
	case !w.Online:
		return "away"
	case w.Activity == "":
		return "waiting"
	}
	return w.Activity
}

func seen(at *time.Time) string {
	if at == nil {
		return "never"
	}
	return when(*at)
}

func (a *app) printWorkstation(cmd *cobra.Command, w api.Workstation) error {
	fields := []field{
		{"name", w.Name}, {"state", string(w.State)}, {"hardware addresses", strings.Join(w.Addresses, " ")},
		{"seen, not accepted", strings.Join(w.Proposed, " ")},
		{"maker", w.Maker}, {"model", w.Model}, {"serial", w.Serial}, {"uuid", w.UUID}, {"job", w.Job}, {"memory", pick(w.LastSeen == nil, "", size(w.Memory))},
	}
	inv := api.Inventory{}
	if w.Inventory != nil {
		inv = *w.Inventory
	}
	fields = append(fields, field{"firmware", strings.Join(slices.DeleteFunc([]string{inv.Firmware, inv.FirmwareVersion, pick(inv.SecureBoot, "Secure Boot is on", "")}, func(s string) bool { return s == "" }), ", ")}, field{"power", powerWords(inv)})
	for _, name := range slices.Sorted(maps.Keys(inv.Settings)) {
		fields = append(fields, field{"  " + name, inv.Settings[name]})
	}
	for i, d := range inv.Disks {
		fields = append(fields, field{fmt.Sprintf("disk %d", i+1), fmt.Sprintf("%s (%d bytes), sectors of %d, %s, serial %s", size(d.Size), d.Size, d.SectorSize, d.Model, d.Serial)})
		for _, p := range d.Partitions {
			what := strings.Join(strings.Fields(p.Kind+" "+cmp.Or(p.Label, p.Name)), " ")
			fields = append(fields, field{fmt.Sprintf("  partition %d", p.Number), size((p.Last-p.First+1)*int64(d.SectorSize)) + pick(what == "", "", ", "+what)})
		}
	}
	if len(inv.Disks) == 0 && w.LastSeen != nil {
		fields = append(fields, field{"disks", "none"})
	}
	for i, c := range inv.Cards {
		fields = append(fields, field{fmt.Sprintf("network card %d", i+1), c.Address + ", " + c.Model})
	}
	for _, name := range slices.Sorted(maps.Keys(w.Fields)) {
		fields = append(fields, field{name, w.Fields[name]})
	}
	return show(cmd, a, w, append(fields, []field{
		{"note", w.Note},
		{"groups", strings.Join(w.Groups, " ")}, {"image", onDisk(w)}, {"should have", strings.Join(w.Wanted, " or ") + pick(w.Behind, ", is behind", "")}, {"doing", doing(w)}, {"agent", w.AgentVersion}, {"site", w.Site}, {"its system", helperWords(w.Helper)},
		{"first seen", seen(w.FirstSeen)}, {"last seen", seen(w.LastSeen)},
	}...)...)
}

func (a *app) workstationShow() *cobra.Command {
	return &cobra.Command{
		Use: "show WORKSTATION", Short: "Show one workstation, by name or hardware address", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			w, err := c.Workstation(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printWorkstation(cmd, w)
		},
	}
}

func (a *app) workstationAdmit() *cobra.Command {
	var groups []string
	cmd := &cobra.Command{
		Use: "admit HARDWARE-ADDRESS NAME", Short: "Take a newcomer, or a machine that was never seen, into the roster under a name", Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			w, err := c.Admit(cmd.Context(), args[0], api.Admission{Name: args[1], Groups: groups})
			if err != nil {
				return err
			}
			return a.printWorkstation(cmd, w)
		},
	}
	cmd.Flags().StringSliceVar(&groups, "group", nil, "groups to put it into")
	cmd.RegisterFlagCompletionFunc("group", a.complete(groupNames))
	return cmd
}

func (a *app) workstationRename() *cobra.Command {
	return &cobra.Command{
		Use: "rename WORKSTATION NAME", Short: "Give a workstation another name; its receipts keep the one it had", Args: cobra.ExactArgs(2),
		Example: "  jugate workstation rename herb-03 herb-13",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			w, err := c.RenameWorkstation(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return a.printWorkstation(cmd, w)
		},
	}
}

func (a *app) workstationRetire() *cobra.Command {
	in := api.NewWipe{Retire: true}
	var sure []string
	wipe := false
	cmd := &cobra.Command{
		Use: "retire WORKSTATION", Short: "Put a workstation out of service; its receipts stay", Args: cobra.ExactArgs(1),
		Long:    "Put a workstation out of service; its receipts stay. With --wipe its disk is wiped first,\nwhich is asked as by jugate workstation wipe, and it is retired once that is done.",
		Example: "  jugate workstation retire kiosk-03\n  jugate workstation retire kiosk-03 --wipe --read-back whole --when-done power-off",
		RunE: func(cmd *cobra.Command, args []string) error {
			if wipe {
				in.Workstations = args
				return a.wipe(cmd, in, sure)
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			w, err := c.Retire(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printWorkstation(cmd, w)
		},
	}
	cmd.Flags().BoolVar(&wipe, "wipe", false, "wipe its disk first")
	wipeFlags(cmd, &in.WipeOptions, &sure)
	return cmd
}

func (a *app) workstationWake() *cobra.Command {
	var where string
	cmd := &cobra.Command{
		Use: "wake [WORKSTATION|GROUP…]", Short: "Switch workstations on over the network",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			woken, err := c.Wake(cmd.Context(), api.WakeUp{To: args, Where: where})
			if err != nil {
				return err
			}
			return show(cmd, a, woken, field{"sent to", strings.Join(woken.Workstations, ", ")}, field{"through", strings.Join(woken.Interfaces, ", ")})
		},
	}
	cmd.Args = namedOr(cmd, 0)
	whereFlag(cmd, &where, "of those, or of the whole roster, whoever fits a condition")
	return cmd
}

// workstationTell has systems that are on do something.
func (a *app) workstationTell(verb, short, long string) *cobra.Command {
	in := api.Telling{Verb: verb}
	var warn time.Duration
	var withdraw bool
	cmd := &cobra.Command{
		Use: verb + " [WORKSTATION|GROUP…]", Short: short, Long: short + ".\n\n" + long,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if warn < time.Minute {
				return usageError{errors.New("--warn is a minute at least; where nobody is signed in, nobody is waited for")}
			}
			in.To, in.WarnMinutes = args, int(warn.Minutes())
			if withdraw {
				in.Verb = "nothing"
			}
			told, err := c.Tell(cmd.Context(), in)
			if err != nil {
				return err
			}
			return show(cmd, a, told, field{"told", strings.Join(told.Told, ", ")}, field{"off", strings.Join(told.Off, ", ")}, field{"without a helper", strings.Join(told.Without, ", ")})
		},
	}
	cmd.Args = namedOr(cmd, 0)
	whereFlag(cmd, &in.Where, "of those, or of the whole roster, whoever fits a condition")
	cmd.Flags().DurationVar(&warn, "warn", 5*time.Minute, "how long whoever is signed in has to save their work")
	cmd.Flags().StringVar(&in.Why, "why", "", "what they read")
	cmd.Flags().BoolVar(&withdraw, "withdraw", false, "take back what was told and has not happened yet")
	return cmd
}

// powerWords says what a machine is fed by; empty for one that does not say.
func powerWords(inv api.Inventory) string {
	var words []string
	if inv.Mains != nil {
		words = append(words, pick(*inv.Mains, "from the mains", "from its battery alone"))
	}
	if inv.Battery != nil {
		words = append(words, fmt.Sprintf("its battery has %d %%", *inv.Battery))
	}
	return strings.Join(words, ", ")
}

// helperWords is what the helper on a system says of that.
func helperWords(h *api.Helper) string {
	switch {
	case h == nil:
		return ""
	case !h.Running:
		return "is off, or away"
	case h.Verb == "":
		return "is on"
	}
	return "is on, and was told: " + h.Verb
}

const helperHelp = "It reaches systems that are on and on which a helper stays (the answer helper). Whoever is\nsigned in there reads a warning and has time to save their work; where nobody is, it\nhappens at once."

func (a *app) workstationAddress() *cobra.Command {
	return &cobra.Command{
		Use: "address WORKSTATION [IP]", Short: "Give a workstation a fixed IP address in mode whole; without an address, remove it", Args: cobra.RangeArgs(1, 2),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			return c.FixAddress(cmd.Context(), args[0], strings.Join(args[1:], ""))
		},
	}
}
