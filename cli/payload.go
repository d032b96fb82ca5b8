package cli

import (
	"context"
	"os"
	"path/filepath"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

func (a *app) payloadCommand() *cobra.Command {
	return noun("payload", "Keep files and packages that go onto delivered systems", a.payloadAdd(), a.payloadList(), a.payloadShow(), a.payloadInstall(),
		a.silent(&cobra.Command{
			Use: "remove PAYLOAD", Short: "Remove a payload; systems that have it keep it", Args: cobra.ExactArgs(1),
			Example: "  jugate payload remove scanner-tools_2.1_amd64.deb", ValidArgsFunction: a.complete(payloadNames),
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.RemovePayload(ctx, args[0])
		}))
}

func (a *app) payloadAdd() *cobra.Command {
	var name, note string
	cmd := &cobra.Command{
		Use: "add FILE", Short: "Take a file that goes onto delivered systems", Args: cobra.ExactArgs(1),
		Long:    "The answer payloads then brings it onto copies: payloads=[{name: FILE, install: true}].\nThe same content is kept once.",
		Example: "  jugate payload add scanner-tools_2.1_amd64.deb --note 'for the herbarium'",
		RunE: func(cmd *cobra.Command, args []string) error {
			f, err := os.Open(args[0])
			if err != nil {
				return err
			}
			defer f.Close()
			if name == "" {
				name = filepath.Base(args[0])
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := c.AddPayload(cmd.Context(), name, note, f)
			if err != nil {
				return err
			}
			return a.printPayloads(cmd, []api.Payload{p})
		},
	}
	cmd.Flags().StringVar(&name, "name", "", "what it is called; the name of the file by default")
	cmd.Flags().StringVar(&note, "note", "", "what people should know of it")
	return cmd
}

func (a *app) payloadList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List payloads", Args: cobra.NoArgs, Example: "  jugate payload list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			page, err := c.Payloads(cmd.Context())
			if err != nil {
				return err
			}
			return a.printPayloads(cmd, page.Items)
		},
	}
}

func (a *app) printPayloads(cmd *cobra.Command, all []api.Payload) error {
	return printList(cmd, a, all, []column[api.Payload]{
		{title: "payload", value: func(p api.Payload) string { return p.Name }},
		{title: "size", value: func(p api.Payload) string { return humanize.IBytes(uint64(p.Size)) }},
		{title: "digest", value: func(p api.Payload) string { return p.Digest[:min(12, len(p.Digest))] }},
		{title: "added", value: func(p api.Payload) string { return when(p.Added) }},
		{title: "note", value: func(p api.Payload) string { return p.Note }},
	}, "no payload yet; jugate payload add takes one")
}

func (a *app) payloadShow() *cobra.Command {
	return &cobra.Command{
		Use: "show PAYLOAD", Short: "Show a payload with its whole digest", Args: cobra.ExactArgs(1), Example: "  jugate payload show scanner-tools_2.1_amd64.deb",
		ValidArgsFunction: a.complete(payloadNames),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := c.Payload(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if a.output != "table" {
				return show(cmd, a, p)
			}
			printFields(cmd.OutOrStdout(), []field{{"payload", p.Name}, {"digest", p.Digest}, {"size", humanize.IBytes(uint64(p.Size))}, {"added", when(p.Added)}, {"note", p.Note}})
			return nil
		},
	}
}

func (a *app) payloadInstall() *cobra.Command {
	var in api.InstallPayloads
	var only bool
	cmd := &cobra.Command{
		Use: "install PAYLOAD… --to GROUP|WORKSTATION…", Short: "Have workstations bring payloads onto the system that they have already", Args: cobra.MinimumNArgs(1),
		Long:              "Packages (.deb, .rpm) are installed when the system starts next; other files lie in\n/var/lib/jugate/payloads, or in \\Jugate\\Payloads of Windows.",
		Example:           "  jugate payload install scanner-tools_2.1_amd64.deb --to herbarium",
		ValidArgsFunction: a.complete(payloadNames),
		RunE: func(cmd *cobra.Command, args []string) error {
			in.Payloads, in.Install = args, !only
			c, err := a.client()
			if err != nil {
				return err
			}
			errands, err := c.InstallPayloads(cmd.Context(), in)
			if err != nil {
				return err
			}
			return a.watchInstalls(cmd, c, errands, "their payloads")
		},
	}
	a.targetFlags(cmd, &in.To, &in.Where)
	cmd.Flags().BoolVar(&only, "only-bring", false, "install no packages, just bring them")
	cmd.Flags().StringVar(&in.Disk, "disk", "only", diskRuleHelp)
	return cmd
}
