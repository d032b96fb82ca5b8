package orders

import (
	"bytes"
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/order"
	"jugate/core/rights"
	"jugate/core/roster"
	"jugate/core/selection"
	"jugate/records"
)

// task is a part of what an order does: to whom, and the right that it takes for them.
type task struct {
	work  order.Work
	right rights.Right
	to    []string
	where string
}

// tasksOf are the tasks of an order, one after the other.
func tasksOf(in api.Order) (all []task) {
	if c := in.Capture; c != nil {
		all = append(all, task{order.Capture, rights.Capture, []string{c.Workstation}, ""})
	}
	if c := in.Check; c != nil {
		all = append(all, task{order.Check, rights.Deliver, c.To, c.Where})
	}
	if _, t, is := erases(in); is && in.SaveDays > 0 {
		all = append(all, task{order.Save, rights.Capture, t.to, t.where})
	}
	if w := in.Wipe; w != nil {
		all = append(all, task{order.Wipe, rights.Wipe, w.Workstations, ""})
	}
	if d := in.Deliver; d != nil {
		all = append(all, task{order.Deliver, rights.Deliver, d.To, d.Where})
		if len(in.Folders) > 0 {
			all = append(all, task{order.Folders, rights.Deliver, d.To, d.Where})
		}
	}
	if d := in.Drivers; d != nil {
		all = append(all, task{order.Drivers, rights.Deliver, d.To, d.Where})
	}
	if p := in.Payloads; p != nil {
		all = append(all, task{order.Payloads, rights.Deliver, p.To, p.Where})
	}
	all = withSteps(in, all)
	if d := in.Deliver; d != nil && d.Await {
		all = append(all, task{order.Arrive, rights.Deliver, d.To, d.Where})
	}
	return all
}

// workOf is what an order does, one after the other.
func workOf(in api.Order) []order.Work {
	return each(tasksOf(in), func(t task) order.Work { return t.work })
}

// mayUseImages refuses an order to whoever lacks a right for the images that it captures or delivers.
func mayUseImages(ctx context.Context, in api.Order) (err error) {
	if c := in.Capture; c != nil {
		err = rights.CheckImage(ctx, rights.Capture, c.Image)
	}
	if d := in.Deliver; d != nil {
		ref, problem := roster.ParseRef(d.Image)
		err = errors.Join(err, problem, rights.CheckImage(ctx, rights.See, ref.Image))
	}
	return err
}

// scheduleOf is when an order runs by itself; nil if it does not.
func scheduleOf(in api.Order) (*order.Schedule, error) {
	if in.Schedule == nil {
		return nil, nil
	}
	return order.ParseSchedule(in.Schedule.When, in.Schedule.Zone)
}

// SaveOrder keeps an order; person is who saves it, 0 for the key of last resort. With try it only says what would change.
func (o *Orders) SaveOrder(ctx context.Context, person int64, in api.Order, try bool) (out api.OrderSaved, err error) {
	if err := o.checkOrder(ctx, in); err != nil {
		return out, err
	}
	schedule, err := scheduleOf(in)
	if err != nil {
		return out, err
	}
	_, before, err := o.named(ctx, in.Name)
	if out.Added = fault.KindOf(err) == fault.NotFound; err != nil && !out.Added {
		return out, err
	}
	if out.Changes, err = differences(before, in); err != nil {
		return out, err
	}
	kept := records.Order{Name: in.Name, Saved: o.Now(), SavedBy: actor.From(ctx).String(), PersonID: person}
	if schedule != nil {
		if kept.Due = nextDue(schedule, kept.Saved); !kept.Due.Valid {
			return out, fault.Invalid.Errorf("%q never comes", in.Schedule.When)
		}
	}
	if out.Order, err = o.keptOrder(ctx, kept, in); err != nil || try {
		return out, err
	}
	if err := o.Records.PutOrder(ctx, kept, in); err != nil {
		return out, err
	}
	o.Log.Info("order saved", "order", in.Name, "by", kept.SavedBy)
	o.moved.ring()
	return out, nil
}

// checkOrder refuses what makes no sense, and what whoever saves it may not do.
func (o *Orders) checkOrder(ctx context.Context, in api.Order) error {
	if err := roster.CheckName("an order", in.Name); err != nil {
		return err
	}
	if len(workOf(in)) == 0 {
		return fault.Invalid.Errorf("the order %s has nothing to do: say what it captures, checks, wipes, delivers, installs, boots or runs", in.Name)
	}
	if in.Deliver != nil && in.Deliver.AtLatest != nil {
		return fault.Invalid.Errorf("an order is for many days: say wait_minutes, and not at_latest")
	}
	if in.WhenBehind && (in.Deliver == nil || in.Capture != nil) {
		return fault.Invalid.Errorf("an order that runs for workstations that are behind has a delivery, and no capture")
	}
	if _, _, is := erases(in); in.SaveDays > 0 && !is {
		return fault.Invalid.Errorf("the order erases nothing that could be saved first")
	}
	if err := errors.Join(checkCommands(in), o.checkEntries(ctx, in), checkBench(in), checkFolders(in)); err != nil {
		return err
	}
	return o.mayRun(ctx, in)
}

// maySee refuses an order to whoever may neither see everything nor run it.
func (o *Orders) maySee(ctx context.Context, in api.Order) error {
	if rights.From(ctx).May(rights.See) || rights.From(ctx).HasRole(in.Released) {
		return nil
	}
	return o.mayRun(ctx, in)
}

// mayRun refuses an order to whoever lacks a right for what it does, and one that names what is not there. It may be that
// nobody fits it now.
func (o *Orders) mayRun(ctx context.Context, in api.Order) error {
	all := []error{mayUseImages(ctx, in)}
	for _, t := range tasksOf(in) {
		needing := rights.Needing(ctx, t.right)
		if t.work == order.Capture { // of one workstation, and of no group
			w, err := o.Records.FindWorkstation(ctx, in.Capture.Workstation)
			if err != nil {
				return err
			}
			all = append(all, rights.Check(needing, w.Label(), w.Groups()))
			continue
		}
		_, runs := t.work.Command()
		if in.Bench {
			all = append(all, mayForAll(needing))
			if runs {
				all = append(all, mayForAll(rights.Needing(ctx, rights.Answer)))
			}
			if len(t.to) == 0 && t.where == "" {
				continue
			}
		}
		if runs || t.work == order.Deliver && len(in.Deliver.OwnAnswers) > 0 {
			if _, err := o.Fleet.Choose(rights.Needing(ctx, rights.Answer), t.to, t.where); fault.KindOf(err) != fault.Conflict {
				all = append(all, err)
			}
		}
		if _, err := o.Fleet.Choose(needing, t.to, t.where); fault.KindOf(err) != fault.Conflict { // nobody may fit it now
			all = append(all, err)
		}
	}
	if c := in.Check; c != nil {
		all = append(all, checkable(c.CheckOptions))
		for _, condition := range c.Require {
			all = append(all, sound(condition))
		}
	}
	return errors.Join(all...)
}

// sound refuses a condition that makes no sense.
func sound(condition string) error {
	_, err := selection.Parse(condition)
	return err
}

// differences are the fields in which two orders differ.
func differences(before, after api.Order) ([]api.OrderDiff, error) {
	fields := func(in api.Order) (all map[string]json.RawMessage, err error) {
		var text bytes.Buffer
		plain := json.NewEncoder(&text) // conditions are for people to read
		plain.SetEscapeHTML(false)
		if err := plain.Encode(in); err != nil {
			return nil, err
		}
		return all, json.Unmarshal(text.Bytes(), &all)
	}
	was, err := fields(before)
	if err != nil {
		return nil, err
	}
	is, err := fields(after)
	if err != nil {
		return nil, err
	}
	out := []api.OrderDiff{}
	both := maps.Clone(was)
	maps.Copy(both, is)
	for _, name := range slices.Sorted(maps.Keys(both)) {
		if a, b := string(was[name]), string(is[name]); a != b {
			out = append(out, api.OrderDiff{Field: name, Before: a, After: b})
		}
	}
	return out, nil
}

// keptOrder is what is told of an order.
func (o *Orders) keptOrder(ctx context.Context, row records.Order, in api.Order) (api.KeptOrder, error) {
	out := api.KeptOrder{Order: in, Work: workOf(in), Saved: row.Saved, SavedBy: row.SavedBy, Next: records.TimeOf(row.Due)}
	problem, err := o.problemOf(ctx, in)
	if err != nil {
		return out, err
	}
	out.Problem = problem
	last, _, err := o.Records.Runs(ctx, records.RunFilter{Order: in.Name}, records.Page{Limit: 1})
	if len(last) > 0 {
		run := runOf(last[0])
		out.Last = &run
	}
	return out, err
}

// problemOf says why an order would fail if it ran now; empty if nothing is known against it.
func (o *Orders) problemOf(ctx context.Context, in api.Order) (string, error) {
	if in.Deliver == nil {
		return "", nil
	}
	ref, err := roster.ParseRef(in.Deliver.Image)
	if err != nil {
		return "", err
	}
	switch v, err := o.Records.Version(ctx, ref); {
	case in.Capture != nil && ref.Version == 0 && strings.EqualFold(in.Capture.Image, ref.Image): // it makes that first
	case fault.KindOf(err) == fault.NotFound:
		return err.Error(), nil
	case err != nil:
		return "", err
	case v.Retired.Valid:
		return fmt.Sprintf("%s is retired; readmit it first, or deliver another version", v.Ref()), nil
	}
	return "", nil
}

// Prepared lists orders.
func (o *Orders) Prepared(ctx context.Context, p records.Page) ([]api.KeptOrder, int, error) {
	seen, err := o.visible(ctx, p)
	if err != nil {
		return nil, 0, err
	}
	from := min(p.Offset, len(seen))
	var all []api.KeptOrder
	for _, row := range seen[from:min(from+p.Limit, len(seen))] {
		in, err := row.Order()
		if err != nil {
			return nil, 0, err
		}
		kept, err := o.keptOrder(ctx, row, in)
		if err != nil {
			return nil, 0, err
		}
		all = append(all, kept)
	}
	return all, len(seen), nil
}

// visible are the orders that whoever asks may see; of the page, order and search count.
func (o *Orders) visible(ctx context.Context, p records.Page) (seen []records.Order, err error) {
	rows, _, err := o.Records.Orders(ctx, records.Page{Sort: p.Sort, Search: p.Search})
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		if in, err := row.Order(); err != nil {
			return nil, err
		} else if o.maySee(ctx, in) == nil {
			seen = append(seen, row)
		}
	}
	return seen, nil
}

// named is the order of a name, as it is kept and what it does.
func (o *Orders) named(ctx context.Context, name string) (row *records.Order, in api.Order, err error) {
	if row, err = o.Records.Order(ctx, name); err == nil {
		in, err = row.Order()
	}
	return row, in, err
}

// Order is one of them.
func (o *Orders) Order(ctx context.Context, name string) (api.KeptOrder, error) {
	row, in, err := o.named(ctx, name)
	if err == nil {
		err = o.maySee(ctx, in)
	}
	if err != nil {
		return api.KeptOrder{}, err
	}
	return o.keptOrder(ctx, *row, in)
}

// RemoveOrder forgets an order; what it has done stays on record.
func (o *Orders) RemoveOrder(ctx context.Context, name string) error {
	_, in, err := o.named(ctx, name)
	if err != nil {
		return err
	}
	if err := o.mayRun(ctx, in); fault.KindOf(err) == fault.Forbidden {
		return err
	}
	if err := o.Records.RemoveOrder(ctx, name); err != nil {
		return err
	}
	o.Log.Info("order removed", "order", name, "by", actor.From(ctx))
	return nil
}

// NextRuns are the next times at which an order runs by itself, or all do if name is empty; n at the most.
func (o *Orders) NextRuns(ctx context.Context, name string, n int) ([]api.OrderTime, error) {
	rows, _, err := o.Records.Orders(ctx, records.Page{})
	if err != nil {
		return nil, err
	}
	if name != "" {
		one, err := o.Records.Order(ctx, name)
		if err != nil {
			return nil, err
		}
		rows = []records.Order{*one}
	}
	all := []api.OrderTime{}
	orders := map[string]api.Order{}
	for _, row := range rows {
		in, err := row.Order()
		if err != nil {
			return nil, err
		}
		schedule, err := scheduleOf(in)
		if err != nil || schedule == nil || o.maySee(ctx, in) != nil {
			continue
		}
		location, err := time.LoadLocation(schedule.Zone())
		if err != nil {
			return nil, err
		}
		orders[in.Name] = in
		for _, at := range schedule.Times(o.Now(), n) {
			all = append(all, api.OrderTime{Order: in.Name, At: at.In(location), Words: schedule.String()})
		}
	}
	slices.SortFunc(all, func(a, b api.OrderTime) int { return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.Order, b.Order)) })
	all = all[:min(n, len(all))]
	for i := range all { // of those alone that are told
		if all[i].Problem, err = o.quiet(ctx, all[i].At); err == nil && all[i].Problem == "" {
			all[i].Problem, err = o.problemOf(ctx, orders[all[i].Order])
		}
		if err != nil {
			return nil, err
		}
	}
	return all, nil
}

// nextDue is when an order runs by itself after an instant.
func nextDue(s *order.Schedule, after time.Time) sql.NullTime {
	next := s.Next(after)
	return sql.NullTime{Time: next, Valid: !next.IsZero()}
}
