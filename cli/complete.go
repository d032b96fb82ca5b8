package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/order"
)

// namer lists what an argument can be, with what tells it from others behind a tab.
type namer func(ctx context.Context, c *apiclient.Client) ([]string, error)

// namers are what arguments can be, by how the command's usage calls them.
var namers = map[string]namer{
	"WORKSTATION": workstationNames, "WORKSTATION|GROUP": targetNames, "GROUP": groupNames, "HARDWARE-ADDRESS": cardNames,
	"IMAGE": imageNames, "IMAGE[@VERSION]": imageNames, "A[@VERSION]": imageNames, "B[@VERSION]": imageNames, "IMAGE@VERSION": versionsInUse,
	"BUILD": buildNumbers, "PACKAGE": driverNames, "SET": driverSetNames, "DELIVERY": deliveryNumbers, "ERRAND": errandNumbers, "RECEIPT": receiptNumbers, "KEY": keyNames, "MACHINE": workstationNames,
	"ENTRY": entryNames, "ENTRY[@VERSION]": entryNames, "ORDER": orderNames, "[ORDER]": orderNames, "RUN": openRuns, "CHECK": checkNumbers, "PERSON": personNames, "ROLE": roleNames, "TOKEN": tokenNames, "STORE": storeNames,
}

// special are the arguments of commands for which not everything of that name will do.
var special = map[string]namer{
	"workstation admit": newcomers, "workstation welcome": refusedMachines, "image readmit": retiredVersions,
	"order go-on": failedRuns, "order quiet remove": quietNames,
	"delivery pause": openDeliveries, "delivery resume": openDeliveries, "delivery stop": openDeliveries, "delivery rate": openDeliveries, "delivery extend": openDeliveries,
}

// completeArguments has the shell offer what fits as the next argument of each command.
func (a *app) completeArguments(cmd *cobra.Command) {
	for _, sub := range cmd.Commands() {
		a.completeArguments(sub)
	}
	if cmd.HasSubCommands() || cmd.ValidArgsFunction != nil {
		return
	}
	path := strings.TrimPrefix(cmd.CommandPath(), "jugate ")
	words := strings.Fields(cmd.Use)[1:]
	cmd.ValidArgsFunction = func(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
		at := min(len(args), len(words)-1)
		if at < 0 || at < len(args) && !strings.HasSuffix(words[at], "…") && !strings.HasSuffix(words[at], "…]") {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		kind := strings.TrimSuffix(strings.Trim(words[at], "[]"), "…")
		if strings.HasSuffix(words[at], "[@VERSION]") { // whose brackets are its own
			kind = words[at]
		}
		names := namers[kind]
		if at == 0 && special[path] != nil {
			names = special[path]
		}
		switch {
		case names != nil:
			return a.complete(names)(cmd, args, word)
		case kind == "FILE" || kind == "DISK" || kind == "PATH" || kind == "A" || kind == "B" || kind == "DIR":
			return nil, cobra.ShellCompDirectiveDefault
		}
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
}

// complete offers names from the service to the shell.
func (a *app) complete(names namer) cobra.CompletionFunc {
	return func(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
		if _, err := configure(cmd); err != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		if a.tokenFile != "" && a.token == "" {
			a.token, _ = readToken(a.tokenFile) // without one, nothing is offered
		}
		c, err := a.client()
		if err != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		found, err := names(cmd.Context(), c)
		if err != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		return found, cobra.ShellCompDirectiveNoFileComp
	}
}

// named lists the names of a page of things.
func named[T any](page api.Page[T], err error, name func(T) string) ([]string, error) {
	var names []string
	for _, item := range page.Items {
		if n := name(item); n != "" {
			names = append(names, n)
		}
	}
	return names, err
}

// most is how many names are offered.
const most = 1000

func workstationNames(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.Workstations(ctx, apiclient.List{Limit: most})
	return named(page, err, func(w api.Workstation) string {
		if w.Name == "" {
			return first(w.Addresses)
		}
		return w.Name
	})
}

func newcomers(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.Workstations(ctx, apiclient.List{Limit: most, Filter: map[string]string{"state": "newcomer"}})
	return named(page, err, func(w api.Workstation) string {
		return first(w.Addresses) + "\t" + strings.TrimSpace(w.Maker+" "+w.Model+" "+w.Serial)
	})
}

func cardNames(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.Cards(ctx, apiclient.List{Limit: most})
	return named(page, err, func(h api.HardwareAddress) string { return h.Address + "\t" + h.Workstation })
}

func refusedMachines(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.Refusals(ctx, apiclient.List{Limit: most})
	return named(page, err, func(r api.Refusal) string { return r.Value + "\t" + r.Note })
}

func groupNames(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.Groups(ctx, apiclient.List{Limit: most})
	return named(page, err, func(g api.Group) string { return g.Name })
}

func targetNames(ctx context.Context, c *apiclient.Client) ([]string, error) {
	groups, err := groupNames(ctx, c)
	names, err2 := workstationNames(ctx, c)
	return append(groups, names...), errors.Join(err, err2)
}

func imageNames(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.Images(ctx, apiclient.List{Limit: most})
	return named(page, err, func(v api.Version) string { return v.Image })
}

// versions are those of all images in a state.
func versions(ctx context.Context, c *apiclient.Client, in func(api.Version) bool) (all []string, err error) {
	names, err := imageNames(ctx, c)
	for _, name := range names {
		page, err := c.Versions(ctx, name)
		if err != nil {
			return nil, err
		}
		for _, v := range page.Items {
			if in(v) {
				all = append(all, fmt.Sprintf("%s@%d\t%s", v.Image, v.Version, v.Note))
			}
		}
	}
	return all, err
}

func versionsInUse(ctx context.Context, c *apiclient.Client) ([]string, error) {
	return versions(ctx, c, func(v api.Version) bool { return v.State == "in use" })
}

func retiredVersions(ctx context.Context, c *apiclient.Client) ([]string, error) {
	return versions(ctx, c, func(v api.Version) bool { return v.State == "retired" })
}

func deliveryNumber(d api.Delivery) string {
	return fmt.Sprintf("%d\t%s@%d, %s", d.ID, d.Image, d.Version, d.State)
}

func deliveryNumbers(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.Deliveries(ctx, apiclient.List{Limit: most})
	return named(page, err, deliveryNumber)
}

func openDeliveries(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.Deliveries(ctx, apiclient.List{Limit: most, Filter: map[string]string{"open": "true"}})
	return named(page, err, deliveryNumber)
}

func errandNumbers(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.Errands(ctx, apiclient.List{Limit: most, Filter: map[string]string{"open": "true"}})
	return named(page, err, func(e api.Errand) string { return fmt.Sprintf("%d\t%s of %s", e.ID, e.Kind, e.Workstation) })
}

func receiptNumbers(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.Receipts(ctx, apiclient.List{Limit: most})
	return named(page, err, func(r api.Receipt) string {
		return fmt.Sprintf("%d\t%s@%d on %s, %s", r.ID, r.Image, r.Version, r.Workstation, r.Outcome)
	})
}

func buildNumbers(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.Builds(ctx, apiclient.List{Limit: most})
	return named(page, err, func(b api.Build) string { return fmt.Sprintf("%d\t%s, %s", b.Number, b.Kernel, b.Note) })
}

func driverNames(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.Drivers(ctx, apiclient.List{Limit: most})
	return named(page, err, func(p api.DriverPackage) string { return p.ID + "\t" + p.Label })
}

func driverSetNames(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.DriverSets(ctx)
	return named(page, err, func(s api.DriverSet) string { return s.Name })
}

func keyNames(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.MediaKeys(ctx)
	return named(page, err, func(k api.MediaKey) string { return k.ID + "\t" + k.Note })
}

func personNames(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.People(ctx)
	return named(page, err, func(p api.Person) string { return p.Name + "\t" + p.FullName })
}

func roleNames(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.Roles(ctx)
	return named(page, err, func(r api.Role) string { return r.Name + "\t" + r.Note })
}

func tokenNames(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.Tokens(ctx)
	return named(page, err, func(t api.Token) string { return t.Name + "\t" + t.Person })
}

func orderNames(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.Orders(ctx, apiclient.List{})
	return named(page, err, func(k api.KeptOrder) string { return k.Name + "\t" + orderWords(k.Work) })
}

func openRuns(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.Runs(ctx, apiclient.List{Filter: map[string]string{"open": "true"}})
	return named(page, err, func(r api.OrderRun) string { return fmt.Sprintf("%d\t%s", r.ID, r.Order) })
}

func failedRuns(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.Runs(ctx, apiclient.List{Limit: most})
	return named(page, err, func(r api.OrderRun) string {
		return pick(r.State == order.Failed || r.State == order.Stopped, fmt.Sprintf("%d\t%s, %s", r.ID, r.Order, r.State), "")
	})
}

func quietNames(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.QuietTimes(ctx, apiclient.List{Limit: most})
	return named(page, err, func(t api.QuietTime) string { return t.Name + "\t" + t.Note })
}

func domainNames(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.Domains(ctx)
	return named(page, err, func(d api.Domain) string { return d.Name })
}

func outpostNames(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.Outposts(ctx)
	return named(page, err, func(o api.Outpost) string { return o.Name + "\t" + o.Note })
}

func storeNames(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.Stores(ctx)
	return named(page, err, func(s api.Store) string { return s.Name + "\t" + s.Place })
}

func directoryNames(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.Directories(ctx)
	return named(page, err, func(d api.Directory) string { return d.Name })
}

func ruleNames(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.NotificationRules(ctx)
	return named(page, err, func(r api.NotificationRule) string { return r.Rule })
}

func entryNames(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.BootEntries(ctx, apiclient.List{})
	return named(page, err, func(e api.BootEntry) string { return e.Name + "\t" + e.Note })
}

func payloadNames(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.Payloads(ctx)
	return named(page, err, func(p api.Payload) string { return p.Name + "\t" + p.Note })
}
