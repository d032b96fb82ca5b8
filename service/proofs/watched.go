package proofs

import (
	"context"
	"errors"
	"strconv"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/proof"
	"jugate/core/roster"
	"jugate/records"
)

// Watched lists the services whose heads are countersigned here.
func (p *Proofs) Watched(ctx context.Context) ([]api.Watched, error) {
	rows, err := p.Records.Watched(ctx)
	all := make([]api.Watched, len(rows))
	for i, w := range rows {
		out := api.Watched{Name: w.Name, Key: w.Verifier, At: records.TimeOf(w.At)}
		if h, err := proof.Open(w.Signed, w.Verifier); err == nil {
			out.Leaves = h.Size
		}
		if w.Statement != "" {
			last, _ := proof.Open(w.Signed, w.Verifier)
			if now, said, err := proof.TakeRestore(last, w.Statement, w.Verifier); err == nil {
				out.Restored = &api.Restored{Who: said.Who, Why: said.Details.Why, LostLeaves: last.Size, Leaves: now.Size}
			}
		}
		all[i] = out
	}
	return all, err
}

// Watch begins to countersign the heads of a service.
func (p *Proofs) Watch(ctx context.Context, in api.NewWatched) error {
	if err := roster.CheckName("a service", in.Name); err != nil {
		return err
	}
	if in.Key == p.key.Verifier() {
		return fault.Invalid.Errorf("nobody is a witness of themselves: this is the key of this service")
	}
	if proof.CheckVerifier(in.Key) != nil {
		return fault.Invalid.Errorf("%q is not the key of a service (jugate witness key shows it there)", in.Key)
	}
	return p.Records.AddWatched(ctx, records.Watched{Name: in.Name, Verifier: in.Key})
}

// Unwatch ends that.
func (p *Proofs) Unwatch(ctx context.Context, name string) error {
	return p.Records.RemoveWatched(ctx, name)
}

// Countersign decides about the request of a service that is watched, and returns the signature. Errors are those
// of C2SP tlog-witness: fault.NotFound for a service that is not watched, fault.Forbidden for another's
// signature, *Behind, and fault.Invalid.
func (p *Proofs) Countersign(ctx context.Context, body []byte) (line string, err error) {
	q, err := proof.ParseRequest(body)
	if err != nil {
		return "", fault.CutOff.Errorf("%w", err)
	}
	err = p.changeWhoever(ctx, func(verifier string) bool { _, err := proof.Open(q.Head, verifier); return err == nil }, func(w *records.Watched, last proof.Head) error {
		now, err := proof.Take(last, q, w.Verifier)
		switch {
		case errors.Is(err, proof.ErrBehind):
			return &Behind{last.Size}
		case err != nil:
			return fault.Invalid.Errorf("%w", err)
		}
		w.Signed = q.Head
		w.At.Time, w.At.Valid = p.Now(), true
		line, err = p.cosigner.Cosign(now)
		return err
	})
	return line, err
}

// changeWhoever changes what was seen of the service whose key fits; last is the head that was seen last.
func (p *Proofs) changeWhoever(ctx context.Context, fits func(verifier string) bool, change func(w *records.Watched, last proof.Head) error) error {
	rows, err := p.Records.Watched(ctx)
	if err != nil {
		return err
	}
	for _, w := range rows {
		if !fits(w.Verifier) {
			continue
		}
		return p.Records.ChangeWatched(ctx, w.Name, func(w *records.Watched) (err error) {
			var last proof.Head
			if w.Signed != "" {
				if last, err = proof.Open(w.Signed, w.Verifier); err != nil {
					return err
				}
			}
			return change(w, last)
		})
	}
	return fault.NotFound.Errorf("nothing of this service is countersigned here")
}

// Behind says how many leaves the head has that was seen last.
type Behind struct{ Size int64 }

func (b *Behind) Error() string { return strconv.FormatInt(b.Size, 10) }
