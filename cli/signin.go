package cli

import (
	"cmp"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"jugate/api"
	"jugate/apiclient"
)

func (a *app) signInCommand() *cobra.Command {
	var as, fingerprint string
	cmd := &cobra.Command{
		Use: "sign-in [URL]", Short: "Choose the service to speak to, and store a token", Args: cobra.MaximumNArgs(1),
		Long: "Choose the service to speak to, and store a token.\n\nWith --as, a password is asked for, and a token of that person is made and kept. Without it a\ntoken is read from the terminal, from standard input, or from the file that --token-file names.\nThe fingerprint of the service's authority is shown, to be compared with the one that the service\nprinted; from then on nobody else is believed at that address.\nIt is kept in a file that only you can read. Whoever starts a service with jugate serve does\nnot need to sign in there.",
		Example: "  jugate sign-in https://192.0.2.1:7460 --as ines\n" +
			"  jugate sign-in https://192.0.2.1:7460 --token-file admin.token",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				a.server = args[0]
			}
			file, err := a.trust(cmd, fingerprint)
			if err != nil {
				return err
			}
			a.authority = file
			if as != "" {
				if a.token, err = a.ownToken(cmd, as); err != nil {
					return err
				}
			}
			given := as != "" || cmd.Flags().Changed("token") || cmd.Flags().Changed("token-file")
			if !given {
				if a.token, err = askToken(cmd, a.server); err != nil {
					return err
				}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			who, err := c.Session(cmd.Context())
			if err != nil {
				return err
			}
			if err := (spoken{Server: a.server, AuthorityFile: a.authority, Token: a.token, SignedIn: true}).keep(); err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "signed in at %s as %s; jugate sign-out ends that\n", a.server, pick(who.Name == "administrator", "the administrator", who.Name))
			return err
		},
	}
	cmd.Flags().StringVar(&fingerprint, "fingerprint", "", "fingerprint that the service's authority has to have, as the service printed it")
	cmd.Flags().StringVar(&as, "as", "", "sign in as this person, by password")
	return cmd
}

// ownToken makes a token of a person, who tells a password.
func (a *app) ownToken(cmd *cobra.Command, name string) (string, error) {
	password, err := askSecret(cmd, "the password of "+name)
	if err != nil {
		return "", err
	}
	c, err := a.client()
	if err != nil {
		return "", err
	}
	in := api.SignIn{Name: name, Password: password}
	session, _, err := c.WithToken("").OpenSession(cmd.Context(), in)
	if apiclient.NeedsCode(err) {
		if in.Code, err = askSecret(cmd, "the code of your second factor"); err != nil {
			return "", err
		}
		session, _, err = c.WithToken("").OpenSession(cmd.Context(), in)
	}
	if err != nil {
		return "", err
	}
	host, _ := os.Hostname()
	host = cmp.Or(host[:min(len(host), 30)], "here")
	t, err := session.AddToken(cmd.Context(), api.NewToken{Name: fmt.Sprintf("command-line-%s-%s", host, strings.ToLower(rand.Text()[:8]))})
	return t.Secret, errors.Join(err, session.SignOut(cmd.Context()))
}

// askToken reads a token that nobody sees on the terminal.
func askToken(cmd *cobra.Command, server string) (string, error) {
	token, err := askSecret(cmd, "the key of last resort of "+server)
	if err == nil && token == "" {
		err = usageError{errors.New("no token came on standard input; the service keeps it in admin.token, in its data folder")}
	}
	return token, err
}

// terminal is where somebody types; there is none where a program answers.
func terminal(cmd *cobra.Command) (*os.File, bool) {
	in, is := cmd.InOrStdin().(*os.File)
	return in, is && term.IsTerminal(int(in.Fd()))
}

// askSecret reads a line that nobody sees on the terminal.
func askSecret(cmd *cobra.Command, what string) (string, error) {
	if in, is := terminal(cmd); is {
		fmt.Fprintf(cmd.ErrOrStderr(), "%s: ", what)
		text, err := term.ReadPassword(int(in.Fd()))
		fmt.Fprintln(cmd.ErrOrStderr())
		return strings.TrimSpace(string(text)), err
	}
	return readLine(cmd.InOrStdin())
}

// askNewSecret asks for a secret that is chosen now: on a terminal, where nobody sees what was typed, twice, until both are the same.
func askNewSecret(cmd *cobra.Command, what string) (string, error) {
	_, unseen := terminal(cmd)
	for {
		secret, err := askSecret(cmd, what)
		if err != nil || secret == "" || !unseen {
			return secret, err
		}
		again, err := askSecret(cmd, "Once more")
		if err != nil || again == secret {
			return secret, err
		}
		fmt.Fprintln(cmd.ErrOrStderr(), "  they are not the same")
	}
}

// readLine reads a line and nothing behind it, which may be asked for next.
func readLine(in io.Reader) (string, error) {
	var line []byte
	for b := make([]byte, 1); ; {
		n, err := in.Read(b)
		if n == 1 && b[0] != '\n' {
			line = append(line, b[0])
		}
		if errors.Is(err, io.EOF) {
			err = nil
			n = 0
		}
		if err != nil || n == 0 || b[0] == '\n' {
			return strings.TrimSpace(string(line)), err
		}
	}
}

const signOutName = "sign-out"

func signOutCommand() *cobra.Command {
	return &cobra.Command{
		Use: signOutName, Short: "Forget which service to speak to, and its token", Args: cobra.NoArgs, Example: "  jugate sign-out",
		RunE: func(cmd *cobra.Command, _ []string) error {
			path, err := contextFile()
			if err == nil {
				err = os.Remove(path)
			}
			if file, e := trustFile(); e == nil {
				os.Remove(file)
			}
			if errors.Is(err, fs.ErrNotExist) {
				_, err = fmt.Fprintln(cmd.ErrOrStderr(), "you were not signed in")
			}
			return err
		},
	}
}

// versionCommand tells the version of this program, and of the service if it answers.
func (a *app) versionCommand(version string) *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Tell the version of this program and of the service", Args: cobra.NoArgs, Example: "  jugate version",
		RunE: func(cmd *cobra.Command, _ []string) error {
			type versions struct {
				Jugate  string `json:"jugate"`
				Service string `json:"service"`
				Server  string `json:"server"`
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			v := versions{Jugate: version, Server: a.server}
			health, err := c.Health(cmd.Context())
			if err == nil {
				v.Service = health.Version
			} else if !errors.Is(err, apiclient.ErrAway) {
				return err
			}
			return show(cmd, a, v, field{"jugate", v.Jugate}, field{"service", cmp.Or(v.Service, "does not answer")}, field{"server", v.Server})
		},
	}
}
