package proofs

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/proof"
	"jugate/core/roster"
	"jugate/records"
)

// Courier carries what is asked of a witness.
type Courier interface {
	// Post sends a body and returns the status of HTTP and the reply. certificate is PEM of the authority to
	// trust; empty for those of this machine.
	Post(ctx context.Context, url, certificate string, body []byte) (status int, reply []byte, err error)
}

// The statuses that C2SP tlog-witness knows.
const (
	statusSigned  = 200
	statusAwaited = 202 // of a statement that somebody there has to confirm
	statusBehind  = 409
	statusNoProof = 422 // what was shown has not grown out of what it has seen
)

// Witnesses lists those who countersign our heads.
func (p *Proofs) Witnesses(ctx context.Context) ([]api.Witness, error) {
	rows, err := p.Records.Witnesses(ctx)
	all := make([]api.Witness, len(rows))
	for i, w := range rows {
		all[i] = witnessOf(w)
	}
	return all, err
}

func witnessOf(w records.Witness) api.Witness {
	return api.Witness{Name: w.Name, URL: w.URL, Key: w.Verifier, Leaves: w.Size, At: records.TimeOf(w.At), Problem: w.Problem}
}

// AddWitness enters a witness, and asks it at once. One that does not answer, or not as it should, is not
// entered.
func (p *Proofs) AddWitness(ctx context.Context, in api.NewWitness) (api.Witness, error) {
	if err := roster.CheckName("a witness", in.Name); err != nil {
		return api.Witness{}, err
	}
	if u, err := url.Parse(in.URL); err != nil || u.Scheme != "https" || u.Host == "" {
		return api.Witness{}, fault.Invalid.Errorf("%q is not the https address of a witness", in.URL)
	}
	w := records.Witness{Name: in.Name, URL: strings.TrimSuffix(in.URL, "/"), Verifier: strings.TrimSpace(in.Key), Certificate: in.Authority}
	p.askOne(ctx, &w)
	if w.Problem != "" {
		return api.Witness{}, fault.Unreachable.Errorf("the witness was not entered: %s", w.Problem)
	}
	return witnessOf(w), p.Records.PutWitness(ctx, w, true)
}

// RemoveWitness ends that.
func (p *Proofs) RemoveWitness(ctx context.Context, name string) error {
	return p.Records.RemoveWitness(ctx, name)
}

// AskWitnesses has all witnesses countersign the tree as it is now, and returns what came of it.
func (p *Proofs) AskWitnesses(ctx context.Context) ([]api.Witness, error) {
	rows, err := p.Records.Witnesses(ctx)
	if err != nil {
		return nil, err
	}
	for i := range rows {
		before := rows[i].Problem
		p.askOne(ctx, &rows[i])
		if now := rows[i].Problem; now != "" && now != before {
			p.Log.Error("a witness has not countersigned", "witness", rows[i].Name, "problem", now)
		}
		if err := p.Records.PutWitness(ctx, rows[i], false); err != nil {
			return nil, err
		}
	}
	return p.Witnesses(ctx)
}

// witnessed says what witnesses have against the records.
func (p *Proofs) witnessed(ctx context.Context) error {
	all, err := p.AskWitnesses(ctx)
	if err != nil {
		return err
	}
	for _, w := range all {
		if strings.Contains(w.Problem, disagrees) {
			return fmt.Errorf("the witness %s: %s", w.Name, w.Problem)
		}
	}
	return nil
}

// disagrees is in what is said of a witness that has seen another tree.
const disagrees = "has seen another tree"

// askOne has a witness countersign, and notes what came of it.
func (p *Proofs) askOne(ctx context.Context, w *records.Witness) {
	w.Problem = ""
	fail := func(format string, args ...any) { w.Problem = fmt.Sprintf(format, args...) }
	kept, head, err := p.head(ctx)
	if err != nil {
		fail("nothing was signed that it could be shown: %v", err)
		return
	}
	for range 2 { // once more from what it says that it has seen
		old := min(w.Size, head.Size) // if we have less than it has seen, it will say so
		path, err := proof.Grows(p.Records.Hashes(ctx), old, head.Size)
		if err != nil {
			fail("%v", err)
			return
		}
		status, reply, err := p.Courier.Post(ctx, w.URL+"/add-checkpoint", w.Certificate, proof.Request{Old: old, Path: path, Head: kept.Signed}.Marshal())
		switch {
		case err != nil:
			fail("it does not answer: %v", err)
		case status == statusSigned:
			p.countersigned(ctx, w, kept, head, string(reply))
		case status == statusBehind:
			seen, err := strconv.ParseInt(strings.TrimSpace(string(reply)), 10, 64)
			if err == nil && seen >= 0 && seen <= head.Size && seen != old {
				w.Size = seen
				continue
			}
			p.stateRestore(ctx, w, seen)
		case status == statusNoProof:
			p.stateRestore(ctx, w, w.Size)
		default:
			fail("it has refused (%d): %s", status, clipped(reply))
		}
		return
	}
	fail("it %s than ours", disagrees)
}

// countersigned keeps the signature that came.
func (p *Proofs) countersigned(ctx context.Context, w *records.Witness, kept records.Head, head proof.Head, line string) {
	at, err := proof.Cosigned(kept.Signed+line, w.Verifier)
	if err != nil {
		w.Problem = "its signature is not of the key that was entered for it"
		return
	}
	if err := p.Records.Countersign(ctx, head.Size, line); err != nil {
		w.Problem = err.Error()
		return
	}
	w.Size = head.Size
	w.At.Time, w.At.Valid = at, true
}

func clipped(b []byte) string {
	return strings.ToValidUTF8(strings.TrimSpace(string(b[:min(len(b), 200)])), "?")
}
