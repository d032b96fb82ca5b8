package proofs

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/proof"
	"jugate/records"
)

// Records that were restored from a backup have lost the newest leaves. Nobody can tell that from a forgery, except
// that it is said: a line of the logbook names the head that was lost, who restored, and why. Witnesses go on from
// there once somebody at the witness has confirmed it, so that no one who has this service's keys alone can make a
// forgery look like a restore.

// Restored says that the records were restored. It is a fault.Conflict if nothing is missing.
func (p *Proofs) Restored(ctx context.Context, why string) (api.LogHead, error) {
	now, err := p.tree(ctx)
	if err != nil {
		return api.LogHead{}, err
	}
	lost, err := p.lost(ctx, now)
	if err != nil {
		return api.LogHead{}, err
	}
	if len(lost) == 0 {
		return api.LogHead{}, fault.Conflict.Errorf("nothing is missing: the records have grown out of every head that was signed")
	}
	by := actor.From(ctx)
	for _, head := range lost {
		details, err := json.Marshal(map[string]string{"old_head": head, "why": why})
		if err != nil {
			return api.LogHead{}, err
		}
		if _, err := p.Records.AddLine(ctx, records.Line{At: p.Now(), Who: by.String(), Kind: string(by.Kind), Through: "service", Operation: proof.RestoreOperation, Details: string(details)}); err != nil {
			return api.LogHead{}, err
		}
	}
	p.Log.Warn("the records were restored from a backup, as was said", "by", by, "why", why)
	if now, err = p.tree(ctx); err != nil {
		return api.LogHead{}, err
	}
	kept, _, err := p.sign(ctx, now)
	return api.LogHead{Head: kept.Signed, Leaves: kept.Size, At: kept.At, Key: p.key.Verifier()}, err
}

// lost are the heads that a tree has not grown out of: those that were signed last here, and those that witnesses
// have seen.
func (p *Proofs) lost(ctx context.Context, now proof.Head) (lost []string, err error) {
	all, err := p.last(ctx)
	if err != nil {
		return nil, err
	}
	rows, err := p.Records.Witnesses(ctx)
	if err != nil {
		return nil, err
	}
	for _, w := range rows {
		_, reply, err := p.Courier.Post(ctx, w.URL+"/seen", w.Certificate, []byte(p.key.Verifier()))
		if err != nil {
			return nil, fault.Unreachable.Errorf("what the witness %s has seen has to be named, and it does not answer: %w", w.Name, err)
		}
		if seen := string(reply); strings.TrimSpace(seen) != "" {
			all = append(all, seen)
		}
	}
	for _, signed := range all {
		if _, err := proof.Open(signed, p.key.Verifier()); err != nil || slices.Contains(lost, signed) {
			continue
		}
		if p.contains(ctx, now, signed) != nil {
			lost = append(lost, signed)
		}
	}
	return lost, nil
}

// stateRestore shows a witness, which has seen another tree, that the records were restored, if that was said.
func (p *Proofs) stateRestore(ctx context.Context, w *records.Witness, seen int64) {
	w.Problem = fmt.Sprintf("it %s than ours, of %d leaves", disagrees, seen)
	lines, _, err := p.Records.Lines(ctx, records.LineFilter{Operation: proof.RestoreOperation}, records.Page{})
	if err != nil {
		return
	}
	for _, l := range lines {
		statement, err := p.Line(ctx, l.ID)
		if err != nil {
			continue
		}
		status, reply, err := p.Courier.Post(ctx, w.URL+"/restored", w.Certificate, []byte(statement.Proof))
		switch {
		case err == nil && status == statusSigned:
			kept, head, err := p.head(ctx)
			if err != nil {
				return
			}
			w.Problem = ""
			p.countersigned(ctx, w, kept, head, string(reply))
			return
		case err == nil && status == statusAwaited:
			w.Problem = "it waits for somebody there to confirm that the records were restored (jugate witness confirm)"
			return
		}
	}
}

// TakeRestored notes the statement of a service that is watched, for somebody here to confirm. Errors are those of
// Countersign.
func (p *Proofs) TakeRestored(ctx context.Context, statement string) error {
	return p.changeWhoever(ctx, func(verifier string) bool { _, _, err := proof.Verify(statement, verifier); return err == nil }, func(w *records.Watched, last proof.Head) error {
		_, said, err := proof.TakeRestore(last, statement, w.Verifier)
		if err != nil {
			return fault.Invalid.Errorf("%w", err)
		}
		if w.Statement == "" {
			p.Log.Warn("a service that is watched says that its records were restored; nothing more of it is countersigned until that is confirmed (jugate witness confirm)", "service", w.Name, "by", said.Who, "why", said.Details.Why)
		}
		w.Statement = statement
		return nil
	})
}

// Confirm says that somebody here knows of a restore: from now on the tree counts that goes on from there.
func (p *Proofs) Confirm(ctx context.Context, name string) error {
	return p.Records.ChangeWatched(ctx, name, func(w *records.Watched) error {
		if w.Statement == "" {
			return fault.Conflict.Errorf("%s has not said that anything was restored", w.Name)
		}
		last, err := proof.Open(w.Signed, w.Verifier)
		if err != nil {
			return err
		}
		if _, _, err := proof.TakeRestore(last, w.Statement, w.Verifier); err != nil {
			return fault.Conflict.Errorf("%w", err)
		}
		_, w.Signed, _ = strings.Cut(w.Statement, "\n\n")
		w.Statement = ""
		w.At.Time, w.At.Valid = p.Now(), true
		p.Log.Warn("a restore of a service that is watched was confirmed", "service", w.Name, "by", actor.From(ctx))
		return nil
	})
}

// Seen is the head of a watched service that was countersigned last; empty if none was.
func (p *Proofs) Seen(ctx context.Context, verifier string) (string, error) {
	rows, err := p.Records.Watched(ctx)
	if err != nil {
		return "", err
	}
	for _, w := range rows {
		if w.Verifier == strings.TrimSpace(verifier) {
			return w.Signed, nil
		}
	}
	return "", fault.NotFound.Errorf("nothing of this service is countersigned here")
}
