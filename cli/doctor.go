package cli

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sys/unix"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/version"
	"jugate/wire"
)

// doctor looks at everything that can be checked, and prints it.
type doctor struct {
	app   *app
	cmd   *cobra.Command
	found []api.Diagnosis
	asked []api.Diagnosis // of the workstation that was named, in the order of its way from the power button on
}

func (a *app) doctorCommand() *cobra.Command {
	var ifname, report string
	var all bool
	cmd := &cobra.Command{
		Use: "doctor [WORKSTATION]", Short: "Find out what is wrong, and what to do about it", Args: cobra.MaximumNArgs(1), ValidArgsFunction: a.complete(workstationNames),
		Long: "Find out what is wrong, and what to do about it: on the way from here to the service, at the service, and, if a\nworkstation is named, why that does not come up. With --interface, it is tried whether multicast is heard here.\n\n" +
			"What is well is shown with --all, and of a workstation always. With --report, everything that a helper needs goes into a file, without secrets.\nThe exit code is 1 if something is out of order, and 0 if there are warnings at the most.",
		Example: "  jugate doctor\n  jugate doctor herb-07\n  jugate doctor --interface eth0 --report jugate-report.tar.gz",
		RunE: func(cmd *cobra.Command, args []string) error {
			d := &doctor{app: a, cmd: cmd}
			workstation := strings.Join(args, "")
			c := d.wayThere(cmd.Context())
			if c != nil {
				d.ask(cmd.Context(), c, "")
				if workstation != "" {
					d.ask(cmd.Context(), c, workstation)
				}
				if ifname != "" {
					d.multicast(cmd.Context(), c, ifname)
				}
			}
			if report != "" {
				if err := d.report(cmd.Context(), c, report); err != nil {
					return err
				}
				fmt.Fprintf(cmd.ErrOrStderr(), "written: %s; look through it before you send it to somebody\n", report)
			}
			return d.print(all)
		},
	}
	cmd.Flags().StringVar(&ifname, "interface", "", "network interface at which multicast of the service should be heard")
	cmd.Flags().StringVar(&report, "report", "", "file for what a helper needs, a .tar.gz")
	cmd.Flags().BoolVar(&all, "all", false, "show what is well, too")
	return cmd
}

func (d *doctor) add(looked, state, what, cure string) {
	d.found = append(d.found, api.Diagnosis{Looked: looked, State: state, What: what, Cure: cure})
}

// clocksApart is how far the clocks here and there may be apart.
const clocksApart = time.Minute

// wayThere looks at what lies between here and the service. It returns a client if that gets there.
func (d *doctor) wayThere(ctx context.Context) *apiclient.Client {
	const way = "way to the service"
	a := d.app
	c, err := a.client()
	if err != nil {
		d.add(way, api.Bad, err.Error(), "jugate sign-in URL")
		return nil
	}
	health, err := c.Health(ctx)
	if err != nil {
		what, cure := unreached(err, a.server)
		d.add(way, api.Bad, what, cure)
		return nil
	}
	d.add(way, api.Good, a.server+" answers", "")
	d.versions(version.Program(), health.Version)
	if !health.Now.IsZero() {
		d.clocks(health.Now)
	}
	who, err := c.Session(ctx)
	if err != nil {
		d.add("credential", api.Bad, err.Error(), "jugate sign-in "+a.server+" --as NAME")
		return nil
	}
	d.add("credential", api.Good, "it is that of "+who.Name, "")
	return c
}

// versions compares the program here with the service.
func (d *doctor) versions(here, there string) {
	const looked = "versions"
	switch {
	case version.Before(here, there):
		d.add(looked, api.Warning, fmt.Sprintf("the command line is of version %s, and the service of %s: it does not know what is new there", here, there), "install the newer package here")
	case version.Before(there, here):
		d.add(looked, api.Warning, fmt.Sprintf("the command line is of version %s, and the service of %s: some of what it asks for is not there yet", here, there), "install the newer package at the service")
	default:
		d.add(looked, api.Good, "both are of "+there, "")
	}
}

// clocks compares the clock here with what the service has said just now.
func (d *doctor) clocks(there time.Time) {
	if apart := time.Since(there).Abs(); apart > clocksApart {
		d.add("clocks", api.Warning, fmt.Sprintf("the clock here and that of the service are %s apart: codes, certificates and schedules go wrong by that", apart.Round(time.Second)), "have both take the time from one server (timedatectl set-ntp true)")
	} else {
		d.add("clocks", api.Good, "they agree", "")
	}
}

// unreached says why a service was not reached, and what to do.
func unreached(err error, server string) (what, cure string) {
	const look = "systemctl status jugate on that machine"
	var invalid x509.CertificateInvalidError
	var name *net.DNSError
	var call *net.OpError
	var slow net.Error
	switch {
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		return "the service's certificate is not good at this time: " + err.Error(), "look at the clock here, and at that of the service"
	case apiclient.IsUntrusted(err):
		return "whoever answers at " + server + " has a certificate that nobody here trusts", "jugate sign-in " + server + " shows its fingerprint; compare it with what the service printed when it started"
	case errors.As(err, &name):
		return "the name in " + server + " is not known here", "look at its spelling and at the name server, or use the address"
	case errors.Is(err, unix.ECONNREFUSED):
		return "nothing listens at " + server, look + "; does listen there name this address?"
	case errors.Is(err, unix.ENETUNREACH), errors.Is(err, unix.EHOSTUNREACH):
		return "no route leads from here to " + server, "look at the cable, at the address here (ip address), and at the router"
	case errors.As(err, &call) && call.Op == "dial" && call.Timeout():
		return server + " does not answer at all", "look whether that machine is on, and whether a firewall drops what comes (ufw allow Jugate)"
	case errors.As(err, &slow) && slow.Timeout():
		return "calls are taken at " + server + ", and nobody answers them", look + ": systemd may hold the port of a service that does not start"
	}
	return err.Error(), look
}

// ask asks the service for its own judgment, of itself or of a workstation.
func (d *doctor) ask(ctx context.Context, c *apiclient.Client, workstation string) {
	found, err := c.Diagnose(ctx, workstation)
	if err != nil {
		d.add(pick(workstation == "", "service", workstation), api.Bad, err.Error(), "")
		return
	}
	if workstation == "" {
		d.found = append(d.found, found.Items...)
		return
	}
	for _, one := range found.Items {
		one.Looked = workstation + ": " + one.Looked
		d.asked = append(d.asked, one)
	}
}

// multicast tries whether multicast of the service is heard at an interface.
func (d *doctor) multicast(ctx context.Context, c *apiclient.Client, ifname string) {
	looked := "multicast at " + ifname
	sent, heard, err := listenForTrial(ctx, c, ifname, 0)
	const cure = "on the switches between: IGMP snooping needs a querier in that network (docs/multicast.md); a router between them passes nothing on unless --multicast-ttl and its multicast routing say so; a firewall here may drop UDP"
	switch {
	case err != nil:
		d.add(looked, api.Bad, err.Error(), "")
	case heard == 0:
		d.add(looked, api.Bad, fmt.Sprintf("of %d packets none was heard", sent), cure)
	case heard*100 < sent*98:
		d.add(looked, api.Warning, fmt.Sprintf("of %d packets %d were heard: what is lost has to be sent again", sent, heard), "a full-duplex link, another cable or switch port; a lower rate (jugate config set rate)")
	default:
		d.add(looked, api.Good, fmt.Sprintf("of %d packets %d were heard", sent, heard), "")
	}
}

// listenForTrial has the service multicast a trial, at a rate in bits a second or as it usually does, and counts what is heard.
func listenForTrial(ctx context.Context, c *apiclient.Client, ifname string, rate int64) (sent, heard int, err error) {
	at, err := c.TrialChannel(ctx)
	if err != nil {
		return 0, 0, err
	}
	group, err := netip.ParseAddrPort(at.Channel)
	if err != nil {
		return 0, 0, err
	}
	socket, err := wire.Listen(wire.Config{Group: group, Interface: ifname})
	if err != nil {
		return 0, 0, err
	}
	token := strings.ToLower(rand.Text())
	counted := make(chan int, 1)
	go func() { counted <- wire.CountTrial(socket, token) }()
	trial, err := c.SendTrial(ctx, api.NewTrial{Token: token, Rate: rate})
	if err == nil {
		select {
		case <-time.After(wire.TrialLate):
		case <-ctx.Done():
		}
	}
	err = errors.Join(err, socket.Close()) // which ends the counting
	return trial.Packets, <-counted, err
}

// print prints what was found, and fails if something is out of order: all of the workstation that was named, and then the worst first.
func (d *doctor) print(all bool) error {
	shown, worse := append([]api.Diagnosis{}, d.asked...), 0
	for _, state := range []string{api.Bad, api.Warning, api.Good} {
		for _, one := range d.found {
			if one.State == state && (all || state != api.Good || d.app.output != "table") {
				shown = append(shown, one)
			}
		}
	}
	for _, one := range shown {
		if one.State == api.Bad {
			worse++
		}
	}
	out := d.cmd.OutOrStdout()
	if d.app.output != "table" {
		if err := printList(d.cmd, d.app, shown, []column[api.Diagnosis]{}); err != nil {
			return err
		}
	} else {
		for _, one := range shown {
			fmt.Fprintf(out, "%-8s %s: %s\n", one.State, one.Looked, one.What)
			if one.Cure != "" {
				fmt.Fprintf(out, "         → %s\n", one.Cure)
			}
		}
		if len(shown) == 0 {
			fmt.Fprintf(out, "all is well: %s were looked at\n", count(len(d.found), "thing"))
		}
	}
	if worse > 0 {
		return fmt.Errorf("%s found out of order", count(worse, "thing"))
	}
	return nil
}
