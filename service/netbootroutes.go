package service

import (
	"context"
	"net/http"
	"net/netip"

	"jugate/core/fault"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/bootwire"
	"jugate/core/hwaddr"
	"jugate/core/netboot"
)

// called notes that a machine's agent has called, if the machine was seen booting.
func (s *Service) called(a hwaddr.Address, label string) {
	s.boot.mu.Lock()
	known := s.boot.trail.Steps(a) != nil
	s.boot.mu.Unlock()
	if known {
		s.step(a, netboot.StepAgent, "called as "+label)
	}
}

// parseAddress reads a hardware address that a person gave.
func parseAddress(text string) (hwaddr.Address, error) {
	a, err := hwaddr.Parse(text)
	if err != nil {
		return a, fault.Invalid.Mark(err)
	}
	return a, nil
}

// wakeUp sends a wake-up to a workstation's cards, on every interface that is served;
// where none is, by the system's routes.
func (s *Service) wakeUp(addresses []hwaddr.Address) error {
	names := []string{s.config.Multicast.Interface}
	if len(s.boot.links) > 0 {
		names = nil
		for _, l := range s.boot.links {
			names = append(names, l.Name)
		}
	}
	for _, name := range names {
		for _, a := range addresses {
			if err := bootwire.Wake(name, a); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *Service) netbootRoutes(h huma.API) {
	tags := []string{"network boot"}
	huma.Register(h, huma.Operation{
		OperationID: "wake", Method: http.MethodPost, Path: "/wake", Tags: tags, Summary: "Switch workstations on over the network",
	}, func(ctx context.Context, in *struct{ Body api.WakeUp }) (*reply[api.Woken], error) {
		targets, err := s.records.Targets(ctx, in.Body.To)
		if err != nil {
			return nil, problem(err)
		}
		out := api.Woken{Workstations: []string{}}
		for _, w := range targets {
			if err := s.wakeUp(w.Addresses()); err != nil {
				return nil, fault.Unreachable.Errorf("%s: %v", w.Name, err)
			}
			out.Workstations = append(out.Workstations, w.Name)
		}
		return answer(out, nil)
	})

	huma.Register(h, huma.Operation{
		OperationID: "netboot-status", Method: http.MethodGet, Path: "/netboot", Tags: tags, Summary: "Tell what is answered on each interface, and how far each machine is",
	}, func(ctx context.Context, _ *struct{}) (*reply[api.NetbootStatus], error) {
		status, err := s.bootStatus(ctx)
		if err != nil {
			return nil, err
		}
		for i := range status.Machines {
			m := &status.Machines[i]
			if w, err := s.records.FindWorkstation(ctx, m.Address); err == nil {
				m.Workstation = w.Name
			}
		}
		return answer(status, nil)
	})

	huma.Register(h, huma.Operation{
		OperationID: "netboot-advice", Method: http.MethodGet, Path: "/netboot/advice", Tags: tags, Summary: "List what to enter into another DHCP server",
	}, func(ctx context.Context, _ *struct{}) (*reply[[]api.BootAdvice], error) {
		out := []api.BootAdvice{}
		for _, l := range s.boot.links {
			for _, a := range netboot.Advise(l.Link) {
				advice := api.BootAdvice{Interface: l.Name, Architecture: a.Arch.String(), When: a.When(), Options: []api.BootOption{}}
				for _, o := range a.Options {
					advice.Options = append(advice.Options, api.BootOption{Code: o.Code, Name: o.Name, Value: o.Value})
				}
				out = append(out, advice)
			}
		}
		return answer(out, nil)
	})

	huma.Register(h, huma.Operation{
		OperationID: "fix-address", Method: http.MethodPut, Path: "/workstations/{ref}/address", Tags: tags,
		Summary: "Give a workstation an IP address of its own, in mode whole; an empty one ends that",
	}, func(ctx context.Context, in *struct {
		WorkstationRef
		Body struct {
			Address string `json:"address" maxLength:"15"`
		}
	}) (*struct{}, error) {
		w, err := s.records.FindWorkstation(ctx, in.Ref)
		if err != nil {
			return nil, problem(err)
		}
		var a netip.Addr
		if in.Body.Address != "" {
			if a, err = netip.ParseAddr(in.Body.Address); err != nil || !a.Is4() {
				return nil, fault.Invalid.Errorf("%q is not an IPv4 address", in.Body.Address)
			}
			if err := s.mayFix(a); err != nil {
				return nil, err
			}
		}
		if err := s.records.SetFixedAddress(ctx, w.ID, a); err != nil {
			return nil, problem(err)
		}
		return nil, s.refix(ctx)
	})

	huma.Register(h, huma.Operation{
		OperationID: "set-menu", Method: http.MethodPut, Path: "/groups/{group}/menu", Tags: tags,
		Summary: "Show a menu on a group's workstations before they start from their disk, for some seconds; 0 shows none",
	}, func(ctx context.Context, in *struct {
		Group string `path:"group"`
		Body  struct {
			Seconds int `json:"seconds" minimum:"0" maximum:"600"`
		}
	}) (*struct{}, error) {
		return nil, problem(s.records.SetMenu(ctx, in.Group, in.Body.Seconds))
	})
}
