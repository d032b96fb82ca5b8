package cli

import (
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/lease"
	"jugate/service"
)

func (a *app) standbyCommand() *cobra.Command {
	off := call(a, "off", "Keep no copy of the service any more", cobra.NoArgs,
		func(cmd *cobra.Command, c *apiclient.Client, _ []string) (api.Standby, error) {
			return c.UseStandby(cmd.Context(), "")
		}, a.printStandby)
	off.Example = "  jugate standby off"
	return noun("standby", "Keep a copy of the service as it changes, from which another machine can become it", a.standbyUse(), a.standbyShow(), off)
}

func (a *app) standbyUse() *cobra.Command {
	cmd := call(a, "use STORE", "Keep a copy of records, files and slabs in a store as they change", cobra.ExactArgs(1),
		func(cmd *cobra.Command, c *apiclient.Client, args []string) (api.Standby, error) {
			return c.UseStandby(cmd.Context(), args[0])
		}, a.printStandby)
	cmd.Long = "Keep a copy of records, files and slabs in a store as they change. From then on the store says which machine is\nthe service: while it does not answer, nothing is served, as another machine may have taken over. See jugate\ntakeover."
	cmd.Example = "  jugate standby use big"
	return cmd
}

func (a *app) standbyShow() *cobra.Command {
	cmd := call(a, "show", "Tell which machine is the service, and how fresh the copy is", cobra.NoArgs,
		func(cmd *cobra.Command, c *apiclient.Client, _ []string) (api.Standby, error) {
			return c.Standby(cmd.Context())
		}, a.printStandby)
	cmd.Example = "  jugate standby show"
	return cmd
}

func (a *app) printStandby(cmd *cobra.Command, s api.Standby) error {
	if a.output != "table" {
		return show(cmd, a, s)
	}
	if s.Store == "" {
		_, err := fmt.Fprintln(cmd.OutOrStdout(), "no copy of the service is kept; jugate standby use begins to")
		return err
	}
	fields := []field{{"copy in", s.Store}, {"the service", s.Machine}, {"term", strconv.FormatInt(s.Term, 10)}, {"records", maybeWhen(s.Records)}, {"files", maybeWhen(s.Files)}, {"slabs", maybeWhen(s.Slabs)}}
	if s.Trouble != "" {
		fields = append(fields, field{"trouble", s.Trouble})
	}
	printFields(cmd.OutOrStdout(), fields)
	return nil
}

const takeoverName = "takeover"

// takeoverCommand is the service's, with what makes its data folder before.
func takeoverCommand(a *app) *cobra.Command {
	var from, region, key, asOf string
	var wait bool
	s := newServer(a)
	cmd, config := s.cmd, &s.config
	cmd.Use, cmd.Short = "takeover --from PLACE --data DIR", "Become the service on this machine, from the copy that another one has kept"
	cmd.Long = "Become the service on this machine, from the copy that another one has kept by jugate standby use. PLACE is what\njugate store list shows as the place of that store. The secret of --key is asked for, or read from standard input.\nIf the other machine is alive, nothing is done; with --wait, this one waits until it is not, and then goes on by\nitself. The data folder must not be there, or be empty. All other settings are those of jugate serve."
	cmd.Example = "  jugate takeover --from https://objects.fennholt.example/jugate --key jugate --data /var/lib/jugate --listen 192.0.2.9:7460\n  jugate takeover --from /srv/shelf --data /var/lib/jugate --wait"
	cmd.Flags().StringVar(&from, "from", "", "where the copy is: a store's place")
	cmd.Flags().StringVar(&key, "key", "", "the id of the access key of an object store")
	cmd.Flags().StringVar(&region, "region", "", "what the store calls its region (default us-east-1)")
	cmd.Flags().BoolVar(&wait, "wait", false, "wait until no machine is the service")
	cmd.Flags().StringVar(&asOf, "as-of", "", "have the records be as they were at a time of the last seven days, such as 2026-11-29T08:30:00Z (default: as they are in the copy)")
	cmd.MarkFlagRequired("from")
	serve := cmd.RunE
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		at, err := timeOf("as-of", asOf)
		if err != nil {
			return err
		}
		store, done, err := openBackups(cmd, from, region, key)
		if err != nil {
			return err
		}
		defer done()
		machine, _ := os.Hostname()
		said := ""
		t := service.TakeOver{Dir: config.Data, Machine: machine, At: config.At, AsOf: at, Wait: wait, Log: slog.New(slog.NewTextHandler(cmd.ErrOrStderr(), &slog.HandlerOptions{Level: slog.LevelWarn})), Watching: func(l lease.Lease) {
			if words := fmt.Sprintf("%s was the service at %s; seeing whether it still is", l.Machine, when(l.Renewed)); words != said && (said == "" || !wait) {
				said = words
				fmt.Fprintln(cmd.ErrOrStderr(), words)
			}
		}}
		out, err := t.Run(cmd.Context(), store)
		if err != nil {
			return err
		}
		fmt.Fprintf(cmd.ErrOrStderr(), "%s is the service now, in term %d: %s is as the copy of term %d was, which took %s\n", machine, out.Held.Term(), filepath.Clean(config.Data), out.From, out.Took.Round(time.Millisecond))
		config.TakenOver = &out
		return serve(cmd, args)
	}
	return cmd
}
