package cli

import (
	"context"
	"fmt"
	"net/netip"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/core/netboot"
	"jugate/core/rights"
	"jugate/setup"
)

func (a *app) setupCommand(m setup.Machine) *cobra.Command {
	var from, file string
	var dryRun bool
	cmd := &cobra.Command{
		Use: "setup", Short: "Set up the service on this machine", Args: cobra.NoArgs,
		Long: "Set up the service on this machine: ask which interface workstations are reached by, whether another server gives\naddresses there, where images go, and who the first administrator is. Each answer is tried on the spot. Then the\nconfiguration file is written, whose other settings stay, and the service is started.\n\n" +
			"With --from, answers come from a YAML file with the keys interface, mode (beside, whole or off), pool, data, names,\nperson, full_name and password_file. Nothing is written if anything speaks against one of them.",
		Example: "  jugate setup\n  jugate setup --from setup.yaml --dry-run",
		RunE: func(cmd *cobra.Command, _ []string) error {
			answers, err := answersOf(cmd, m, from)
			if err != nil {
				return err
			}
			if dryRun {
				return nil
			}
			url, err := answers.Write(m, file)
			if err != nil {
				return err
			}
			out := cmd.OutOrStdout()
			fmt.Fprintf(out, "written:  %s\n", file)
			if err := m.Start(cmd.Context()); err != nil {
				return err
			}
			fmt.Fprintf(out, "console:  %s\n", url)
			return a.welcome(cmd, answers, url)
		},
	}
	cmd.Flags().StringVar(&from, "from", "", "file with the answers")
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "try the answers, and write nothing")
	cmd.Flags().StringVar(&file, "write", setup.ConfigFile, "configuration file to write")
	cmd.MarkFlagFilename("from", "yaml")
	return cmd
}

// answersOf are the answers of a file, or of a person, tried.
func answersOf(cmd *cobra.Command, m setup.Machine, from string) (*setup.Answers, error) {
	interfaces, err := m.Interfaces()
	if err != nil {
		return nil, err
	}
	if from == "" {
		return (&interview{cmd: cmd, machine: m, interfaces: interfaces, answers: &setup.Answers{}}).run()
	}
	answers, err := setup.Read(from)
	if err != nil {
		return nil, err
	}
	answers.Fill(interfaces)
	problems, err := answers.Problems(cmd.Context(), m)
	if err != nil {
		return nil, err
	}
	bad := 0
	for _, p := range problems {
		if p.Mild {
			fmt.Fprintf(cmd.ErrOrStderr(), "note: %s\n", p)
			continue
		}
		bad++
		fmt.Fprintf(cmd.ErrOrStderr(), "%s\n", p)
	}
	if bad > 0 {
		return nil, fmt.Errorf("%s will not do; nothing was written", count(bad, "answer"))
	}
	return answers, nil
}

// welcome makes the first administrator, and has the command line of this user know the service.
func (a *app) welcome(cmd *cobra.Command, answers *setup.Answers, url string) error {
	out := cmd.OutOrStdout()
	here := spoken{Server: url, AuthorityFile: filepath.Join(answers.Data, "authority.pem"), TokenFile: filepath.Join(answers.Data, "admin.token"), SignedIn: true}
	if err := here.keep(); err != nil {
		fmt.Fprintf(cmd.ErrOrStderr(), "warning: the command line will not find the service by itself: %v\n", err)
	}
	if answers.Person == "" {
		fmt.Fprintf(out, "people:   jugate person add NAME --grant administrator makes the link with which somebody sets a password\n")
		return nil
	}
	token, err := here.token()
	if err != nil {
		return err
	}
	with := *a
	with.server, with.authority, with.token = url, here.AuthorityFile, token
	c, err := with.client()
	if err != nil {
		return err
	}
	ctx := cmd.Context()
	if _, err := c.Person(ctx, answers.Person); err == nil {
		fmt.Fprintf(out, "person:   %s, who was there already\n", answers.Person)
		return nil
	}
	if _, err := c.AddPerson(ctx, api.NewPerson{Name: answers.Person, FullName: answers.FullName, Grants: []api.Grant{{Role: rights.BuiltIn[0].Name, On: string(rights.Everything)}}}); err != nil {
		return err
	}
	link, err := c.Invite(ctx, answers.Person)
	if err != nil {
		return err
	}
	if answers.Password == "" {
		fmt.Fprintf(out, "person:   %s, who sets a password at %s/welcome#%s until %s\n", answers.Person, url, link.Secret, when(link.Expires))
		return nil
	}
	if _, err := c.WithToken("").Accept(ctx, link.Secret, api.Acceptance{Password: answers.Password}); err != nil {
		return err
	}
	fmt.Fprintf(out, "person:   %s may do everything\n", answers.Person)
	return nil
}

// interview asks a person one thing after the other, and tries each answer before the next is asked for.
type interview struct {
	cmd        *cobra.Command
	machine    setup.Machine
	interfaces []setup.Interface
	answers    *setup.Answers
}

func (i *interview) say(format string, args ...any) {
	fmt.Fprintf(i.cmd.ErrOrStderr(), format, args...)
}

// ask asks for a text; whoever just presses Enter takes what is proposed.
func (i *interview) ask(question, proposed string) (string, error) {
	if proposed != "" {
		question += " [" + proposed + "]"
	}
	i.say("%s: ", question)
	line, err := readLine(i.cmd.InOrStdin())
	if err == nil && line == "" {
		line = proposed
	}
	return line, err
}

// until asks until nothing but notes speaks against the answer. Nobody who just presses Enter goes round for ever.
func (i *interview) until(answer string, ask func() error) error {
	const rounds = 20
	for range rounds {
		if err := ask(); err != nil {
			return err
		}
		problems, err := i.answers.Try(i.cmd.Context(), i.machine, answer)
		if err != nil {
			return err
		}
		good := true
		for _, p := range problems {
			i.say("  %s%s\n", pick(p.Mild, "note: ", "problem: "), strings.TrimPrefix(p.String(), answer+": "))
			good = good && p.Mild
		}
		if good {
			return nil
		}
	}
	return fmt.Errorf("%d answers in a row were refused; nothing was written", rounds)
}

func (i *interview) run() (*setup.Answers, error) {
	a := i.answers
	i.say("This machine's network interfaces:\n")
	for _, one := range i.interfaces {
		addresses := make([]string, 0, len(one.Addresses))
		for _, p := range one.Addresses {
			addresses = append(addresses, p.String())
		}
		i.say("  %-12s %s%s\n", one.Name, pick(len(addresses) > 0, strings.Join(addresses, ", "), "no address"), pick(one.Up, "", ", down"))
	}
	a.Fill(i.interfaces)
	first := *a
	steps := []struct {
		answer string
		ask    func() error
	}{
		{"interface", func() (err error) {
			a.Interface, err = i.ask("Which one are the workstations reached by?", first.Interface)
			return err
		}},
		{"mode", i.askMode},
		{"pool", func() (err error) {
			if a.Pool = ""; a.Mode != netboot.Whole {
				return nil
			}
			a.Fill(i.interfaces) // proposes some
			a.Pool, err = i.ask("Which addresses does it give?", a.Pool)
			return err
		}},
		{"data", func() (err error) {
			a.Data, err = i.ask("Where do images and records go?", setup.DataFolder)
			return err
		}},
		{"person", i.askPerson},
	}
	for _, s := range steps {
		if err := i.until(s.answer, s.ask); err != nil {
			return nil, err
		}
	}
	return a, nil
}

// askMode looks first who gives addresses, and proposes what fits.
func (i *interview) askMode() error {
	i.say("Looking who gives addresses on %s…\n", i.answers.Interface)
	others, err := i.others(i.cmd.Context())
	proposed := netboot.Whole
	switch {
	case err != nil:
		i.say("  that cannot be told: %v\n", err)
		proposed = netboot.Beside
	case len(others) > 0:
		i.say("  %s does\n", others[0])
		proposed = netboot.Beside
	default:
		i.say("  nobody does\n")
	}
	mode, err := i.ask("How is network boot answered: beside (another server gives addresses), whole (this one does), or off?", string(proposed))
	i.answers.Mode = netboot.Mode(mode)
	return err
}

func (i *interview) others(ctx context.Context) ([]netip.Addr, error) {
	return i.machine.OtherServers(ctx, i.answers.Interface)
}

func (i *interview) askPerson() (err error) {
	a := i.answers
	if a.Person, err = i.ask("Who is the first administrator? (a name to sign in with; empty for later)", ""); err != nil || a.Person == "" {
		a.Password = ""
		return err
	}
	a.Password, err = askNewSecret(i.cmd, "Password of "+a.Person+" (empty for a link with which it is set)")
	return err
}
