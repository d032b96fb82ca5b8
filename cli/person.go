package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/rights"
)

func (a *app) personCommand() *cobra.Command {
	return noun("person", "Say who may sign in, and what they may do", a.personAdd(), a.personList(), a.personShow(), a.personChange(), a.personInvite(),
		a.silent(&cobra.Command{
			Use: "remove PERSON", Short: "Remove a person, with tokens and sessions; what they did stays on record", Args: cobra.ExactArgs(1),
			Example: "  jugate person remove tomas", ValidArgsFunction: a.complete(personNames),
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.RemovePerson(ctx, args[0])
		}))
}

// readGrants reads ROLE, ROLE@GROUP or ROLE@image:NAME.
func readGrants(texts []string) (all []api.Grant) {
	for _, text := range texts {
		role, on, scoped := strings.Cut(text, "@")
		switch {
		case !scoped:
			on = string(rights.Everything)
		case on != string(rights.Everything) && !strings.Contains(on, ":"):
			on = string(rights.OfGroup) + ":" + on
		}
		all = append(all, api.Grant{Role: role, On: on})
	}
	return all
}

const grantHelp = "a role, as ROLE for everything, ROLE@GROUP for the workstations of a group, or ROLE@image:NAME; can be given several times"

func grantWords(all []api.Grant) string {
	var words []string
	for _, g := range all {
		if g.On == string(rights.Everything) {
			words = append(words, g.Role)
		} else {
			words = append(words, g.Role+" of "+strings.TrimPrefix(g.On, string(rights.OfGroup)+":"))
		}
	}
	return strings.Join(words, ", ")
}

func (a *app) personAdd() *cobra.Command {
	var in api.NewPerson
	var grants []string
	cmd := &cobra.Command{
		Use: "add PERSON", Short: "Take a person in, and make the link with which they set a password", Args: cobra.ExactArgs(1),
		Example: "  jugate person add tomas --called 'Tomas Wren' --grant reader --grant engineer@herbarium",
		RunE: func(cmd *cobra.Command, args []string) error {
			in.Name, in.Grants = args[0], readGrants(grants)
			c, err := a.client()
			if err != nil {
				return err
			}
			if _, err := c.AddPerson(cmd.Context(), in); err != nil {
				return err
			}
			return a.printInvitation(cmd, c, in.Name)
		},
	}
	cmd.Flags().StringVar(&in.FullName, "called", "", "full name")
	cmd.Flags().StringArrayVar(&grants, "grant", nil, grantHelp)
	return cmd
}

func (a *app) personInvite() *cobra.Command {
	return &cobra.Command{
		Use: "invite PERSON", Short: "Make another link with which a person sets a password", Args: cobra.ExactArgs(1), Example: "  jugate person invite tomas", ValidArgsFunction: a.complete(personNames),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			return a.printInvitation(cmd, c, args[0])
		},
	}
}

func (a *app) printInvitation(cmd *cobra.Command, c *apiclient.Client, name string) error {
	link, err := c.Invite(cmd.Context(), name)
	if err != nil {
		return err
	}
	if a.output != "table" {
		return show(cmd, a, link)
	}
	_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s sets a password at %s/welcome#%s, once, until %s\n", name, c.Server(), link.Secret, when(link.Expires))
	return err
}

func (a *app) personList() *cobra.Command {
	return list(a, lister[api.Person]{
		short: "List those who may sign in", example: "  jugate person list",
		what: "people", none: "nobody was taken in yet; jugate person add does that", fetch: uncut((*apiclient.Client).People),
		columns: []column[api.Person]{
			{title: "person", value: func(p api.Person) string { return p.Name }},
			{title: "called", value: func(p api.Person) string { return p.FullName }},
			{title: "may", value: func(p api.Person) string { return grantWords(p.Grants) }},
			{title: "signs in", value: signsIn},
			{title: "last seen", value: func(p api.Person) string { return lastTime(p.Seen) }},
		},
	})
}

func signsIn(p api.Person) string {
	switch {
	case p.ShutOut:
		return "shut out"
	case p.Directory != "":
		return "by the directory " + p.Directory
	case p.Password && p.Factor:
		return "by password and code"
	case p.Password:
		return "by password"
	}
	return "has set no password"
}

// lastTime is when something happened last.
func lastTime(t *time.Time) string { return cmp.Or(whenPtr(t), "never") }

func (a *app) personShow() *cobra.Command {
	return &cobra.Command{
		Use: "show PERSON", Short: "Show a person", Args: cobra.ExactArgs(1), Example: "  jugate person show tomas", ValidArgsFunction: a.complete(personNames),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := c.Person(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printPerson(cmd, p)
		},
	}
}

func (a *app) printPerson(cmd *cobra.Command, p api.Person) error {
	if a.output != "table" {
		return show(cmd, a, p)
	}
	printFields(cmd.OutOrStdout(), []field{{"person", p.Name}, {"called", p.FullName}, {"may", grantWords(p.Grants)}, {"signs in", signsIn(p)}, {"added", when(p.Added)}, {"last seen", lastTime(p.Seen)}})
	return nil
}

func (a *app) personChange() *cobra.Command {
	var called string
	var grants []string
	var shut, open, reset bool
	cmd := &cobra.Command{
		Use: "change PERSON", Short: "Change what a person may do, or shut them out", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete(personNames),
		Long:    "Grants replace those of before, and take effect at once.",
		Example: "  jugate person change tomas --grant reader --grant engineer@herbarium\n  jugate person change tomas --shut-out",
		RunE: func(cmd *cobra.Command, args []string) error {
			var in api.PersonChange
			if cmd.Flags().Changed("called") {
				in.FullName = &called
			}
			if cmd.Flags().Changed("grant") {
				all := readGrants(grants)
				in.Grants = &all
			}
			if shut || open {
				in.ShutOut = &shut
			}
			in.ResetFactor = reset
			if in == (api.PersonChange{}) {
				return usageError{errors.New("say what is to change: --grant, --called, --shut-out, --let-in or --reset-second-factor")}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := c.ChangePerson(cmd.Context(), args[0], in)
			if err != nil {
				return err
			}
			return a.printPerson(cmd, p)
		},
	}
	cmd.Flags().StringVar(&called, "called", "", "full name")
	cmd.Flags().StringArrayVar(&grants, "grant", nil, grantHelp)
	cmd.Flags().BoolVar(&shut, "shut-out", false, "let them sign in no more; their sessions end at once")
	cmd.Flags().BoolVar(&open, "let-in", false, "let them sign in again")
	cmd.Flags().BoolVar(&reset, "reset-second-factor", false, "end the second factor of somebody who has lost it")
	cmd.MarkFlagsMutuallyExclusive("shut-out", "let-in")
	return cmd
}
