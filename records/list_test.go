package records_test

import (
	"context"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/delivery"
	"jugate/core/roster"
	"jugate/records"
)

// fullRecords has workstations, groups, deliveries, errands and receipts, of which many are equal
// in what lists sort by.
func fullRecords(t *testing.T) *records.DB {
	db, _ := open(t)
	require.NoError(t, db.AddGroup(t.Context(), "herbarium"))
	require.NoError(t, db.AddGroup(t.Context(), "seed-bank"))
	var ids []int64
	for n := range 23 {
		w := newcomer(t, db, n+1)
		if n < 19 {
			require.NoError(t, db.Admit(t.Context(), w.ID, fmt.Sprintf("herb-%02d", 40-n), []string{"herbarium"}))
			ids = append(ids, w.ID)
		}
	}
	for d := range 3 {
		image := []string{"garden-desk", "kiosk", "garden-desk"}[d]
		id, err := db.AddDelivery(t.Context(), records.Delivery{Image: image, Version: 1, Created: noon.Add(time.Duration(d/2) * time.Hour)}, []string{"herbarium"}, ids)
		require.NoError(t, err)
		if d == 2 {
			break // it is open
		}
		var all []records.Receipt
		for i, w := range ids {
			r := records.Receipt{DeliveryID: id, WorkstationID: w, Workstation: fmt.Sprintf("herb-%02d", 40-i), Address: addr(i + 1).String(), Image: image, Version: 1, Ended: noon.Add(time.Duration(i/5) * time.Minute),
				Outcome: delivery.Delivered, Verified: true}
			if i%4 == 0 {
				r.Outcome, r.Verified, r.Reason = delivery.Failed, false, "silent for 300 s"
			}
			all = append(all, r)
		}
		_, err = db.AddReceipts(t.Context(), all)
		require.NoError(t, err)
		require.NoError(t, db.SetDelivery(t.Context(), noon, id, delivery.Finished, "", 1))
	}
	return db
}

// keys are what rows of a list are told from each other by.
func keys[T any](key func(T) string) func(rows []T, total int, err error) ([]string, int, error) {
	return func(rows []T, total int, err error) ([]string, int, error) {
		var all []string
		for _, r := range rows {
			all = append(all, key(r))
		}
		return all, total, err
	}
}

func TestPagesAreTheWholeList(t *testing.T) {
	db := fullRecords(t)
	workstation := keys(func(w records.Workstation) string { return fmt.Sprint(w.ID) })
	errand := keys(func(e records.Errand) string { return fmt.Sprint(e.ID) })
	receipt := keys(func(r records.Receipt) string { return fmt.Sprint(r.ID) })
	type list func(ctx context.Context, p records.Page) ([]string, int, error)
	for name, l := range map[string]struct {
		sorts []string
		total int
		list  list
	}{
		"workstations": {[]string{"name", "model", "serial", "state", "last_seen"}, 23, func(ctx context.Context, p records.Page) ([]string, int, error) {
			return workstation(db.Workstations(ctx, records.WorkstationFilter{}, p))
		}},
		"of a group": {[]string{"name", "model"}, 19, func(ctx context.Context, p records.Page) ([]string, int, error) {
			return workstation(db.Workstations(ctx, records.WorkstationFilter{Group: "herbarium", States: []roster.State{roster.Admitted}}, p))
		}},
		"sought": {[]string{"name", "model"}, 10, func(ctx context.Context, p records.Page) ([]string, int, error) {
			p.Search = "herb-3"
			return workstation(db.Workstations(ctx, records.WorkstationFilter{}, p))
		}},
		"cards": {[]string{"hardware_address", "workstation", "state"}, 23, func(ctx context.Context, p records.Page) ([]string, int, error) {
			return keys(func(c records.Card) string { return c.Address })(db.Cards(ctx, "", p))
		}},
		"groups": {[]string{"name", "workstation_count"}, 2, func(ctx context.Context, p records.Page) ([]string, int, error) {
			return keys(func(g records.Group) string { return g.Name })(db.Groups(ctx, nil, p))
		}},
		"deliveries": {[]string{"created", "state", "image"}, 3, func(ctx context.Context, p records.Page) ([]string, int, error) {
			return keys(func(d records.Delivery) string { return fmt.Sprint(d.ID) })(db.Deliveries(ctx, false, p))
		}},
		"errands": {[]string{"created", "workstation", "kind", "state"}, 57, func(ctx context.Context, p records.Page) ([]string, int, error) {
			return errand(db.Errands(ctx, records.ErrandFilter{}, p))
		}},
		"open errands": {[]string{"created", "workstation", "kind", "state"}, 19, func(ctx context.Context, p records.Page) ([]string, int, error) {
			return errand(db.Errands(ctx, records.ErrandFilter{Open: true}, p))
		}},
		"errands for an image": {[]string{"workstation"}, 19, func(ctx context.Context, p records.Page) ([]string, int, error) {
			p.Search = "KIOSK"
			return errand(db.Errands(ctx, records.ErrandFilter{}, p))
		}},
		"receipts": {[]string{"ended", "workstation", "image", "outcome"}, 38, func(ctx context.Context, p records.Page) ([]string, int, error) {
			return receipt(db.Receipts(ctx, records.ReceiptFilter{}, p))
		}},
		"receipts of an outcome": {[]string{"ended", "workstation", "image"}, 28, func(ctx context.Context, p records.Page) ([]string, int, error) {
			return receipt(db.Receipts(ctx, records.ReceiptFilter{Outcome: delivery.Delivered}, p))
		}},
		"receipts with a word": {[]string{"ended", "workstation"}, 10, func(ctx context.Context, p records.Page) ([]string, int, error) {
			p.Search = "Silent"
			return receipt(db.Receipts(ctx, records.ReceiptFilter{}, p))
		}},
		"receipts with two letters": {[]string{"ended"}, 19, func(ctx context.Context, p records.Page) ([]string, int, error) {
			p.Search = "io" // of kiosk
			return receipt(db.Receipts(ctx, records.ReceiptFilter{}, p))
		}},
	} {
		t.Run(name, func(t *testing.T) {
			for _, sort := range append(l.sorts, "") {
				for _, way := range []string{"", "-"} {
					if sort == "" && way == "-" {
						continue
					}
					all, total, err := l.list(t.Context(), records.Page{Sort: way + sort})
					require.NoError(t, err)
					assert.Equal(t, l.total, total)
					require.Len(t, all, l.total)
					assert.Len(t, slices.Compact(slices.Sorted(slices.Values(all))), l.total, "each is there once")
					var pages []string
					for offset := 0; offset < total+5; offset += 5 {
						page, n, err := l.list(t.Context(), records.Page{Sort: way + sort, Offset: offset, Limit: 5})
						require.NoError(t, err)
						assert.Equal(t, total, n, "also behind the end")
						pages = append(pages, page...)
					}
					assert.Equal(t, all, pages, way+sort)
					if way == "-" {
						forward, _, err := l.list(t.Context(), records.Page{Sort: sort})
						require.NoError(t, err)
						slices.Reverse(forward)
						assert.Equal(t, forward, all, "%s the other way round", sort)
					}
				}
			}
		})
	}
}

func TestNoListReadsAllRowsForAPage(t *testing.T) {
	db := fullRecords(t)
	for _, q := range []string{
		"SELECT id FROM receipts ORDER BY ended, id LIMIT 5 OFFSET 10",
		"SELECT id FROM receipts WHERE outcome = 'delivered' ORDER BY ended, id LIMIT 5 OFFSET 10",
		"SELECT id FROM receipts WHERE outcome = 'delivered' ORDER BY workstation COLLATE NOCASE, id LIMIT 5",
		"SELECT id FROM workstations WHERE state = 'admitted' ORDER BY model, id LIMIT 5",
		"SELECT e.id FROM workstations w CROSS JOIN errands e ON e.workstation_id = w.id ORDER BY w.name, w.id, e.id LIMIT 5",
		"UPDATE errands SET state = 'waiting' WHERE workstation_id = 1 AND state = 'running' AND id <> 2",
	} {
		plan, err := db.Explain(t.Context(), q)
		require.NoError(t, err)
		assert.NotContains(t, plan, "TEMP B-TREE", q)
		assert.NotRegexp(t, `SCAN (receipts|errands|e)($|\n)`, plan, q)
	}
}
