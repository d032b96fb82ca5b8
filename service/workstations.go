package service

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"

	"jugate/core/fault"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/core/hwaddr"
	"jugate/core/roster"
	"jugate/records"
)

// workstation puts together what the records and the agents' presence say.
func (s *Service) workstation(w records.Workstation) api.Workstation {
	out := api.Workstation{
		ID: w.ID, Name: w.Name, State: string(w.State), Addresses: []string{},
		Maker: w.Maker, Model: w.Model, Serial: w.Serial, UUID: w.UUID, Groups: w.Groups(), Proposed: []string{},
		AgentVersion: w.AgentVersion, FirstSeen: w.FirstSeen, LastSeen: w.LastSeen,
	}
	for _, a := range w.Addresses() {
		out.Addresses = append(out.Addresses, a.String())
	}
	for _, a := range w.Proposed() {
		out.Proposed = append(out.Proposed, a.String())
	}
	if out.Groups == nil {
		out.Groups = []string{}
	}
	if err := json.Unmarshal([]byte(w.Inventory), &out.Inventory); err != nil {
		s.log.Warn("an inventory in the records cannot be read", "workstation", w.Label(), "error", err)
	}
	if p, known := s.agents.presence(w.ID); known {
		out.Online = s.config.Now().Sub(p.seen) < onlineFor
		out.Activity = p.activity.Text
		if p.seen.After(out.LastSeen) {
			out.LastSeen = p.seen
		}
	}
	if !out.Online {
		out.Activity = ""
	}
	return out
}

// tellWorkstation publishes how a workstation is now.
func (s *Service) tellWorkstation(ctx context.Context, id int64) {
	if w, err := s.records.Workstation(ctx, id); err == nil {
		s.events.publish(s.workstation(*w))
	}
}

// WorkstationRef names a workstation in a path.
type WorkstationRef struct {
	Ref string `path:"ref" doc:"Name or hardware address"`
}

func (s *Service) workstationRoutes(h huma.API) {
	huma.Register(h, huma.Operation{
		OperationID: "list-workstations", Method: http.MethodGet, Path: "/workstations", Tags: []string{"workstations"},
		Summary: "List workstations; sort by name, model, serial, state or last_seen",
	}, func(ctx context.Context, in *struct {
		Paging
		State string `query:"state" enum:"newcomer,admitted,retired"`
		Group string `query:"group"`
	}) (*reply[api.Page[api.Workstation]], error) {
		rows, total, err := s.records.Workstations(ctx, records.WorkstationFilter{State: roster.State(in.State), Group: in.Group}, in.page())
		return items(rows, total, err, s.workstation)
	})

	huma.Register(h, huma.Operation{
		OperationID: "get-workstation", Method: http.MethodGet, Path: "/workstations/{ref}", Tags: []string{"workstations"},
		Summary: "Show one workstation",
	}, func(ctx context.Context, in *WorkstationRef) (*reply[api.Workstation], error) {
		w, err := s.records.FindWorkstation(ctx, in.Ref)
		if err != nil {
			return nil, problem(err)
		}
		return answer(s.workstation(*w), nil)
	})

	huma.Register(h, huma.Operation{
		OperationID: "admit-workstation", Method: http.MethodPost, Path: "/workstations/{ref}/admit", Tags: []string{"workstations"},
		Summary: "Take a newcomer, or a hardware address that was never seen, into the roster, or give an admitted workstation another name",
	}, func(ctx context.Context, in *struct {
		WorkstationRef
		Body api.Admission
	}) (*reply[api.Workstation], error) {
		if err := roster.CheckName("a workstation", in.Body.Name); err != nil {
			return nil, fault.Invalid.Mark(err)
		}
		if err := s.register(ctx, in.Ref); err != nil {
			return nil, problem(err)
		}
		return s.changeWorkstation(ctx, in.Ref, func(id int64) error {
			return s.records.Admit(ctx, id, in.Body.Name, in.Body.Groups)
		})
	})

	huma.Register(h, huma.Operation{
		OperationID: "retire-workstation", Method: http.MethodPost, Path: "/workstations/{ref}/retire", Tags: []string{"workstations"},
		Summary: "Put a workstation out of service; its receipts stay",
	}, func(ctx context.Context, in *WorkstationRef) (*reply[api.Workstation], error) {
		return s.changeWorkstation(ctx, in.Ref, func(id int64) error { return s.records.Retire(ctx, id) })
	})
}

// strangerRoutes are for machines that nobody wants, or that are not what they were.
func (s *Service) strangerRoutes(h huma.API) {
	tags := []string{"workstations"}
	huma.Register(h, huma.Operation{
		OperationID: "forget-workstation", Method: http.MethodDelete, Path: "/workstations/{ref}", Tags: tags,
		Summary: "Forget a newcomer, or a retired workstation of which nothing is recorded; it may come again",
	}, func(ctx context.Context, in *WorkstationRef) (*struct{}, error) {
		w, err := s.records.FindWorkstation(ctx, in.Ref)
		if err != nil {
			return nil, problem(err)
		}
		if err := s.records.Forget(ctx, w.ID); err != nil {
			return nil, problem(err)
		}
		s.agents.forget(w.ID)
		s.log.Info("workstation forgotten", "workstation", w.Label())
		s.events.publish(bootEvent{})
		return nil, nil
	})

	huma.Register(h, huma.Operation{
		OperationID: "relearn-workstation", Method: http.MethodPost, Path: "/workstations/{ref}/relearn", Tags: tags,
		Summary: "Take the UUID and serial number that a workstation tells next: its main board was exchanged",
	}, func(ctx context.Context, in *WorkstationRef) (*reply[api.Workstation], error) {
		return s.changeWorkstation(ctx, in.Ref, func(id int64) error { return s.records.Relearn(ctx, id) })
	})

	huma.Register(h, huma.Operation{
		OperationID: "refuse-machine", Method: http.MethodPost, Path: "/refusals", Tags: tags,
		Summary: "Turn a machine away for good, by hardware address or system UUID",
	}, func(ctx context.Context, in *struct{ Body api.NewRefusal }) (*struct{}, error) {
		return nil, problem(s.refuse(ctx, in.Body))
	})

	huma.Register(h, huma.Operation{
		OperationID: "list-refusals", Method: http.MethodGet, Path: "/refusals", Tags: tags, Summary: "List who is turned away; sort by value or at",
	}, func(ctx context.Context, in *struct{ Paging }) (*reply[api.Page[api.Refusal]], error) {
		rows, total, err := s.records.Refusals(ctx, in.page())
		return items(rows, total, err, func(r records.Refusal) api.Refusal {
			return api.Refusal{Value: r.Value, At: r.At, By: r.By, Note: r.Note}
		})
	})

	huma.Register(h, huma.Operation{
		OperationID: "end-refusal", Method: http.MethodDelete, Path: "/refusals/{value}", Tags: tags, Summary: "Let a machine come again",
	}, func(ctx context.Context, in *struct {
		Value string `path:"value"`
	}) (*struct{}, error) {
		value := in.Value
		if a, err := hwaddr.Parse(value); err == nil {
			value = a.String()
		}
		return nil, problem(s.records.EndRefusal(ctx, value))
	})
}

// refuse turns a machine away: a newcomer by all that it is known by, anything else by
// what was said.
func (s *Service) refuse(ctx context.Context, in api.NewRefusal) error {
	var values []string
	w, err := s.records.FindWorkstation(ctx, in.Machine)
	switch {
	case err == nil && w.State != roster.Newcomer:
		return fault.Conflict.Errorf("%s is %s; retire it, and forget or refuse what is left then", w.Label(), w.State)
	case err == nil:
		for _, a := range w.Addresses() {
			values = append(values, a.String())
		}
		if w.Identity().UUID != "" {
			values = append(values, w.UUID)
		}
	case !errors.Is(err, fault.NotFound):
		return err
	default:
		if a, err := hwaddr.Parse(in.Machine); err == nil {
			values = []string{a.String()}
		} else if id := roster.NewIdentity(in.Machine, ""); id.UUID != "" {
			values = []string{id.UUID}
		} else {
			return fault.Invalid.Errorf("%q is neither a newcomer nor a hardware address nor a system UUID that tells one machine from others", in.Machine)
		}
	}
	if err := s.records.Refuse(ctx, records.Refusal{At: s.config.Now(), By: administrator, Note: in.Note}, values); err != nil {
		return err
	}
	if w.ID != 0 {
		s.agents.forget(w.ID)
	}
	s.log.Info("machine refused", "machine", in.Machine, "by", administrator)
	s.events.publish(bootEvent{})
	return nil
}

// register enters a workstation that was never seen, by its hardware address. Other
// references, and those of workstations that are known, it leaves alone.
func (s *Service) register(ctx context.Context, ref string) error {
	a, err := hwaddr.Parse(ref)
	if err != nil {
		return nil
	}
	if _, err := s.records.FindWorkstation(ctx, ref); !errors.Is(err, fault.NotFound) {
		return err
	}
	nothing, err := json.Marshal(api.Inventory{Disks: []api.Disk{}, Cards: []api.Card{}})
	if err != nil {
		return err
	}
	_, err = s.records.CheckIn(ctx, s.config.Now(), records.Seen{Own: []hwaddr.Address{a}, Workstation: records.Workstation{Inventory: string(nothing)}})
	return err
}

func (s *Service) changeWorkstation(ctx context.Context, ref string, change func(id int64) error) (*reply[api.Workstation], error) {
	w, err := s.records.FindWorkstation(ctx, ref)
	if err != nil {
		return nil, problem(err)
	}
	if err := change(w.ID); err != nil {
		return nil, problem(err)
	}
	if w, err = s.records.Workstation(ctx, w.ID); err != nil {
		return nil, problem(err)
	}
	s.log.Info("workstation changed", "workstation", w.Label(), "state", w.State)
	s.agents.wake(w.ID)
	if err := s.refix(ctx); err != nil {
		return nil, err
	}
	changed := s.workstation(*w)
	s.events.publish(changed)
	return answer(changed, nil)
}
