package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

func (a *app) environmentCommand() *cobra.Command {
	return noun("environment", "Make the small system that workstations boot, and offer it",
		a.environmentBuild(), a.environmentList(), a.environmentShow(), a.environmentOffer(), a.environmentRemove(), a.environmentDiff(), a.environmentPin(), a.environmentMedia())
}

func (a *app) environmentBuild() *cobra.Command {
	var in api.NewBuild
	cmd := &cobra.Command{
		Use: "build", Short: "Make a build from Debian's kernel and loaders, and the agent", Args: cobra.NoArgs,
		Long: "Make a build from Debian's kernel and loaders, and the agent.\n\nThey are taken from the packages that are given, then from the folders that are\ngiven, or from the machine's own system. Paths are of the machine that the\nservice runs on.\n\nWith --drivers, --cover or --programs alone, the build is the one that is offered with a\nlayer more; nothing else is made anew.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			for _, list := range [][]string{in.Folders, in.Packages, in.Programs} {
				for i, name := range list {
					path, err := filepath.Abs(name)
					if err != nil {
						return err
					}
					list[i] = path
				}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			m := newMeter(cmd.ErrOrStderr(), "building")
			b, err := c.MakeBuild(cmd.Context(), in)
			m.end()
			if err != nil {
				return err
			}
			return a.printBuild(cmd, b)
		},
	}
	flags := cmd.Flags()
	flags.StringSliceVar(&in.Folders, "from", nil, "folders that hold a system, such as unpacked packages")
	flags.StringSliceVar(&in.Packages, "kernel-package", nil, "Debian packages with the kernel and other parts")
	flags.StringVar(&in.Kernel, "kernel", "", "release of the kernel (default: the newest)")
	flags.StringVar(&in.Words, "kernel-words", "", "words for the kernel's command line, instead of the usual ones")
	flags.BoolVar(&in.Shell, "shell", false, "let people have a shell at the workstation")
	flags.StringVar(&in.Note, "note", "", "what this build is for")
	flags.BoolVar(&in.Offer, "offer", false, "offer it at once")
	flags.StringSliceVar(&in.Drivers, "drivers", nil, "driver sets, each of which becomes a layer")
	flags.StringArrayVar(&in.Cover, "cover", nil, "add what the network cards and disk controllers of a workstation or model need, from the whole library")
	flags.StringSliceVar(&in.Programs, "programs", nil, "Debian packages with programs for commands of orders, with what they need")
	flags.StringSliceVar(&in.DoWithout, "do-without", nil, "Debian packages that those need and that are left out all the same")
	flags.IntVar(&in.Base, "base", 0, "build to add drivers to (default: the one that is offered)")
	flags.StringSliceVar(&in.LeaveOut, "leave-out", nil, "modules that the base layer is not to have")
	cmd.RegisterFlagCompletionFunc("drivers", a.complete(driverSetNames))
	cmd.RegisterFlagCompletionFunc("cover", a.complete(workstationNames))
	return cmd
}

func (a *app) printBuild(cmd *cobra.Command, b api.Build) error {
	out := cmd.OutOrStdout()
	err := show(cmd, a, b,
		field{"build", strconv.Itoa(b.Number)}, field{"offered", yesNo(b.Offered)}, field{"made", when(b.Created)}, field{"note", b.Note},
		field{"made by", b.Program}, field{"made of", strings.Join(b.Packages, ", ")}, field{"kernel", b.Kernel}, field{"kernel's words", b.Words}, field{"modules", strconv.Itoa(b.Modules)}, field{"a workstation loads", size(b.Bytes)}, field{"shell", yesNo(b.Shell)})
	if err != nil || a.output != "table" {
		return err
	}
	if len(b.Layers) > 0 {
		fmt.Fprintln(out)
		if err := printList(cmd, a, b.Layers, []column[api.BuildLayer]{
			{title: "layer", value: func(l api.BuildLayer) string { return l.Name }},
			{title: "files", value: func(l api.BuildLayer) string { return strconv.Itoa(l.Count) }, right: true},
			{title: "size", value: func(l api.BuildLayer) string { return size(l.Bytes) }, right: true},
			{title: "digest", value: func(l api.BuildLayer) string { return l.Digest[:12] }},
			{title: "packages", value: func(l api.BuildLayer) string { return strings.Join(l.Packages, ", ") }},
		}); err != nil {
			return err
		}
	}
	for i, p := range b.Problems {
		if i == 0 {
			fmt.Fprintln(out)
		}
		fmt.Fprintf(out, "warning: %s\n", p)
	}
	return nil
}

func (a *app) environmentList() *cobra.Command {
	return list(a, lister[api.Build]{
		short: "List builds, the newest first", example: "  jugate environment list", what: "builds", none: "no builds yet; make one with: jugate environment build --offer",
		fetch: (*apiclient.Client).Builds,
		columns: []column[api.Build]{
			{title: "build", value: func(b api.Build) string { return strconv.Itoa(b.Number) }, right: true},
			{title: "offered", value: func(b api.Build) string { return yesNo(b.Offered) }},
			{title: "made", value: func(b api.Build) string { return when(b.Created) }},
			{title: "kernel", value: func(b api.Build) string { return b.Kernel }},
			{title: "size", value: func(b api.Build) string { return size(b.Bytes) }, right: true},
			{title: "problems", value: func(b api.Build) string { return strconv.Itoa(len(b.Problems)) }, right: true},
			{title: "note", value: func(b api.Build) string { return b.Note }},
		},
	})
}

// buildNumber reads a build's number; without one it is 0, the offered one.
func buildNumber(args []string) (int, error) {
	if len(args) == 0 {
		return 0, nil
	}
	n, err := strconv.Atoi(args[0])
	if err != nil || n < 0 {
		return 0, usageError{fmt.Errorf("%q is not the number of a build", args[0])}
	}
	return n, nil
}

func (a *app) environmentShow() *cobra.Command {
	var files bool
	cmd := &cobra.Command{
		Use: "show [BUILD]", Short: "Show a build, or the one that is offered", Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := buildNumber(args)
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			b, err := c.Build(cmd.Context(), n)
			if err != nil || !files {
				if err == nil {
					err = a.printBuild(cmd, b)
				}
				return err
			}
			type row struct {
				Layer string `json:"layer"`
				api.BuildFile
			}
			var rows []row
			for _, p := range b.Parts {
				rows = append(rows, row{"", p})
			}
			for _, l := range b.Layers {
				for _, f := range l.Files {
					rows = append(rows, row{l.Name, f})
				}
			}
			return printList(cmd, a, rows, []column[row]{
				{title: "layer", value: func(r row) string { return r.Layer }},
				{title: "path", value: func(r row) string { return r.Path }},
				{title: "size", value: func(r row) string { return size(r.Bytes) }, right: true},
				{title: "digest", value: func(r row) string { return r.Digest[:12] }},
				{title: "origin", value: func(r row) string { return r.Origin }},
			})
		},
	}
	cmd.Flags().BoolVar(&files, "files", false, "list every file with digest and origin")
	return cmd
}

func (a *app) environmentOffer() *cobra.Command {
	return a.silent(&cobra.Command{
		Use: "offer BUILD", Short: "Have workstations boot a build from now on", Args: cobra.ExactArgs(1),
	}, func(ctx context.Context, c *apiclient.Client, args []string) error {
		n, err := buildNumber(args)
		if err != nil {
			return err
		}
		return c.OfferBuild(ctx, n)
	})
}

func (a *app) environmentRemove() *cobra.Command {
	return a.silent(&cobra.Command{
		Use: "remove BUILD", Short: "Remove a build that is neither offered nor pinned", Args: cobra.ExactArgs(1),
		Example: "  jugate environment remove 3",
	}, func(ctx context.Context, c *apiclient.Client, args []string) error {
		n, err := buildNumber(args)
		if err != nil {
			return err
		}
		return c.RemoveBuild(ctx, n)
	})
}

func (a *app) environmentDiff() *cobra.Command {
	return &cobra.Command{
		Use: "diff BUILD [BUILD]", Short: "Show what differs between a build and another one, or the one that is offered", Args: cobra.RangeArgs(1, 2),
		RunE: func(cmd *cobra.Command, args []string) error {
			from, err := buildNumber(args[:1])
			if err != nil {
				return err
			}
			to, err := buildNumber(args[1:])
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			changes, err := c.DiffBuilds(cmd.Context(), from, to)
			if err != nil {
				return err
			}
			return printList(cmd, a, changes, []column[api.BuildChange]{
				{title: "what", value: func(c api.BuildChange) string { return c.What }},
				{title: "path", value: func(c api.BuildChange) string { return c.Path }},
				{title: "from", value: func(c api.BuildChange) string { return c.OriginA }},
				{title: "to", value: func(c api.BuildChange) string { return c.OriginB }},
			}, "the two builds hold the same")
		},
	}
}

func (a *app) environmentPin() *cobra.Command {
	var group bool
	cmd := &cobra.Command{
		Use: "pin NAME BUILD", Short: "Pin a workstation or a group to one build, whatever is offered; 0 removes the pin", Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := buildNumber(args[1:])
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			if group {
				return c.PinGroup(cmd.Context(), args[0], n)
			}
			return c.PinWorkstation(cmd.Context(), args[0], n)
		},
	}
	cmd.Flags().BoolVar(&group, "group", false, "NAME is a group")
	return cmd
}
