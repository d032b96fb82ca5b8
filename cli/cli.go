// Package cli is the command line: jugate NOUN VERB. Results go to standard
// output as a table, JSON or CSV; progress and remarks go to standard error.
//
// Exit codes: 0 done, 1 failed, 2 wrong use, 3 partly done.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/version"
	"jugate/service"
	"jugate/setup"
)

// The exit codes.
const (
	exitDone   = 0
	exitFailed = 1
	exitUsage  = 2
	exitPartly = 3
)

// partlyDone is the error of an order that was carried out for some only.
type partlyDone struct{ error }

// Main runs one call and returns its exit code.
func Main(args []string, stdout, stderr io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	return Run(ctx, args, stdout, stderr)
}

// Run is Main without the signals.
func Run(ctx context.Context, args []string, stdout, stderr io.Writer) int {
	root := newRoot()
	root.SetArgs(args)
	root.SetOut(stdout)
	root.SetErr(stderr)
	err := root.ExecuteContext(ctx)
	var usage usageError
	var partly partlyDone
	switch {
	case err == nil:
		return exitDone
	case errors.As(err, &usage), apiclient.IsMisfit(err):
		fmt.Fprintf(stderr, "jugate: %v\n", err)
		return exitUsage
	case errors.As(err, &partly):
		fmt.Fprintf(stderr, "jugate: %v\n", err)
		return exitPartly
	case apiclient.IsUntrusted(err):
		fmt.Fprintf(stderr, "jugate: %v\nNothing was sent. jugate sign-in shows whose certificate it is and asks; --authority (JUGATE_AUTHORITY) names the authority's file.\n", err)
	case errors.Is(err, apiclient.ErrAway):
		fmt.Fprintf(stderr, "jugate: %v\nIs it running (jugate serve), and is the address right (jugate sign-in, --server or JUGATE_SERVER)?\n", err)
	case apiclient.IsUnauthorized(err):
		fmt.Fprintf(stderr, "jugate: %v\nSign in with jugate sign-in, or give a token with --token, --token-file or JUGATE_TOKEN.\n", err)
	default:
		fmt.Fprintf(stderr, "jugate: %v\n", err)
	}
	return exitFailed
}

// app is what the commands share: the global flags.
type app struct {
	server, authority, token, tokenFile, output string
	settings                                    []configured // those of the command that runs
}

func newRoot() *cobra.Command {
	a := &app{}
	root := &cobra.Command{
		Use:           "jugate",
		Short:         "Bring one golden disk to a room of workstations, and keep the receipts",
		Version:       version.Program(),
		SilenceErrors: true,
		SilenceUsage:  true,
		Args:          cobra.NoArgs,
		RunE:          func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) (err error) {
			if a.settings, err = configure(cmd); err != nil {
				return usageError{err}
			}
			if a.tokenFile != "" && a.token != "" {
				return usageError{errors.New("the token is given twice, with --token (JUGATE_TOKEN) and --token-file (JUGATE_TOKEN_FILE)")}
			}
			if a.tokenFile != "" {
				if a.token, err = readToken(a.tokenFile); err != nil {
					return err
				}
			}
			if !slices.Contains(outputs, a.output) {
				return usageError{fmt.Errorf("--output is one of %s, not %q", strings.Join(outputs, ", "), a.output)}
			}
			return nil
		},
	}
	a.declare(root.PersistentFlags())
	root.RegisterFlagCompletionFunc("output", cobra.FixedCompletions(toCompletions(outputs), cobra.ShellCompDirectiveNoFileComp))
	root.SetFlagErrorFunc(flagError)
	root.AddCommand(
		a.workstationCommand(), a.groupCommand(), a.imageCommand(), a.captureCommand(), a.deliverCommand(), a.orderCommand(), a.checkCommand(),
		a.overview(), a.partCommand(), a.reportCommand(), a.deliveryCommand(), a.receiptCommand(), a.diskCommand(), a.wireCommand(), a.netbootCommand(), a.outpostCommand(), a.storeCommand(), a.backupCommand(), a.restoreCommand(), a.standbyCommand(), takeoverCommand(a), a.environmentCommand(), a.entryCommand(), a.driverCommand(), a.cardCommand(), a.modelCommand(), a.keyCommand(), a.errandCommand(), a.answersCommand(), a.domainCommand(), a.payloadCommand(), a.personCommand(), a.roleCommand(), a.tokenCommand(), a.directoryCommand(), a.notificationCommand(), a.logbookCommand(), a.witnessCommand(), a.configCommand(), serveCommand(a), a.setupCommand(setup.Here), a.doctorCommand(), a.benchCommand(), simulateCommand(a), a.demoCommand(), a.signInCommand(), signOutCommand(), a.versionCommand(version.Program()), a.explainCommand(), openapiCommand(), referenceCommand(),
	)
	addExamples(root)
	refuseOldNames(root)
	a.completeArguments(root)
	checkWords(root)
	return root
}

// declare declares the flags of all commands.
func (a *app) declare(flags *pflag.FlagSet) {
	flags.StringVar(&a.server, "server", "https://127.0.0.1:7460", "address of the service (JUGATE_SERVER)")
	flags.StringVar(&a.authority, "authority", "", "file with the certificate of the service's authority, authority.pem in its data folder (JUGATE_AUTHORITY; default: what sign-in has found, then those that this machine trusts)")
	flags.StringVar(&a.token, "token", "", "a token, of yours or the key of last resort (JUGATE_TOKEN)")
	flags.StringVar(&a.tokenFile, "token-file", "", "file that has the token (JUGATE_TOKEN_FILE)")
	flags.StringVarP(&a.output, "output", "o", "table", "table, json or csv")
	flags.String("config", "", "configuration file (default "+configFile+")")
}

// noun is a command that only has verbs.
func noun(use, short string, verbs ...*cobra.Command) *cobra.Command {
	cmd := &cobra.Command{Use: use, Short: short, RunE: func(cmd *cobra.Command, args []string) error { return cmd.Help() }}
	cmd.AddCommand(verbs...)
	return cmd
}

// silent is a command that changes something of the service and prints nothing.
func (a *app) silent(cmd *cobra.Command, do func(ctx context.Context, c *apiclient.Client, args []string) error) *cobra.Command {
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		return do(cmd.Context(), c, args)
	}
	return cmd
}

func (a *app) client() (*apiclient.Client, error) {
	c, err := apiclient.New(a.server, a.token)
	if err != nil {
		return nil, usageError{err}
	}
	if a.authority != "" {
		text, err := os.ReadFile(a.authority)
		if err != nil {
			return nil, fmt.Errorf("the authority's certificate: %w", err)
		}
		if c, err = c.Trusting(text); err != nil {
			return nil, fmt.Errorf("%s: %w", a.authority, err)
		}
	}
	return c.As(api.CommandLine + version.Program()), nil
}

func toCompletions(words []string) []cobra.Completion { return words }

func openapiCommand() *cobra.Command {
	return &cobra.Command{
		Use: "openapi", Short: "Print the OpenAPI document of the service", Hidden: true,
		RunE: func(cmd *cobra.Command, _ []string) error {
			text, err := service.OpenAPI()
			if err == nil {
				_, err = cmd.OutOrStdout().Write(append(text, '\n'))
			}
			return err
		},
	}
}
