package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

func (a *app) reportCommand() *cobra.Command {
	return noun("report", "Tell what rooms have, which machines fail, what was saved, and which licences and drivers there are",
		report(a, reported[api.RoomReport]{
			use: "rooms", short: "Tell which group has which versions on its disks, and who is behind", none: "no group has a workstation in it",
			fetch: func(ctx context.Context, c *apiclient.Client, _, _ time.Time) (api.Page[api.RoomReport], error) {
				return c.RoomReport(ctx)
			},
			columns: []column[api.RoomReport]{
				{title: "group", value: func(r api.RoomReport) string { return r.Group }},
				{title: "has", value: func(r api.RoomReport) string {
					return pick(r.Image == "", "no image", r.Image+pick(r.Unfinished, ", unfinished", ""))
				}},
				{title: "workstations", right: true, value: func(r api.RoomReport) string { return fmt.Sprint(r.Count) }},
				{title: "should have", value: func(r api.RoomReport) string { return r.Should }},
				{title: "behind", value: func(r api.RoomReport) string { return pick(r.Behind, "behind", "") }},
				{title: "who", value: func(r api.RoomReport) string { return strings.Join(r.Workstations, " ") }},
			},
		}),
		report(a, reported[api.FailureReport]{
			use: "failures", short: "Tell what the last checks of workstations did not find good", none: "no check has found anything wrong", inPeriod: true, fetch: func(ctx context.Context, c *apiclient.Client, since, until time.Time) (api.Page[api.FailureReport], error) {
				return c.FailureReport(ctx, since, until)
			},
			columns: []column[api.FailureReport]{
				{title: "workstation", value: func(r api.FailureReport) string { return r.Workstation }},
				{title: "model", value: func(r api.FailureReport) string { return strings.TrimSpace(r.Maker + " " + r.Model) }},
				{title: "serial", value: func(r api.FailureReport) string { return r.Serial }},
				{title: "checked", value: func(r api.FailureReport) string { return when(r.Ended) }},
				{title: "verdict", value: func(r api.FailureReport) string { return r.Verdict }},
				{title: "about", value: func(r api.FailureReport) string { return r.About }},
				{title: "what", value: func(r api.FailureReport) string { return r.Text }},
			},
		}),
		report(a, reported[api.SavingsReport]{
			use: "savings", short: "Tell what multicast, and what was on disks already, have saved", none: "no delivery ended in that time", inPeriod: true, fetch: func(ctx context.Context, c *apiclient.Client, since, until time.Time) (api.Page[api.SavingsReport], error) {
				return c.SavingsReport(ctx, since, until)
			},
			columns: []column[api.SavingsReport]{
				{title: "delivery", right: true, value: func(r api.SavingsReport) string { return fmt.Sprint(r.Delivery) }},
				{title: "image", value: func(r api.SavingsReport) string { return fmt.Sprintf("%s@%d", r.Image, r.Version) }},
				{title: "ended", value: func(r api.SavingsReport) string { return when(r.Ended) }},
				{title: "workstations", right: true, value: func(r api.SavingsReport) string { return fmt.Sprint(r.Count) }},
				{title: "received", right: true, value: func(r api.SavingsReport) string { return size(r.Received) }},
				{title: "sent", right: true, value: func(r api.SavingsReport) string { return size(r.Wire) }},
				{title: "on disks already", right: true, value: func(r api.SavingsReport) string { return size(r.Reused) }},
				{title: "saved", right: true, value: func(r api.SavingsReport) string { return size(r.Saved) }},
				{title: "time saved", right: true, value: func(r api.SavingsReport) string {
					return pick(r.Seconds == 0, "", time.Duration(r.Seconds*float64(time.Second)).Round(time.Second).String())
				}},
			},
		}),
		report(a, reported[api.LicenceReport]{
			use: "licences", short: "Tell which workstations are given a product key, or join a domain", none: "no answer names a product key or a domain",
			fetch: func(ctx context.Context, c *apiclient.Client, _, _ time.Time) (api.Page[api.LicenceReport], error) {
				return c.LicenceReport(ctx)
			},
			columns: licenceColumns,
		}),
		driverReport(a))
}

var licenceColumns = []column[api.LicenceReport]{
	{title: "workstation", value: func(r api.LicenceReport) string { return r.Workstation }},
	{title: "model", value: func(r api.LicenceReport) string { return r.Model }},
	{title: "has", value: func(r api.LicenceReport) string { return r.Image }},
	{title: "product key", value: func(r api.LicenceReport) string { return pick(r.Key == "", "", "…"+r.Key) }},
	{title: "from", value: func(r api.LicenceReport) string { return r.KeyFrom }},
	{title: "domain", value: func(r api.LicenceReport) string { return r.Domain }},
	{title: "as", value: func(r api.LicenceReport) string { return r.Name }},
	{title: "started", value: func(r api.LicenceReport) string { return whenPtr(r.Arrived) }},
	{title: "remark", value: func(r api.LicenceReport) string { return r.Remark }},
}

var driverReportColumns = []column[api.DriverReport]{
	{title: "model", value: func(r api.DriverReport) string { return r.Model }},
	{title: "workstations", right: true, value: func(r api.DriverReport) string { return fmt.Sprint(r.Workstations) }},
	{title: "device", value: func(r api.DriverReport) string { return r.Device }},
	{title: "class", value: func(r api.DriverReport) string { return r.Class }},
	{title: "in the boot environment", value: func(r api.DriverReport) string { return strings.TrimSpace(r.Environment + " " + r.By) }},
	{title: "in the system", value: func(r api.DriverReport) string { return strings.TrimSpace(r.System + " " + r.SystemBy) }},
}

// reported is a report as a command.
type reported[T any] struct {
	use, short, none string
	inPeriod         bool
	fetch            func(ctx context.Context, c *apiclient.Client, since, until time.Time) (api.Page[T], error)
	columns          []column[T]
}

func report[T any](a *app, r reported[T]) *cobra.Command {
	var since, until string
	cmd := &cobra.Command{
		Use: r.use, Short: r.short, Args: cobra.NoArgs, Example: "  jugate report " + r.use + "\n  jugate report " + r.use + " --output csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			from, err := timeOf("since", since)
			if err != nil {
				return err
			}
			to, err := timeOf("until", until)
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			page, err := r.fetch(cmd.Context(), c, from, to)
			if err != nil {
				return err
			}
			return printList(cmd, a, page.Items, r.columns, r.none)
		},
	}
	if r.inPeriod {
		cmd.Flags().StringVar(&since, "since", "", "from then on, as 2026-03-01T00:00:00Z")
		cmd.Flags().StringVar(&until, "until", "", "before then; now by default")
		cmd.Example = "  jugate report " + r.use + "\n  jugate report " + r.use + " --since 2026-03-01T00:00:00Z --output csv"
	}
	return cmd
}

// timeOf reads the time of a flag; zero for none.
func timeOf(flag, text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return at, usageError{fmt.Errorf("--%s: %q is not a time such as 2026-03-01T18:30:00Z (RFC 3339)", flag, text)}
	}
	return at, nil
}

func driverReport(a *app) *cobra.Command {
	var image string
	cmd := report(a, reported[api.DriverReport]{
		use: "drivers", short: "Tell for each device of each model whether it has a driver", none: "which devices there are was not seen yet",
		fetch: func(ctx context.Context, c *apiclient.Client, _, _ time.Time) (api.Page[api.DriverReport], error) {
			return c.DriverReport(ctx, image)
		},
		columns: driverReportColumns,
	})
	cmd.Flags().StringVar(&image, "image", "", "also in what this delivers, as NAME or NAME@VERSION")
	return cmd
}
