// Package demo shows the whole way on one machine: a service on loopback, one
// golden disk made by the real tools, and simulated workstations around the real
// agent. Everything lives in a temporary folder.
//
//	stage, err := demo.Open(ctx, demo.Options{Story: os.Stdout})
//	defer stage.Close()
//	report, err := stage.Play(ctx)
package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"jugate/agent"
	"jugate/apiclient"
	"jugate/core/hwaddr"
	"jugate/demo/golddisk"
	"jugate/service"
	"jugate/sim"
)

// Options of the demo. The zero value tells no story.
type Options struct {
	Story     io.Writer // what happens, step by step
	Listen    string    // loopback address, a free port by default
	Loss      float64   // share of multicast packets that every workstation loses
	Rate      int64     // bits a second of the stream, 100 Mbit/s by default
	Agent     string    // file of the agent, for builds of the boot environment
	BuildFrom []string  // further folders that builds may read systems from
}

// Stage is the demo's service and its workstations.
type Stage struct {
	URL       string
	Authority string // file with the certificate of the service's authority
	Token     string
	Client    *apiclient.Client

	options  Options
	dir      string
	began    time.Time
	service  *service.Service
	stop     context.CancelFunc
	running  sync.WaitGroup
	leave    map[string]func()           // has a workstation leave the boot environment
	saying   sync.Mutex                  // held for a line of the story, and where machines come and go
	starts   int                         // of systems with a helper
	disks    map[string]string           // file of each workstation's disk, by name or address
	machines map[string]*sim.Workstation // by name or address
}

// Open makes the temporary folder and starts the service.
func Open(ctx context.Context, o Options) (_ *Stage, err error) {
	if o.Story == nil {
		o.Story = io.Discard
	}
	if o.Listen == "" {
		o.Listen = "127.0.0.1:0"
	}
	if missing := golddisk.Tools(); missing != nil {
		return nil, fmt.Errorf("the demo makes its disks with the system's own tools, and these are missing: %s (`make setup` installs them)", strings.Join(missing, ", "))
	}
	s := &Stage{options: o, began: time.Now(), disks: map[string]string{}, machines: map[string]*sim.Workstation{}, leave: map[string]func(){}}
	running, stop := context.WithCancel(context.WithoutCancel(ctx))
	s.stop = stop
	defer func() {
		if err != nil {
			s.Close()
		}
	}()
	if s.dir, err = os.MkdirTemp("", "jugate-demo-"); err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", o.Listen)
	if err != nil {
		return nil, err
	}
	if !listener.Addr().(*net.TCPAddr).IP.IsLoopback() {
		return nil, errors.Join(fmt.Errorf("the demo answers on loopback only, not on %s", listener.Addr()), listener.Close())
	}
	s.service, err = service.Open(ctx, service.Config{
		Data: filepath.Join(s.dir, "data"),
		Multicast: service.Multicast{
			Interface: "lo", TTL: service.NoTTL,
			Groups: netip.MustParsePrefix("233.252.0.0/24"), // for documentation, RFC 6676
			Rate:   o.Rate,
		},
		Netboot: service.Netboot{Agent: o.Agent}, BuildFrom: append([]string{s.dir}, o.BuildFrom...),
		Log: slog.New(slog.NewTextHandler(s.logFile(), nil)),
	})
	if err != nil {
		return nil, errors.Join(err, listener.Close())
	}
	s.URL, s.Authority, s.Token = "https://"+listener.Addr().String(), filepath.Join(s.dir, "data", "authority.pem"), s.service.Token()
	s.running.Go(func() { s.service.Serve(running, listener) })
	if s.Client, err = apiclient.New(s.URL, s.Token); err != nil {
		return nil, err
	}
	if s.Client, err = s.Client.Trusting(s.service.Authority()); err != nil {
		return nil, err
	}
	s.say("service on %s, its data in a temporary folder", s.URL)
	return s, nil
}

// logFile is where the service's log goes, beside its data.
func (s *Stage) logFile() io.Writer {
	f, err := os.Create(filepath.Join(s.dir, "service.log"))
	if err != nil {
		return io.Discard
	}
	return f
}

// Close ends everything and removes the folder.
func (s *Stage) Close() error {
	s.saying.Lock()
	stop := s.stop
	s.saying.Unlock()
	stop()
	s.running.Wait()
	var err error
	if s.service != nil {
		err = s.service.Close()
	}
	return errors.Join(err, os.RemoveAll(s.dir))
}

func (s *Stage) say(format string, args ...any) {
	s.saying.Lock()
	defer s.saying.Unlock()
	fmt.Fprintf(s.options.Story, "%6.1f s  %s\n", time.Since(s.began).Seconds(), fmt.Sprintf(format, args...))
}

// switchOn runs an agent on a simulated workstation until the stage closes.
func (s *Stage) switchOn(ctx context.Context, m machine, disk string) error {
	nobody, err := apiclient.ForAgent(s.URL, s.service.Authority())
	if err != nil {
		return err
	}
	s.place(m, disk)
	s.boots(ctx, m.name, nobody)
	return nil
}

// place puts a workstation on its desk.
func (s *Stage) place(m machine, disk string) {
	w := &sim.Workstation{
		Addresses: []hwaddr.Address{m.address}, Maker: m.maker, Model: m.model, Serial: serial(m),
		Memory: m.memory, Disks: []string{disk}, Interface: "lo", Loss: m.loss, Devices: m.devices, Runs: runs, Also: m.firmware,
	}
	s.disks[m.name], s.machines[m.name] = disk, w
}

// boots has a workstation come into the boot environment, until it leaves that or the stage closes.
func (s *Stage) boots(ctx context.Context, name string, nobody *apiclient.Client) {
	ctx, cancel := context.WithCancel(context.WithoutCancel(ctx))
	s.saying.Lock()
	defer s.saying.Unlock()
	w, stop := s.machines[name], s.stop
	s.stop, s.leave[name] = func() { cancel(); stop() }, cancel
	s.running.Go(func() {
		agent.New(nobody, w, agent.Options{Certificate: s.service.Authority()}).Run(ctx)
	})
}

func serial(m machine) string {
	maker, _, _ := strings.Cut(m.maker, " ")
	return fmt.Sprintf("%s-%04d", strings.ToUpper(maker[:2]), 2600+int(m.address[5]))
}
