package orders

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"jugate/api"
	"jugate/core/answers"
	"jugate/core/delivery"
	"jugate/core/disk"
	"jugate/core/fault"
	"jugate/core/image"
	"jugate/core/partition"
	"jugate/core/readiness"
	"jugate/core/restore"
	"jugate/core/rights"
	"jugate/core/roster"
	"jugate/records"
)

// noAnswers is what an order says that leaves the copies as the golden machine was.
const noAnswers = "none"

// noDrivers is the set that an order names which puts none in.
const noDrivers = "none"

// What an order says of workstations whose domain does not answer.
const (
	waitForDomain = "wait"
	goOn          = "go-on"
)

// plan is an order that was held against everything that is known.
type plan struct {
	version *records.Version
	rule    delivery.Rule
	wait    int64 // seconds
	targets []records.Workstation
	placing restore.Placement
	own     map[string]string // its answers, as JSON by key
	order   api.NewDelivery   // as it came, but for what does not apply
	asItWas bool              // neither answers nor drivers change the copy

	payloads []string // names of what the answers bring

	lacksDrivers, otherFirmware, answers, away bool // among the problems, the ones an order can overrule

	api.DeliveryPlan
}

// Plan says what a delivery would do, and why it would be refused. Nothing is ordered.
func (o *Orders) Plan(ctx context.Context, in api.NewDelivery) (api.DeliveryPlan, error) {
	p, err := o.plan(ctx, in)
	if err != nil {
		return api.DeliveryPlan{}, err
	}
	if err := p.refusal(); err != nil {
		p.Refused = err.Error()
	}
	return p.DeliveryPlan, nil
}

// plan holds an order against the roster. Errors say why it makes no sense; what speaks
// against single workstations is in the plan.
func (o *Orders) plan(ctx context.Context, in api.NewDelivery) (*plan, error) {
	if len(in.To) == 0 && in.Where == "" {
		return nil, fault.Invalid.Errorf("say for which workstations: name workstations or groups, or give a condition")
	}
	ref, err := roster.ParseRef(in.Image)
	if err != nil {
		return nil, err
	}
	if err := rights.CheckImage(ctx, rights.See, ref.Image); err != nil {
		return nil, err
	}
	p := &plan{}
	if p.rule, err = delivery.ParseRule(in.Start); err != nil {
		return nil, err
	}
	if p.version, err = o.Records.Version(ctx, ref); err != nil {
		return nil, err
	}
	v := p.version
	if v.Retired.Valid {
		return nil, fault.Conflict.Errorf("%s is retired; readmit it first", v.Ref())
	}
	man, _, err := o.Versions.Load(v)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be delivered: %w", v.Ref(), err)
	}
	if _, err := disk.ParseRule(in.Disk); err != nil {
		return nil, err
	}
	if p.placing, err = placementOf(man, in.RestoreOptions); err != nil {
		return nil, err
	}
	if p.asItWas = v.PrivateOf != 0 || withoutSystem(man, in.RestoreOptions); p.asItWas {
		in.Answers, in.DriverOrder = noAnswers, api.DriverOrder{Drivers: []string{noDrivers}, DespiteDrivers: true}
	}
	p.order = in
	if p.targets, err = o.Fleet.Choose(ctx, in.To, in.Where); err != nil {
		return nil, err
	}
	if len(in.OwnAnswers) > 0 {
		if in.Answers == noAnswers {
			return nil, fault.Invalid.Errorf("say either which answers this delivery has of its own, or that copies take none")
		}
		if p.own, err = o.Fleet.OwnAnswers(ctx, in.OwnAnswers); err != nil {
			return nil, err
		}
		if _, err := o.Fleet.Choose(rights.Needing(ctx, rights.Answer), in.To, in.Where); err != nil {
			return nil, err
		}
	}
	if p.rule.Ready() > len(p.targets) {
		return nil, fault.Invalid.Errorf("the stream is to start when %d workstations are ready, but the order names only %d", p.rule.Ready(), len(p.targets))
	}
	if p.wait, err = waitUntil(p.rule, o.Now(), in.AtLatest); err != nil {
		return nil, err
	}
	if i := slices.IndexFunc(p.targets, func(w records.Workstation) bool { return w.ID != v.PrivateOf }); v.PrivateOf != 0 && i >= 0 {
		return nil, fault.Conflict.Errorf("%s was saved from the disk of %s before that was erased, and does not go onto %s", v.Ref(), v.Workstation, p.targets[i].Label())
	}
	if err := o.Access.MayReceive(ctx, v.Image, p.targets); err != nil {
		return nil, err
	}
	p.DeliveryPlan = api.DeliveryPlan{
		Image: v.Image, Version: v.Number, StartsBy: orNone(man.Table.StartsBy()), DiskBytes: v.DiskBytes, NeedBytes: man.LeastDisk(), UsedBytes: v.UsedBytes,
		Start: p.rule.String(), AtLatest: startsAtLatest(&records.Delivery{Created: o.Now(), WaitAtMost: p.wait}, p.rule),
		Rate: cmp.Or(in.Rate, o.Rate()),
	}
	if p.Seconds, p.Earlier, err = o.Records.SecondsPerWorkstation(ctx, v.UsedBytes); err != nil {
		return nil, err
	}
	return p, o.planWorkstations(ctx, p, man, in)
}

func orNone[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// planWorkstations says of each target what the delivery would do to it.
func (o *Orders) planWorkstations(ctx context.Context, p *plan, man *image.Manifest, in api.NewDelivery) error {
	ids := make([]int64, len(p.targets))
	for i, w := range p.targets {
		ids[i] = w.ID
	}
	inventories := map[int64]api.Inventory{}
	err := o.Records.Inventories(ctx, ids, func(w records.Workstation, inv api.Inventory) { inventories[w.ID] = inv })
	if err != nil {
		return err
	}
	lacking, err := o.Stock.Lacking(ctx, p.version, in.DriverOrder, p.targets)
	if err != nil {
		return err
	}
	var answered map[int64]answers.Verdict
	if in.Answers != noAnswers {
		if answered, err = o.Fleet.HowAnswered(ctx, p.targets, p.version, p.own); err != nil {
			return err
		}
	}
	for _, w := range p.targets {
		holds, unfinished := w.Holds()
		out := api.PlannedWorkstation{Workstation: w.Label(), Address: w.Address().String(), Maker: w.Maker, Model: w.Model, Online: o.Fleet.IsOnline(w.ID),
			Unfinished: unfinished, Problems: []string{}, Warnings: []string{}}
		if holds.Image != "" {
			out.Image = holds.String()
		}
		inv, known := inventories[w.ID]
		switch {
		case !known || !w.Seen():
			out.Warnings = append(out.Warnings, "its disks were never seen, so nobody knows whether the image fits")
		default:
			planDisk(&out, p, man, inv, in)
		}
		drivers := lacking[w.ID]
		out.Warnings = append(out.Warnings, drivers.Remarks...)
		if in.DespiteDrivers {
			out.Warnings = append(out.Warnings, drivers.Lacking...)
		} else {
			out.Problems = append(out.Problems, drivers.Lacking...)
			p.lacksDrivers = p.lacksDrivers || len(drivers.Lacking) > 0
		}
		how := answered[w.ID]
		p.payloads = append(p.payloads, how.Payloads...)
		if needs := readiness.NeedsAnswers(man.Findings); needs != nil && !how.Answered && !p.asItWas {
			how.Problem = cmp.Or(how.Problem, fmt.Sprintf("its copy would be the golden machine's twin (%s), as the image was captured to be answered, and it is not", strings.Join(needs, ", ")))
		}
		switch {
		case how.Away != "" && in.DomainAway == waitForDomain:
			out.Warnings = append(out.Warnings, how.Away+"; it waits for that")
		case how.Away != "" && in.DomainAway == goOn:
			out.Warnings = append(out.Warnings, how.Away+"; if that stays so, its copy is in no domain")
		case how.Away != "":
			how.Problem, p.away = cmp.Or(how.Problem, how.Away), true
		}
		if how.Problem != "" {
			out.Problems = append(out.Problems, how.Problem)
			p.answers = true
		}
		if how.Remark != "" {
			out.Warnings = append(out.Warnings, how.Remark)
		}
		p.Members = append(p.Members, out)
	}
	slices.SortFunc(p.Members, func(a, b api.PlannedWorkstation) int { return cmp.Compare(a.Workstation, b.Workstation) })
	return nil
}

// planDisk says which disk of a workstation will be overwritten, and whether the image fits
// onto it and can start there.
func planDisk(out *api.PlannedWorkstation, p *plan, man *image.Manifest, inv api.Inventory, in api.NewDelivery) {
	problem := func(format string, args ...any) { out.Problems = append(out.Problems, fmt.Sprintf(format, args...)) }
	rule, err := disk.ParseRule(in.Disk)
	if err != nil {
		problem("%v", err)
		return
	}
	candidates := make([]disk.Candidate, len(inv.Disks))
	for i, d := range inv.Disks {
		candidates[i] = disk.Candidate{Serial: d.Serial, Size: d.Size}
	}
	if n, err := rule.Choose(candidates); err != nil {
		problem("%v", err)
	} else {
		d := inv.Disks[n]
		out.Disk = &d
		stays, remark, err := onDisk(p.placing, man, d)
		if err != nil {
			problem("%v", err)
		}
		if remark != "" {
			out.Warnings = append(out.Warnings, remark)
		}
		out.Stays = stays
		if d.Health != "" && d.Health != "good" {
			out.Warnings = append(out.Warnings, "its disk says of itself: "+d.Health)
		}
	}
	firmware, starts := partition.Firmware(inv.Firmware), man.Table.StartsBy()
	if p.placing.Part != 0 || firmware == "" || len(starts) == 0 || slices.Contains(starts, firmware) {
		return
	}
	words := fmt.Sprintf("it starts by %s, and the system of %s by %s", firmware, p.version.Ref(), starts[0])
	if in.DespiteFirmware {
		out.Warnings = append(out.Warnings, words)
	} else {
		problem("%s", words)
		p.otherFirmware = true
	}
}

// refusal is why a planned delivery is not ordered; nil if it can be.
func (p *plan) refusal() error {
	var details []string
	for _, w := range p.Members {
		for _, text := range w.Problems {
			details = append(details, fmt.Sprintf("%s (%s): %s", w.Workstation, cmp.Or(strings.TrimSpace(w.Maker+" "+w.Model), "unknown model"), text))
		}
	}
	if details == nil {
		return nil
	}
	text := fmt.Sprintf("%s cannot be delivered to all of these workstations; leave out those that are named", p.version.Ref())
	if p.lacksDrivers {
		text += ", add a driver to the library, or order it despite that (--despite-drivers)"
	}
	if p.otherFirmware {
		text += ", or set the firmware's setup right (--despite-firmware says that you will)"
	}
	if p.away {
		text += ", or say what to do while a domain does not answer (--domain-away wait or go-on)"
	}
	if p.answers {
		text += ", or mend their answers (jugate answers check; --answers none leaves copies as they are)"
	}
	return fault.Conflict.Errorf("%s", text).With(details...)
}
