package fleet

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"jugate/api"
	"jugate/core/fault"
	"jugate/records"
)

const (
	// differentAtMost is how many machines are named whose firmware is not as it should be.
	differentAtMost = 100
	// settingsAtMost bounds how many settings are wanted of a model, and settingAtMost how long each name and value is, in bytes.
	settingsAtMost, settingAtMost = 200, 500
)

// Models lists the models of all machines, and those of which something is known.
func (f *Fleet) Models(ctx context.Context) ([]api.Model, error) {
	rows, err := f.Records.Models(ctx)
	all := make([]api.Model, len(rows))
	for i, m := range rows {
		if all[i], err = modelOf(m); err != nil {
			return nil, err
		}
	}
	return all, err
}

func modelOf(m records.Model) (api.Model, error) {
	settings, err := m.Wanted()
	return api.Model{Model: m.Name, BootKey: m.BootKey, SetupKey: m.SetupKey, Adapter: m.Adapter, Firmware: m.Firmware, Settings: settings, Note: m.Note, Machines: m.Machines, Unfit: m.Unfit}, err
}

// Model tells of one model, with the machines whose firmware is not as it should be.
func (f *Fleet) Model(ctx context.Context, name string) (out api.Model, err error) {
	all, err := f.Models(ctx)
	if err != nil {
		return out, err
	}
	i := slices.IndexFunc(all, func(m api.Model) bool { return strings.EqualFold(m.Model, name) })
	if i < 0 {
		return out, fault.NotFound.Errorf("no machine of the model %q was seen, and nothing is known of it", name)
	}
	out = all[i]
	machines, err := f.Records.FirmwareOf(ctx, out.Model)
	if err != nil {
		return out, err
	}
	versions := map[string]int{}
	out.Different = []api.NotAsWanted{}
	for _, m := range machines {
		versions[m.Firmware]++
		what, err := differences(out, m)
		if err != nil {
			return out, err
		}
		switch {
		case len(what) == 0:
		case len(out.Different) < differentAtMost:
			out.Different = append(out.Different, api.NotAsWanted{Workstation: m.Label, What: what})
		default:
			out.More++
		}
	}
	out.Versions = []api.FirmwareSeen{}
	for _, v := range slices.Sorted(maps.Keys(versions)) {
		out.Versions = append(out.Versions, api.FirmwareSeen{Version: v, Count: versions[v]})
	}
	return out, nil
}

// differences are what a machine's firmware has otherwise than it should, in words. Of one that tells nothing nothing is said.
func differences(wanted api.Model, m records.ToldFirmware) (what []string, err error) {
	if wanted.Firmware != "" && m.Firmware != "" && m.Firmware != wanted.Firmware {
		what = append(what, fmt.Sprintf("version %s, not %s", m.Firmware, wanted.Firmware))
	}
	has, err := m.OwnSettings()
	if err != nil {
		return nil, err
	}
	for _, name := range slices.Sorted(maps.Keys(wanted.Settings)) {
		if value, told := has[name]; told && value != wanted.Settings[name] {
			what = append(what, fmt.Sprintf("%s is %s, not %s", name, value, wanted.Settings[name]))
		}
	}
	return what, nil
}

// SetModel says what is known of a model.
func (f *Fleet) SetModel(ctx context.Context, in api.NewModel) (api.Model, error) {
	name := strings.Join(strings.Fields(in.Model), " ")
	if name == "" {
		return api.Model{}, fault.Invalid.Errorf("say which model: maker and model, such as Alder Works A310")
	}
	if len(in.Settings) > settingsAtMost {
		return api.Model{}, fault.Invalid.Errorf("%d settings are too many; %d can be wanted", len(in.Settings), settingsAtMost)
	}
	for key, value := range in.Settings {
		if key == "" || len(key) > settingAtMost || len(value) > settingAtMost {
			return api.Model{}, fault.Invalid.Errorf("a setting has a name, and neither that nor its value is longer than %d bytes", settingAtMost)
		}
	}
	row := records.Model{Name: name, BootKey: in.BootKey, SetupKey: in.SetupKey, Adapter: in.Adapter, Firmware: in.Firmware, Note: in.Note}
	if err := f.Records.PutModel(ctx, row, in.Settings); err != nil {
		return api.Model{}, err
	}
	out, err := f.Model(ctx, name)
	if fault.KindOf(err) == fault.NotFound { // no machine has it, and nothing is known of it any more
		return api.Model{Model: name, Settings: map[string]string{}}, nil
	}
	return out, err
}
