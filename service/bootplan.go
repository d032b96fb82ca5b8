package service

import (
	"context"
	"errors"
	"fmt"
	"time"

	"jugate/core/fault"

	"jugate/core/hwaddr"
	"jugate/core/netboot"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/records"
)

// welcomeMenu is how long machines that nobody has admitted show their menu.
const welcomeMenu = 30 * time.Second

// choose decides what a machine boots now.
func (s *Service) choose(ctx context.Context, l netboot.Loader, a hwaddr.Address) (netboot.Choice, error) {
	c := netboot.Choice{Do: netboot.Disk, Name: a.String(), Address: a, Service: s.agentURL(l.Server)}
	w, err := s.records.FindWorkstation(ctx, a.String())
	switch {
	case errors.Is(err, fault.NotFound), err == nil && w.State == roster.Newcomer:
		return s.chooseForNewcomer(ctx, c, w)
	case err != nil:
		return c, err
	}
	c.Name = w.Label()
	if w.State == roster.Retired {
		c.Why = "retired"
		return c, nil
	}
	plan, err := s.records.Plan(ctx, s.config.Now(), w.ID)
	if err != nil {
		return c, err
	}
	c.Build, c.Menu = plan.Build, time.Duration(plan.Menu)*time.Second
	switch {
	case plan.Build == 0:
		c.Why, c.Menu = "no boot environment is offered", 0
		return c, nil
	case plan.Errand > 0:
		c.Do, c.Why, c.Menu = netboot.Environment, "an errand waits", 0
	default:
		c.Why = "no errand"
	}
	if c.Menu > 0 {
		c.SignIn = true
		prepared, err := s.records.Prepared(ctx, w.ID)
		if err != nil {
			return c, err
		}
		for _, image := range prepared {
			c.Offers = append(c.Offers, netboot.Offer{Title: "Receive " + image + " (all data on this disk is lost)", Wish: "receive:" + image})
		}
	}
	return s.prepareBoot(ctx, c, *w)
}

// chooseForNewcomer decides for a machine that nobody has admitted.
func (s *Service) chooseForNewcomer(ctx context.Context, c netboot.Choice, w *records.Workstation) (netboot.Choice, error) {
	var err error
	if c.Build, err = s.records.Offered(ctx); err != nil {
		return c, err
	}
	switch {
	case c.Build == 0:
		c.Why = "no boot environment is offered"
		return c, nil
	case s.config.Netboot.Unknown == Hold:
		c.Do, c.Why = netboot.Environment, "new here"
	case s.config.Netboot.Unknown == Welcome:
		c.Why, c.Menu, c.SignIn = "new here", welcomeMenu, true
	default:
		c.Why = "unknown machines are ignored"
		return c, nil
	}
	if w.ID == 0 { // never seen: its address is all that is known
		w = &records.Workstation{AddressList: c.Address.String()}
	}
	return s.prepareBoot(ctx, c, *w)
}

// prepareBoot adds what the environment needs, for the case that it is booted.
func (s *Service) prepareBoot(ctx context.Context, c netboot.Choice, w records.Workstation) (netboot.Choice, error) {
	if c.Do == netboot.Disk && c.Menu == 0 {
		return c, nil
	}
	b, err := s.boot.builds.Build(c.Build)
	if err != nil {
		return c, fmt.Errorf("build %d cannot be read: %w", c.Build, err)
	}
	c.Words = b.Words
	if part, err := s.onDemand(ctx, w, b); err != nil {
		s.log.Warn("no drivers on demand", "workstation", c.Name, "build", c.Build, "error", err)
	} else if part.Size > 0 {
		c.Initrd = initrdWith + part.Digest.String()
	}
	c.Ticket = newSecret()[:32]
	return c, s.records.AddTicket(ctx, s.config.Now(), slabstore.Sum([]byte(c.Ticket)).String(), c.Address)
}
