package proofs

import (
	"context"
	"time"

	"jugate/api"
	"jugate/core/proof"
)

// exportPage is how many receipts are read at once.
const exportPage = 500

// Export gives the receipts of a period, the oldest first, each with its proof, to emit; a zero time bounds
// nothing. All proofs are of one head, which comes first.
func (p *Proofs) Export(ctx context.Context, since, until time.Time, emit func(api.Exported) error) error {
	kept, head, err := p.head(ctx)
	if err != nil {
		return err
	}
	if err := emit(api.Exported{Head: kept.Signed, Key: p.key.Verifier()}); err != nil {
		return err
	}
	for after := int64(0); ; {
		rows, err := p.Records.ReceiptsAfter(ctx, after, since, until, exportPage)
		if err != nil || len(rows) == 0 {
			return err
		}
		for i := range rows {
			after = rows[i].ID
			n, leaf, err := p.Records.LeafOf(ctx, &rows[i])
			if err != nil {
				return err
			}
			if n >= head.Size { // it was written since
				return nil
			}
			path, err := proof.Path(p.Records.Hashes(ctx), head.Size, n)
			if err != nil {
				return err
			}
			if err := emit(api.Exported{Leaf: string(leaf), Number: n, Path: path}); err != nil {
				return err
			}
		}
	}
}
