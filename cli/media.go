package cli

import (
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/durable"
)

func (a *app) environmentMedia() *cobra.Command {
	var in api.NewMedia
	var deliver api.NewDelivery
	var out, onto, room string
	var replace, yes bool
	var life time.Duration
	cmd := &cobra.Command{
		Use: "media [BUILD] --into FILE|--onto DEVICE --service URL", Short: "Make a USB stick or a disc that boots a build, for rooms without network boot", Args: cobra.MaximumNArgs(1),
		Long:    "Make a USB stick or a disc that boots a build, for rooms without network boot.\n\nThe file is both: it goes onto a stick or a disc as it is, and starts by UEFI, with\nSecure Boot too, and by a BIOS. --onto writes it onto a removable disk, after showing\nwhat is on that, and reads it back.\nWhoever has the stick can check in as any workstation, or as those of --group,\nuntil its key ends or is withdrawn: see jugate key.\n\nWith --image a stick carries a version to workstations, and delivers it where no network\nis, to one machine after the other that is started from it. The stick is an outpost for\nthat: it hands the receipts in once it finds the service.\nWith --netboot the machine that is started from it is the outpost of its room for as\nlong as it runs: others boot from it over the network, and get what it carries, or what\nthe line brings. See docs/sites.md.",
		Example: "  jugate environment media --service https://192.0.2.1:7460 --into stick.img --group herbarium --for 72h\n  jugate environment media --service https://192.0.2.1:7460 --onto /dev/sdc --entry memory-test --address 192.0.2.70-192.0.2.99/24\n  jugate environment media --service https://192.0.2.1:7460 --onto /dev/sdc --image garden-desk@3 --to visitor-kiosks\n  jugate environment media --service https://192.0.2.1:7460 --into alpine.img --outpost alpine-stick --netboot beside --room 8GB",
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := buildNumber(args)
			if err != nil {
				return err
			}
			if life < 0 || life > 0 && life < time.Hour {
				return usageError{errors.New("--for: an hour at least")}
			}
			in.Hours = int(life / time.Hour)
			if err := mediaOutpost(&in, &deliver, room); err != nil {
				return err
			}
			if (out == "") == (onto == "") {
				return usageError{errors.New("say either --into, for a file, or --onto, for a stick")}
			}
			if onto == "" {
				if err := mayWriteFile(out, replace); err != nil {
					return err
				}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			if in.Deliver != nil {
				if err := showCarried(cmd, c, in.Deliver, yes); err != nil {
					return err
				}
			}
			var made api.MediaMade
			media := func(w io.Writer) (err error) {
				made, err = c.MakeMedia(cmd.Context(), n, in, w)
				return err
			}
			if onto != "" {
				err = writeStick(cmd, onto, yes, media)
			} else {
				err = writeMedia(cmd, out, replace, media)
			}
			if err == nil && made.Outpost != "" {
				sayMade(cmd, made)
			}
			return err
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&out, "into", "", "the file to write")
	flags.StringVar(&onto, "onto", "", "the removable disk to write, such as /dev/sdc; all that is on it is lost")
	flags.SetAnnotation("into", oneRequired, []string{"into onto"})
	flags.BoolVar(&yes, "yes", false, "do not ask before a disk is overwritten")
	flags.StringSliceVar(&in.Entries, "entry", nil, "boot entries that the media carry, too")
	cmd.RegisterFlagCompletionFunc("entry", a.complete(entryNames))
	flags.StringVar(&in.Service, "service", "", "URL of the service, as workstations reach it: such as https://192.0.2.1:7460")
	flags.StringVar(&in.Address, "address", "", "fixed IP address with the length of its prefix, for networks that give none; or a range, of which each machine takes one that nobody has")
	flags.StringVar(&in.Gateway, "gateway", "", "router that goes with --address")
	flags.StringVar(&in.Note, "note", "", "who has the stick")
	flags.StringVar(&in.Group, "group", "", "limit it to workstations of this group")
	flags.DurationVar(&life, "for", 0, "how long its key is valid, such as 72h (default: without end)")
	flags.BoolVar(&replace, "replace", false, "write over a file of that name")
	flags.StringVar(&in.Outpost, "outpost", "", "name of the outpost that the machine is which is started from them (with --image or --netboot, by default the next that is free, such as media-1)")
	flags.StringVar(&in.Netboot, "netboot", "", "how it answers network boot: beside another server of addresses, or whole, which gives them itself")
	cmd.RegisterFlagCompletionFunc("netboot", cobra.FixedCompletions([]cobra.Completion{"beside", "whole"}, cobra.ShellCompDirectiveNoFileComp))
	flags.StringArrayVar(&in.Pools, "pool", nil, "addresses that mode whole gives, such as \"198.51.100.100-198.51.100.199/24 router 198.51.100.1\"")
	flags.StringVar(&room, "room", "", "how much of slabs that come over the line is kept on the stick, such as 8GB (default: in memory)")
	flags.StringVar(&deliver.Image, "image", "", "the version that a stick carries, such as garden-desk@3")
	cmd.RegisterFlagCompletionFunc("image", a.complete(imageNames))
	a.carriedFlags(cmd, &deliver)
	cmd.MarkFlagRequired("service")
	return cmd
}

// carriedFlags say to whom a stick carries its image, and how that is to lie there.
func (a *app) carriedFlags(cmd *cobra.Command, d *api.NewDelivery) {
	cmd.Flags().StringSliceVar(&d.To, "to", nil, "with --image: groups and workstations that it goes to")
	whereFlag(cmd, &d.Where, "with --image: of those, or of the whole roster, whoever fits a condition")
	cmd.RegisterFlagCompletionFunc("to", a.complete(targetNames))
	cmd.Flags().StringVar(&d.Start, "start", "first", "with --netboot: when the stream starts, once somebody is there: all, first, ready:N or at:TIME")
	cmd.Flags().StringVar(&d.WhenDone, "when-done", "power-off", "what a workstation does when its disk is right: restart, power-off or stay")
	cmd.RegisterFlagCompletionFunc("when-done", cobra.FixedCompletions(toCompletions(whenDone), cobra.ShellCompDirectiveNoFileComp))
	a.copyFlags(cmd, d)
}

// mediaOutpost says what media are that are an outpost.
func mediaOutpost(in *api.NewMedia, deliver *api.NewDelivery, room string) error {
	if room != "" {
		n, err := humanize.ParseBytes(room)
		if err != nil {
			return usageError{fmt.Errorf("--room: %w", err)}
		}
		in.Room = int64(n)
	}
	switch carries := len(deliver.To) > 0 || deliver.Where != ""; {
	case deliver.Image == "" && carries:
		return usageError{errors.New("--to and --where say to whom an image goes: say which, with --image")}
	case deliver.Image != "" && !carries:
		return usageError{errors.New("say to whom the image goes, with --to or --where")}
	case deliver.Image != "":
		in.Deliver = deliver
	}
	return nil
}

// showCarried shows what a stick will do to workstations, and asks.
func showCarried(cmd *cobra.Command, c *apiclient.Client, order *api.NewDelivery, yes bool) error {
	if yes {
		return nil
	}
	plan, err := c.PlanDelivery(cmd.Context(), *order)
	if err != nil {
		return err
	}
	describeDelivery(cmd.ErrOrStderr(), plan)
	fmt.Fprintln(cmd.ErrOrStderr())
	if plan.Refused != "" {
		return errors.New(plan.Refused)
	}
	err = confirmOr(cmd, "--yes", fmt.Sprintf("the disks of %s would be overwritten once they are started from the stick", count(len(plan.Members), "workstation")), "Whoever of these is started from the stick has its disk overwritten. Make it?")
	if err == nil {
		orderAsShown(order, plan)
	}
	return err
}

// writeMedia writes media into a file, which is there whole or not at all.
func writeMedia(cmd *cobra.Command, out string, replace bool, media func(io.Writer) error) error {
	f, err := durable.Create(out, 0o600)
	if err != nil {
		return err
	}
	defer f.Drop()
	m := newMeter(cmd.ErrOrStderr(), "writing")
	err = media(f)
	m.end()
	if err != nil {
		return err
	}
	return keepFile(f, out, replace)
}

// sayMade says who the media are.
func sayMade(cmd *cobra.Command, made api.MediaMade) {
	fmt.Fprintf(cmd.OutOrStdout(), "the media are the outpost %s\n", made.Outpost)
	if made.Delivery != 0 {
		fmt.Fprintf(cmd.OutOrStdout(), "they carry delivery %d: jugate delivery show %d\n", made.Delivery, made.Delivery)
	}
}
