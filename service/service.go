// Package service is the long-running process: the HTTP interfaces for people
// and for workstations, the console, the events, and the sockets that multicast.
// It joins the computation in core with the records.
//
//	s, err := service.Open(ctx, service.Config{Data: dir})
//	defer s.Close()
//	err = s.Serve(ctx, listener)
//
// The data folder has:
//
//	service.pem     the service's certificate and key, mode 0600
//	admin.token     the administrator's token, mode 0600
//	jugate.lock     held while a service runs on the folder
//	jugate.db       the records
//	slabs/          see core/slabstore
//	images/         see core/image
//	bootenv/        see core/environment/builds
//	uploads/        slab maps of captures that are not committed yet
//	scratch/        what is worked on, empty after a start
//	reserve         room for receipts, given up when the disk is full
package service

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"jugate/core/environment/builds"

	"github.com/gofrs/flock"

	"jugate/core/driver"
	"jugate/core/durable"
	"jugate/core/image"
	"jugate/core/slabstore"
	"jugate/records"
)

// Version is told by /healthz.
const Version = "0.2.0"

// ErrInUse says that another service runs on the data folder.
var ErrInUse = errors.New("the data folder is in use")

// Config says how a service runs. Only Data has no default.
type Config struct {
	Data      string
	Multicast Multicast
	Log       *slog.Logger     // discards by default
	Now       func() time.Time // time.Now by default
	// IdentityFiles are patterns of files that tell one machine from another; nil
	// takes those of package readiness.
	IdentityFiles []string
	Netboot       Netboot
	// Secure is where agents call by TLS; nil has them call by HTTP.
	Secure net.Listener
	// KeepFree is how many bytes of the records' disk slabs do not take; keepFree by
	// default.
	KeepFree int64
	// AcceptCards has unknown network cards of workstations accepted at once that are
	// known by UUID and serial number; otherwise they are proposals.
	AcceptCards bool
	// BuildFrom are the folders that systems for builds of the boot environment may lie
	// in, beside the machine's own root as a whole.
	BuildFrom []string
	// Tickets has agents check in with what their boot script or media gave them, and
	// not just with a hardware address.
	Tickets bool
}

// Service is one running service.
type Service struct {
	config  Config
	log     *slog.Logger
	lock    *flock.Flock
	records *records.DB
	slabs   *slabstore.Store
	files   image.Files
	token   string
	rates   rates
	boot    boot
	drivers *driver.Library
	systems systems
	insides insides
	signIns signIns
	tries   tries
	reserve *reserve

	newcomers newcomers

	certificate []byte // PEM
	keyPair     tls.Certificate
	secret      string // what only this service knows, the same at each start
	securePort  uint16 // 0 without TLS

	events   broker
	sessions sessions
	agents   agents
	captures captures
	pins     pins
	imports  imports

	ctx    context.Context // ends when the service closes
	cancel context.CancelFunc
	work   sync.WaitGroup // runners of deliveries

	// ordering is held while a delivery is recorded and not reachable yet, and
	// shared while an agent is given its errand.
	ordering sync.RWMutex

	mu      sync.Mutex
	runners map[int64]*runner
}

// Open opens the data folder, making it on the first start, takes it for this
// process alone, and goes on with what was open. Errors wrap ErrInUse or say
// what could not be opened.
func Open(ctx context.Context, c Config) (*Service, error) {
	if c.Log == nil {
		c.Log = slog.New(slog.DiscardHandler)
	}
	if c.Now == nil {
		c.Now = time.Now
	}
	c.Multicast.setDefaults()
	if c.KeepFree == 0 {
		c.KeepFree = keepFree
	}
	for _, dir := range []string{c.Data, filepath.Join(c.Data, "images"), filepath.Join(c.Data, "uploads")} {
		if err := os.MkdirAll(dir, 0o750); err != nil {
			return nil, fmt.Errorf("make the data folder: %w", err)
		}
	}
	s := &Service{config: c, log: c.Log, files: image.Files{Dir: filepath.Join(c.Data, "images")}, rates: rates{ceiling: c.Multicast.Ceiling}, runners: map[int64]*runner{}}
	s.ctx, s.cancel = context.WithCancel(context.Background())
	if err := s.open(ctx); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

func (s *Service) open(ctx context.Context) (err error) {
	if name := s.config.Multicast.Interface; name != "" {
		if _, err := net.InterfaceByName(name); err != nil {
			return fmt.Errorf("multicast interface %q: %w", name, err)
		}
	}
	if s.lock, err = lock(filepath.Join(s.config.Data, "jugate.lock")); err != nil {
		return err
	}
	if err = s.sweepFolders(); err != nil {
		return err
	}
	if s.token, err = token(filepath.Join(s.config.Data, "admin.token")); err != nil {
		return err
	}
	if err = s.openCertificate(); err != nil {
		return err
	}
	if s.boot.builds, err = builds.Open(filepath.Join(s.config.Data, "bootenv")); err != nil {
		return fmt.Errorf("open the boot environment's builds: %w", err)
	}
	if s.drivers, err = driver.OpenLibrary(filepath.Join(s.config.Data, "drivers")); err != nil {
		return fmt.Errorf("open the driver library: %w", err)
	}
	for _, n := range s.drivers.Notices {
		s.log.Error(n)
	}
	if s.config.Netboot.Unknown == "" {
		s.config.Netboot.Unknown = Hold
	}
	if s.slabs, err = slabstore.Open(filepath.Join(s.config.Data, "slabs")); err != nil {
		return fmt.Errorf("open the slab store: %w", err)
	}
	if s.records, err = records.Open(ctx, filepath.Join(s.config.Data, "jugate.db")); err != nil {
		return err
	}
	s.reserve = openReserve(filepath.Join(s.config.Data, "reserve"), s.log)
	for _, n := range s.records.Notices {
		s.log.Error("the records: " + n)
	}
	if n, err := s.records.CheckReceipts(ctx); err != nil {
		s.log.Error("the chain of receipts is not sound", "receipts", n, "error", err)
	}
	if err := errors.Join(s.keepStates(ctx), s.resumeDeliveries(ctx)); err != nil {
		return err
	}
	s.work.Go(s.keepHouse)
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

// token reads the administrator's token, or makes one on the first start.
func token(path string) (string, error) {
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		fresh := newSecret()
		return fresh, durable.Write(path, []byte(fresh+"\n"), 0o600)
	}
	if err == nil && len(strings.TrimSpace(string(text))) < 32 {
		err = fmt.Errorf("%s holds no token; remove it to have a new one made", path)
	}
	return strings.TrimSpace(string(text)), err
}

// newSecret makes 256 random bits in hexadecimal.
func newSecret() string {
	b := make([]byte, 32)
	rand.Read(b)
	return hex.EncodeToString(b)
}

// Token is the administrator's token.
func (s *Service) Token() string { return s.token }

// Serve answers requests from the listener until ctx ends, then lets running
// requests finish for a few seconds.
func (s *Service) Serve(ctx context.Context, listener net.Listener) error {
	if s.config.Secure != nil {
		s.securePort = uint16(s.config.Secure.Addr().(*net.TCPAddr).Port)
	}
	if tcp, ok := listener.Addr().(*net.TCPAddr); ok {
		if err := s.startNetboot(ctx, tcp.Port); err != nil {
			return err
		}
	}
	var loaders loaderConns
	server := &http.Server{
		Handler:           s.Handler(),
		ConnContext:       loaders.context,
		ConnState:         loaders.state,
		ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout:       2 * time.Minute,
		ErrorLog:          slog.NewLogLogger(s.log.Handler(), slog.LevelWarn),
	}
	server.TLSConfig = &tls.Config{Certificates: []tls.Certificate{s.keyPair}, MinVersion: tls.VersionTLS13}
	failed := make(chan error, 2)
	go func() { failed <- server.Serve(listener) }()
	if s.config.Secure != nil {
		go func() { failed <- server.ServeTLS(s.config.Secure, "", "") }() // which speaks HTTP/2, too
	}
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	s.cancel() // ends what waits: long polls, event streams, streams to groups
	grace, cancel := context.WithTimeout(context.WithoutCancel(ctx), shutdownGrace)
	defer cancel()
	if err := server.Shutdown(grace); !errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	// What is left are connections on which nothing was asked yet, or that do not end.
	s.log.Warn("requests that had not ended were cut off", "after", shutdownGrace)
	return server.Close()
}

// shutdownGrace is how long running requests may take to finish: slabs, boot files and
// answers that are on their way.
const shutdownGrace = 20 * time.Second

// Close ends what runs and gives the data folder back. Deliveries that were
// still gathering go on at the next start.
func (s *Service) Close() error {
	s.cancel()
	s.work.Wait()
	var err error
	if s.records != nil {
		err = s.records.Close()
	}
	if s.lock != nil {
		err = errors.Join(err, s.lock.Unlock())
	}
	return err
}
