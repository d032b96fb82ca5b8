package records_test

import (
	"fmt"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"jugate/core/delivery"
	"jugate/core/proof"
	"jugate/records"
)

// many is records with so many receipts, of deliveries to two hundred workstations.
func many(b *testing.B, receipts int) *records.DB {
	b.Helper()
	ctx := b.Context()
	db, err := records.Open(ctx, noon, filepath.Join(b.TempDir(), "jugate.db"))
	require.NoError(b, err)
	b.Cleanup(func() { db.Close() })
	const each = 200
	var members []int64
	for n := range each {
		members = append(members, newcomer(b, db, n).ID)
	}
	for done := 0; done < receipts; done += each {
		id, err := db.AddDelivery(ctx, records.Delivery{Image: "garden-desk", Version: 1, Created: noon}, nil, members)
		require.NoError(b, err)
		var all []records.Receipt
		for i, w := range members {
			all = append(all, records.Receipt{DeliveryID: id, WorkstationID: w, Workstation: fmt.Sprintf("desk-%04d", i), Address: "02:00:00:00:00:01", Image: "garden-desk", Version: 1, Digest: "fa8a8d4c75623e5c2043a006b6da3f6f",
				Ended: noon, Outcome: delivery.Delivered, Verified: true, OrderedBy: "ines"})
		}
		_, err = db.AddReceipts(ctx, all)
		require.NoError(b, err)
	}
	return db
}

func BenchmarkRecords(b *testing.B) {
	db := many(b, 200_000)
	ctx := b.Context()
	b.Run("check of 200,000 receipts", func(b *testing.B) {
		for b.Loop() {
			_, err := db.Check(ctx)
			require.NoError(b, err)
		}
	})
	benchmarkProof(b, db)
	b.Run("head", func(b *testing.B) {
		size, err := db.Leaves(ctx)
		require.NoError(b, err)
		for b.Loop() {
			_, err = proof.Root(db.Hashes(ctx), size)
			require.NoError(b, err)
		}
	})
}

func benchmarkProof(b *testing.B, db *records.DB) {
	ctx := b.Context()
	b.Run("proof of a receipt", func(b *testing.B) {
		size, err := db.Leaves(ctx)
		require.NoError(b, err)
		for n := int64(0); b.Loop(); n = (n + 7919) % size {
			_, _, err := db.LeafOfReceipt(ctx, n+1)
			require.NoError(b, err)
			_, err = proof.Path(db.Hashes(ctx), size, n)
			require.NoError(b, err)
		}
	})
}

// It takes some minutes to make them.
func BenchmarkMillion(b *testing.B) { benchmarkProof(b, many(b, 1_000_000)) }
