package fleet

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"slices"
	"strings"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/answers"
	"jugate/core/fault"
	"jugate/core/join"
	"jugate/core/rights"
	"jugate/core/roster"
	"jugate/records"
)

// Secrets seals what must not be read in the records.
type Secrets interface {
	Seal(about, text string) (string, error)
	Unseal(about, text string) (string, error)
}

// Domains has computers join their domain.
type Domains interface {
	// Problems tells by name why computers could not join a domain; the error says why none
	// could, join.ErrAway that it does not answer.
	Problems(ctx context.Context, domain string, names []string) (map[string]string, error)
	// Join makes a computer a member, with another password if it is one already.
	Join(ctx context.Context, domain, name string) (*join.Member, error)
}

// Systems looks into the systems of images.
type Systems interface {
	// System returns the files of an image's system, of a Windows its architecture, and what it
	// is in words. It is a fault.Conflict if there is none that can be looked into.
	System(ctx context.Context, image string) (files fs.FS, windows, words string, err error)
	// Answerable says what of a version takes answers.
	Answerable(ctx context.Context, v *records.Version) answers.Target
}

// placeOf reads where answers are set: "service", "group:herbarium", or the name of a group
// or workstation.
func (f *Fleet) placeOf(ctx context.Context, text string) (records.AnswerPlace, error) {
	kind, name, prefixed := strings.Cut(text, ":")
	switch {
	case text == "service":
		return records.AnswerPlace{Kind: "service"}, nil
	case !prefixed:
		return f.Records.Place(ctx, text)
	case slices.Contains([]string{"image", "model", "group", "workstation"}, kind) && name != "":
		return records.AnswerPlace{Kind: kind, Name: name}, nil
	}
	return records.AnswerPlace{}, fault.Invalid.Errorf("%q is not a place for answers: say service, image:NAME, model:NAME, group:NAME or workstation:NAME", text)
}

func placeText(p records.AnswerPlace) string {
	if p.Kind == "service" {
		return p.Kind
	}
	return p.Kind + ":" + p.Name
}

// SetAnswers sets answers in one place, all or none.
func (f *Fleet) SetAnswers(ctx context.Context, in api.NewAnswers) ([]api.Answer, error) {
	place, err := f.placeOf(ctx, in.Of)
	if err != nil {
		return nil, err
	}
	if err := f.checkPlace(ctx, place); err != nil {
		return nil, err
	}
	values, err := answers.Read(in.Values)
	if err != nil {
		return nil, err
	}
	if len(values) == 0 {
		return nil, fault.Invalid.Errorf("no answer is given")
	}
	if err := f.maySet(ctx, place, values); err != nil {
		return nil, err
	}
	kept := map[string]string{}
	var keys []string
	for key, v := range values {
		keys = append(keys, key)
		if kept[key] = string(v); v != "" && answers.Find(key).Secret {
			if kept[key], err = f.Secrets.Seal(key, string(v)); err != nil {
				return nil, err
			}
		}
	}
	if err := f.Records.SetAnswers(ctx, place, kept); err != nil {
		return nil, err
	}
	slices.Sort(keys)
	f.Log.Info("answers set", "of", placeText(place), "keys", keys, "by", actor.From(ctx))
	return f.Answers(ctx, placeText(place))
}

// OwnAnswers checks the answers that a delivery has of its own, and returns them as JSON by key.
func (f *Fleet) OwnAnswers(ctx context.Context, values map[string]any) (map[string]string, error) {
	read, err := answers.Read(values)
	if err != nil {
		return nil, err
	}
	own := map[string]string{}
	for key, v := range read {
		switch {
		case v == "":
			return nil, fault.Invalid.Errorf("%s is empty; a delivery cannot unset it", key)
		case key == "computer_name":
			return nil, fault.Invalid.Errorf("a computer_name belongs to one workstation; set it there")
		case answers.Find(key).Secret:
			return nil, fault.Invalid.Errorf("%s is a secret, and a delivery does not keep any; set it on the service, a group or a workstation", key)
		}
		own[key] = string(v)
	}
	return own, f.maySet(ctx, records.AnswerPlace{Kind: records.OfDelivery}, read)
}

func ofDelivery(own map[string]string) (rows []records.Answer) {
	for key, v := range own {
		rows = append(rows, records.Answer{AnswerPlace: records.AnswerPlace{Kind: records.OfDelivery}, Key: key, Value: v})
	}
	return rows
}

// checkPlace refuses who has no right to set answers in a place.
func (f *Fleet) checkPlace(ctx context.Context, p records.AnswerPlace) error {
	switch p.Kind {
	case "group":
		return rights.CheckGroup(ctx, p.Name)
	case "image":
		return rights.CheckImage(ctx, rights.Answer, p.Name)
	case "workstation":
		w, err := f.Records.FindWorkstation(ctx, p.Name)
		if err != nil {
			return err
		}
		return rights.Check(ctx, w.Label(), w.Groups())
	}
	return rights.CheckEverything(ctx, rights.Answer)
}

// maySet refuses values that make no sense in a place, or name what the service does not have.
func (f *Fleet) maySet(ctx context.Context, place records.AnswerPlace, values map[string]answers.Value) error {
	name, domain, payloads := values["computer_name"], values["domain"], values["payloads"]
	if name != "" && !name.IsQuestion() && place.Kind != "workstation" {
		return fault.Invalid.Errorf("a computer_name belongs to one workstation; set on %s, it would be there many times", place.Words())
	}
	if domain.IsQuestion() {
		return fault.Invalid.Errorf("domain: this cannot be asked at a workstation, as a computer joins before its disk is written")
	}
	if domain != "" {
		if _, err := f.Records.Domain(ctx, strings.Trim(string(domain), `"`)); err != nil {
			return fault.Invalid.Errorf("domain: %w; enter it with jugate domain add", err)
		}
	}
	if payloads != "" {
		if _, err := f.payloadsOf(ctx, []answers.Resolved{{Key: "payloads", Value: payloads}}); err != nil {
			return fault.Invalid.Mark(err)
		}
	}
	return nil
}

// payloadsOf are the payloads that answers name.
func (f *Fleet) payloadsOf(ctx context.Context, resolved []answers.Resolved) (all []api.ToPayload, err error) {
	settings, _, err := answers.SettingsOf(slices.DeleteFunc(slices.Clone(resolved), func(r answers.Resolved) bool { return r.Key != "payloads" }))
	if err != nil {
		return nil, err
	}
	for _, p := range settings.Payloads {
		row, err := f.Records.Payload(ctx, p.Name)
		if err != nil {
			return nil, fault.Conflict.Errorf("payloads: %w; jugate payload add takes one", err)
		}
		all = append(all, api.ToPayload{Name: row.Name, Digest: row.Digest, Size: row.Size})
	}
	return all, nil
}

// Answers lists what is set, everywhere or in one place.
func (f *Fleet) Answers(ctx context.Context, of string) ([]api.Answer, error) {
	var in *records.AnswerPlace
	if of != "" {
		place, err := f.placeOf(ctx, of)
		if err != nil {
			return nil, err
		}
		in = &place
	}
	rows, err := f.Records.Answers(ctx, in)
	if err != nil {
		return nil, err
	}
	out := []api.Answer{}
	for _, r := range rows {
		value, secret := shown(r.Key, answers.Value(r.Value))
		out = append(out, api.Answer{Of: placeText(r.AnswerPlace), Key: r.Key, Value: value, Secret: secret})
	}
	return out, nil
}

// shown is a value for people.
func shown(key string, v answers.Value) (value any, secret bool) {
	if k := answers.Find(key); k == nil || k.Secret {
		return v.Show(key), true
	}
	if err := json.Unmarshal([]byte(v), &value); err != nil {
		return "(cannot be read)", false
	}
	return value, false
}

// resolve puts together what is set for a workstation, with the secrets open, and its name. Without
// anything set it is nil.
func (f *Fleet) resolve(rows []records.Answer, w records.Workstation, image string) ([]answers.Resolved, error) {
	resolved, err := f.inherit(rows, w, image)
	if resolved == nil || err != nil {
		return nil, err
	}
	err = namedInTime(resolved)
	if err != nil || slices.ContainsFunc(resolved, func(r answers.Resolved) bool { return r.Key == "computer_name" }) {
		return resolved, err
	}
	name, err := answers.Parse("computer_name", w.Name)
	if err != nil {
		return nil, fault.Conflict.Errorf("the name of %s cannot be that of a computer, so computer_name has to be set: %w", w.Name, err)
	}
	return append([]answers.Resolved{{Key: "computer_name", Value: name, From: "its name in the roster"}}, resolved...), nil
}

// inherit puts together what is set for a workstation, with the secrets open. Without anything set it is nil.
func (f *Fleet) inherit(rows []records.Answer, w records.Workstation, image string) ([]answers.Resolved, error) {
	layers := map[records.AnswerPlace]*answers.Layer{}
	var order []records.AnswerPlace
	for _, r := range rows {
		rank, counts := rankOf(w, image, r.AnswerPlace)
		if !counts {
			continue
		}
		if layers[r.AnswerPlace] == nil {
			layers[r.AnswerPlace] = &answers.Layer{Of: r.Words(), Rank: rank, Values: map[string]answers.Value{}}
			order = append(order, r.AnswerPlace)
		}
		value, err := f.Secrets.Unseal(r.Key, r.Value)
		if err != nil {
			return nil, fault.Conflict.Errorf("%s, set on %s: %w", r.Key, r.Words(), err)
		}
		layers[r.AnswerPlace].Values[r.Key] = answers.Value(value)
	}
	if order == nil {
		return nil, nil
	}
	var all []answers.Layer
	for _, p := range order {
		all = append(all, *layers[p])
	}
	return answers.Resolve(all)
}

// Keyboard is the layout in which people type at a workstation; empty if nothing is set.
func (f *Fleet) Keyboard(ctx context.Context, w records.Workstation) (string, error) {
	rows, err := f.Records.AnswersFor(ctx, w.ID)
	if err != nil {
		return "", err
	}
	resolved, err := f.inherit(slices.DeleteFunc(rows, func(r records.Answer) bool { return r.Key != "keyboard" }), w, "")
	if errors.Is(err, fault.Conflict) { // which a delivery would say
		return "", nil
	}
	for _, r := range resolved {
		if r.Key == "keyboard" {
			return r.Value.Show("keyboard"), err
		}
	}
	return "", err
}

// rankOf tells how particular a place is for a workstation, and whether it counts at all.
func rankOf(w records.Workstation, image string, p records.AnswerPlace) (answers.Rank, bool) {
	switch p.Kind {
	case "service":
		return answers.OfService, true
	case "image":
		return answers.OfImage, image != "" && strings.EqualFold(p.Name, image)
	case "model":
		return answers.OfModel, strings.EqualFold(p.Name, w.MakerAndModel()) || strings.EqualFold(p.Name, w.Model)
	case "group":
		return answers.OfGroup, slices.ContainsFunc(w.Groups(), func(g string) bool { return strings.EqualFold(g, p.Name) })
	}
	if p.Kind == records.OfDelivery {
		return answers.OfDelivery, true
	}
	return answers.OfWorkstation, p.Name != "" && strings.EqualFold(p.Name, w.Name)
}

// Resolved tells the answers that count for a workstation and an image; image may be empty.
func (f *Fleet) Resolved(ctx context.Context, ref, image string) (api.ResolvedAnswers, error) {
	w, err := f.Records.FindWorkstation(ctx, ref)
	if err != nil {
		return api.ResolvedAnswers{}, err
	}
	out := api.ResolvedAnswers{Workstation: w.Label(), Answers: []api.ResolvedAnswer{}, Problems: []string{}}
	rows, err := f.Records.AnswersFor(ctx, w.ID)
	if err != nil {
		return out, err
	}
	resolved, err := f.resolve(rows, *w, imageName(image))
	if errors.Is(err, fault.Conflict) {
		out.Problems = append(out.Problems, err.Error())
	} else if err != nil {
		return out, err
	}
	how := map[int64]answers.Verdict{}
	if err := f.judgeJoins(ctx, how, []joining{joinOf(w.ID, resolved)}); err != nil {
		return out, err
	}
	if problem := cmp.Or(how[w.ID].Problem, how[w.ID].Away); problem != "" {
		out.Problems = append(out.Problems, problem)
	}
	for _, r := range resolved {
		value, secret := shown(r.Key, r.Value)
		out.Answers = append(out.Answers, api.ResolvedAnswer{Key: r.Key, Value: value, Secret: secret, Set: r.From, Hides: append([]string{}, r.Hides...)})
	}
	return out, nil
}

// imageName is the name in NAME@VERSION.
func imageName(ref string) string {
	name, _, _ := strings.Cut(ref, "@")
	return name
}

// ToAnswer is what the agent of a workstation carries out on its copy of a version; nil if
// nothing is set for it. A fault.Conflict says what contradicts itself or is missing, and
// join.ErrAway that its domain does not answer; with goOn it joins none then. The workstation's
// place in its domain is made by this.
func (f *Fleet) ToAnswer(ctx context.Context, w records.Workstation, v *records.Version, own map[string]string, goOn bool) (*api.ToAnswer, error) {
	rows, err := f.Records.AnswersFor(ctx, w.ID)
	if err != nil {
		return nil, err
	}
	rows = append(rows, ofDelivery(own)...)
	resolved, err := f.resolve(rows, w, v.Image)
	if resolved == nil || err != nil {
		return nil, err
	}
	system := f.Systems.Answerable(ctx, v)
	switch {
	case system.None != "":
		return nil, nil // the plan has said so
	case system.Broken != "":
		return nil, fault.Conflict.Errorf("%s: %s", v.Ref(), system.Broken)
	}
	to := &api.ToAnswer{Partition: system.Partition, Arch: system.Windows, Values: map[string]string{}}
	for _, r := range resolved {
		to.Values[r.Key] = string(r.Value)
	}
	if to.Payloads, err = f.payloadsOf(ctx, resolved); err != nil {
		return nil, err
	}
	if j := joinOf(w.ID, resolved); j.domain != "" {
		if to.Joined, err = f.join(ctx, j, system.Windows != ""); goOn && errors.Is(err, join.ErrAway) {
			f.Log.Warn("a copy joins no domain", "workstation", w.Name, "error", err)
			err = nil
		}
	}
	return to, err
}

// Answered tells whether every copy of an image is answered, as something is set for the image
// or for all workstations.
func (f *Fleet) Answered(ctx context.Context, image string) (bool, error) {
	rows, err := f.Records.Answers(ctx, nil)
	return slices.ContainsFunc(rows, func(r records.Answer) bool {
		return r.Kind == "service" || r.Kind == "image" && strings.EqualFold(r.Name, image)
	}), err
}

// HowAnswered tells by number how workstations would be answered by a delivery of a version.
// Those that nothing is set for are left out.
func (f *Fleet) HowAnswered(ctx context.Context, all []records.Workstation, v *records.Version, own map[string]string) (map[int64]answers.Verdict, error) {
	return f.howAnswered(ctx, all, v.Image, v.Ref().String(), own, f.Systems.Answerable(ctx, v))
}

func (f *Fleet) howAnswered(ctx context.Context, all []records.Workstation, image, ref string, own map[string]string, system answers.Target) (map[int64]answers.Verdict, error) {
	rows, err := f.Records.Answers(ctx, nil)
	if rows = append(rows, ofDelivery(own)...); err != nil || len(rows) == 0 {
		return nil, err
	}
	var common []records.Answer
	byName := map[string][]records.Answer{} // of workstations, in small letters
	for _, r := range rows {
		if r.Kind == "workstation" {
			byName[strings.ToLower(r.Name)] = append(byName[strings.ToLower(r.Name)], r)
		} else {
			common = append(common, r)
		}
	}
	how := map[int64]answers.Verdict{}
	var joins []joining
	for _, w := range all {
		resolved, err := f.resolve(slices.Concat(common, byName[strings.ToLower(w.Name)]), w, image)
		switch {
		case errors.Is(err, fault.Conflict):
			how[w.ID] = answers.Verdict{Problem: err.Error()}
		case err != nil:
			return nil, err
		case resolved != nil && system.None != "":
			how[w.ID] = answers.Verdict{Remark: "its answers are not carried out: " + system.None}
		case resolved != nil && system.Broken != "":
			how[w.ID] = answers.Verdict{Problem: "answers cannot be merged with what " + ref + " has: " + system.Broken}
		case resolved != nil:
			v := answers.Verdict{Answered: true, Remark: whatIsAsked(resolved)}
			payloads, err := f.payloadsOf(ctx, resolved)
			if err != nil {
				v.Problem = err.Error()
			}
			for _, p := range payloads {
				v.Payloads = append(v.Payloads, p.Name)
			}
			how[w.ID] = v
			joins = append(joins, joinOf(w.ID, resolved))
		}
	}
	return how, f.judgeJoins(ctx, how, joins)
}

// CheckAnswers tells for which workstations answers contradict each other or cannot be carried out: of
// those that names and a condition mean, or of the whole roster; image may be empty.
func (f *Fleet) CheckAnswers(ctx context.Context, names []string, where, image string) (api.AnswersCheck, error) {
	out := api.AnswersCheck{InDoubt: []api.AnswersProblem{}}
	if len(names) == 0 && where == "" {
		where = "true"
	}
	all, err := f.Choose(ctx, names, where)
	if err != nil {
		return out, err
	}
	out.Checked = len(all)
	var how map[int64]answers.Verdict
	if image == "" {
		how, err = f.howAnswered(ctx, all, "", "", nil, answers.Target{})
	} else if v, missing := f.version(ctx, image); missing != nil {
		err = missing
	} else {
		how, err = f.HowAnswered(ctx, all, v, nil)
	}
	if err != nil {
		return out, err
	}
	for _, w := range all {
		if problem := cmp.Or(how[w.ID].Problem, how[w.ID].Away); problem != "" {
			out.InDoubt = append(out.InDoubt, api.AnswersProblem{Workstation: w.Label(), Problem: problem})
		}
	}
	return out, nil
}

func (f *Fleet) version(ctx context.Context, image string) (*records.Version, error) {
	ref, err := roster.ParseRef(image)
	if err != nil {
		return nil, err
	}
	return f.Records.Version(ctx, ref)
}
