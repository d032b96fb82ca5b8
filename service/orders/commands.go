package orders

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"

	"jugate/api"
	"jugate/core/disk"
	"jugate/core/errand"
	"jugate/core/fault"
	"jugate/core/order"
	"jugate/core/rights"
	"jugate/core/roster"
	"jugate/records"
)

// limitOfCommand is how long a command may take, if it does not say so.
const limitOfCommand = 10 // minutes

// longestLine bounds the last line of a command's output, of which conditions speak; in bytes.
const longestLine = 500

// commandOf is the command of an order with that name; nil if there is none.
func commandOf(in api.Order, name string) *api.PreparedCommand {
	for i := range in.Commands {
		if strings.EqualFold(in.Commands[i].Name, name) {
			return &in.Commands[i]
		}
	}
	return nil
}

// checkCommands refuses commands that make no sense, and conditions of parts that are not there.
func checkCommands(in api.Order) error {
	parts := map[string]bool{}
	for _, w := range workOf(in) {
		if !w.Step() && w != order.Arrive {
			parts[string(w)] = true
		}
	}
	names := map[string]bool{}
	for _, c := range in.Commands {
		if err := roster.CheckName("a command", c.Name); err != nil {
			return err
		}
		key := strings.ToLower(c.Name)
		switch {
		case names[key]:
			return fault.Invalid.Errorf("two commands of the order are called %s", c.Name)
		case parts[key]:
			return fault.Invalid.Errorf("a command cannot be called %s, as a part of the order is", c.Name)
		case c.Before != "" && !parts[c.Before]:
			return fault.Invalid.Errorf("the command %s stands before a part that the order does not have: %s", c.Name, c.Before)
		case strings.ContainsRune(c.Script, 0):
			return fault.Invalid.Errorf("the command %s is not text", c.Name)
		case c.Before == "" && in.Deliver != nil && leaves(in.Deliver.WhenDone):
			return fault.Invalid.Errorf("after the delivery workstations leave (when_done), and the command %s could not be run at them; give when_done to the command", c.Name)
		}
		names[key] = true
		if _, err := disk.ParseRule(c.Disk); err != nil {
			return fmt.Errorf("the command %s: %w", c.Name, err)
		}
	}
	for _, e := range in.Entries {
		key := strings.ToLower(e.Entry)
		switch {
		case names[key] || parts[key]:
			return fault.Invalid.Errorf("two parts of the order are called %s", e.Entry)
		case e.Before != "" && !parts[e.Before]:
			return fault.Invalid.Errorf("the boot entry %s stands before a part that the order does not have: %s", e.Entry, e.Before)
		case e.Before == "" && in.Deliver != nil && leaves(in.Deliver.WhenDone):
			return fault.Invalid.Errorf("after the delivery workstations leave (when_done), and the boot entry %s could not be started at them", e.Entry)
		}
		names[key] = true
	}
	for _, t := range tasksOf(in) {
		if t.work.Step() && len(t.to) == 0 && t.where == "" && !in.Bench {
			return fault.Invalid.Errorf("say at which workstations this is done: %s", t.work)
		}
	}
	for name, condition := range in.OnlyIf {
		if !parts[name] && !names[strings.ToLower(name)] {
			return fault.Invalid.Errorf("only_if has a condition for %s, which is no part of the order", name)
		}
		if name == string(order.Save) {
			return fault.Invalid.Errorf("an order saves every disk that it erases, or none: only_if cannot leave some out")
		}
		if err := sound(condition); err != nil {
			return fmt.Errorf("only_if of %s: %w", name, err)
		}
	}
	return nil
}

func leaves(whenDone string) bool { return whenDone != "" && whenDone != "stay" }

// withSteps puts the boot entries and the commands of an order between its other tasks.
func withSteps(in api.Order, tasks []task) (all []task) {
	add := func(before string, beside task) {
		step := func(stands string, w order.Work, to []string, where string) {
			if stands != before {
				return
			}
			if len(to) == 0 && where == "" {
				to, where = beside.to, beside.where
			}
			all = append(all, task{w, rights.Deliver, to, where})
		}
		for _, e := range in.Entries {
			step(e.Before, order.EntryNamed(e.Entry), e.To, e.Where)
		}
		for _, c := range in.Commands {
			step(c.Before, order.CommandNamed(c.Name), c.To, c.Where)
		}
	}
	for _, t := range tasks {
		add(string(t.work), t)
		all = append(all, t)
	}
	var last task
	if len(tasks) > 0 {
		last = tasks[len(tasks)-1]
	}
	add("", last)
	return all
}

// onlyIf is the condition of a part of an order; empty if there is none.
func onlyIf(in api.Order, w order.Work) string {
	name := w.Name()
	for of, condition := range in.OnlyIf {
		if strings.EqualFold(of, name) {
			return condition
		}
	}
	return ""
}

// OrderCommand has workstations run a command.
func (o *Orders) OrderCommand(ctx context.Context, c api.Command, to []string, where string) error {
	targets, err := o.Fleet.Choose(ctx, to, where)
	if err != nil {
		return err
	}
	for _, w := range targets {
		if err := rights.Check(rights.Needing(ctx, rights.Answer), w.Label(), w.Groups()); err != nil {
			return err
		}
	}
	c.Place, c.Limit = cmp.Or(c.Place, api.InSystem), cmp.Or(c.Limit, limitOfCommand)
	_, err = o.addErrands(ctx, targets, errand.Command, func(records.Workstation) any { return c })
	return err
}

// commandRun is what is told of an errand that runs a command; nil of another.
func commandRun(e records.Errand, output bool) *api.CommandRun {
	if e.Kind != errand.Command {
		return nil
	}
	c, err := records.OptionsOf[api.Command](&e)
	if err != nil {
		return nil
	}
	out := &api.CommandRun{Name: c.Name, Place: c.Place}
	if ended, err := e.CommandEnded(); err == nil && ended != nil {
		out.LastLine = lastLine(ended.Output)
		if out.Ended = ended; !output {
			out.Ended.Output = ""
		}
	}
	return out
}

// Ran ends an errand that has run a command.
func (o *Orders) Ran(ctx context.Context, workstation, id int64, ended api.CommandEnded) error {
	e, err := o.Records.RunningErrand(ctx, workstation, id, errand.Command)
	if err != nil {
		return err
	}
	c, err := records.OptionsOf[api.Command](e)
	if err != nil {
		return err
	}
	ended.Output = strings.ToValidUTF8(ended.Output, "\uFFFD")
	said := records.Said{WorkstationID: workstation, Command: c.Name, Passed: ended.Status == 0 && !ended.Late, LastLine: lastLine(ended.Output)}
	state, reason := errand.Done, ""
	if !said.Passed && !c.MayFail {
		state, reason = errand.Failed, howEnded(c, ended)
	}
	if err := o.Records.EndCommand(ctx, o.Now(), id, ended, state, reason, said); err != nil {
		return err
	}
	o.Log.Info("command run", "command", c.Name, "errand", id, "workstation", e.Workstation, "status", ended.Status, "late", ended.Late)
	o.publishErrand(ctx, id)
	o.Fleet.Ring(workstation)
	return nil
}

// howEnded says how a command has ended that has not ended well.
func howEnded(c api.Command, ended api.CommandEnded) string {
	text := fmt.Sprintf("%s ended with %d", c.Name, ended.Status)
	if ended.Late {
		text = fmt.Sprintf("%s was ended after %v", c.Name, time.Duration(c.Limit)*time.Minute)
	}
	if line := lastLine(ended.Output); line != "" {
		text += ": " + line
	}
	return text
}

// lastLine is the last line of an output that says something, as people can read it.
func lastLine(output string) string {
	lines := strings.FieldsFunc(output, func(r rune) bool { return r == '\n' || r == '\r' })
	for _, line := range slices.Backward(lines) {
		line = strings.TrimSpace(strings.Map(func(r rune) rune {
			if unicode.IsPrint(r) {
				return r
			}
			return ' '
		}, line))
		if line != "" {
			return strings.ToValidUTF8(line[:min(len(line), longestLine)], "")
		}
	}
	return ""
}
