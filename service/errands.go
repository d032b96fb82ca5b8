package service

import (
	"context"
	"encoding/json"
	"net/http"
	"sync"

	"jugate/core/fault"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/core/disk"
	"jugate/core/roster"
	"jugate/records"
)

// captures counts what running captures have put into the store.
type captures struct {
	mu     sync.Mutex
	counts map[string]stored // by upload
	quotas map[string]int64  // bytes, by upload
	commit sync.Mutex        // one version becomes visible at a time
}

// quota is how many bytes an upload may store; 0 if that is not known yet.
func (c *captures) quota(upload string) int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.quotas[upload]
}

func (c *captures) setQuota(upload string, bytes int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.quotas == nil {
		c.quotas = map[string]int64{}
	}
	c.quotas[upload] = bytes
}

// stored is how many bytes an upload has stored.
func (c *captures) stored(upload string) int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.counts[upload].bytes
}

type stored struct {
	slabs int
	bytes int64
}

func (c *captures) count(upload string, bytes int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.counts == nil {
		c.counts = map[string]stored{}
	}
	n := c.counts[upload]
	c.counts[upload] = stored{n.slabs + 1, n.bytes + bytes}
}

// take returns the counts of an upload that has ended.
func (c *captures) take(upload string) stored {
	c.mu.Lock()
	defer c.mu.Unlock()
	n := c.counts[upload]
	delete(c.counts, upload)
	delete(c.quotas, upload)
	return n
}

func (s *Service) errand(e records.Errand) api.Errand {
	out := api.Errand{
		ID: e.ID, Workstation: e.Workstation, Kind: e.Kind, State: e.State, Image: e.Image, Version: e.Version,
		Delivery: e.DeliveryID.Int64, Error: e.Error, Created: e.Created,
	}
	out.NotBefore = timeOf(e.NotBefore)
	out.Ended = timeOf(e.Ended)
	var put api.HasPut
	if e.Result != "" && json.Unmarshal([]byte(e.Result), &put) == nil {
		out.Result = put.Did
	}
	if p, known := s.agents.presence(e.WorkstationID); known && e.State == records.ErrandRunning {
		out.Done, out.Total, out.NewSlabs = p.activity.Done, p.activity.Total, p.activity.NewSlabs
	}
	return out
}

// tellErrand publishes how an errand is now.
func (s *Service) tellErrand(ctx context.Context, id int64) {
	if e, err := s.records.Errand(ctx, id); err == nil {
		s.events.publish(s.errand(*e))
	}
}

func (s *Service) errandRoutes(h huma.API) {
	tags := []string{"errands"}
	huma.Register(h, huma.Operation{
		OperationID: "capture", Method: http.MethodPost, Path: "/captures", Tags: tags,
		Summary: "Ask a workstation to capture its disk as the next version of an image",
	}, func(ctx context.Context, in *struct{ Body api.NewCapture }) (*reply[api.Errand], error) {
		if err := roster.CheckName("an image", in.Body.Image); err != nil {
			return nil, fault.Invalid.Mark(err)
		}
		w, err := s.records.FindWorkstation(ctx, in.Body.Workstation)
		if err != nil {
			return nil, problem(err)
		}
		if err := roster.MustBeAdmitted(w.Label(), w.State); err != nil {
			return nil, fault.Conflict.Mark(err)
		}
		if _, err := disk.ParseRule(in.Body.Disk); err != nil {
			return nil, fault.Invalid.Mark(err)
		}
		options, err := json.Marshal(in.Body.CaptureOptions)
		if err != nil {
			return nil, err
		}
		e, err := s.records.AddCapture(ctx, s.config.Now(), w.ID, in.Body.Image, in.Body.Note, string(options))
		if err != nil {
			return nil, problem(err)
		}
		s.log.Info("capture ordered", "workstation", w.Name, "image", in.Body.Image, "errand", e.ID)
		s.agents.wake(w.ID)
		s.tellErrand(ctx, e.ID)
		return answer(s.errand(*e), nil)
	})

	huma.Register(h, huma.Operation{
		OperationID: "list-errands", Method: http.MethodGet, Path: "/errands", Tags: tags,
		Summary: "List errands in the order in which workstations get them; sort by created, workstation, kind or state",
	}, func(ctx context.Context, in *struct {
		Paging
		Workstation string `query:"workstation"`
		Open        bool   `query:"open" doc:"Only those that wait or run"`
	}) (*reply[api.Page[api.Errand]], error) {
		rows, total, err := s.records.Errands(ctx, records.ErrandFilter{Workstation: in.Workstation, Open: in.Open}, in.page())
		return items(rows, total, err, s.errand)
	})

	type errandID struct {
		ID int64 `path:"id"`
	}
	huma.Register(h, huma.Operation{
		OperationID: "get-errand", Method: http.MethodGet, Path: "/errands/{id}", Tags: tags, Summary: "Show how far an errand is",
	}, func(ctx context.Context, in *errandID) (*reply[api.Errand], error) {
		e, err := s.records.Errand(ctx, in.ID)
		if err != nil {
			return nil, problem(err)
		}
		return answer(s.errand(*e), nil)
	})

	huma.Register(h, huma.Operation{
		OperationID: "stop-errand", Method: http.MethodPost, Path: "/errands/{id}/stop", Tags: tags,
		Summary: "Take a capture back; what was stored of it stays for the next try",
	}, func(ctx context.Context, in *errandID) (*reply[api.Errand], error) {
		e, err := s.records.Errand(ctx, in.ID)
		if err != nil {
			return nil, problem(err)
		}
		if e.Kind == records.ErrandReceive {
			return nil, fault.Conflict.Errorf("this errand is part of a delivery; stop the delivery instead")
		}
		if err := s.records.EndErrand(ctx, s.config.Now(), e.ID, records.ErrandStopped, "stopped by the "+administrator); err != nil {
			return nil, problem(err)
		}
		s.captures.take(uploadOf(e.ID))
		s.pins.release(uploadOf(e.ID))
		if e, err = s.records.Errand(ctx, in.ID); err != nil {
			return nil, problem(err)
		}
		s.events.publish(s.errand(*e))
		return answer(s.errand(*e), nil)
	})
}
