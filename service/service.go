// Package service is the long-running process. It opens what lies in the data folder, makes
// the rooms and joins them; what the service does is in those: web (HTTP), fleet (the
// workstations), intake (captures, imports and the store), orders (deliveries and errands),
// stock (drivers and builds), access (who may do what), and below them the rooms boot and
// stream.
//
//	s, err := service.Open(ctx, service.Config{Data: dir})
//	defer s.Close()
//	err = s.Serve(ctx, listener)
//
// The data folder has:
//
//	authority.key   the key of the service's own authority, mode 0600, and its certificate
//	authority.pem   the certificate alone, for browsers and programs
//	service.pem     the service's certificate and key, mode 0600
//	log.key         signs heads of the tree of records, mode 0600
//	witness.key     countersigns those of other services, mode 0600
//	newest.head     the head that was signed last
//	admin.token     the key of last resort, mode 0600
//	seal.key        what secrets in the records are sealed with, mode 0600
//	jugate.lock     held while a service runs on the folder
//	jugate.db       the records
//	slabs/          see core/slabstore
//	images/         see core/image
//	bootenv/        see core/environment/builds
//	bootentries/    files of boot entries by their digest, see core/parts
//	uploads/        slab maps of captures that are not committed yet
//	scratch/        what is worked on, empty after a start
//	reserve         room for receipts, given up when the disk is full
package service

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/gofrs/flock"

	"jugate/api"
	"jugate/boot"
	"jugate/core/driver"
	"jugate/core/durable"
	"jugate/core/environment/builds"
	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/image"
	"jugate/core/lease"
	"jugate/core/netboot"
	"jugate/core/parts"
	"jugate/core/slabstore"
	"jugate/oneport"
	"jugate/records"
	"jugate/service/access"
	"jugate/service/backups"
	"jugate/service/carry"
	"jugate/service/directories"
	"jugate/service/doctor"
	"jugate/service/domains"
	"jugate/service/fleet"
	"jugate/service/intake"
	"jugate/service/metrics"
	"jugate/service/notify"
	"jugate/service/orders"
	"jugate/service/overview"
	"jugate/service/proofs"
	"jugate/service/reports"
	"jugate/service/settings"
	"jugate/service/sites"
	"jugate/service/standby"
	"jugate/service/stock"
	"jugate/service/stores"
	"jugate/service/web"
	"jugate/stream"
)

// ErrInUse says that another service runs on the data folder.
var ErrInUse = errors.New("the data folder is in use")

// Service is one running service.
type Service struct {
	config  Config
	lock    *flock.Flock
	records *records.DB
	reserve *durable.Reserve

	access      *access.Access
	domains     *domains.Domains
	directories *directories.Directories
	fleet       *fleet.Fleet
	intake      *intake.Intake
	orders      *orders.Orders
	proofs      *proofs.Proofs
	sites       *sites.Sites
	stores      *stores.Stores
	backups     *backups.Backups
	standby     *standby.Standby
	stock       *stock.Stock
	overview    *overview.Overview
	settings    *settings.Settings
	notify      *notify.Notify
	boot        *boot.Boot
	streams     *stream.Streams
	web         *web.Server

	until context.Context // ends when the service closes
	close context.CancelFunc
	house sync.WaitGroup

	lost     chan error // why this machine is the service no more
	unsigned error      // why the head of the records was not signed the last time
}

// Open opens the data folder, making it on the first start, takes it for this
// process alone, and goes on with what was open. Errors wrap ErrInUse or say
// what could not be opened.
func Open(ctx context.Context, c Config) (*Service, error) {
	c.setDefaults()
	for _, dir := range []string{c.Data, filepath.Join(c.Data, "images"), filepath.Join(c.Data, "uploads")} {
		if err := os.MkdirAll(dir, 0o750); err != nil {
			return nil, fmt.Errorf("make the data folder: %w", err)
		}
	}
	s := &Service{config: c, lost: make(chan error, 1)}
	s.until, s.close = context.WithCancel(context.Background())
	if err := s.open(ctx); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

func (s *Service) open(ctx context.Context) (err error) {
	c := s.config
	if name := c.Multicast.Interface; name != "" {
		if _, err := net.InterfaceByName(name); err != nil {
			return fmt.Errorf("multicast interface %q: %w", name, err)
		}
	}
	if s.lock, err = lock(filepath.Join(c.Data, "jugate.lock")); err != nil {
		return err
	}
	if err = s.sweepFolders(); err != nil {
		return err
	}
	if s.access, err = access.Open(c.Data, c.Names, c.Log, c.Now); err != nil {
		return err
	}
	if s.proofs, err = proofs.Open(c.Data, c.Log, c.Now); err != nil {
		return err
	}
	builds, err := builds.Open(filepath.Join(c.Data, "bootenv"))
	if err != nil {
		return fmt.Errorf("open the boot environment's builds: %w", err)
	}
	entries, err := parts.Open(filepath.Join(c.Data, "bootentries"))
	if err != nil {
		return fmt.Errorf("open the files of boot entries: %w", err)
	}
	library, err := driver.OpenLibrary(filepath.Join(c.Data, "drivers"))
	if err != nil {
		return fmt.Errorf("open the driver library: %w", err)
	}
	for _, n := range library.Notices {
		c.Log.Error(n)
	}
	folder, err := slabstore.Open(filepath.Join(c.Data, "slabs"))
	if err != nil {
		return fmt.Errorf("open the slab store: %w", err)
	}
	slabs := slabstore.NewFront(s.until, folder)
	if err := s.openRecords(ctx); err != nil {
		return err
	}
	if err := s.join(slabs, builds, entries, library); err != nil {
		return err
	}
	if err := s.settings.Load(ctx, c.base()); err != nil {
		return err
	}
	s.bootAs(s.settings.InForce())
	if err := s.stores.OpenAll(ctx); err != nil {
		c.Log.Error("a store could not be opened; versions that are there alone cannot be delivered", "error", err)
	}
	if err := s.standby.Begin(ctx); err != nil {
		return err
	}
	if from := c.TakenOver; from != nil {
		s.sayTakenOver(ctx, from)
	}
	if err := errors.Join(s.intake.KeepStates(ctx), s.orders.Resume(ctx), s.sites.Load(ctx)); err != nil {
		return err
	}
	s.house.Go(s.keepHouse)
	s.house.Go(func() { s.orders.KeepOrders(s.until) })
	s.house.Go(s.examine)
	s.house.Go(func() { s.intake.KeepLeaning(s.until) })
	s.house.Go(func() { s.stores.Keep(s.until) })
	s.house.Go(s.keepBackups)
	s.house.Go(func() { s.notify.Keep(s.until) })
	return nil
}

// sayTakenOver says in the log that another machine was the service before, and which heads were signed there
// whose leaves did not get here.
func (s *Service) sayTakenOver(ctx context.Context, from *TakenOver) {
	words := fmt.Sprintf("%s has become the service, in term %d, from the copy of term %d", s.config.Machine, from.Held.Term(), from.From)
	s.config.Log.Warn(words)
	if _, err := s.proofs.Restored(ctx, words); err != nil && !errors.Is(err, fault.Conflict) {
		s.config.Log.Error("what was lost cannot be said yet; jugate receipt restored does", "error", err)
	}
}

// openRecords opens the records, and says what is odd about them.
func (s *Service) openRecords(ctx context.Context) (err error) {
	path := filepath.Join(s.config.Data, "jugate.db")
	_, missing := os.Stat(path)
	if s.records, err = records.Open(ctx, s.config.Now(), path); err != nil {
		return err
	}
	if left, err := os.ReadDir(filepath.Join(s.config.Data, "images")); err == nil && len(left) > 0 && errors.Is(missing, fs.ErrNotExist) {
		s.config.Log.Error("the records were not there, and are begun anew, though there are images: jugate image rescan enters those; all else comes back with a backup alone (jugate restore)")
	}
	for _, n := range s.records.Notices {
		s.config.Log.Error("the records: " + n)
	}
	return nil
}

// join makes the rooms and lets each know those that it needs.
func (s *Service) join(slabs *slabstore.Front, offered *builds.Store, entries *parts.Store, library *driver.Library) error {
	var trust bytes.Buffer
	if err := builds.WriteTrust(&trust, s.access.Certificates.Authority); err != nil {
		return err
	}
	c, db, files, events := s.config, s.records, image.Files{Dir: filepath.Join(s.config.Data, "images")}, &web.Events{}
	s.sites = &sites.Sites{}
	s.settings = &settings.Settings{Records: db, Apply: s.apply, Log: c.Log, Now: c.Now, Publish: func(event any) { events.Publish(event) }}
	s.standby = &standby.Standby{Dir: c.Data, Records: db, Service: s.access.Certificates.Fingerprint(), Version: c.Version, Machine: c.Machine, At: c.At, For: c.LeaseFor, Log: c.Log,
		Lost: func(err error) { s.lost <- err }}
	if c.TakenOver != nil {
		s.standby.Taken = c.TakenOver.Held
	}
	publish := func(event any) {
		if _, is := event.(api.Version); is {
			s.standby.Wake()
		}
		s.sites.Heard(event)
		s.notify.Heard(event)
		events.Publish(event)
	}
	s.reserve = &durable.Reserve{Path: filepath.Join(c.Data, "reserve"), Bytes: reserveBytes}
	s.access.Records, s.proofs.Records, s.proofs.Courier = db, db, web.Courier{}
	s.boot = &boot.Boot{Config: boot.Config{WakeBy: c.Multicast.Interface},
		Builds: offered, Entries: entries, Authority: trust.Bytes(), Log: c.Log, Now: c.Now, Stepped: func(a hwaddr.Address, _ netboot.Mark) { publish(api.BootStepped{Address: a.String()}) }}
	s.fleet = &fleet.Fleet{Records: db, Boot: s.boot, Log: c.Log, Now: c.Now, Publish: publish, AlsoAt: c.At, Closing: s.until.Done(), AcceptCards: s.settings.AcceptCards, Tickets: func() bool { return c.Tickets || c.BootTickets && s.settings.Boots() }}
	s.stores = &stores.Stores{Dir: c.Data, Records: db, Secrets: s.access, Slabs: slabs, Log: c.Log, Now: c.Now, Publish: publish, Service: s.access.Certificates.Fingerprint()}
	s.intake = &intake.Intake{Dir: c.Data, Stores: s.stores, Records: db, Slabs: slabs, Files: files, Fleet: s.fleet, Log: c.Log, Now: c.Now, Publish: publish, KeepFree: c.KeepFree}
	s.backups = &backups.Backups{Dir: c.Data, Scratch: s.scratch(), Config: c.File, Records: db, Stores: s.stores, Files: files, Service: s.stores.Service, Version: c.Version, Log: c.Log, Now: c.Now, Publish: publish}
	s.standby.Stores, s.standby.Files, s.standby.Publish = s.stores, s.backups, publish
	s.stores.Versions, s.stores.Backups = s.intake, s.backups.Needed
	s.stock = stock.New(stock.Config{Version: c.Version, Dir: c.Data, Scratch: s.scratch(), Records: db, Library: library, Builds: offered, Entries: entries, Files: files, Slabs: slabs, Boot: s.boot, Access: s.access,
		Log: c.Log, Now: c.Now, Publish: publish, Unknown: s.settings.Unknown, Agent: c.Netboot.Agent, Certificate: s.access.Certificates.Authority, BuildFrom: c.BuildFrom})
	*s.sites = sites.Sites{Version: c.Version, At: c.At, Records: db, Certificates: s.access.Certificates, Roster: s.stock, Boot: s.boot, Tickets: s.access, Builds: offered, Entries: entries, Slabs: slabs, Versions: s.intake, Files: files, Trust: trust.Bytes(), Log: c.Log, Now: c.Now, Publish: publish, Closing: s.until.Done(),
		Multicast: func() api.OutpostMulticast {
			return api.OutpostMulticast{Groups: c.Multicast.Groups, Port: c.Multicast.Port, TTL: c.Multicast.TTL, Ceiling: s.settings.Ceiling()}
		}, Secret: s.access.Secret}
	s.fleet.Sites = s.sites
	s.boot.Roster, s.fleet.Stock, s.fleet.Systems, s.fleet.Secrets = s.stock, s.stock, s.stock, s.access
	s.domains = &domains.Domains{Records: db, Secrets: s.access, Log: c.Log, Now: c.Now}
	s.fleet.Domains = s.domains
	s.directories = &directories.Directories{Records: db, Secrets: s.access, Log: c.Log, Now: c.Now, Dial: c.Dial, Discover: web.Discover}
	s.access.Directories = s.directories
	s.streams = &stream.Streams{Multicast: c.Multicast, Ceiling: s.settings.Ceiling, Slabs: slabs, Payloads: s.stock, Secret: s.access.Secret, Log: c.Log, Now: c.Now}
	s.orders = &orders.Orders{Records: db, Streams: s.streams, Fleet: s.fleet, Versions: s.intake, Stock: s.stock, Access: s.access, Sites: s.sites, Reserve: s.reserve,
		Rate: s.settings.Rate,
		Log:  c.Log, Now: c.Now, Publish: publish, Until: s.until, IdentityFiles: c.IdentityFiles, ArrivalWithin: s.settings.ArrivalWithin}
	s.streams.Ledger, s.fleet.Errands, s.sites.Deliveries = s.orders.Ledger(), s.orders, s.orders
	s.stock.Orders, s.stock.Fleet = s.orders, s.fleet
	s.stock.Carrier = &carry.Carry{Sites: s.sites, Orders: s.orders, Versions: s.intake, Signer: s.access.Signer, Records: db, Builds: offered, Files: files, Slabs: slabs,
		Program: filepath.Join(filepath.Dir(c.Netboot.Agent), "jugate-outpost")}
	s.overview = &overview.Overview{Records: db, Fleet: s.fleet, Orders: s.orders, Stock: s.stock, ArrivalWithin: s.settings.ArrivalWithin, Now: c.Now,
		Parts: overview.Parts{Directories: s.directories, Dir: c.Data, KeepFree: c.KeepFree, Records: db, Sites: s.sites, Stores: s.stores, Backups: s.backups, Standby: s.standby, Certificates: s.access.Certificates}}
	s.notify = notify.New(notify.Config{Records: db, Secrets: s.access, Overview: s.overview, Stock: s.stock, Orders: s.orders, Hooks: web.Hooks{}, Console: strings.Join(c.At[:min(len(c.At), 1)], ""), ArrivalWithin: s.settings.ArrivalWithin, Log: c.Log, Now: c.Now, Publish: publish})
	s.overview.Parts.Notify, s.overview.Again = s.notify, overview.Again{Boot: s.boot, Stores: s.stores, Directories: s.directories, Notify: s.notify}
	s.web = &web.Server{Doctor: &doctor.Doctor{Overview: s.overview, Stock: s.stock, Fleet: s.fleet, Orders: s.orders, Intake: s.intake, Records: db, Buffer: s.streams.Buffer, At: c.At, Dir: c.Data}, Notify: s.notify, Settings: s.settings, Overview: s.overview, Reports: &reports.Reports{Records: db, Now: c.Now}, Figures: metrics.New(c.Version, s.overview, db, c.Log), Version: c.Version, Records: db, Access: s.access, Domains: s.domains, Directories: s.directories, Fleet: s.fleet, Intake: s.intake, Orders: s.orders, Proofs: s.proofs, Sites: s.sites, Stock: s.stock, Stores: s.stores, Backups: s.backups, Standby: s.standby, Boot: s.boot,
		Events: events, Log: c.Log, Now: c.Now, Closing: s.until.Done()}
	return nil
}

// lock takes the data folder. The file names the process that holds it.
func lock(path string) (*flock.Flock, error) {
	l := flock.New(path)
	switch held, err := l.TryLock(); {
	case err != nil:
		return nil, fmt.Errorf("lock the data folder: %w", err)
	case !held:
		holder, _ := os.ReadFile(path)
		return nil, fmt.Errorf("%w: another jugate service (process %s) runs on %s; stop that one, or choose another folder with --data",
			ErrInUse, strings.TrimSpace(string(holder)), filepath.Dir(path))
	}
	return l, os.WriteFile(path, fmt.Appendf(nil, "%d\n", os.Getpid()), 0o640)
}

// A service ends within ten seconds, whatever is under way; its unit gives it twenty. shutdownGrace is how long running requests may
// take to finish: slabs, boot files and answers that are on their way. leaseGrace is how long another machine is told that it may go on.
const (
	shutdownGrace = 6 * time.Second
	leaseGrace    = 3 * time.Second
)

// Authority is the certificate of the service's own authority, in PEM, and Fingerprint what people compare
// of it.
func (s *Service) Authority() []byte { return s.access.Certificates.Authority }

// Fingerprint is the SHA-256 of the authority's certificate.
func (s *Service) Fingerprint() string { return s.access.Certificates.Fingerprint() }

// Token is the key of last resort.
func (s *Service) Token() string { return s.access.Token() }

// FirstLink is with what somebody becomes the first administrator; its secret is empty if there is
// somebody already.
func (s *Service) FirstLink(ctx context.Context) (api.Invitation, error) {
	return s.access.FirstLink(ctx)
}

// Ready tells whether the records can be read and written.
func (s *Service) Ready(ctx context.Context) error { return s.records.Ready(ctx) }

// Handler has everything that the service answers over HTTP.
func (s *Service) Handler() http.Handler { return s.web.Handler() }

// OpenAPI is the document that describes /api/v1, made from the Go types.
func OpenAPI() ([]byte, error) { return web.OpenAPI() }

// NotificationSchema is the JSON Schema of what webhooks are sent.
func NotificationSchema() (map[string]any, error) { return web.NotificationSchema() }

// Serve answers requests from the listener until ctx ends, then lets running
// requests finish for a few seconds. It answers by TLS, and for boot files without.
func (s *Service) Serve(ctx context.Context, listener net.Listener) error {
	if tcp, ok := listener.Addr().(*net.TCPAddr); ok {
		if err := s.boot.Start(ctx, s.until, tcp.Port); err != nil {
			return err
		}
	}
	if s.config.Answers != nil { // whoever calls now waits in the listener
		s.config.Answers()
	}
	ctx, end := context.WithCancelCause(ctx)
	defer end(nil)
	go func() {
		select {
		case err := <-s.lost:
			end(err)
		case <-ctx.Done():
		}
	}()
	// s.close ends what waits: long polls, event streams, streams to groups.
	err := oneport.Run(ctx, s.web.HTTP(), listener, s.config.Log, s.close, shutdownGrace)
	if cause := context.Cause(ctx); errors.Is(cause, lease.ErrTaken) {
		return errors.Join(cause, err)
	}
	return err
}

// Close ends what runs and gives the data folder back. Deliveries that were
// still gathering go on at the next start.
func (s *Service) Close() error {
	s.close()
	s.house.Wait()
	if s.boot != nil {
		s.boot.Wait()
		s.streams.Wait()
	}
	var err error
	if s.standby != nil {
		within, cancel := context.WithTimeout(context.Background(), leaseGrace)
		defer cancel()
		err = s.standby.Close(within)
	}
	if s.stores != nil {
		err = errors.Join(err, s.stores.Close())
	}
	if s.records != nil {
		err = errors.Join(err, s.records.Close())
	}
	if s.lock != nil {
		err = errors.Join(err, s.lock.Unlock())
	}
	return err
}
