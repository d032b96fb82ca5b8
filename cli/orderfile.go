package cli

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/order"
)

// Orders are written as YAML, with the fields of the interface; docs/reference/order.schema.json describes them.

// orderText writes an order as YAML.
func orderText(in api.Order) (string, error) {
	text, err := json.Marshal(in)
	if err != nil {
		return "", err
	}
	var node yaml.Node
	if err := yaml.Unmarshal(text, &node); err != nil {
		return "", err
	}
	plainStyle(&node)
	var b strings.Builder
	e := yaml.NewEncoder(&b)
	e.SetIndent(2)
	err = errors.Join(e.Encode(&node), e.Close())
	return b.String(), err
}

// plainStyle takes away what makes JSON of YAML.
func plainStyle(n *yaml.Node) {
	n.Style = 0
	for _, sub := range n.Content {
		plainStyle(sub)
	}
}

// parseOrders reads orders from YAML, several with --- between them. A field that is not known is an error.
func parseOrders(in io.Reader) (all []api.Order, err error) {
	d := yaml.NewDecoder(in)
	for {
		var v any
		switch err := d.Decode(&v); {
		case errors.Is(err, io.EOF):
			return all, nil
		case err != nil:
			return nil, err
		case v == nil: // nothing but comments
			continue
		}
		text, err := json.Marshal(v)
		if err != nil {
			return nil, err
		}
		strict := json.NewDecoder(bytes.NewReader(text))
		strict.DisallowUnknownFields()
		var one api.Order
		if err := strict.Decode(&one); err != nil {
			return nil, fmt.Errorf("order %d of the file: %w", len(all)+1, err)
		}
		all = append(all, one)
	}
}

// localZone is the time zone of this machine, if that has a name.
func localZone() string {
	if zone := os.Getenv("TZ"); zone != "" {
		return strings.TrimPrefix(zone, ":")
	}
	path, _ := os.Readlink("/etc/localtime")
	if _, zone, is := strings.Cut(path, "zoneinfo/"); is {
		return zone
	}
	return "UTC"
}

func (a *app) orderAdd() *cobra.Command {
	in := api.Order{}
	capture, deliver, schedule := api.NewCapture{}, api.PreparedDelivery{}, api.OrderSchedule{}
	var wait time.Duration
	var yes bool
	var checks, require []string
	var command commandFlags
	cmd := &cobra.Command{
		Use: "add ORDER", Short: "Prepare an order", Args: cobra.ExactArgs(1),
		Long: "Prepare an order: a capture, a check, a delivery, a command of your own, or several of them,\none after the other. Everything else that these can have is written in its file (jugate order edit, order import).\n\nWhen it runs by itself is said in plain words: daily 06:00, weekdays 18:30, monday and\nthursday 18:30, first monday 06:00, last day 22:00, day 15 06:00, once 2026-12-24 12:00;\nor as a rule of RFC 5545 that begins with FREQ=.",
		Example: "  jugate order add herbarium-weekly --deliver garden-desk --to herbarium --reuse --wake --when-done power-off --when 'monday 18:30'\n" +
			"  jugate order add golden-month --capture desk-gold --as garden-desk --when 'first monday 06:00'\n" +
			"  jugate order add clone --capture desk-gold --as garden-desk --deliver garden-desk --to herbarium\n" +
			"  jugate order add new-desks --deliver garden-desk --to herbarium --when-behind --check surface,health --require 'memory >= 8GiB' --when-done restart\n" +
			"  jugate order add scanners --command scanner.sh --command-in boot-environment --command-before deliver --deliver garden-desk --to herbarium --only-if 'deliver=passed[\"scanner\"]'",
		RunE: func(cmd *cobra.Command, args []string) error {
			in.Name = args[0]
			if capture.Workstation != "" {
				capture.Image = cmp.Or(capture.Image, deliver.Image)
				in.Capture = &capture
			}
			if deliver.Image != "" {
				deliver.Wait = int(wait / time.Minute)
				in.Deliver = &deliver
			}
			if len(checks) > 0 || len(require) > 0 {
				check := api.PreparedCheck{NewCheck: api.NewCheck{To: deliver.To, Where: deliver.Where}, Wait: int(wait / time.Minute), Require: require}
				if err := checksOf(checks, &check.CheckOptions); err != nil {
					return err
				}
				in.Check = &check
			}
			if err := command.into(&in, deliver.To, deliver.Where); err != nil {
				return err
			}
			if schedule.When != "" {
				schedule.Zone = cmp.Or(schedule.Zone, localZone())
				in.Schedule = &schedule
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			if _, err := c.Order(cmd.Context(), in.Name); err == nil {
				return fmt.Errorf("there is an order %s already; jugate order edit changes it", in.Name)
			}
			return a.saveOrders(cmd, c, []api.Order{in}, yes)
		},
	}
	f := cmd.Flags()
	f.StringVar(&capture.Workstation, "capture", "", "workstation whose disk becomes the next version")
	f.StringVar(&capture.Image, "as", "", "of this image")
	f.StringVar(&deliver.Image, "deliver", "", "image that is delivered: NAME for the newest version, or NAME@VERSION")
	f.StringSliceVar(&deliver.To, "to", nil, "groups and workstations that it is for")
	whereFlag(cmd, &deliver.Where, "of those, or of the whole roster, whoever fits a condition")
	f.BoolVar(&deliver.Await, "await-arrival", false, "the run ends when each copy has started under its own name")
	f.StringSliceVar(&checks, "check", nil, "check those first: memory, memory-full, surface, surface-whole, health, network; who fails is taken out")
	f.StringArrayVar(&require, "require", nil, "condition that each has to fit when it comes, such as 'memory >= 8GiB'; who does not is taken out")
	command.declare(cmd)
	f.BoolVar(&deliver.Reuse, "reuse", false, "workstations check their disks first, and only what differs is sent")
	ownAnswersFlag(cmd, &deliver.NewDelivery)
	f.StringSliceVar(&deliver.Keep, "keep", nil, "partition of the disks that stays as it is: a number, label=TEXT, type=GUID or (in an MBR) type=HEX")
	f.StringVar(&deliver.WhenDone, "when-done", "", "what a workstation does then: restart, power-off or stay")
	f.DurationVar(&wait, "wait", 0, "how long a delivery waits for its workstations at the most (default 1h)")
	f.BoolVar(&in.Wake, "wake", false, "switch the workstations on over the network first")
	f.BoolVar(&in.Restart, "restart-running", false, "workstations whose system is on restart into the boot environment, by their helper")
	f.IntVar(&in.WarnMinutes, "warn-minutes", 0, "how long whoever is signed in there has to save their work (default 5)")
	f.StringVar(&in.Afterwards, "afterwards", "", "what becomes of workstations when all is done, by their helper: power-off, or as-before for those that were off")
	f.StringVar(&schedule.When, "when", "", "when it runs by itself")
	f.StringVar(&schedule.Zone, "zone", "", "by the clock of which place, such as Europe/Vienna (default: that of this machine)")
	f.StringVar(&schedule.Missed, "missed", "", "what becomes of a run whose time came while the service was down: run or skip")
	f.BoolVar(&in.WhenBehind, "when-behind", false, "it runs by itself for whoever appears and does not have what its group should have")
	f.IntVar(&in.SaveDays, "save-days", 0, "capture disks before they are erased, and keep them for so many days")
	f.StringSliceVar(&in.Folders, "bring-back", nil, "folders of the saved disks that go back onto what is delivered, such as home")
	f.BoolVar(&in.Bench, "at-bench", false, "may be run at machines that nobody has admitted, by whoever has signed in there; it needs no targets then")
	f.IntVar(&in.Tries, "tries", 0, "how often it is tried for workstations that it fails for (default 1)")
	f.StringSliceVar(&in.Released, "release", nil, "roles whose people may run it as it stands, whatever else they may do")
	f.StringVar(&in.Note, "note", "", "what there is to say of it")
	f.BoolVar(&yes, "yes", false, "do not ask")
	cmd.RegisterFlagCompletionFunc("capture", a.complete(workstationNames))
	cmd.RegisterFlagCompletionFunc("deliver", a.complete(imageNames))
	cmd.RegisterFlagCompletionFunc("as", a.complete(imageNames))
	cmd.RegisterFlagCompletionFunc("to", a.complete(targetNames))
	cmd.RegisterFlagCompletionFunc("release", a.complete(roleNames))
	cmd.RegisterFlagCompletionFunc("when-done", cobra.FixedCompletions(toCompletions(whenDone), cobra.ShellCompDirectiveNoFileComp))
	cmd.RegisterFlagCompletionFunc("afterwards", cobra.FixedCompletions([]cobra.Completion{"power-off", "as-before"}, cobra.ShellCompDirectiveNoFileComp))
	cmd.RegisterFlagCompletionFunc("missed", cobra.FixedCompletions([]cobra.Completion{order.RunMissed, order.SkipMissed}, cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

// checksOf reads what is to be checked.
func checksOf(words []string, o *api.CheckOptions) error {
	for _, word := range words {
		switch word {
		case "memory":
			o.Memory = "quick"
		case "memory-full":
			o.Memory = "full"
		case "surface":
			o.Surface = "sample"
		case "surface-whole":
			o.Surface = "whole"
		case "health":
			o.Health = true
		case "network":
			o.Network = true
		default:
			return usageError{fmt.Errorf("%q cannot be checked: say memory, memory-full, surface, surface-whole, health or network", word)}
		}
	}
	if len(words) == 0 { // a condition alone needs the machine to come
		o.Health = true
	}
	return nil
}

// saveOrders shows what would change, asks, and keeps orders.
func (a *app) saveOrders(cmd *cobra.Command, c *apiclient.Client, all []api.Order, yes bool) error {
	var changed []api.Order
	for _, in := range all {
		tried, err := c.TryOrder(cmd.Context(), in)
		if err != nil {
			return fmt.Errorf("%s: %w", in.Name, err)
		}
		describeSaving(cmd.ErrOrStderr(), tried)
		if tried.Added || len(tried.Changes) > 0 {
			changed = append(changed, in)
		}
	}
	if len(changed) == 0 {
		fmt.Fprintln(cmd.ErrOrStderr(), "nothing is another than it was")
		return nil
	}
	if err := confirm(cmd, yes, fmt.Sprintf("%s would be kept as shown", count(len(changed), "order")), "Keep this?"); err != nil {
		return err
	}
	for _, in := range changed {
		if _, err := c.SaveOrder(cmd.Context(), in); err != nil {
			return fmt.Errorf("%s: %w", in.Name, err)
		}
	}
	return nil
}

func describeSaving(w io.Writer, s api.OrderSaved) {
	k := s.Order
	if !s.Added && len(s.Changes) == 0 {
		return
	}
	fmt.Fprintf(w, "%s: %s%s\n", k.Name, orderWords(k.Work), pick(s.Added, ", new", ""))
	for _, d := range s.Changes {
		if d.Field != "order" {
			fmt.Fprintf(w, "  %s: %s\n", d.Field, strings.TrimPrefix(d.Before+" → "+cmp.Or(d.After, "nothing"), " → "))
		}
	}
	if k.Problem != "" {
		fmt.Fprintf(w, "  it would fail now: %s\n", k.Problem)
	}
	if k.Next != nil {
		fmt.Fprintf(w, "  runs next %s\n", when(*k.Next))
	}
}

func (a *app) orderExport() *cobra.Command {
	return &cobra.Command{
		Use: "export [ORDER…]", Short: "Write orders as YAML, for version control", Args: cobra.ArbitraryArgs,
		Example: "  jugate order export\n  jugate order export herbarium-weekly",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var all []api.KeptOrder
			for _, name := range args {
				k, err := c.Order(cmd.Context(), name)
				if err != nil {
					return err
				}
				all = append(all, k)
			}
			if len(args) == 0 {
				if all, err = every(cmd.Context(), apiclient.List{}, c.Orders); err != nil {
					return err
				}
			}
			for i, k := range all {
				text, err := orderText(k.Order)
				if err != nil {
					return err
				}
				fmt.Fprint(cmd.OutOrStdout(), pick(i > 0, "---\n", "")+text)
			}
			return nil
		},
	}
}

func (a *app) orderImport() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use: "import FILE", Short: "Keep the orders of a file, after showing what would change", Args: cobra.ExactArgs(1), Example: "  jugate order import orders.yaml",
		Long: "Keep the orders of a file of YAML, several with --- between them. Each replaces the one of\nits name; others stay. First it shows what would change, and asks. docs/reference/order.schema.json\ndescribes the file. A hyphen stands for standard input.",
		RunE: func(cmd *cobra.Command, args []string) error {
			in := io.Reader(cmd.InOrStdin())
			if args[0] != "-" {
				f, err := os.Open(args[0])
				if err != nil {
					return err
				}
				defer f.Close()
				in = f
			}
			all, err := parseOrders(in)
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			return a.saveOrders(cmd, c, all, yes)
		},
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

func (a *app) orderEdit() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use: "edit ORDER", Short: "Change an order in your editor (EDITOR)", Args: cobra.ExactArgs(1), Example: "  jugate order edit herbarium-weekly",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, k, err := a.orderNamed(cmd, args[0])
			if err != nil {
				return err
			}
			text, err := orderText(k.Order)
			if err != nil {
				return err
			}
			edited, err := edit(cmd, text)
			if err != nil {
				return err
			}
			all, err := parseOrders(strings.NewReader(edited))
			if err == nil && (len(all) != 1 || all[0].Name != k.Name) {
				err = fmt.Errorf("it has to be the one order %s; order import takes others", k.Name)
			}
			if err != nil {
				return err
			}
			return a.saveOrders(cmd, c, all, yes)
		},
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

// edit has a text changed in whoever's editor.
func edit(cmd *cobra.Command, text string) (string, error) {
	f, err := os.CreateTemp("", "order-*.yaml")
	if err != nil {
		return "", err
	}
	defer os.Remove(f.Name())
	if _, err := f.WriteString(text); err != nil {
		f.Close()
		return "", err
	}
	if err := f.Close(); err != nil {
		return "", err
	}
	words := append(strings.Fields(cmp.Or(os.Getenv("EDITOR"), "vi")), f.Name())
	e := exec.CommandContext(cmd.Context(), words[0], words[1:]...)
	e.Stdin, e.Stdout, e.Stderr = cmd.InOrStdin(), cmd.ErrOrStderr(), cmd.ErrOrStderr()
	if err := e.Run(); err != nil {
		return "", fmt.Errorf("the editor %s: %w", words[0], err)
	}
	edited, err := os.ReadFile(f.Name())
	return string(edited), err
}
