package fleet

import (
	"context"
	"fmt"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/hwaddr"
	"jugate/core/rights"
	"jugate/records"
)

// What rights take of a list of 10,000 workstations: the first case of each has none looked at.
func BenchmarkRightsInLists(b *testing.B) {
	const roster, half = 10_000, 5_000
	ctx := b.Context()
	db, err := records.Open(ctx, time.Now(), filepath.Join(b.TempDir(), "jugate.db"))
	require.NoError(b, err)
	defer db.Close()
	f := &Fleet{AcceptCards: no, Tickets: no, Records: db, Boot: quiet{}, Stock: quiet{}, Errands: quiet{}, Log: slog.New(slog.DiscardHandler), Publish: func(any) {}, Now: time.Now}
	for _, group := range []string{"everybody", "half"} {
		require.NoError(b, db.AddGroup(ctx, group))
	}
	for n := range roster {
		a := hwaddr.MustParse(fmt.Sprintf("02:00:5e:00:%02x:%02x", n>>8, n&0xff))
		w, err := db.CheckIn(ctx, time.Now(), records.Seen{Own: []hwaddr.Address{a}, AgentVersion: "1", Inventory: api.Inventory{Maker: "Alder Works", Model: "A310", Serial: fmt.Sprintf("AW-%05d", n)}})
		require.NoError(b, err)
		groups := []string{"everybody"}
		if n < half {
			groups = append(groups, "half")
		}
		require.NoError(b, db.Admit(ctx, w.ID, fmt.Sprintf("desk-%05d", n), groups))
	}
	reader, _ := rights.FindBuiltIn("reader")
	on := func(s rights.Scope) *rights.Holder { return rights.Of([]rights.Grant{{Role: reader, On: s}}) }
	holders := []struct {
		name string
		*rights.Holder
	}{
		{"nobody asks", nil}, {"of everything", on(rights.Scope{Kind: rights.Everything})},
		{"of a group of all", on(rights.Scope{Kind: "group", Name: "everybody"})}, {"of a group of half", on(rights.Scope{Kind: "group", Name: "half"})},
	}
	page := records.Page{Limit: 100, Sort: "name"}
	for list, read := range map[string]func(context.Context) error{
		"a page of workstations": func(ctx context.Context) error {
			_, _, err := f.List(ctx, records.WorkstationFilter{}, "", page)
			return err
		},
		"those that fit a condition": func(ctx context.Context) error {
			_, _, err := f.List(ctx, records.WorkstationFilter{}, `model == "A310"`, page)
			return err
		},
		"groups": func(ctx context.Context) error {
			_, _, err := f.Groups(ctx, page)
			return err
		},
	} {
		for _, h := range holders {
			ctx := rights.With(ctx, h.Holder)
			b.Run(list+"/"+h.name, func(b *testing.B) {
				for b.Loop() {
					require.NoError(b, read(ctx))
				}
			})
		}
	}
}
