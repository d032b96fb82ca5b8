package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"jugate/demo"
)

func (a *app) demoCommand() *cobra.Command {
	var once, asJSON bool
	var o demo.Options
	cmd := &cobra.Command{
		Use: "demo", Short: "Show the whole way on simulated workstations, in a temporary folder", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if asJSON && !once {
				return usageError{errors.New("--json goes with --once")}
			}
			o.Story = cmd.OutOrStdout()
			if asJSON {
				o.Story = cmd.ErrOrStderr()
			}
			if program, err := os.Executable(); err == nil {
				o.Agent = filepath.Join(filepath.Dir(program), "jugate-agent")
			}
			stage, err := demo.Open(cmd.Context(), o)
			if err != nil {
				return err
			}
			defer stage.Close()
			report, err := stage.Play(cmd.Context())
			if asJSON && report != nil {
				err = errors.Join(err, printJSON(cmd.OutOrStdout(), report))
			}
			if err == nil && !once {
				stayUp(cmd.OutOrStdout(), stage)
				<-cmd.Context().Done()
			}
			return err
		},
	}
	flags := cmd.Flags()
	flags.BoolVar(&once, "once", false, "end when everything was shown; exit code 0 only if every disk is right")
	flags.BoolVar(&asJSON, "json", false, "with --once: print one JSON document on standard output, the story on standard error")
	flags.StringVar(&o.Listen, "listen", "127.0.0.1:0", "loopback address to answer on")
	flags.Float64Var(&o.Loss, "loss", 0, "share of multicast packets that every workstation loses")
	return cmd
}

func stayUp(w io.Writer, s *demo.Stage) {
	fmt.Fprintf(w, `
The service stays up. Look around:

  console   %s, as ines, tomas or wren
  password  %s

  export JUGATE_SERVER=%s JUGATE_AUTHORITY=%s JUGATE_TOKEN=%s
  jugate workstation list

Ctrl-C ends it and removes everything.
`, s.URL, demo.Password, s.URL, s.Authority, s.Token)
}
