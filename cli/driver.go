package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/driver"
)

func (a *app) driverCommand() *cobra.Command {
	return noun("driver", "Keep drivers, see what they cover, and install them",
		a.driverAdd(), a.driverList(), a.driverShow(), a.driverRemove(), a.driverExplain(), a.driverCoverage(), a.driverInstall(), a.driverSetCommand())
}

func (a *app) driverAdd() *cobra.Command {
	return &cobra.Command{
		Use: "add PATH…", Short: "Take the driver packages of folders and archives into the library", Args: cobra.MinimumNArgs(1),
		Long: "Take the driver packages of folders and archives into the library.\n\nArchives are zip, tar, cab, Debian packages, and ISO 9660 or UDF images. What is in\nthem is found by itself: INF files with all that they name, and kernel modules.",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var all api.DriversAdded
			for _, path := range args {
				m := newMeter(cmd.ErrOrStderr(), "adding "+filepath.Base(path))
				added, err := addDrivers(cmd.Context(), c, path)
				m.end()
				if err != nil {
					return err
				}
				all.Packages = append(all.Packages, added.Packages...)
				all.There = append(all.There, added.There...)
				all.Skipped = append(all.Skipped, added.Skipped...)
			}
			return a.printAdded(cmd, all)
		},
	}
}

// addDrivers sends a file, or a folder as an archive.
func addDrivers(ctx context.Context, c *apiclient.Client, path string) (api.DriversAdded, error) {
	content, err := openOrPack(path)
	if err != nil {
		return api.DriversAdded{}, err
	}
	defer content.Close()
	return c.AddDrivers(ctx, filepath.Base(path), content)
}

func (a *app) printAdded(cmd *cobra.Command, all api.DriversAdded) error {
	if a.output == "json" {
		return printJSON(cmd.OutOrStdout(), all)
	}
	type row struct {
		What string `json:"what"`
		api.DriverPackage
	}
	var rows []row
	for _, p := range all.Packages {
		rows = append(rows, row{"added", p})
	}
	for _, p := range all.There {
		rows = append(rows, row{"was there", p})
	}
	columns := []column[row]{{title: "what", value: func(r row) string { return r.What }}}
	for _, c := range driverColumns {
		columns = append(columns, column[row]{title: c.title, value: func(r row) string { return c.value(r.DriverPackage) }, right: c.right})
	}
	if err := printList(cmd, a, rows, columns); err != nil {
		return err
	}
	for _, p := range all.Packages {
		for _, r := range p.Remarks {
			fmt.Fprintf(cmd.ErrOrStderr(), "warning: %s: %s\n", p.Label, r)
		}
	}
	for _, s := range all.Skipped {
		fmt.Fprintf(cmd.ErrOrStderr(), "left out: %s: %s\n", s.Path, s.Reason)
	}
	if len(rows) == 0 {
		return fmt.Errorf("there is no driver package in it")
	}
	return nil
}

var driverColumns = []column[api.DriverPackage]{
	{title: "id", value: func(p api.DriverPackage) string { return p.ID }},
	{title: "package", value: func(p api.DriverPackage) string { return p.Name }},
	{title: "version", value: func(p api.DriverPackage) string { return p.Version }},
	{title: "date", value: func(p api.DriverPackage) string { return p.Date }},
	{title: "class", value: func(p api.DriverPackage) string { return p.Class }},
	{title: "provider", value: func(p api.DriverPackage) string { return p.Provider }},
	{title: "for", value: driverFor},
	{title: "signed by", value: func(p api.DriverPackage) string { return p.Signer }},
	{title: "drives", value: func(p api.DriverPackage) string { return strconv.Itoa(p.Drives) }, right: true},
	{title: "serves", value: func(p api.DriverPackage) string { return few(p.Serves) }},
}

// driverFor says what system a package is for.
func driverFor(p api.DriverPackage) string {
	if p.Kind == "modules" {
		return "linux " + strings.Join(p.Arch, " ")
	}
	return "windows " + strings.Join(p.Arch, " ")
}

// few names some workstations and counts the rest.
func few(names []string) string {
	if len(names) > 3 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:3], " "), len(names)-3)
	}
	return strings.Join(names, " ")
}

func (a *app) driverList() *cobra.Command {
	cmd := list(a, lister[api.DriverPackage]{
		short: "List driver packages, and which workstations each serves best", example: "  jugate driver list --class network\n  jugate driver list --device 8086:15b8",
		what: "driver packages", none: "no drivers yet; add those of a folder or archive with: jugate driver add PATH",
		fetch: (*apiclient.Client).Drivers, columns: driverColumns,
		filters: []filter{
			{name: "class", help: "only packages of a class", values: []string{"network", "storage", "display", "sound", "input", "usb", "board", "other"}},
			{name: "kind", help: "only packages of a kind", values: []string{"inf", "modules"}},
			{name: "device", help: "only packages that drive a device: VENDOR:PRODUCT, a hardware id or a modalias"},
			{name: "search", param: "search", help: "only packages that have all of these words somewhere"},
		},
	})
	return cmd
}

func (a *app) driverShow() *cobra.Command {
	return &cobra.Command{
		Use: "show PACKAGE", Short: "Show a package with what it drives", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := c.Driver(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			err = show(cmd, a, p,
				field{"id", p.ID}, field{"package", p.Label}, field{"class", p.Class}, field{"provider", p.Provider}, field{"date", p.Date}, field{"for", driverFor(p)}, field{"kernel", p.Kernel},
				field{"catalogue", p.Catalogue}, field{"signed by", p.Signer}, field{"size", size(p.Bytes)}, field{"files", strconv.Itoa(len(p.Files))}, field{"from", p.Origin}, field{"added", when(p.Added)},
				field{"serves best", strings.Join(p.Serves, " ")}, field{"warnings", strings.Join(p.Remarks, "; ")})
			if err != nil || a.output != "table" {
				return err
			}
			fmt.Fprintln(cmd.OutOrStdout())
			return printList(cmd, a, p.Models, []column[api.DriverModel]{
				{title: "drives", value: func(m api.DriverModel) string { return m.Name }},
				{title: "of", value: func(m api.DriverModel) string { return m.Maker }},
				{title: "for", value: func(m api.DriverModel) string { return m.For }},
				{title: "identifiers", value: func(m api.DriverModel) string { return few(m.IDs) }},
				{title: "needs", value: func(m api.DriverModel) string { return strings.Join(m.Needs, " ") }},
			}, "it drives nothing that is known here")
		},
	}
}

func (a *app) driverRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove PACKAGE…", Short: "Take packages out of the library; builds and workstations that have them keep them", Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			for _, ref := range args {
				if err := c.RemoveDriver(cmd.Context(), ref); err != nil {
					return err
				}
			}
			return nil
		},
	}
}

func (a *app) driverExplain() *cobra.Command {
	var device, image string
	cmd := &cobra.Command{
		Use: "explain WORKSTATION", Short: "Show which packages drive each device, and why one is preferred", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			all, err := c.ExplainDrivers(cmd.Context(), args[0], device, image)
			if err != nil {
				return err
			}
			if a.output == "json" {
				return printJSON(cmd.OutOrStdout(), all)
			}
			type row struct {
				Device string `json:"device"`
				api.DriverCandidate
			}
			var rows []row
			for _, d := range all {
				for _, k := range d.Candidates {
					rows = append(rows, row{d.Label, k})
				}
				if a.output == "csv" {
					continue
				}
				out := cmd.OutOrStdout()
				fmt.Fprintf(out, "%s, %s%s\n", d.Label, d.Device.Class, driven(d.Device.Driver))
				for _, v := range []struct {
					where string
					api.Cover
				}{{"boot environment", d.Verdicts.Environment}, {"delivered system", d.Verdicts.Delivered}} {
					fmt.Fprintf(out, "  %s: %s\n", v.where, coverWords(v.Cover))
				}
				if len(d.Candidates) == 0 {
					fmt.Fprintln(out, "    no package of the library drives it")
				}
				for _, k := range d.Candidates {
					mark := " "
					if k.Wins {
						mark = "*"
					}
					fmt.Fprintf(out, "  %s %s  %s (%s)\n      fits %s\n      %s\n", mark, k.Package, k.Label, k.Name, k.ID, k.Why)
				}
				fmt.Fprintln(out)
			}
			if a.output == "csv" {
				return printList(cmd, a, rows, []column[row]{
					{title: "device", value: func(r row) string { return r.Device }}, {title: "package", value: func(r row) string { return r.Package }},
					{title: "label", value: func(r row) string { return r.Label }}, {title: "wins", value: func(r row) string { return yesNo(r.Wins) }},
					{title: "rank", value: func(r row) string { return fmt.Sprintf("%#06x", r.Rank) }}, {title: "identifier", value: func(r row) string { return r.ID }}, {title: "why", value: func(r row) string { return r.Why }},
				})
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&device, "device", "", "only devices whose identifier contains this, such as 8086:15b8")
	cmd.Flags().StringVar(&image, "image", "", "for the system of this image (default: the one that it got last)")
	cmd.RegisterFlagCompletionFunc("image", a.complete(imageNames))
	return cmd
}

func driven(by string) string {
	if by == "" {
		return ""
	}
	return ", taken by " + by + " when it was seen last"
}

// coverWords say a verdict in a line.
func coverWords(c api.Cover) string {
	switch {
	case c.State == driver.WillInstall:
		return "will be installed with it: " + c.By
	case c.By != "":
		return string(c.State) + " by " + c.By
	case c.Why != "":
		return string(c.State) + ": " + c.Why
	}
	return string(c.State)
}

func (a *app) driverCoverage() *cobra.Command {
	var q apiclient.CoverageQuery
	var exitCode, all bool
	cmd := &cobra.Command{
		Use: "coverage [WORKSTATION…]", Short: "Tell whether the boot environment and an image drive the devices of workstations", Args: cobra.ArbitraryArgs,
		Long: "Tell whether the boot environment and an image drive the devices of workstations.\n\nNetwork cards and disk controllers are shown, and whatever else has no driver; --all\nshows everything.",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			q.To = args
			cover, err := c.Coverage(cmd.Context(), q)
			if err != nil {
				return err
			}
			if err := a.printCoverage(cmd, cover, all); err != nil || !exitCode {
				return err
			}
			return judgeCoverage(cover, q.Image != "")
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&q.Group, "group", "", "the workstations of a group")
	flags.StringVar(&q.Model, "model", "", "maker and model; wildcards may be used")
	flags.StringVar(&q.Image, "image", "", "the delivered system, as NAME or NAME@VERSION")
	flags.IntVar(&q.Build, "build", 0, "build of the boot environment (default: the one that is offered)")
	flags.StringSliceVar(&q.Drivers, "drivers", nil, driversHelp)
	flags.BoolVar(&all, "all", false, "show all devices")
	flags.BoolVar(&exitCode, "exit-code", false, "end with 1 if a network card or disk controller has no driver, or if nobody can tell")
	cmd.RegisterFlagCompletionFunc("group", a.complete(groupNames))
	cmd.RegisterFlagCompletionFunc("image", a.complete(imageNames))
	cmd.RegisterFlagCompletionFunc("drivers", a.complete(driverSetNames))
	return cmd
}

// judgeCoverage is an error if a vital device has no driver, or if nobody can tell.
func judgeCoverage(cover api.Coverage, withImage bool) error {
	lacking, unknown := 0, 0
	for _, m := range cover.Models {
		blind := len(m.Devices) == 0
		for _, d := range m.Devices {
			if d.Class == "network" || d.Class == "storage" {
				blind = blind || d.Environment.State == driver.Unknown || withImage && d.Delivered.State == driver.Unknown
			}
		}
		switch {
		case len(m.LackingEnvironment)+len(m.LackingDelivered) > 0:
			lacking++
		case blind:
			unknown++
		}
	}
	switch {
	case lacking > 0:
		return fmt.Errorf("%d of %d models lack the driver of a network card or disk controller", lacking, len(cover.Models))
	case cover.Build == 0:
		return errors.New("nobody can tell, as no build of the boot environment is offered")
	case unknown > 0:
		return fmt.Errorf("nobody can tell for %d of %d models: what the build or the image drives is not known (%s)", unknown, len(cover.Models), cover.System)
	case len(cover.Unknown) > 0:
		return fmt.Errorf("nobody can tell for %s, whose devices were never seen: %s", count(len(cover.Unknown), "workstation"), few(cover.Unknown))
	case len(cover.Models) == 0:
		return errors.New("nobody can tell, as no workstation has told its devices yet")
	}
	return nil
}

// driversHelp says what --drivers is.
const driversHelp = "driver sets to choose from, or none (default: the whole library, for what the system lacks)"

func (a *app) printCoverage(cmd *cobra.Command, cover api.Coverage, all bool) error {
	if a.output == "json" {
		return printJSON(cmd.OutOrStdout(), cover)
	}
	type row struct {
		Model        string `json:"model"`
		Workstations int    `json:"workstations"`
		api.DeviceCover
	}
	var rows []row
	for _, m := range cover.Models {
		for _, d := range m.Devices {
			vital := d.Class == "network" || d.Class == "storage"
			if all || vital || d.Environment.State == driver.Uncovered || d.Delivered.State == driver.Uncovered {
				rows = append(rows, row{m.Model, len(m.Workstations), d})
			}
		}
	}
	words := func(c api.Cover) string {
		s := string(c.State)
		if c.By != "" {
			s += ": " + c.By
		} else if c.Label != "" {
			s += "; " + c.Label + " would drive it"
		}
		return s
	}
	if a.output == "table" {
		build := "no build is offered"
		if cover.Build > 0 {
			build = fmt.Sprintf("build %d", cover.Build)
		}
		printFields(cmd.OutOrStdout(), []field{{"boot environment", build}, {"delivered system", strings.TrimPrefix(cover.Image+": "+cover.System, ": ")}})
		fmt.Fprintln(cmd.OutOrStdout())
	}
	err := printList(cmd, a, rows, []column[row]{
		{title: "model", value: func(r row) string { return fmt.Sprintf("%s (%d)", r.Model, r.Workstations) }},
		{title: "class", value: func(r row) string { return r.Class }},
		{title: "device", value: func(r row) string { return strings.TrimSpace(r.Label + " " + r.Name) }},
		{title: "boot environment", value: func(r row) string { return words(r.Environment) }},
		{title: "delivered system", value: func(r row) string { return words(r.Delivered) }},
	}, "there is nothing to tell: either all devices are driven (--all shows them), or no workstation has told its devices yet")
	if err != nil {
		return err
	}
	for _, m := range cover.Models {
		for _, l := range append(m.LackingEnvironment, m.LackingDelivered...) {
			fmt.Fprintf(cmd.ErrOrStderr(), "%s: %s\n", m.Model, l)
		}
	}
	if len(cover.Unknown) > 0 {
		fmt.Fprintf(cmd.ErrOrStderr(), "nobody has seen the devices of: %s\n", few(cover.Unknown))
	}
	return nil
}

// watchInstalls waits for errands that change the systems of workstations, and lists what was done.
func (a *app) watchInstalls(cmd *cobra.Command, c *apiclient.Client, errands []api.Errand, what string) (err error) {
	failed := 0
	for i := range errands {
		if errands[i], err = a.watchErrand(cmd.Context(), c, errands[i].ID, cmd.ErrOrStderr()); err != nil {
			return leaving(err, fmt.Sprintf("errand %d", errands[i].ID))
		}
		if errands[i].State != "done" {
			failed++
		}
	}
	if err := printList(cmd, a, errands, []column[api.Errand]{
		{title: "errand", value: func(e api.Errand) string { return fmt.Sprint(e.ID) }, right: true},
		{title: "workstation", value: func(e api.Errand) string { return e.Workstation }},
		{title: "state", value: func(e api.Errand) string { return string(e.State) }},
		{title: "what", value: func(e api.Errand) string { return strings.Join(e.Result, "; ") + e.Error }},
	}); err != nil {
		return err
	}
	if failed > 0 {
		return fmt.Errorf("%d of %d workstations could not install %s", failed, len(errands), what)
	}
	return nil
}

func (a *app) driverInstall() *cobra.Command {
	var in api.InstallDrivers
	cmd := &cobra.Command{
		Use: "install --to GROUP|WORKSTATION…", Short: "Have workstations add drivers to the image that they have already", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			errands, err := c.InstallDrivers(cmd.Context(), in)
			if err != nil {
				return err
			}
			return a.watchInstalls(cmd, c, errands, "their drivers")
		},
	}
	flags := cmd.Flags()
	a.targetFlags(cmd, &in.To, &in.Where)
	flags.StringSliceVar(&in.Drivers, "drivers", nil, driversHelp)
	flags.BoolVar(&in.Whole, "drivers-whole", false, "install everything that the sets have, matched or not")
	flags.StringVar(&in.Disk, "disk", "only", diskRuleHelp)
	cmd.RegisterFlagCompletionFunc("drivers", a.complete(driverSetNames))
	return cmd
}
