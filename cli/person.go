package cli

import (
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
	return &cobra.Command{
		Use: "list", Short: "List those who may sign in", Args: cobra.NoArgs, Example: "  jugate person list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			page, err := c.People(cmd.Context())
			if err != nil {
				return err
			}
			return printList(cmd, a, page.Items, []column[api.Person]{
				{title: "person", value: func(p api.Person) string { return p.Name }},
				{title: "called", value: func(p api.Person) string { return p.FullName }},
				{title: "may", value: func(p api.Person) string { return grantWords(p.Grants) }},
				{title: "signs in", value: signsIn},
				{title: "last seen", value: func(p api.Person) string { return whenIf(p.Seen) }},
			}, "nobody was taken in yet; jugate person add does that")
		},
	}
}

func signsIn(p api.Person) string {
	switch {
	case p.ShutOut:
		return "shut out"
	case p.Password:
		return "by password"
	}
	return "has set no password"
}

func whenIf(t *time.Time) string {
	if t == nil {
		return "never"
	}
	return when(*t)
}

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
	printFields(cmd.OutOrStdout(), []field{{"person", p.Name}, {"called", p.FullName}, {"may", grantWords(p.Grants)}, {"signs in", signsIn(p)}, {"added", when(p.Added)}, {"last seen", whenIf(p.Seen)}})
	return nil
}

func (a *app) personChange() *cobra.Command {
	var called string
	var grants []string
	var shut, open bool
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
			if in == (api.PersonChange{}) {
				return usageError{errors.New("say what is to change: --grant, --called, --shut-out or --let-in")}
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
	cmd.MarkFlagsMutuallyExclusive("shut-out", "let-in")
	return cmd
}

func (a *app) roleCommand() *cobra.Command {
	return noun("role", "Say what roles are there, and what each may do", a.roleList(), a.roleAdd(),
		a.silent(&cobra.Command{
			Use: "remove ROLE", Short: "Remove a role that nobody has", Args: cobra.ExactArgs(1), Example: "  jugate role remove keeper",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.RemoveRole(ctx, args[0])
		}))
}

func rightWords(all []rights.Right) string {
	if len(all) == len(rights.All) {
		return "everything"
	}
	words := make([]string, len(all))
	for i, r := range all {
		words[i] = string(r)
	}
	return strings.Join(words, ", ")
}

func (a *app) roleList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List roles", Args: cobra.NoArgs, Example: "  jugate role list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			page, err := c.Roles(cmd.Context())
			if err != nil {
				return err
			}
			return printList(cmd, a, page.Items, []column[api.Role]{
				{title: "role", value: func(r api.Role) string { return r.Name }},
				{title: "rights", value: func(r api.Role) string { return rightWords(r.Rights) }},
				{title: "note", value: func(r api.Role) string { return r.Note }},
				{title: "built in", value: func(r api.Role) string { return pick(r.BuiltIn, "yes", "") }},
			}, "")
		},
	}
}

func (a *app) roleAdd() *cobra.Command {
	var in api.NewRole
	var given []string
	words := make([]string, len(rights.All))
	for i, r := range rights.All {
		words[i] = string(r)
	}
	cmd := &cobra.Command{
		Use: "add ROLE --right RIGHT…", Short: "Keep a role of your own, in place of one of that name", Args: cobra.ExactArgs(1),
		Long:    "Rights are " + strings.Join(words, ", ") + ".\nA change takes effect at once for all who have the role.",
		Example: "  jugate role add keeper --right see,keep-images --note 'keeps images'",
		RunE: func(cmd *cobra.Command, args []string) error {
			in.Name = args[0]
			for _, r := range given {
				in.Rights = append(in.Rights, rights.Right(r))
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			_, err = c.PutRole(cmd.Context(), in)
			return err
		},
	}
	cmd.Flags().StringSliceVar(&given, "right", nil, "rights of the role")
	cmd.Flags().StringVar(&in.Note, "note", "", "what there is to say of it")
	cmd.MarkFlagRequired("right")
	return cmd
}

func (a *app) tokenCommand() *cobra.Command {
	return noun("token", "Make tokens for programs, and end them", a.tokenAdd(), a.tokenList(),
		a.silent(&cobra.Command{
			Use: "remove TOKEN", Short: "End a token; programs that have it are refused at once", Args: cobra.ExactArgs(1), Example: "  jugate token remove nightly-capture",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.RemoveToken(ctx, args[0])
		}))
}

func (a *app) tokenAdd() *cobra.Command {
	var in api.NewToken
	var given []string
	cmd := &cobra.Command{
		Use: "add TOKEN", Short: "Make a token for a program, whose secret is shown once", Args: cobra.ExactArgs(1),
		Long:    "It may do what its person may, and no more than the rights that are given.",
		Example: "  jugate token add nightly-capture --right see,capture --days 365",
		RunE: func(cmd *cobra.Command, args []string) error {
			in.Name = args[0]
			for _, r := range given {
				in.Rights = append(in.Rights, rights.Right(r))
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			t, err := c.AddToken(cmd.Context(), in)
			if err != nil {
				return err
			}
			if a.output != "table" {
				return show(cmd, a, t)
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s\n\nThis is shown once. %s calls with it as %s until %s.\n", t.Secret, t.Name, t.Person, when(t.Expires))
			return err
		},
	}
	cmd.Flags().StringSliceVar(&given, "right", nil, "what it may do at the most (default: what its person may)")
	cmd.Flags().IntVar(&in.Days, "days", 90, "how many days it is good")
	cmd.Flags().StringVar(&in.Person, "of", "", "whose it is (default: yours)")
	return cmd
}

func (a *app) tokenList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List tokens: your own, or with the right to administer those of all", Args: cobra.NoArgs, Example: "  jugate token list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			page, err := c.Tokens(cmd.Context())
			if err != nil {
				return err
			}
			return printList(cmd, a, page.Items, []column[api.Token]{
				{title: "token", value: func(t api.Token) string { return t.Name }},
				{title: "person", value: func(t api.Token) string { return t.Person }},
				{title: "rights", value: func(t api.Token) string { return pick(len(t.Rights) == 0, "all of the person's", rightWords(t.Rights)) }},
				{title: "until", value: func(t api.Token) string { return when(t.Expires) }},
				{title: "last used", value: func(t api.Token) string { return whenIf(t.Used) }},
				{title: "from", value: func(t api.Token) string { return t.UsedFrom }},
			}, "no token; jugate token add makes one")
		},
	}
}
