package service

import (
	"cmp"
	"context"
	"encoding/json"
	"net/http"
	"slices"
	"strings"

	"jugate/core/fault"

	"github.com/danielgtaylor/huma/v2"
	"github.com/dustin/go-humanize"

	"jugate/api"
	"jugate/core/delivery"
	"jugate/core/roster"
	"jugate/records"
)

// changing finds the runner of a delivery that is not over.
func (s *Service) changing(ctx context.Context, id int64) (*runner, error) {
	rec, err := s.records.Delivery(ctx, id)
	if err != nil {
		return nil, problem(err)
	}
	r := s.runner(id)
	if r == nil {
		return nil, fault.Conflict.Errorf("delivery %d is %s already", id, rec.State)
	}
	return r, nil
}

func (s *Service) changeRoutes(h huma.API) {
	tags := []string{"deliveries"}
	type deliveryID struct {
		ID int64 `path:"id"`
	}
	hold := func(paused bool, what string) func(context.Context, *deliveryID) (*reply[api.Delivery], error) {
		return func(ctx context.Context, in *deliveryID) (*reply[api.Delivery], error) {
			r, err := s.changing(ctx, in.ID)
			if err != nil {
				return nil, err
			}
			if err := s.hold(ctx, r, paused, what); err != nil {
				return nil, problem(err)
			}
			return answer(s.wholeDelivery(ctx, in.ID))
		}
	}
	huma.Register(h, huma.Operation{
		OperationID: "pause-delivery", Method: http.MethodPost, Path: "/deliveries/{id}/pause", Tags: tags, Summary: "Hold the stream of a delivery",
	}, hold(true, "paused"))
	huma.Register(h, huma.Operation{
		OperationID: "resume-delivery", Method: http.MethodPost, Path: "/deliveries/{id}/resume", Tags: tags, Summary: "Let the stream of a delivery go on",
	}, hold(false, "resumed"))

	huma.Register(h, huma.Operation{
		OperationID: "set-rate", Method: http.MethodPut, Path: "/deliveries/{id}/rate", Tags: tags, Summary: "Slow a delivery down or speed it up",
	}, func(ctx context.Context, in *struct {
		ID   int64 `path:"id"`
		Body api.NewRate
	}) (*reply[api.Delivery], error) {
		r, err := s.changing(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		if err := s.records.SetRate(ctx, in.ID, in.Body.Rate); err != nil {
			return nil, problem(err)
		}
		r.change(s.config.Now(), "the "+administrator, "rate set to "+bitRate(in.Body.Rate), func() { r.rate = in.Body.Rate })
		return answer(s.wholeDelivery(ctx, in.ID))
	})

	huma.Register(h, huma.Operation{
		OperationID: "extend-delivery", Method: http.MethodPost, Path: "/deliveries/{id}/workstations", Tags: tags, Summary: "Bring a running delivery to more workstations",
	}, func(ctx context.Context, in *struct {
		ID   int64 `path:"id"`
		Body api.MoreTargets
	}) (*reply[api.Delivery], error) {
		r, err := s.changing(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		if err := s.extend(ctx, r, in.Body.To); err != nil {
			return nil, problem(err)
		}
		return answer(s.wholeDelivery(ctx, in.ID))
	})
}

// bitRate is a rate in words.
func bitRate(bits int64) string { return humanize.SIWithDigits(float64(bits), 1, "bit/s") }

func (r *runner) isPaused() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.paused
}

func (s *Service) hold(ctx context.Context, r *runner, paused bool, what string) error {
	if r.isPaused() == paused {
		return nil
	}
	if err := s.records.SetPaused(ctx, r.rec.ID, paused); err != nil {
		return err
	}
	now := s.config.Now()
	r.change(now, "the "+administrator, what, func() {
		if r.paused = paused; paused {
			r.d.Pause(now)
		} else {
			r.d.Resume(now)
		}
	})
	return nil
}

// extend brings a delivery to those of the targets that it does not go to yet.
func (s *Service) extend(ctx context.Context, r *runner, names []string) error {
	targets, err := s.records.Targets(ctx, names)
	if err != nil {
		return err
	}
	known, _, err := s.records.DeliveryMembers(ctx, r.rec.ID)
	if err != nil {
		return err
	}
	targets = slices.DeleteFunc(targets, func(w records.Workstation) bool {
		return slices.ContainsFunc(known, func(k records.Workstation) bool { return k.ID == w.ID })
	})
	if len(targets) == 0 {
		return fault.Conflict.Errorf("delivery %d goes to %s already", r.rec.ID, strings.Join(names, " "))
	}
	var ids []int64
	for _, w := range targets {
		ids = append(ids, w.ID)
	}
	rec, err := s.records.Delivery(ctx, r.rec.ID)
	if err != nil {
		return err
	}
	if err := s.mayReceive(ctx, rec.Image, targets); err != nil {
		return err
	}
	var order api.DriverOrder
	if err := json.Unmarshal([]byte(cmp.Or(rec.Drivers, "{}")), &order); err != nil {
		return err
	}
	v, err := s.records.Version(ctx, roster.Ref{Image: rec.Image, Version: rec.Version})
	if err != nil {
		return err
	}
	if err := s.checkDrivers(ctx, v, order, targets); err != nil {
		return err
	}
	rule, err := delivery.ParseRule(rec.Rule)
	if err != nil {
		return err
	}
	rec.NotBefore = errandsFrom(rule)
	s.ordering.Lock()
	defer s.ordering.Unlock()
	if err := s.records.ExtendDelivery(ctx, s.config.Now(), *rec, names, ids); err != nil {
		return err
	}
	r.change(s.config.Now(), "the "+administrator, "extended by "+strings.Join(names, " "), func() {
		for _, w := range targets {
			r.members[w.ID] = w
		}
		r.d.Add(ids)
	})
	for _, id := range ids {
		s.agents.wake(id)
	}
	return nil
}
