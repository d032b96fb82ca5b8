package fleet

import (
	"context"
	"io"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/answers"
	"jugate/core/roster"
	"jugate/records"
)

// ImportOptions say how a table of workstations is taken in.
type ImportOptions struct {
	DryRun bool // tell what would become of it, and enter nothing
	Whole  bool // enter nothing if a row is in doubt
}

// Import takes a table of workstations into the roster (roster.ReadTable). Workstations that
// nobody has seen are expected from then on.
func (f *Fleet) Import(ctx context.Context, table io.Reader, o ImportOptions) (api.Imported, error) {
	rows, err := roster.ReadTable(table, isCell)
	if err != nil {
		return api.Imported{}, err
	}
	for i := range rows {
		readAnswers(&rows[i])
	}
	results, kept, err := f.Records.Import(ctx, f.Now(), rows, records.ImportOptions{DryRun: o.DryRun, Whole: o.Whole})
	if err != nil {
		return api.Imported{}, err
	}
	out := api.Imported{Entered: kept, Rows: []api.ImportedRow{}}
	for _, r := range results {
		told := api.ImportedRow{Line: r.Row.Line, Workstation: r.Row.Said(), Did: r.Changes, What: "changed"}
		switch {
		case r.Problem != nil:
			told.What, told.Problem, told.Did = "in doubt", r.Problem.Error(), []string{}
			out.RowsInDoubt++
		case len(r.Changes) == 0:
			out.UnchangedRows++
			continue
		case r.New:
			told.What = "new"
			out.NewRows++
		default:
			out.ChangedRows++
		}
		out.Rows = append(out.Rows, told)
	}
	if kept {
		var ids []int64
		for _, r := range results {
			if len(r.Changes) > 0 {
				ids = append(ids, r.ID)
			}
		}
		f.touched(context.WithoutCancel(ctx), ids)
	}
	f.Log.Info("table of workstations", "kept", kept, "new", out.NewRows, "changed", out.ChangedRows, "unchanged", out.UnchangedRows, "in doubt", out.RowsInDoubt, "by", actor.From(ctx))
	return out, nil
}

// isCell tells whether a column of a table is an answer.
func isCell(column string) bool {
	k := answers.Find(column)
	return k != nil && k.Cell && !k.Secret
}

// readAnswers checks the answers of a row, and brings them into the form that is kept.
func readAnswers(row *roster.Row) {
	for key, text := range row.Others {
		if text == "" {
			continue // unset
		}
		v, err := answers.Parse(key, text)
		if err != nil && row.Problem == nil {
			row.Problem = err
		}
		row.Others[key] = string(v)
	}
}

// Export writes the roster as a table that Import takes, without newcomers and retired
// workstations.
func (f *Fleet) Export(ctx context.Context, filter records.WorkstationFilter, w io.Writer) error {
	if filter.States == nil {
		filter.States = []roster.State{roster.Expected, roster.Admitted}
	}
	set, err := f.Records.Answers(ctx, nil)
	if err != nil {
		return err
	}
	cells := map[string]map[string]string{} // by name of the workstation and key
	for _, a := range set {
		if a.Kind == "workstation" && isCell(a.Key) {
			if cells[a.Name] == nil {
				cells[a.Name] = map[string]string{}
			}
			cells[a.Name][a.Key] = answers.Value(a.Value).Show(a.Key)
		}
	}
	all, _, err := f.Records.Workstations(ctx, filter, records.Page{Sort: "name"})
	if err != nil {
		return err
	}
	return roster.WriteTable(w, each(all, func(one records.Workstation) roster.Row {
		return roster.Row{Name: one.Name, Addresses: one.Accepted(), Identity: one.Identity(), Groups: one.Groups(), Note: &one.Note, Fields: one.Fields(), Others: cells[one.Name]}
	}))
}

// Note replaces what is said of a workstation.
func (f *Fleet) Note(ctx context.Context, ref, note string) (api.Workstation, error) {
	return f.change(ctx, ref, func(id int64) error { return f.Records.SetWorkstationNote(ctx, id, note) })
}

// SetSite says at which outpost a workstation is, until it calls from elsewhere; empty for none.
func (f *Fleet) SetSite(ctx context.Context, ref, outpost string) (api.Workstation, error) {
	return f.change(ctx, ref, func(id int64) error { return f.Records.SetSite(ctx, id, outpost) })
}

// SetFields sets fields of a workstation; an empty value removes one.
func (f *Fleet) SetFields(ctx context.Context, ref string, fields map[string]string) (api.Workstation, error) {
	for name := range fields {
		if err := roster.CheckName("a field", name); err != nil {
			return api.Workstation{}, err
		}
	}
	return f.change(ctx, ref, func(id int64) error { return f.Records.MergeFields(ctx, id, fields) })
}
