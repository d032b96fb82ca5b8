// Package outpost is a Jugate process at another site: it answers network boot there, passes
// on what agents ask of the service, and holds builds, boot entries and slabs, so that each
// comes over the line once.
//
//	o, err := outpost.Open(ctx, outpost.Config{Data: dir, Service: "https://192.0.2.1:7460", Code: code})
//	defer o.Close()
//	err = o.Serve(ctx, listener)
//
// identity.go has how it joins and who it is; roster.go what machines boot, by the
// service's word or, while that does not answer, by its last; hold.go and slabs.go what it
// holds, stores.go where slabs lie, placed.go what comes ahead of time; deliveries.go the parts
// of deliveries that it carries through, ledger.go what they leave behind; relay.go and
// receiving.go what agents ask, asked.go which files they ask for, and away.go and signin.go what they get while the service does not answer;
// carried.go what media carry for an outpost that was started from them; tell.go and courier.go what it tells the service; turns.go which
// of several outposts answers on a wire.
//
// The data folder has:
//
//	outpost.pem    the outpost's key and certificate, mode 0600
//	authority.pem  the certificate of the service's authority
//	outpost.json   its name, and where the service is
//	joined-by      a mark of the code that it has joined by
//	outpost.lock   held while an outpost runs on the folder
//	outpost.db     see records/outbox
//	carried.json   what media carry (api.Carried)
//	files/         files of versions and deliveries by their digest
//	asked/         files of driver packages and payloads that workstations asked for, by their digest
//	bootenv/       builds, see core/environment/builds
//	bootentries/   files of boot entries by their digest
//	slabs/         see core/slabstore; or
//	sealed/        the same, sealed by a key that is not in this folder
//	scratch/       files that are on their way
package outpost

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/gofrs/flock"

	"jugate/apiclient"
	"jugate/boot"
	"jugate/core/environment/builds"
	"jugate/core/parts"
	"jugate/oneport"
	"jugate/records/outbox"
)

// ErrInUse says that another outpost runs on the data folder.
var ErrInUse = errors.New("the data folder is in use")

// Config says where an outpost is, and what it does.
type Config struct {
	Data    string
	Service string // https URL; may be left out by one that has joined
	Code    string // to join by; may be left out by one that has joined
	Netboot boot.Config
	// Answers, if set, is told once the outpost answers.
	Answers func()
	// Interface is the network interface that streams go out by; empty leaves it to the address that it listens on.
	Interface string
	// Slabs bounds what is kept of slabs, in bytes as stored; 0 keeps all while KeepFree is left on the disk.
	Slabs, KeepFree int64
	// SlabFolder is where slabs that come over the line are kept, if not in the data folder.
	SlabFolder string
	Log        *slog.Logger
	Now        func() time.Time
}

// keepFree is left free on the disk by default, in bytes; on media it is keepFreeOnMedia.
const (
	keepFree        = 2 << 30
	keepFreeOnMedia = 16 << 20
)

// Outpost is one that runs.
type Outpost struct {
	config   Config
	started  string // another text at each start
	lock     *flock.Flock
	identity identity
	client   *apiclient.Client
	bulk     *apiclient.Client // for files and slabs
	line     line
	records  *outbox.DB
	boot     *boot.Boot
	builds   *builds.Store
	entries  *parts.Store
	hold     *hold
	slabs    *slabs
	relay    *relay
	teller   teller
	courier  courier
	turns    turns
	carried  *carried

	deliveries *deliveries
	placed     *placed

	until context.Context
	close context.CancelFunc
	work  sync.WaitGroup
}

// Open takes the data folder, joins the service if it has not, and makes the rest.
func Open(ctx context.Context, c Config) (*Outpost, error) {
	if c.Log == nil {
		c.Log = slog.New(slog.DiscardHandler)
	}
	if c.Now == nil {
		c.Now = time.Now
	}
	o := &Outpost{config: c, started: rand.Text()}
	o.until, o.close = context.WithCancel(context.Background())
	if err := o.open(ctx); err != nil {
		return nil, errors.Join(err, o.Close())
	}
	return o, nil
}

func (o *Outpost) open(ctx context.Context) (err error) {
	dir := o.config.Data
	if err := os.MkdirAll(filepath.Join(dir, "scratch"), 0o700); err != nil {
		return fmt.Errorf("make the data folder: %w", err)
	}
	o.lock = flock.New(filepath.Join(dir, "outpost.lock"))
	if held, err := o.lock.TryLock(); err != nil {
		return fmt.Errorf("lock the data folder: %w", err)
	} else if !held {
		o.lock = nil
		return fmt.Errorf("%w: another outpost runs on %s", ErrInUse, dir)
	}
	if o.carried, err = openCarried(dir); err != nil {
		return err
	}
	if o.config.KeepFree == 0 {
		if o.config.KeepFree = keepFree; o.carried.Key != "" {
			o.config.KeepFree = keepFreeOnMedia
		}
	}
	if err := o.identity.open(ctx, o.config); err != nil {
		return err
	}
	if o.client, err = apiclient.ForOutpost(o.identity.service, o.identity.authority, o.identity.certificate); err != nil {
		return err
	}
	o.bulk = o.client.Bulk()
	if o.records, err = outbox.Open(ctx, filepath.Join(dir, "outpost.db")); err != nil {
		return err
	}
	if o.builds, err = builds.Open(filepath.Join(dir, "bootenv")); err != nil {
		return err
	}
	if o.entries, err = parts.Open(filepath.Join(dir, "bootentries")); err != nil {
		return err
	}
	if o.slabs, err = openSlabs(o); err != nil {
		return err
	}
	o.line.now = o.config.Now
	o.hold = &hold{o: o, scratch: filepath.Join(dir, "scratch")}
	if o.relay, err = newRelay(ctx, o); err != nil {
		return err
	}
	if o.deliveries, err = openDeliveries(o); err != nil {
		return err
	}
	o.courier, o.placed = newCourier(o), &placed{o: o, kick: make(chan struct{}, 1)}
	o.turns.o = o
	o.teller = teller{o: o, kick: make(chan struct{}, 1), holds: make(chan struct{}, 1)}
	o.boot = &boot.Boot{Config: o.config.Netboot, Roster: &bootRoster{o}, Builds: o.builds, Entries: o.entries, Authority: o.hold.trust(ctx), Log: o.config.Log, Now: o.config.Now, Stepped: o.teller.stepped, Silent: o.turns.silent}
	return nil
}

// Name is what the service calls it.
func (o *Outpost) Name() string { return o.identity.name }

// Serve answers machines and their agents until ctx ends.
func (o *Outpost) Serve(ctx context.Context, listener net.Listener) error {
	at, _ := listener.Addr().(*net.TCPAddr)
	if at != nil {
		o.teller.at(at.String())
		if o.config.Interface == "" {
			o.config.Interface = interfaceOf(at.IP)
		}
		o.deliveries.streams.Multicast.Interface = o.config.Interface // before anybody is told where streams come from
		o.turns.start(o.until)
		if err := o.boot.Start(ctx, o.until, at.Port); err != nil {
			return err
		}
	}
	if work, err := o.hold.work(o.until); err != nil {
		return err
	} else if work.Mark != "" { // the service may not answer
		work.Now = time.Time{} // that was then
		o.follow(work)
	}
	o.work.Go(func() { o.placed.run(o.until) })
	o.work.Go(func() { o.teller.run(o.until) })
	o.work.Go(func() { o.courier.run(o.until) })
	if o.config.Answers != nil { // whoever calls now waits in the listener
		o.config.Answers()
	}
	server := oneport.Server(o.relay.handler(), o.identity.serverConfig(), o.config.Log)
	return oneport.Run(ctx, server, listener, o.config.Log, o.close, shutdownGrace)
}

// Ready tells whether what the outpost keeps can be read.
func (o *Outpost) Ready(ctx context.Context) error {
	_, _, err := o.records.Items(ctx, 1)
	return err
}

// interfaceOf is the name of the interface that has an address; empty if none has.
func interfaceOf(ip net.IP) string {
	all, err := net.Interfaces()
	if err != nil || ip.IsUnspecified() {
		return ""
	}
	for _, i := range all {
		addresses, err := i.Addrs()
		if err != nil {
			continue
		}
		for _, a := range addresses {
			if n, is := a.(*net.IPNet); is && n.IP.Equal(ip) {
				return i.Name
			}
		}
	}
	return ""
}

// shutdownGrace is how long running requests may take to finish.
const shutdownGrace = 10 * time.Second

// Close ends what runs, and gives the data folder back.
func (o *Outpost) Close() error {
	o.close()
	o.work.Wait()
	if o.deliveries != nil {
		o.deliveries.streams.Wait()
	}
	if o.boot != nil {
		o.boot.Wait()
	}
	var err error
	if o.records != nil {
		err = o.records.Close()
	}
	if o.lock != nil {
		err = errors.Join(err, o.lock.Unlock())
	}
	return err
}

// line knows whether the service has answered lately, so that machines do not wait for it again and again.
type line struct {
	now func() time.Time

	mu        sync.Mutex
	downUntil time.Time
}

const (
	// answerWithin is how long the service may take to answer for a machine that boots, and factsWithin for one that asks for an
	// address: the others wait for that.
	answerWithin = 8 * time.Second
	factsWithin  = 2 * time.Second
	// restFor is how long nobody waits for the service again after it did not answer.
	restFor = 10 * time.Second
)

// down tells whether nobody is to wait for the service now.
func (l *line) down() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.now().Before(l.downUntil)
}

// saw notes whether the service has answered.
func (l *line) saw(err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.downUntil = time.Time{}
	if errors.Is(err, apiclient.ErrAway) || errors.Is(err, context.DeadlineExceeded) {
		l.downUntil = l.now().Add(restFor)
	}
}

// ask asks the service something for a machine that waits, unless it did not answer a moment ago. Errors wrap
// apiclient.ErrAway if nobody answers.
func ask[T any](ctx context.Context, o *Outpost, atMost time.Duration, do func(ctx context.Context) (T, error)) (answer T, err error) {
	if o.line.down() {
		return answer, apiclient.ErrAway
	}
	within, cancel := context.WithTimeout(ctx, atMost)
	defer cancel()
	answer, err = do(within)
	if ctx.Err() != nil {
		return answer, ctx.Err()
	}
	o.line.saw(err)
	if errors.Is(err, context.DeadlineExceeded) {
		err = fmt.Errorf("%w within %v", apiclient.ErrAway, atMost)
	}
	return answer, err
}
