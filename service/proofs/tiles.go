package proofs

import (
	"context"
	"strings"

	"golang.org/x/mod/sumdb/tlog"

	"jugate/core/fault"
	"jugate/core/proof"
)

// tileHeight is that of C2SP tlog-tiles: a tile has 256 hashes at the most.
const tileHeight = "8"

// Checkpoint is the head that was signed last, with the countersignatures of witnesses (C2SP tlog-checkpoint). It is a
// fault.NotFound before there is any.
func (p *Proofs) Checkpoint(ctx context.Context) (string, error) {
	newest, err := p.Records.NewestHead(ctx)
	if err != nil {
		return "", err
	}
	if newest == nil {
		return "", fault.NotFound.Errorf("no head was signed yet")
	}
	return newest.Signed, nil
}

// Tile is a part of the tree that the last head is of, as C2SP tlog-tiles has it: 32 bytes a hash. Path is what comes after
// "tile/", such as "0/x001/067" or "1/003.p/17". It is a fault.NotFound if the tree has no such tile.
func (p *Proofs) Tile(ctx context.Context, path string) ([]byte, error) {
	none := fault.NotFound.Errorf("the tree of records has no such tile")
	t, err := tlog.ParseTilePath("tile/" + tileHeight + "/" + path)
	if err != nil || t.L < 0 || strings.HasPrefix(path, "data/") {
		return nil, none
	}
	newest, err := p.Records.NewestHead(ctx)
	if err != nil {
		return nil, err
	}
	if newest == nil {
		return nil, none
	}
	head, err := proof.Open(newest.Signed, p.key.Verifier())
	if err != nil {
		return nil, err
	}
	if t.N > head.Size || t.N<<t.H+int64(t.W) > head.Size>>(t.L*t.H) {
		return nil, none
	}
	return tlog.ReadTileData(t, p.Records.Hashes(ctx))
}
