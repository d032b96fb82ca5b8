// Package proofs shows others that the records are complete and as they were written. It signs the head of the
// tree whose leaves are receipts, arrivals and the lines of the logbook, proves that something is in it, and has
// witnesses countersign, so that neither a change nor a removal goes unnoticed by whoever holds an earlier head.
//
// proofs.go has heads and proofs, check.go goes through everything, witnesses.go asks those who countersign our
// heads, watched.go countersigns those of others, and restored.go says what a restore from a backup has lost.
package proofs

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"jugate/api"
	"jugate/core/durable"
	"jugate/core/fault"
	"jugate/core/proof"
	"jugate/core/roster"
	"jugate/records"
)

// Proofs has the keys. Open makes one; Records and Courier are set before it is used.
type Proofs struct {
	Records *records.DB
	Courier Courier
	Log     *slog.Logger
	Now     func() time.Time

	dir      string
	key      *proof.Key
	cosigner *proof.Cosigner
}

// Open reads the keys from a data folder, making them on the first start.
func Open(dir string, log *slog.Logger, now func() time.Time) (*Proofs, error) {
	p := &Proofs{Log: log, Now: now, dir: dir}
	private, err := ownKey(filepath.Join(dir, "log.key"), "jugate-")
	if err != nil {
		return nil, err
	}
	if p.key, err = proof.ParseKey(private); err != nil {
		return nil, fmt.Errorf("log.key: %w", err)
	}
	if private, err = ownKey(filepath.Join(dir, "witness.key"), "jugate-witness-"); err != nil {
		return nil, err
	}
	if p.cosigner, err = proof.ParseCosigner(private); err != nil {
		return nil, fmt.Errorf("witness.key: %w", err)
	}
	return p, nil
}

// ownKey reads a private key, or makes one with a name that nobody else has.
func ownKey(path, name string) (string, error) {
	text, err := os.ReadFile(path)
	if !errors.Is(err, fs.ErrNotExist) {
		return string(text), err
	}
	random := make([]byte, 6)
	rand.Read(random)
	private, err := proof.NewKey(name + hex.EncodeToString(random))
	if err != nil {
		return "", err
	}
	return private, durable.Write(path, []byte(private+"\n"), 0o600)
}

// Keys are the public texts of the keys, for who checks what they have signed.
func (p *Proofs) Keys() api.LogKeys {
	return api.LogKeys{Log: p.key.Verifier(), Witness: p.cosigner.Verifier()}
}

// newestFile has the head that was signed last. It lies beside the records, so that records that were taken back
// to an earlier state do not fit it.
const newestFile = "newest.head"

// Head signs the tree as it is now, unless that was done before. A fault.Conflict says that the tree has not
// grown out of the head that was signed last.
func (p *Proofs) Head(ctx context.Context) (api.LogHead, error) {
	h, _, err := p.head(ctx)
	return api.LogHead{Head: h.Signed, Leaves: h.Size, At: h.At, Key: p.key.Verifier()}, err
}

func (p *Proofs) head(ctx context.Context) (kept records.Head, now proof.Head, err error) {
	if now, err = p.tree(ctx); err != nil {
		return kept, now, err
	}
	if err := p.follows(ctx, now); err != nil {
		return kept, now, err
	}
	newest, err := p.Records.NewestHead(ctx)
	if err != nil {
		return kept, now, err
	}
	if newest != nil && newest.Size == now.Size {
		return *newest, now, nil
	}
	return p.sign(ctx, now)
}

// tree is the tree as it is on record.
func (p *Proofs) tree(ctx context.Context) (now proof.Head, err error) {
	now.Origin = p.key.Name()
	if now.Size, err = p.Records.Leaves(ctx); err != nil {
		return now, err
	}
	now.Root, err = proof.Root(p.Records.Hashes(ctx), now.Size)
	return now, err
}

// sign signs a head and keeps it, among the records and beside them.
func (p *Proofs) sign(ctx context.Context, now proof.Head) (records.Head, proof.Head, error) {
	signed, err := p.key.Sign(now)
	if err != nil {
		return records.Head{}, now, err
	}
	kept := records.Head{Size: now.Size, At: p.Now(), Signed: signed}
	if err := p.Records.AddHead(ctx, kept); err != nil {
		return kept, now, err
	}
	return kept, now, durable.Write(filepath.Join(p.dir, newestFile), []byte(signed), 0o640)
}

// last are the heads that were signed last, by the records and by the file beside them.
func (p *Proofs) last(ctx context.Context) (all []string, err error) {
	newest, err := p.Records.NewestHead(ctx)
	if err != nil {
		return nil, err
	}
	if newest != nil {
		all = append(all, newest.Signed)
	}
	beside, err := os.ReadFile(filepath.Join(p.dir, newestFile))
	if err == nil {
		all = append(all, string(beside))
	} else if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return all, err
}

// follows tells whether a tree has grown out of the heads that were signed last.
func (p *Proofs) follows(ctx context.Context, now proof.Head) error {
	all, err := p.last(ctx)
	if err != nil {
		return err
	}
	for _, signed := range all {
		if err := p.contains(ctx, now, signed); err != nil {
			return err
		}
	}
	return nil
}

// contains tells whether a tree has grown out of a signed head.
func (p *Proofs) contains(ctx context.Context, now proof.Head, signed string) error {
	then, err := proof.Open(signed, p.key.Verifier())
	if err != nil {
		return fault.Conflict.Errorf("a head of the records that was signed cannot be believed: %w", err)
	}
	if then.Size > now.Size {
		return fault.Conflict.Errorf("the records have %d leaves, and a head of %d was signed: the newest are gone; if the records were restored from a backup, say so with jugate receipt restored", now.Size, then.Size)
	}
	root, err := proof.Root(p.Records.Hashes(ctx), then.Size)
	if err != nil {
		return err
	}
	if root != then.Root {
		return fault.Conflict.Errorf("the first %d leaves of the records are not those of the head that was signed: something was changed, or restored from a backup, which is said with jugate receipt restored", then.Size)
	}
	return nil
}

// Version is what the service says of a version that is handed on, signed.
func (p *Proofs) Version(ctx context.Context, text string) (api.VersionSignature, error) {
	ref, err := roster.ParseRef(text)
	if err != nil {
		return api.VersionSignature{}, err
	}
	v, err := p.Records.Version(ctx, ref)
	if err != nil {
		return api.VersionSignature{}, err
	}
	note, err := p.key.SignVersion(proof.Version{Name: v.Ref().String(), Digest: v.Digest})
	return api.VersionSignature{Note: note, Key: p.key.Verifier()}, err
}

// Receipt proves a receipt.
func (p *Proofs) Receipt(ctx context.Context, id int64) (api.Proof, error) {
	return p.prove(ctx, func() (int64, []byte, error) { return p.Records.LeafOfReceipt(ctx, id) })
}

// Line proves a line of the logbook.
func (p *Proofs) Line(ctx context.Context, id int64) (api.Proof, error) {
	return p.prove(ctx, func() (int64, []byte, error) { return p.Records.LeafOfLine(ctx, id) })
}

// prove proves a leaf, and that it is what was proven: a row that was changed fits no proof.
func (p *Proofs) prove(ctx context.Context, find func() (int64, []byte, error)) (api.Proof, error) {
	n, leaf, err := find()
	if err != nil {
		return api.Proof{}, err
	}
	kept, head, err := p.head(ctx)
	if err != nil {
		return api.Proof{}, err
	}
	text, err := proof.Of(p.Records.Hashes(ctx), head, n, leaf, kept.Signed)
	if err != nil {
		return api.Proof{}, err
	}
	if _, _, err := proof.Verify(text, p.key.Verifier()); err != nil {
		return api.Proof{}, fault.Conflict.Errorf("it cannot be proven: %w; jugate receipt check says what else was changed", err)
	}
	return api.Proof{Proof: text, Key: p.key.Verifier()}, nil
}

// Growth proves that the tree of now has grown out of one of so many leaves.
func (p *Proofs) Growth(ctx context.Context, old int64) (api.LogGrowth, error) {
	kept, head, err := p.head(ctx)
	if err != nil {
		return api.LogGrowth{}, err
	}
	if old > head.Size {
		return api.LogGrowth{}, fault.Conflict.Errorf("the records have %d leaves, and not %d: the newest are gone", head.Size, old)
	}
	path, err := proof.Grows(p.Records.Hashes(ctx), old, head.Size)
	out := api.LogGrowth{Head: kept.Signed, Key: p.key.Verifier(), Path: make([][]byte, len(path))}
	for i, h := range path {
		out.Path[i] = h[:]
	}
	return out, err
}
