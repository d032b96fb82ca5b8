package service

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"

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
		Maker: w.Maker, Model: w.Model, Serial: w.Serial, Groups: w.Groups(),
		AgentVersion: w.AgentVersion, FirstSeen: w.FirstSeen, LastSeen: w.LastSeen,
	}
	for _, a := range w.Addresses() {
		out.Addresses = append(out.Addresses, a.String())
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
			return nil, huma.Error422UnprocessableEntity(err.Error())
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

// register enters a workstation that was never seen, by its hardware address. Other
// references, and those of workstations that are known, it leaves alone.
func (s *Service) register(ctx context.Context, ref string) error {
	a, err := hwaddr.Parse(ref)
	if err != nil {
		return nil
	}
	if _, err := s.records.FindWorkstation(ctx, ref); !errors.Is(err, records.ErrNotFound) {
		return err
	}
	nothing, err := json.Marshal(api.Inventory{Disks: []api.Disk{}, Cards: []api.Card{}})
	if err != nil {
		return err
	}
	_, err = s.records.CheckIn(ctx, s.config.Now(), []hwaddr.Address{a}, records.Workstation{Inventory: string(nothing)})
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
