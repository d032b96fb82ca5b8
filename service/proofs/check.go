package proofs

import (
	"context"

	"jugate/api"
)

// Check goes through all records, and compares them with the tree and with the heads that were signed.
func (p *Proofs) Check(ctx context.Context) (api.LogCheck, error) {
	found, err := p.Records.Check(ctx)
	check := api.LogCheck{Receipts: found.Receipts, Arrivals: found.Arrivals, Lines: found.Lines, Forgotten: found.Forgotten, Leaves: found.Leaves}
	if err == nil {
		_, _, err = p.head(ctx)
	}
	if err == nil {
		err = p.witnessed(ctx)
	}
	if ctx.Err() != nil {
		return check, ctx.Err()
	}
	if check.Sound = err == nil; err != nil {
		check.Detail = err.Error()
	}
	return check, nil
}
