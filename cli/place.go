package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/roster"
	"jugate/wire"
)

func (a *app) imagePlace() *cobra.Command {
	var in api.NewPlacement
	var at string
	cmd := &cobra.Command{
		Use: "place [IMAGE[@VERSION]] --at OUTPOST", Short: "Have an outpost hold versions ahead of time", Args: cobra.MaximumNArgs(1),
		Long: "Slabs come in the hours and at the rate that are set for the outpost's line, and give way to\nwhat somebody waits for. Of a version whose predecessor is there, what differs is sent. Newer\nversions follow by themselves, unless one was named.",
		Example: "  jugate image place garden-desk --at alpine\n" +
			"  jugate image place garden-desk@3 --at alpine\n" +
			"  jugate image place --for herbarium-scanning --newest 2 --at alpine",
		ValidArgsFunction: a.complete(imageNames),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				ref, err := roster.ParseRef(args[0])
				if err != nil {
					return usageError{err}
				}
				in.Image, in.Version = ref.Image, ref.Version
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			o, err := c.PlaceImage(cmd.Context(), at, in)
			if err != nil {
				return err
			}
			return a.printPlacements(cmd, o)
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&at, "at", "", "outpost that is to hold it")
	flags.IntVar(&in.Newest, "newest", 0, "how many of the newest versions (default 1)")
	flags.StringVar(&in.Group, "for", "", "in place of an image: every image that workstations of this group have")
	cmd.MarkFlagRequired("at")
	cmd.RegisterFlagCompletionFunc("at", a.complete(outpostNames))
	cmd.RegisterFlagCompletionFunc("for", a.complete(groupNames))
	return cmd
}

func (a *app) imageUnplace() *cobra.Command {
	var at string
	cmd := a.silent(&cobra.Command{
		Use: "unplace NUMBER --at OUTPOST", Short: "End what image place has ordered, by its number (jugate outpost show)", Args: cobra.ExactArgs(1),
		Long: "What the outpost holds of it stays there until the room is needed.", Example: "  jugate image unplace 1 --at alpine",
	}, func(ctx context.Context, c *apiclient.Client, args []string) error {
		n, err := strconv.ParseInt(args[0], 10, 64)
		if err != nil {
			return usageError{fmt.Errorf("%q is not the number of a placement", args[0])}
		}
		return c.UnplaceImage(ctx, at, n)
	})
	cmd.Flags().StringVar(&at, "at", "", "outpost that holds it")
	cmd.MarkFlagRequired("at")
	cmd.RegisterFlagCompletionFunc("at", a.complete(outpostNames))
	return cmd
}

func (a *app) outpostSet() *cobra.Command {
	var note, rate, hours, seal string
	var signIn time.Duration
	cmd := &cobra.Command{
		Use: "set OUTPOST", Short: "Say how the line of an outpost may be used, whether its slabs are sealed, and who may sign in while it is cut", Args: cobra.ExactArgs(1),
		Long:    "What is left out stays. Hours are for versions that come ahead of time, by the clock of the\noutpost's place; what somebody waits for comes at any hour.",
		Example: "  jugate outpost set alpine --line-rate 20Mbit --ahead-hours 20:00-06:00", ValidArgsFunction: a.complete(outpostNames),
		RunE: func(cmd *cobra.Command, args []string) error {
			var in api.OutpostChange
			if cmd.Flags().Changed("note") {
				in.Note = &note
			}
			if cmd.Flags().Changed("line-rate") {
				bits := int64(0)
				if rate != "none" {
					var err error
					if bits, err = wire.ParseRate(rate); err != nil {
						return usageError{err}
					}
				}
				in.LineRate = &bits
			}
			if cmd.Flags().Changed("ahead-hours") {
				hours = strings.TrimSuffix(hours, "always")
				in.Hours = &hours
			}
			if cmd.Flags().Changed("sign-in-for") {
				n := int(signIn / time.Hour)
				if in.SignIn = &n; signIn < 0 || signIn%time.Hour != 0 || n > 720 {
					return usageError{fmt.Errorf("--sign-in-for has whole hours, 720h at most, not %s", signIn)}
				}
			}
			if cmd.Flags().Changed("seal") {
				sealed := seal == "yes"
				if in.Sealed = &sealed; seal != "yes" && seal != "no" {
					return usageError{fmt.Errorf("--seal is yes or no, not %q", seal)}
				}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			o, err := c.ChangeOutpost(cmd.Context(), args[0], in)
			if err != nil {
				return err
			}
			if a.output != "table" {
				return show(cmd, a, o)
			}
			printFields(cmd.OutOrStdout(), append([]field{{"outpost", o.Name}, {"note", o.Note}}, lineFields(o)...))
			return nil
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&note, "note", "", "what people should know of it")
	flags.StringVar(&rate, "line-rate", "", "what may come over its line, such as 20Mbit; none for no bound")
	flags.StringVar(&hours, "ahead-hours", "", "when versions come ahead of time, such as 20:00-06:00; always for at any hour")
	flags.DurationVar(&signIn, "sign-in-for", 24*time.Hour, "how long after they have signed in there by name and password people may do so while the line is cut; 0 for nobody")
	flags.StringVar(&seal, "seal", "", "whether slabs on its disk are sealed by a key that is not there: yes or no")
	return cmd
}

// lineFields say how the line of an outpost may be used.
func lineFields(o api.Outpost) []field {
	rate, hours := "no bound", "at any hour"
	if o.LineRate > 0 {
		rate = humanize.SIWithDigits(float64(o.LineRate), 1, "bit/s")
	}
	if o.Hours != "" {
		hours = o.Hours + ", by the clock there"
	}
	sealed := "no"
	switch {
	case o.Sealed && o.IsSealed:
		sealed = "yes"
	case o.Sealed:
		sealed = "yes, as soon as it has heard of it"
	}
	signIn := "nobody"
	if o.SignIn > 0 {
		signIn = fmt.Sprintf("for %d h after the last time", o.SignIn)
	}
	return []field{{"rate of its line", rate}, {"ahead of time", hours}, {"slabs are sealed", sealed}, {"signing in while it is cut", signIn}}
}

// printPlacements shows what an outpost is to hold.
func (a *app) printPlacements(cmd *cobra.Command, o api.Outpost) error {
	return printList(cmd, a, o.Placements, []column[api.Placement]{
		{title: "number", value: func(p api.Placement) string { return strconv.FormatInt(p.ID, 10) }, right: true},
		{title: "holds", value: placedText},
		{title: "now", value: func(p api.Placement) string {
			var all []string
			for _, v := range p.Versions {
				text := fmt.Sprintf("%s@%d", v.Image, v.Version)
				switch {
				case v.Slabs == 0:
					text += " (not looked at yet)"
				case v.Held < v.Slabs:
					text += fmt.Sprintf(" (%d of %d slabs)", v.Held, v.Slabs)
				}
				all = append(all, text)
			}
			return strings.Join(all, ", ")
		}},
	})
}

// placedText is a placement in words.
func placedText(p api.Placement) string {
	what := p.Image
	if p.Group != "" {
		what = "every image of " + p.Group
	}
	switch {
	case p.Version > 0:
		return fmt.Sprintf("%s@%d", what, p.Version)
	case p.Newest == 1:
		return "the newest of " + what
	}
	return fmt.Sprintf("the newest %d of %s", p.Newest, what)
}
