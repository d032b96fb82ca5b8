package demo

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"path/filepath"

	"jugate/api"
	"jugate/apiclient"
	"jugate/boot"
	"jugate/demo/golddisk"
	"jugate/outpost"
)

// alpine is the site across the river.
const alpine = "alpine"

// playAlpine has an outpost join, and brings the image to two workstations behind it.
func (s *Stage) playAlpine(ctx context.Context) error {
	there, err := s.openOutpost(ctx)
	if err != nil {
		return err
	}
	nobody, err := apiclient.ForAgent("https://"+there.Tells().Address, s.service.Authority())
	if err != nil {
		return err
	}
	names := []string{"alpine-01", "alpine-02"}
	for n, name := range names {
		m := machine{name: name, address: address(0x41 + n), maker: "Alder Works", model: "A310", memory: 8 << 30, disk: goldSize, devices: a310}
		disk := filepath.Join(s.dir, name+".disk")
		if err := golddisk.Blank(disk, m.disk); err != nil {
			return err
		}
		s.place(m, disk)
		s.boots(ctx, name, nobody)
		err := s.await(ctx, "workstation", func() (bool, error) {
			_, err := s.Client.Admit(ctx, m.address.String(), api.Admission{Name: name})
			if apiclient.IsNotFound(err) { // it has not called yet
				return false, nil
			}
			return err == nil, err
		})
		if err != nil {
			return err
		}
	}
	d, err := s.Client.Deliver(ctx, api.NewDelivery{Image: imageName, To: names})
	if err != nil {
		return err
	}
	receipts, err := s.receiptsOf(ctx, &d)
	if err != nil {
		return err
	}
	var got int64
	for _, r := range receipts {
		if !r.Verified || r.Outcome != "delivered" {
			return fmt.Errorf("%s: %s %s", r.Workstation, r.Outcome, r.Reason)
		}
		got += r.Multicast + r.Unicast
	}
	now := there.Tells()
	s.say("%s and %s got %s in %d slabs by the stream of the outpost, to which %s came over the line", names[0], names[1], size(got), now.Slabs, size(now.Fetched))
	return nil
}

// PlayOutpost has the outpost join, and nothing else.
func (s *Stage) PlayOutpost(ctx context.Context) error {
	_, err := s.openOutpost(ctx)
	return err
}

// openOutpost has an outpost join and answer on loopback, until the stage closes.
func (s *Stage) openOutpost(ctx context.Context) (*outpost.Outpost, error) {
	code, err := s.Client.AddOutpost(ctx, api.NewOutpost{Name: alpine, Note: "in the Alpine house, across the river"})
	if err != nil {
		return nil, err
	}
	o, err := outpost.Open(ctx, outpost.Config{Data: filepath.Join(s.dir, alpine), Service: s.URL, Code: code.Code, KeepFree: 1, Netboot: boot.Config{WakeBy: "lo"}, Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	running, cancel := context.WithCancel(context.WithoutCancel(ctx))
	s.saying.Lock()
	stop := s.stop
	s.stop = func() { cancel(); stop() }
	s.running.Go(func() {
		o.Serve(running, l)
		o.Close()
	})
	s.saying.Unlock()
	err = s.await(ctx, "sites", func() (bool, error) {
		o, err := s.Client.Outpost(ctx, alpine)
		return o.State == "up", err
	})
	if err == nil {
		s.say("the outpost %s has joined by its code, and answers on %s", alpine, l.Addr())
	}
	return o, err
}
