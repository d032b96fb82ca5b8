package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

func (a *app) directoryCommand() *cobra.Command {
	return noun("directory", "Say which directories people come from, and what their groups may do", a.directoryAdd(), a.directoryList(), a.directoryCheck(),
		a.silent(&cobra.Command{
			Use: "remove DIRECTORY", Short: "Forget a directory, with the people who came from it; what they did stays on record", Args: cobra.ExactArgs(1),
			Example: "  jugate directory remove garden", ValidArgsFunction: a.complete(directoryNames),
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.RemoveDirectory(ctx, args[0])
		}))
}

func (a *app) directoryAdd() *cobra.Command {
	var in api.NewDirectory
	var grants []string
	var certificate string
	cmd := &cobra.Command{
		Use: "add DIRECTORY SERVER --account ACCOUNT --grant ROLE=GROUP", Short: "Enter a directory, if it answers and has the groups", Args: cobra.ExactArgs(2),
		Long:    "Enter a directory: by LDAP with TLS, or an OpenID provider for the console. Its groups, also nested\nones, say what people may do here; who is in none of them cannot sign in. The account needs no right but to\nread, of a provider it is the client's id. Its password, or the client's secret, is asked for, or read\nfrom standard input; it is sealed, and never leaves the service. A provider sends people back to\nhttps://SERVICE/signin/DIRECTORY/back.",
		Example: "  jugate directory add garden ldaps://dc1.fennholt.example --base DC=fennholt,DC=example --account jugate@fennholt.example --certificate fennholt-authority.pem --grant 'engineer@herbarium=Herbarium Team' --grant reader=Staff\n  jugate directory add gate https://id.fennholt.example --account jugate --grant administrator=desk",
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			in.Name, in.Server = args[0], args[1]
			for _, text := range grants {
				role, group, is := strings.Cut(text, "=")
				if !is || group == "" {
					return usageError{fmt.Errorf("--grant: %q is not ROLE=GROUP, ROLE@GROUP-HERE=GROUP or ROLE@image:NAME=GROUP", text)}
				}
				g := readGrants([]string{role})[0]
				in.Roles = append(in.Roles, api.GroupRole{Group: group, Role: g.Role, On: g.On})
			}
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
			check, err := c.AddDirectory(cmd.Context(), in)
			if err != nil {
				return err
			}
			return a.printDirectoryCheck(cmd, check)
		},
	}
	cmd.Flags().StringVar(&in.Account, "account", "", "the account that searches, as the directory takes it for signing in; of a provider the client's id")
	cmd.Flags().StringVar(&in.Base, "base", "", "below which people and groups are, as DC=fennholt,DC=example; not of a provider")
	cmd.Flags().StringVar(&certificate, "certificate", "", "a PEM file with the authority of the directory's certificate, if this machine does not trust it")
	cmd.Flags().StringArrayVar(&grants, "grant", nil, "what members of a group there may do, as ROLE=GROUP, ROLE@GROUP-HERE=GROUP or ROLE@image:NAME=GROUP; the group by its name or distinguished name; can be given several times")
	cmd.MarkFlagRequired("account")
	cmd.MarkFlagRequired("grant")
	return cmd
}

func (a *app) directoryList() *cobra.Command {
	return list(a, lister[api.Directory]{
		short: "List directories", example: "  jugate directory list", what: "directories", none: "people come from no directory; jugate directory add enters one",
		fetch: uncut((*apiclient.Client).Directories),
		columns: []column[api.Directory]{
			{title: "directory", value: func(d api.Directory) string { return d.Name }},
			{title: "kind", value: func(d api.Directory) string { return d.Kind }},
			{title: "server", value: func(d api.Directory) string { return d.Server }},
			{title: "account", value: func(d api.Directory) string { return d.Account }},
			{title: "base", value: func(d api.Directory) string { return d.Base }},
			{title: "grants", value: func(d api.Directory) string {
				var all []string
				for _, r := range d.Roles {
					all = append(all, grantWords([]api.Grant{{Role: r.Role, On: r.On}})+" to "+r.Group)
				}
				return strings.Join(all, "; ")
			}},
		},
	})
}

func (a *app) directoryCheck() *cobra.Command {
	var as string
	cmd := &cobra.Command{
		Use: "check DIRECTORY", Short: "Ask a directory whether people can sign in, and what somebody may do here", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete(directoryNames),
		Long:    "Ask a directory whether people can sign in: whether it answers, is trusted, takes the account, and has the\ngroups. With --as, whether it knows somebody, and what they may do here. Nobody's password is\nneeded for that.",
		Example: "  jugate directory check garden\n  jugate directory check garden --as tomas",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			check, err := c.CheckDirectory(cmd.Context(), args[0], as)
			if err != nil {
				return err
			}
			return a.printDirectoryCheck(cmd, check)
		},
	}
	cmd.Flags().StringVar(&as, "as", "", "somebody of whom it is told what they may do here")
	return cmd
}

// printDirectoryCheck shows what a directory answered. A group that is missing, or somebody who may do nothing, is an
// error.
func (a *app) printDirectoryCheck(cmd *cobra.Command, check api.DirectoryCheck) error {
	var missing, there []string
	for _, g := range check.Groups {
		if g.Found {
			there = append(there, g.Group)
		} else {
			missing = append(missing, g.Group)
		}
	}
	fields := []field{{"directory", check.Name}, {"server", check.Server + pick(check.Kind == "ldap", ": trusted, and takes the account", ": is trusted")}, {"groups", strings.Join(there, ", ")}}
	if missing != nil {
		fields = append(fields, field{"missing groups", strings.Join(missing, ", ")})
	}
	if p := check.As; p != nil {
		fields = append(fields, field{p.Name, p.Entry}, field{"is in", fmt.Sprintf("%d groups", p.Groups)}, field{"may", pick(len(p.Grants) > 0, grantWords(p.Grants), "nothing: none of these groups is granted a role")})
		if p.Disabled {
			fields = append(fields, field{"but", "the account is disabled"})
		}
	}
	if err := show(cmd, a, check, fields...); err != nil {
		return err
	}
	switch p := check.As; {
	case missing != nil:
		return errors.New("the directory lacks groups")
	case p != nil && (p.Disabled || len(p.Grants) == 0):
		return fmt.Errorf("%s cannot sign in", p.Name)
	}
	return nil
}
