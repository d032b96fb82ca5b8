// Package agent is what runs on a workstation: it checks in with the machine's
// inventory, asks for its errand, does it and reports.
//
//	a := agent.New(client, machine, agent.Options{Show: screen})
//	err := a.Run(ctx) // until ctx ends
//
// The machine is an interface: Hardware is the real one, package sim has one
// made of files. While the service is away the agent says so, waits, and goes on
// when it is back.
package agent

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/answers"
	"jugate/core/capture"
	"jugate/core/check"
	"jugate/core/disk"
	"jugate/core/restore"
	"jugate/core/roster"
	"jugate/core/version"
	"jugate/wire"
)

// Machine is the workstation an agent runs on.
type Machine interface {
	// Inventory describes the machine; its network cards are who it is.
	Inventory() (api.Inventory, error)
	// OpenDisk opens the disk at that place of Inventory's list.
	OpenDisk(i int) (Disk, error)
	// Listen joins a multicast group.
	Listen(group netip.AddrPort) (PacketReader, error)
	// Program is what a delivered system reports its first start with: called as
	// "PROGRAM arrive CONFIG", it runs Arrive.
	Program() ([]byte, error)
	// FreeMemory is what of the machine's is free, to be checked.
	FreeMemory() (check.Memory, error)
	// Vitals are what the disk at that place says of itself. Errors wrap disk.ErrNoHealth.
	Vitals(i int) (*disk.Vitals, error)
	// LinkRate is what the network card says that its link has, in bits a second; 0 if it does not say.
	LinkRate() int64
	// Leave restarts the machine from its own disk or from the network, or switches it off: how is "restart", "network" or
	// "power-off".
	Leave(how string) error
}

// Disk is an open disk.
type Disk interface {
	restore.Target
	Size() int64 // bytes
	SectorSize() int
	Close() error
}

// PacketReader is a socket that has joined a group.
type PacketReader interface {
	wire.Reader
	Close() error
}

// ErrLeft is what Run returns when the machine was restarted or switched off at
// the end of an errand.
var ErrLeft = errors.New("the workstation has left, as the errand asks")

// Status is what the workstation's screen shows.
type Status struct {
	Name  string // of the workstation; empty until it is admitted
	Text  string // what the agent is doing, in words
	Done  int64  // of Total, in bytes; Total is 0 when there is nothing to count
	Total int64
}

// Options of an agent. The zero value works.
type Options struct {
	Show func(Status) // is told every change; nothing by default
	Log  *slog.Logger // discards by default
	// Ticket lets the agent check in, and Boot is the boot that it is good for.
	Ticket, Boot string
	// Wish is what was chosen in the boot menu, and is told after the first check-in.
	Wish *api.Wish
	// Ask has a person at the screen type a line; wrong says why the last one was not taken. It
	// is nil if nobody can be asked.
	Ask func(ctx context.Context, q answers.Question, wrong string) (string, error)
	// Keyboard is told in which layout people type here, at each check-in; empty if nothing is set.
	Keyboard func(layout string)
	// Certificate is what a delivered system is to trust of the service, in PEM.
	Certificate []byte
}

// giveUp is an error of a call that trying again will not mend.
type giveUp struct{ error }

func (g giveUp) Unwrap() error { return g.error }

// Agent is one agent on one machine.
type Agent struct {
	machine Machine
	service *apiclient.Client // without a pass
	options Options

	renewing sync.Mutex // held while checking in again

	mu     sync.Mutex
	client *apiclient.Client // with the pass of the last check-in
	name   string
	errand int64 // that it is at

	checked string // what the last check has found; empty once another errand has begun
}

// called is the workstation's name, as the service told it.
func (a *Agent) called() string {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.name
}

func (a *Agent) setName(name string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.name = name
}

// setErrand notes which errand it is at; 0 ends that.
func (a *Agent) setErrand(id int64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.errand = id; id != 0 {
		a.checked = ""
	}
}

func (a *Agent) atErrand() int64 {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.errand
}

// New makes an agent that works for the service behind client.
func New(client *apiclient.Client, m Machine, o Options) *Agent {
	if o.Show == nil {
		o.Show = func(Status) {}
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Boot == "" { // not started as a boot: this process is one
		o.Boot = rand.Text()
	}
	return &Agent{machine: m, service: client, options: o}
}

// Run works until ctx ends and returns its error, or ends early when the
// service will not have this machine at all.
func (a *Agent) Run(ctx context.Context) error {
	for pause := time.Duration(0); ; {
		if err := a.checkIn(ctx); err != nil {
			return err
		}
		if w := a.options.Wish; w != nil {
			a.options.Wish = nil
			err := a.askFor(ctx, w)
			if err == nil {
				err = a.Wish(ctx, *w)
			}
			if err != nil {
				a.show("what was chosen in the menu cannot be had: %v", err)
			}
		}
		worked, err := a.work(ctx)
		if worked {
			pause = 0
		}
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case errors.Is(err, ErrLeft):
			return err
		case apiclient.IsUnauthorized(err):
			// The service has forgotten the pass: it was restarted.
			a.options.Log.Info("checking in again")
		default: // nothing that was said ends an agent
			pause = min(max(2*pause, time.Second), time.Minute)
			a.show("%v; going on in %v", err, pause)
			a.options.Log.Warn("an errand broke off", "error", err)
			select {
			case <-time.After(pause):
			case <-ctx.Done():
				return ctx.Err()
			}
		}
	}
}

func (a *Agent) show(format string, args ...any) {
	a.options.Show(Status{Name: a.called(), Text: fmt.Sprintf(format, args...)})
}

func (a *Agent) checkIn(ctx context.Context) error {
	inventory, err := a.machine.Inventory()
	if err != nil {
		return fmt.Errorf("read the machine's inventory: %w", err)
	}
	a.seeDisks(&inventory)
	in := api.CheckIn{AgentVersion: version.Program(), Inventory: inventory, Ticket: a.options.Ticket, Boot: a.options.Boot, Errand: a.atErrand()}
	for _, card := range inventory.Cards {
		in.Addresses = append(in.Addresses, card.Address)
	}
	if len(in.Addresses) == 0 {
		return errors.New("this machine has no network card with a hardware address of its own")
	}
	a.show("checking in at %s", a.service.Server())
	out, err := a.askIn(ctx, in)
	if err != nil {
		return fmt.Errorf("the service refuses this workstation: %w", err)
	}
	a.mu.Lock()
	a.client, a.name = a.service.WithToken(out.Pass), out.Name
	a.mu.Unlock()
	if a.options.Keyboard != nil {
		a.options.Keyboard(out.Keyboard)
	}
	a.options.Log.Info("checked in", "workstation", out.Name, "state", out.State)
	a.standing(out.Name, out.State, out.OnDisk)
	return nil
}

// askIn checks in, and waits while another machine is at work under this one's identity,
// or did so a moment ago.
func (a *Agent) askIn(ctx context.Context, in api.CheckIn) (api.CheckedIn, error) {
	for {
		out, err := patiently(ctx, a, func() (api.CheckedIn, error) { return a.service.CheckIn(ctx, in) })
		if !apiclient.IsConflict(err) {
			if err == nil {
				a.service.AlsoAt(out.At)
			}
			return out, err
		}
		a.show("%v; asking again in %v", err, askAgain)
		a.options.Log.Warn("the service does not let this workstation in yet", "error", err)
		select {
		case <-time.After(askAgain):
		case <-ctx.Done():
			return out, ctx.Err()
		}
	}
}

// askAgain is how long an agent that was not let in waits before it asks again.
const askAgain = 5 * time.Second

// pass is the client with the pass that is good now; before the first check-in, the
// one without.
func (a *Agent) pass() *apiclient.Client {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.client == nil {
		return a.service
	}
	return a.client
}

// authorized calls f, patiently, and checks in again when the pass is no longer
// good: the service was restarted, and what is under way goes on.
func authorized[T any](ctx context.Context, a *Agent, f func(*apiclient.Client) (T, error)) (T, error) {
	for {
		client := a.pass()
		v, err := patiently(ctx, a, func() (T, error) { return f(client) })
		if !apiclient.IsUnauthorized(err) {
			return v, err
		}
		if err := a.renew(ctx, client); err != nil {
			return v, err
		}
	}
}

// renew checks in again, unless somebody has done so since stale was in use.
func (a *Agent) renew(ctx context.Context, stale *apiclient.Client) error {
	a.renewing.Lock()
	defer a.renewing.Unlock()
	if a.pass() != stale {
		return nil
	}
	a.options.Log.Info("checking in again")
	return a.checkIn(ctx)
}

// SignIn lets the person at this workstation order for it, by what they have typed.
func (a *Agent) SignIn(ctx context.Context, typed api.Typed) (api.SignedIn, error) {
	return a.pass().SignIn(ctx, typed)
}

// Wish orders what the person at this workstation has chosen.
func (a *Agent) Wish(ctx context.Context, w api.Wish) error { return a.pass().Wish(ctx, w) }

// WishLater orders what a person has chosen while the service did not answer (api.SignedIn.Later), once it does: they are asked
// anew then, by what they had typed.
func (a *Agent) WishLater(ctx context.Context, typed api.Typed, w api.Wish) error {
	_, err := authorized(ctx, a, func(c *apiclient.Client) (api.SignedIn, error) {
		in, err := c.SignIn(ctx, typed)
		if err == nil && in.Later {
			err = apiclient.ErrAway
		}
		return in, err
	})
	if err != nil {
		return err
	}
	_, err = authorized(ctx, a, func(c *apiclient.Client) (struct{}, error) { return struct{}{}, c.Wish(ctx, w) })
	return err
}

// Entries are the boot entries that may be started here, by whoever has signed in or by everybody.
func (a *Agent) Entries(ctx context.Context) ([]api.BootEntryAt, error) {
	return a.pass().EntriesHere(ctx)
}

// askFor has the person at this workstation say what a boot entry's parameters are that was chosen in the boot menu.
func (a *Agent) askFor(ctx context.Context, w *api.Wish) error {
	if w.Kind != "entry" || a.options.Ask == nil {
		return nil
	}
	all, err := a.Entries(ctx)
	if err != nil {
		return err
	}
	for _, e := range all {
		if e.Name != w.Name {
			continue
		}
		w.Values = map[string]string{}
		for _, p := range e.Parameters {
			text, err := a.options.Ask(ctx, answers.Question{Key: p.Name, Ask: p.Question(), Default: p.Default}, "")
			if err != nil {
				return err
			}
			if text = cmp.Or(text, p.Default); text != "" {
				w.Values[p.Name] = text
			}
		}
	}
	return nil
}

// Survey looks at the workstation's only disk, for the person in front of it.
func (a *Agent) Survey() (*capture.Survey, error) {
	disk, err := a.openDisk("only")
	if err != nil {
		return nil, err
	}
	defer disk.Close()
	return capture.Look(disk, disk.Size(), disk.SectorSize(), capture.LookOptions{Files: a.filesOf(disk)})
}

// leave restarts the machine or switches it off.
func (a *Agent) leave(how string) error {
	if err := a.machine.Leave(how); err != nil {
		return fmt.Errorf("%s: %w", how, err)
	}
	return ErrLeft
}

// standing shows what the workstation is waiting for.
func (a *Agent) standing(name string, state roster.State, onDisk string) {
	a.setName(name)
	switch state {
	case "newcomer":
		a.show("new here; waiting to be admitted")
	case "visiting":
		a.show("at a bench; waiting for an errand")
	case "retired":
		a.show("retired; the roster has no work for this workstation")
	default:
		text := "waiting for an errand"
		if onDisk != "" {
			text += "; on its disk is " + onDisk
		}
		a.mu.Lock()
		if a.checked != "" {
			text += "; " + a.checked
		}
		a.mu.Unlock()
		a.show("%s", text)
	}
}

// work does errand after errand, and tells whether it did one.
func (a *Agent) work(ctx context.Context) (worked bool, err error) {
	for {
		a.setErrand(0)
		now, err := patiently(ctx, a, func() (api.Standing, error) { return a.pass().Standing(ctx) })
		if err != nil {
			return worked, err
		}
		a.standing(now.Name, now.State, now.OnDisk)
		if now.Errand == nil {
			continue
		}
		a.setErrand(now.Errand.ID)
		switch now.Errand.Kind {
		case "capture":
			err = a.capture(ctx, now.Errand)
		case "receive":
			err = a.receive(ctx, now.Errand.Receive)
		case "drivers":
			err = a.install(ctx, now.Errand)
		case "payloads":
			err = a.bringErrand(ctx, now.Errand)
		case "check":
			err = a.check(ctx, now.Errand)
		case "wipe":
			err = a.wipe(ctx, now.Errand)
		case "command":
			err = a.command(ctx, now.Errand)
		case "folders":
			err = a.bringFolders(ctx, now.Errand)
		case "entry": // it is started by the loader, and over when that has loaded something else
			a.show("restarting, to start %s", now.Errand.Entry)
			err = a.leave("network")
		default:
			err = a.decline(ctx, now.Errand)
		}
		if err != nil {
			return worked, err
		}
		worked = true
	}
}

// decline says that this agent cannot do an errand, which ends it.
func (a *Agent) decline(ctx context.Context, e *api.ToErrand) error {
	why := fmt.Sprintf("this agent (version %s) cannot do an errand of the kind %q; make a build with the agent of this service: jugate environment build --offer", version.Program(), e.Kind)
	a.show("%s", why)
	a.options.Log.Error("an errand that is not known", "kind", e.Kind, "errand", e.ID)
	_, err := authorized(ctx, a, func(c *apiclient.Client) (struct{}, error) {
		return struct{}{}, c.FailErrand(ctx, e.ID, api.Failure{Error: why})
	})
	if isTold(err) {
		return nil // it has ended meanwhile
	}
	return err
}

// isTold tells whether an error is the service's refusal, which asking again does not
// change.
func isTold(err error) bool {
	var told *apiclient.Error
	return errors.As(err, &told) && !apiclient.IsUnauthorized(err) && !apiclient.IsPassing(err)
}

// tell says what the agent is doing, to its screen and to the service.
func (a *Agent) tell(ctx context.Context, activity api.Activity) error {
	a.options.Show(Status{Name: a.called(), Text: activity.Text, Done: activity.Done, Total: activity.Total})
	_, err := authorized(ctx, a, func(c *apiclient.Client) (struct{}, error) { return struct{}{}, c.TellActivity(ctx, activity) })
	return err
}

// patiently calls f until it succeeds while the service is away or in trouble, and shows
// that it is waiting. An error of f that is a giveUp ends that.
func patiently[T any](ctx context.Context, a *Agent, f func() (T, error)) (T, error) {
	pause := backoff.NewExponentialBackOff()
	pause.InitialInterval, pause.MaxInterval = 500*time.Millisecond, 10*time.Second
	waited := false
	v, err := backoff.Retry(ctx, func() (T, error) {
		v, err := f()
		var last giveUp
		if errors.As(err, &last) {
			return v, backoff.Permanent(last.error)
		}
		if err != nil && !apiclient.IsPassing(err) {
			err = backoff.Permanent(err)
		}
		return v, err
	}, backoff.WithBackOff(pause), backoff.WithMaxElapsedTime(0), backoff.WithNotify(func(err error, next time.Duration) {
		waited = true
		what := "does not answer"
		if !errors.Is(err, apiclient.ErrAway) {
			what = "cannot do this now: " + err.Error()
		}
		a.show("the service at %s %s; trying again in %.1f s", a.service.Server(), what, next.Seconds())
		a.options.Log.Warn("the service is away or in trouble", "error", err)
	}))
	if waited && err == nil {
		a.show("the service is back")
	}
	var permanent *backoff.PermanentError
	if errors.As(err, &permanent) {
		err = permanent.Unwrap()
	}
	return v, err
}

// openDisk opens the disk that an errand is about.
func (a *Agent) openDisk(rule string) (Disk, error) {
	_, i, err := a.diskMeant(rule)
	if err != nil {
		return nil, err
	}
	return a.machine.OpenDisk(i)
}
