package orders

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"sync"

	"jugate/api"
	"jugate/core/answers"
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
	to, err := o.Fleet.ToAnswer(ctx, *w, v, d.DomainAway == goOn)
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

// toldAnswers notes which workstations were told answers, so that a build which does not know
// them is noticed. The zero value is ready.
type toldAnswers struct {
	mu   sync.Mutex
	told map[[2]int64]bool // by delivery and workstation
}

func (t *toldAnswers) set(delivery, workstation int64, told bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.told == nil {
		t.told = map[[2]int64]bool{}
	}
	if told {
		t.told[[2]int64{delivery, workstation}] = true
	} else {
		delete(t.told, [2]int64{delivery, workstation})
	}
}

// take tells whether a workstation was told, and forgets it.
func (t *toldAnswers) take(delivery, workstation int64) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	key := [2]int64{delivery, workstation}
	told := t.told[key]
	delete(t.told, key)
	return told
}
