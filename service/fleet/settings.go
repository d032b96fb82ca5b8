package fleet

import (
	"context"

	"jugate/core/answers"
	"jugate/core/fault"
	"jugate/records"
)

// Settings are the answers of a workstation, with the secrets open, for what is not an image. What is to be asked at the workstation
// has its default. The name of the computer is the workstation's, if nothing else is set.
func (f *Fleet) Settings(ctx context.Context, w records.Workstation) (*answers.Settings, error) {
	rows, err := f.Records.AnswersFor(ctx, w.ID)
	if err != nil {
		return nil, err
	}
	resolved, err := f.inherit(rows, w, "")
	if err == nil {
		err = namedInTime(resolved)
	}
	if err != nil {
		return nil, err
	}
	s, _, err := answers.SettingsOf(resolved)
	if err != nil {
		return nil, fault.Conflict.Mark(err)
	}
	if s.ComputerName == "" && w.Name != "" {
		if _, err := answers.Parse("computer_name", w.Name); err == nil {
			s.ComputerName = w.Name
		}
	}
	return s, nil
}
