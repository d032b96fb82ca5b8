package fleet

import (
	"context"
	"fmt"
	"io/fs"
	"strings"

	"jugate/api"
	"jugate/core/answers"
	"jugate/core/fault"
)

// PreviewAnswers tells what the answers of a workstation do to the system of an image.
func (f *Fleet) PreviewAnswers(ctx context.Context, ref, image string) (api.AnswersPreview, error) {
	w, err := f.Records.FindWorkstation(ctx, ref)
	if err != nil {
		return api.AnswersPreview{}, err
	}
	rows, err := f.Records.AnswersFor(ctx, w.ID)
	if err != nil {
		return api.AnswersPreview{}, err
	}
	resolved, err := f.resolve(rows, *w, imageName(image))
	if err != nil {
		return api.AnswersPreview{}, err
	}
	settings, asked, err := answers.SettingsOf(resolved)
	if err != nil {
		return api.AnswersPreview{}, err
	}
	files, windows, words, err := f.Systems.System(ctx, image)
	if err != nil {
		return api.AnswersPreview{}, err
	}
	fresh := answers.Fresh{HostKeys: func(kind string) (private, public []byte, err error) {
		return []byte("secret"), []byte("(a new " + kind + " key, made at the workstation)\n"), nil
	}, Seed: []byte("secret"), FirstCard: w.Address().String(), Today: int(f.Now().Unix() / (24 * 60 * 60))}
	if settings.Domain != "" {
		fresh.Joined = &answers.Joined{Domain: settings.Domain, Host: strings.ToLower(settings.ComputerName) + "." + settings.Domain, Blob: "bWFkZSBhdCB0aGUgZGVsaXZlcnk="}
	}
	plan, err := answers.For(files, settings, fresh, windows)
	if err != nil {
		return api.AnswersPreview{}, fault.Conflict.Mark(err)
	}
	out := api.AnswersPreview{Workstation: w.Label(), Image: image, System: words, Changes: []api.AnswersChange{}, Runs: []string{}, Remarks: append([]string{}, plan.Remarks...)}
	for _, q := range asked {
		out.Remarks = append(out.Remarks, fmt.Sprintf("%s is asked at the workstation (%s); what is shown is its default, %q", q.Key, q.Ask, q.Default))
	}
	for _, c := range plan.Changes {
		told := api.AnswersChange{Do: string(c.Do), Path: "/" + c.Path, Target: c.Target, Secret: c.Secret, Because: c.Why}
		if c.Do == answers.Write || c.Do == answers.Folder {
			told.Mode = fmt.Sprintf("%04o", c.Mode)
		}
		if c.UID != 0 || c.GID != 0 {
			told.Owner = fmt.Sprintf("%d:%d", c.UID, c.GID)
		}
		if !c.Secret && c.Do == answers.Write {
			told.After = string(c.Content)
			if before, err := fs.ReadFile(files, c.Path); err == nil {
				told.Before = strings.ToValidUTF8(string(before), "?")
			}
		}
		out.Changes = append(out.Changes, told)
	}
	for _, p := range plan.Payloads {
		out.Changes = append(out.Changes, api.AnswersChange{Do: string(answers.Write), Path: "/" + p.Path, Mode: "0644", Because: "the payload " + p.Name})
	}
	for _, argv := range plan.Runs {
		out.Runs = append(out.Runs, strings.Join(argv, " "))
	}
	return out, nil
}
