package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"strings"
	"sync"
	"time"

	"jugate/apiclient"
	"jugate/lab"
	"jugate/service"
)

// connected is a client with the token it has.
type connected struct {
	*apiclient.Client
	token string
}

func (c connected) Token() string { return c.token }

// connect waits for the service on a data folder and signs in; dial is nil where the network is this
// process's own.
func connect(ctx context.Context, dial func(ctx context.Context, network, address string) (net.Conn, error), url, data string) (c connected, err error) {
	for range 24_000 {
		authority, missing := os.ReadFile(path(data, "authority.pem"))
		if token, err := os.ReadFile(path(data, "admin.token")); err == nil && missing == nil {
			c.token = strings.TrimSpace(string(token))
			if c.Client, err = apiclient.New(url, c.token); err != nil {
				return c, err
			}
			if c.Client, err = c.Trusting(authority); err != nil {
				return c, err
			}
			if t := c.HTTP().Transport.(*http.Transport); dial != nil {
				t.DialContext = dial
			}
			if _, err := c.Health(ctx); err == nil {
				return c, nil
			}
		}
		time.Sleep(5 * time.Millisecond)
	}
	return c, fmt.Errorf("the service at %s does not answer", url)
}

// hereService is a service in this process, on the loopback interface; running and work are of what ends with it.
type hereService struct {
	client  connected
	running context.Context
	work    sync.WaitGroup
	url     string
	data    string
	stop    func()
}

// serveHere starts one and waits until it answers.
func serveHere(ctx context.Context, data string) (*hereService, error) {
	service, err := service.Open(ctx, service.Config{Data: data, Log: slog.New(slog.DiscardHandler),
		Multicast: service.Multicast{Interface: "lo", TTL: service.NoTTL, Groups: netip.MustParsePrefix("233.252.0.0/24")}})
	if err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, errors.Join(err, service.Close())
	}
	s := &hereService{url: "https://" + listener.Addr().String(), data: data}
	running, cancel := context.WithCancel(ctx)
	s.running = running
	s.work.Go(func() { service.Serve(running, listener) })
	s.stop = func() { cancel(); s.work.Wait(); service.Close() }
	if s.client, err = connect(ctx, nil, s.url, data); err != nil {
		s.stop()
		return nil, err
	}
	return s, nil
}

// run runs a command of its engineer.
func (s *hereService) run(ctx context.Context, args ...string) error {
	return jugate(ctx, exec.CommandContext, s.url, s.data, s.client, args...)
}

// ownService is a service in a process of its own, in a network.
type ownService struct {
	client connected
	host   *lab.Host
	url    string
	data   string
	cmd    *exec.Cmd
}

// serveIn starts one and waits until it answers.
func serveIn(ctx context.Context, host *lab.Host, data string, args ...string) (*ownService, error) {
	listen := netip.AddrPortFrom(host.Address, 7460).String()
	s := &ownService{host: host, url: "https://" + listen, data: data}
	s.cmd = host.Command(ctx, executable, append([]string{"serve", "--data", data, "--listen", listen, "--multicast-groups", "233.252.0.0/24"}, args...)...)
	if err := s.cmd.Start(); err != nil {
		return nil, err
	}
	var err error
	if s.client, err = connect(ctx, host.Dial, s.url, data); err != nil {
		s.stop()
		return nil, err
	}
	return s, nil
}

func (s *ownService) stop() { s.cmd.Process.Signal(os.Interrupt); s.cmd.Wait() }

// run runs a command of its engineer.
func (s *ownService) run(ctx context.Context, args ...string) error {
	return jugate(ctx, s.host.Command, s.url, s.data, s.client, args...)
}

// jugate runs a command by what makes it, for a service.
func jugate(ctx context.Context, command func(context.Context, string, ...string) *exec.Cmd, url, data string, c connected, args ...string) error {
	out, err := command(ctx, executable, append([]string{"--server", url, "--authority", path(data, "authority.pem"), "--token", c.Token()}, args...)...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("jugate %s: %w: %s", strings.Join(args, " "), err, out)
	}
	return nil
}
