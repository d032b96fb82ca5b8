package orders

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"

	"jugate/api"
	"jugate/core/answers"
	"jugate/core/join"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/records"
)

// answerOf is what a workstation carries out on its copy; nil if nothing is set for it, or if
// the delivery goes without.
func (o *Orders) answerOf(ctx context.Context, d *records.Delivery, workstation int64) (*api.ToAnswer, error) {
	if d.Answers == noAnswers {
		return nil, nil
	}
	w, err := o.Records.Workstation(ctx, workstation)
	if err != nil {
		return nil, err
	}
	v, err := o.Records.Version(ctx, roster.Ref{Image: d.Image, Version: d.Version})
	if err != nil {
		return nil, err
	}
	own, err := d.OwnAnswers()
	if err != nil {
		return nil, err
	}
	to, err := o.Fleet.ToAnswer(ctx, *w, v, own, d.DomainAway == goOn)
	if err != nil || to == nil {
		return nil, err
	}
	var name string // empty if it is asked at the workstation
	if v := answers.Value(to.Values["computer_name"]); !v.IsQuestion() {
		if err := json.Unmarshal([]byte(v), &name); err != nil {
			return nil, err
		}
	}
	to.Token = rand.Text()
	return to, o.Records.AwaitArrival(ctx, o.Now(), slabstore.Sum([]byte(to.Token)).String(), d.ID, w.ID, name)
}

// fillAnswer tells an agent what its copy is to become. What it was told is on record, so that a build
// which does not know answers is noticed, even if the service is restarted in between.
func (o *Orders) fillAnswer(ctx context.Context, d *records.Delivery, workstation int64, out *api.ToReceive) error {
	var err error
	if out.Answer, err = o.answerOf(ctx, d, workstation); err != nil {
		if d.DomainAway == waitForDomain && errors.Is(err, join.ErrAway) {
			return err
		}
		out.Answer = &api.ToAnswer{Values: map[string]string{}, Problem: err.Error()}
	}
	switch {
	case out.Answer == nil:
		return o.Records.ForgetArrival(ctx, d.ID, workstation)
	case out.Answer.Token == "": // none is given out, and none is guessed
		return o.Records.AwaitArrival(ctx, o.Now(), rand.Text(), d.ID, workstation, "")
	}
	return nil
}
