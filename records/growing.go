package records

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"

	"jugate/core/proof"
)

// hashes reads those of the tree.
type hashes struct {
	ctx context.Context
	q   sqlx.QueryerContext
}

// ReadHashes is proof.Hashes's.
func (h hashes) ReadHashes(at []int64) ([]proof.Hash, error) {
	var rows []struct {
		I    int64  `db:"i"`
		Hash []byte `db:"hash"`
	}
	if err := sqlx.SelectContext(h.ctx, h.q, &rows, "SELECT i, hash FROM hashes WHERE i IN (SELECT value FROM json_each(?))", encode(at)); err != nil {
		return nil, err
	}
	found := make(map[int64]proof.Hash, len(rows))
	for _, r := range rows {
		if len(r.Hash) == len(proof.Hash{}) {
			found[r.I] = proof.Hash(r.Hash)
		}
	}
	all := make([]proof.Hash, len(at))
	for i, n := range at {
		h, is := found[n]
		if !is {
			return nil, fmt.Errorf("hash %d of the tree of records is missing", n)
		}
		all[i] = h
	}
	return all, nil
}

// growing adds leaves in one transaction: all at once, by flush.
type growing struct {
	ctx   context.Context
	tx    *sqlx.Tx
	n     int64                // of the next leaf
	known map[int64]proof.Hash // hashes that were read or made

	leaves []addedLeaf
	hashes []addedHash
}

type addedLeaf struct {
	N    int64  `json:"n"`
	Kind string `json:"kind"`
	Ref  int64  `json:"ref"`
	Hash string `json:"hash"` // in hexadecimal
}

type addedHash struct {
	I    int64  `json:"i"`
	Hash string `json:"hash"` // in hexadecimal
}

// grow begins to add leaves.
func grow(ctx context.Context, tx *sqlx.Tx) (*growing, error) {
	g := &growing{ctx: ctx, tx: tx, known: map[int64]proof.Hash{}}
	return g, tx.GetContext(ctx, &g.n, "SELECT coalesce(max(n) + 1, 0) FROM leaves")
}

// ReadHashes is proof.Hashes's.
func (g *growing) ReadHashes(at []int64) ([]proof.Hash, error) {
	var lacking []int64
	for _, i := range at {
		if _, is := g.known[i]; !is {
			lacking = append(lacking, i)
		}
	}
	if lacking != nil {
		found, err := hashes{g.ctx, g.tx}.ReadHashes(lacking)
		if err != nil {
			return nil, err
		}
		for k, i := range lacking {
			g.known[i] = found[k]
		}
	}
	all := make([]proof.Hash, len(at))
	for k, i := range at {
		all[k] = g.known[i]
	}
	return all, nil
}

// add adds a leaf.
func (g *growing) add(kind string, ref int64, leaf interface{ leaf() ([]byte, error) }) error {
	content, err := leaf.leaf()
	if err != nil {
		return err
	}
	hash := proof.Leaf(content)
	grown, err := proof.Grown(g, g.n, hash)
	if err != nil {
		return err
	}
	g.leaves = append(g.leaves, addedLeaf{g.n, kind, ref, hex.EncodeToString(hash[:])})
	for k, h := range grown {
		i := proof.First(g.n) + int64(k)
		g.known[i] = h
		g.hashes = append(g.hashes, addedHash{i, hex.EncodeToString(h[:])})
	}
	g.n++
	return nil
}

// flush writes what was added; without it nothing is.
func (g *growing) flush() error {
	if _, err := g.tx.ExecContext(g.ctx, `INSERT INTO leaves (n, kind, ref, hash) SELECT value ->> 'n', value ->> 'kind', value ->> 'ref', unhex(value ->> 'hash') FROM json_each(?)`, encode(g.leaves)); err != nil {
		return err
	}
	_, err := g.tx.ExecContext(g.ctx, `INSERT INTO hashes (i, hash) SELECT value ->> 'i', unhex(value ->> 'hash') FROM json_each(?)`, encode(g.hashes))
	g.leaves, g.hashes = nil, nil
	return err
}

// line adds a line of the logbook, with its leaf.
func (g *growing) line(l *Line) error {
	l.At = l.At.UTC()
	result, err := g.tx.ExecContext(g.ctx, `INSERT INTO logbook (at, who, kind, from_addr, through, operation, subject, details, changes) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		l.At, l.Who, l.Kind, l.From, l.Through, l.Operation, l.Subject, l.Details, l.Changes)
	if err != nil {
		return err
	}
	if l.ID, err = result.LastInsertId(); err != nil {
		return err
	}
	return errors.Join(g.add(leafLine, l.ID, l), g.flush())
}
