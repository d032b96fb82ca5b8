package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

func (a *app) domainCommand() *cobra.Command {
	return noun("domain", "Say which domains delivered systems can join", a.domainAdd(), a.domainList(), a.domainCheck(),
		a.silent(&cobra.Command{
			Use: "remove DOMAIN", Short: "Forget a domain and the password of its account; its computers stay in it", Args: cobra.ExactArgs(1),
			Example: "  jugate domain remove fennholt.example", ValidArgsFunction: a.complete(domainNames),
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.RemoveDomain(ctx, args[0])
		}))
}

func (a *app) domainAdd() *cobra.Command {
	var in api.NewDomain
	var certificate string
	cmd := &cobra.Command{
		Use: "add DOMAIN --account NAME --unit DN", Short: "Enter a domain, with the account that creates computers in one unit", Args: cobra.ExactArgs(1),
		Long:    "The account needs the right to create computers in one unit, and no other. Its password is\nasked for, or read from standard input; it is sealed, and never leaves the service. Nothing\nis entered unless the directory takes the account and lets it create computers there.\nThe answer domain then has copies join (docs/answers.md).",
		Example: "  jugate domain add fennholt.example --controller ldaps://dc1.fennholt.example --account jugate@fennholt.example --unit OU=Workstations,DC=fennholt,DC=example --certificate fennholt-authority.pem",
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			in.Name = args[0]
			if in.Certificate, err = readAuthority(cmd, certificate); err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			if in.Password, err = askSecret(cmd, "the password of "+in.Account); err != nil {
				return err
			}
			check, err := c.AddDomain(cmd.Context(), in)
			if err != nil {
				return err
			}
			return a.printDomainCheck(cmd, check)
		},
	}
	cmd.Flags().StringVar(&in.Server, "controller", "", "the domain controller, as ldaps://HOST[:PORT]; by default whoever answers at the domain's own name")
	cmd.Flags().StringVar(&in.Account, "account", "", "the account that creates computers, as the directory takes it for signing in")
	cmd.Flags().StringVar(&in.Unit, "unit", "", "where computers are created, as OU=Workstations,DC=fennholt,DC=example")
	cmd.Flags().StringVar(&certificate, "certificate", "", "a PEM file with the authority of the directory's certificate, if this machine does not trust it")
	cmd.MarkFlagRequired("account")
	cmd.MarkFlagRequired("unit")
	return cmd
}

func (a *app) domainList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the domains that were entered", Args: cobra.NoArgs, Example: "  jugate domain list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			page, err := c.Domains(cmd.Context())
			if err != nil {
				return err
			}
			return printList(cmd, a, page.Items, []column[api.Domain]{
				{title: "domain", value: func(d api.Domain) string { return d.Name }},
				{title: "controller", value: func(d api.Domain) string { return d.Server }},
				{title: "account", value: func(d api.Domain) string { return d.Account }},
				{title: "unit", value: func(d api.Domain) string { return d.Unit }},
				{title: "added", value: func(d api.Domain) string { return when(d.Added) }},
			}, "no domain was entered; jugate domain add does that")
		},
	}
}

func (a *app) domainCheck() *cobra.Command {
	return &cobra.Command{
		Use: "check DOMAIN", Short: "Ask a domain's directory whether computers can join", Args: cobra.ExactArgs(1), Example: "  jugate domain check fennholt.example",
		ValidArgsFunction: a.complete(domainNames),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			check, err := c.CheckDomain(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printDomainCheck(cmd, check)
		},
	}
}

func (a *app) printDomainCheck(cmd *cobra.Command, d api.DomainCheck) error {
	if a.output != "table" {
		return show(cmd, a, d)
	}
	printFields(cmd.OutOrStdout(), []field{{"domain", d.Name + " (" + d.ShortName + ")"}, {"controller", d.Controller}, {"site", d.Site}, {"unit", d.Unit}, {"its clock is ahead by", fmt.Sprintf("%d s", d.ClockAhead)}})
	_, err := fmt.Fprintln(cmd.OutOrStdout(), "\nthe account may create computers there")
	return err
}
