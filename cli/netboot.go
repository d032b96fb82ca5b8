package cli

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"jugate/api"
	"jugate/boot"
	"jugate/core/hwaddr"
	"jugate/core/netboot"
	"jugate/service"
	"jugate/supervised"
)

// netbootFlags are serve's flags for network boot.
type netbootFlags struct {
	interfaces, pools []string
	unknown, agent    string
	tickets           string
	force             bool
}

func (f *netbootFlags) add(flags *pflag.FlagSet) {
	flags.StringSliceVar(&f.interfaces, "netboot", nil, service.SettingText("netboot"))
	flags.StringSliceVar(&f.pools, "pool", nil, service.SettingText("pool"))
	flags.StringVar(&f.unknown, "unknown", string(service.Hold), service.SettingText("unknown"))
	flags.BoolVar(&f.force, "netboot-force", false, service.SettingText("netboot-force"))
	flags.StringVar(&f.agent, "agent", "", "the agent's file, for builds of the boot environment (default: jugate-agent beside this program)")
	flags.StringVar(&f.tickets, "tickets", "auto", "whether workstations need their boot script's ticket to check in: yes, no, or auto, which is yes with --netboot")
}

// fill puts the flags into the configuration.
func (f *netbootFlags) fill(c *service.Config) error {
	for _, text := range f.interfaces {
		i, err := boot.ParseInterface(text)
		if err != nil {
			return usageError{fmt.Errorf("--netboot: %w", err)}
		}
		c.Netboot.Interfaces = append(c.Netboot.Interfaces, i)
	}
	for _, text := range f.pools {
		p, err := netboot.ParsePool(text)
		if err != nil {
			return usageError{fmt.Errorf("--pool: %w", err)}
		}
		c.Netboot.Pools = append(c.Netboot.Pools, p)
	}
	var err error
	if c.Netboot.Unknown, err = netboot.ParseUnknown(f.unknown); err != nil {
		return usageError{fmt.Errorf("--unknown: %w", err)}
	}
	c.Netboot.Force = f.force
	c.Netboot.Lenient = supervised.Is() // nobody is there to read why it did not start
	c.Netboot.Agent = f.agent
	if program, err := os.Executable(); err == nil && f.agent == "" {
		c.Netboot.Agent = filepath.Join(filepath.Dir(program), "jugate-agent")
	}
	switch f.tickets {
	case "yes", "no":
		c.Tickets = f.tickets == "yes"
	case "auto":
		c.BootTickets = true
	default:
		return usageError{fmt.Errorf("--tickets is one of yes, no, auto, not %q", f.tickets)}
	}
	return nil
}

func (a *app) netbootCommand() *cobra.Command {
	return noun("netboot", "Answer workstations that boot over the network", a.netbootStatus(), a.netbootAdvice(), a.netbootCode())
}

func (a *app) netbootStatus() *cobra.Command {
	var all bool
	cmd := &cobra.Command{
		Use: "status [WORKSTATION]", Short: "Show what is answered on each interface, and how far each machine is", Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			status, err := c.Netboot(cmd.Context())
			if err != nil {
				return err
			}
			if len(args) == 1 {
				status.Machines = slices.DeleteFunc(status.Machines, func(t api.BootTrail) bool { return !meant(t, args[0]) })
				all = true
			}
			if a.output == "json" {
				return printJSON(cmd.OutOrStdout(), status)
			}
			if a.output == "table" {
				printLinks(cmd, a, status)
			}
			return printTrails(cmd, a, status.Machines, all)
		},
	}
	cmd.Flags().BoolVar(&all, "steps", false, "all steps that are remembered, not just the last one")
	return cmd
}

// meant tells whether a machine is called so: by its workstation's name in any case, or by
// its hardware address in any spelling.
func meant(t api.BootTrail, name string) bool {
	if a, err := hwaddr.Parse(name); err == nil {
		return t.Address == a.String()
	}
	return strings.EqualFold(t.Workstation, name)
}

func printLinks(cmd *cobra.Command, a *app, status api.NetbootStatus) {
	out := cmd.OutOrStdout()
	offered := "none; workstations start from their disk (jugate environment build --offer)"
	if status.Offered > 0 {
		offered = strconv.Itoa(status.Offered)
	}
	printFields(out, []field{{"offered build", offered}, {"unknown machines", status.Unknown}})
	fmt.Fprintln(out)
	printList(cmd, a, status.Links, []column[api.NetbootLink]{
		{title: "interface", value: func(l api.NetbootLink) string { return l.Interface }},
		{title: "mode", value: func(l api.NetbootLink) string { return l.Mode }},
		{title: "address", value: func(l api.NetbootLink) string { return l.Address }},
		{title: "state", value: func(l api.NetbootLink) string { return l.State }},
		{title: "addresses left", value: func(l api.NetbootLink) string {
			var pools []string
			for _, p := range l.Pools {
				pools = append(pools, fmt.Sprintf("%d of %d (%s)", p.Left, p.Of, p.Range))
			}
			return strings.Join(pools, ", ")
		}},
	}, "the service answers on no interface; start it with --netboot INTERFACE=beside, for example")
	fmt.Fprintln(out)
}

// printTrails prints a line a step.
func printTrails(cmd *cobra.Command, a *app, machines []api.BootTrail, all bool) error {
	type row struct {
		Machine string     `json:"machine"`
		At      *time.Time `json:"at"`
		Step    string     `json:"step"`
		Detail  string     `json:"detail"`
		again   bool       // another line of the same machine
	}
	var rows []row
	for _, m := range machines {
		name := cmp.Or(m.Workstation, m.Address)
		steps := m.Steps
		if !all && len(steps) > 0 {
			steps = steps[len(steps)-1:]
		}
		for i, s := range steps {
			rows = append(rows, row{name, &s.At, s.Step, s.Detail, i > 0})
		}
		if m.Stuck != "" {
			rows = append(rows, row{name, nil, "stuck", m.Stuck, len(steps) > 0})
		}
	}
	return printList(cmd, a, rows, []column[row]{
		{title: "machine", value: func(r row) string { return pick(r.again, "", r.Machine) }},
		{title: "at", value: func(r row) string {
			if r.At == nil {
				return ""
			}
			return r.At.Local().Format("15:04:05")
		}},
		{title: "step", value: func(r row) string { return pick(r.Step == "stuck", "STUCK", r.Step) }},
		{title: "detail", value: func(r row) string { return r.Detail }},
	}, "no machine has asked yet")
}

func (a *app) netbootAdvice() *cobra.Command {
	return &cobra.Command{
		Use: "advice", Short: "Print what to enter into another DHCP server", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			advice, err := c.NetbootAdvice(cmd.Context())
			if err != nil {
				return err
			}
			if a.output == "json" {
				return printJSON(cmd.OutOrStdout(), advice)
			}
			type row struct {
				Interface    string `json:"interface"`
				Architecture string `json:"architecture"`
				When         string `json:"when"`
				api.BootOption
				again bool // another option for the same machines
			}
			var rows []row
			for _, d := range advice {
				for i, o := range d.Options {
					rows = append(rows, row{d.Interface, d.Architecture, d.When, o, i > 0})
				}
			}
			return printList(cmd, a, rows, []column[row]{
				{title: "interface", value: func(r row) string { return pick(r.again, "", r.Interface) }},
				{title: "machines", value: func(r row) string { return pick(r.again, "", r.Architecture) }},
				{title: "which say", value: func(r row) string { return pick(r.again, "", r.When) }},
				{title: "option", value: func(r row) string { return pick(r.Number == 0, "", strconv.Itoa(r.Number)) }, right: true},
				{title: "name", value: func(r row) string { return r.Name }},
				{title: "value", value: func(r row) string { return r.Value }},
			}, "the service answers on no interface; start it with --netboot INTERFACE=beside, for example")
		},
	}
}

func (a *app) netbootCode() *cobra.Command {
	var hours int
	cmd := &cobra.Command{
		Use: "code", Short: "Make a code that people sign in with at workstations", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			code, err := c.MakeCode(cmd.Context(), hours)
			if err != nil {
				return err
			}
			if a.output == "json" {
				return printJSON(cmd.OutOrStdout(), code)
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s  good until %s\n", code.Code, when(code.Until))
			return err
		},
	}
	cmd.Flags().IntVar(&hours, "hours", 8, "hours for which it is valid")
	return cmd
}
