// Package settings has the settings of the service, and those of them that are changed while it runs: how network boot is answered
// on which interface, what becomes of machines that nobody has admitted, rates, and how long something is waited for or kept.
//
// A setting comes from a flag, the environment or the configuration file, as the program was started; that is Base. One that is set
// while the service runs counts before those until it is unset, and is on record. Rooms ask for what is in force when they need it,
// by the methods in inforce.go; what has to be done at once when one changes, such as opening sockets, does Apply.
//
// values.go says which settings those are, and how each is read.
package settings

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/records"
)

// Service is where a setting comes from that was set while the service ran.
const Service = "service"

// Base is what a program was started with.
type Base struct {
	Values Values
	// All are all settings, with where each comes from; those that are not among Values need a restart.
	All []api.Setting
}

// Settings are the settings of a running service. Its fields are set before Load.
type Settings struct {
	Records *records.DB
	Apply   func(before, now Values) error // has what changed take effect; if it cannot, all has to be as it was
	Log     *slog.Logger
	Now     func() time.Time
	Publish func(event any)

	changing sync.Mutex // one change at a time; held across Apply and the records, and before mu

	mu   sync.Mutex
	base Base
	set  map[string]records.Setting
	now  Values
}

// Load takes what the program was started with, and what was set while it ran before. What is on record and makes no sense any more
// is left out, and said.
func (s *Settings) Load(ctx context.Context, base Base) error {
	rows, err := s.Records.Settings(ctx)
	if err != nil {
		return err
	}
	set := map[string]records.Setting{}
	now := base.Values
	for _, r := range rows {
		v, err := now.with(r.Name, r.Values)
		if err != nil {
			s.Log.Error("a setting of before does not count any more; jugate config set says what it is to be", "setting", r.Name, "error", err)
			continue
		}
		now, set[r.Name] = v, r
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.base, s.set, s.now = base, set, now
	return nil
}

// List are all settings, by name.
func (s *Settings) List() []api.Setting {
	s.mu.Lock()
	defer s.mu.Unlock()
	all := []api.Setting{}
	for _, one := range s.base.All {
		all = append(all, s.show(one))
	}
	for _, d := range live { // a service that was started by a program, and not by the command
		if !slices.ContainsFunc(all, func(one api.Setting) bool { return one.Name == d.name }) {
			all = append(all, s.show(api.Setting{Name: d.name, From: "default"}))
		}
	}
	slices.SortFunc(all, func(a, b api.Setting) int { return strings.Compare(a.Name, b.Name) })
	return all
}

// show is a setting as it is in force. The caller holds mu.
func (s *Settings) show(one api.Setting) api.Setting {
	d, err := define(one.Name)
	if err != nil {
		return one
	}
	one.Live, one.Values, one.What = true, d.write(s.now), d.what
	if r, is := s.set[one.Name]; is {
		one.From, one.By, one.At, one.Instead = Service, r.By, &r.At, d.write(s.base.Values)
	}
	return one
}

// Get is one setting.
func (s *Settings) Get(name string) (api.Setting, error) {
	for _, one := range s.List() {
		if one.Name == name {
			return one, nil
		}
	}
	return api.Setting{}, fault.NotFound.Errorf("%q is not a setting", name)
}

// Set sets a setting; it takes effect before Set returns.
func (s *Settings) Set(ctx context.Context, name string, values []string) (api.Setting, error) {
	by := actor.From(ctx)
	r := records.Setting{Name: name, Values: values, By: by.String(), At: s.Now()}
	return s.change(name, func(set map[string]records.Setting) { set[name] = r }, func() error { return s.Records.PutSetting(ctx, r) })
}

// Unset has a setting be what the program was started with.
func (s *Settings) Unset(ctx context.Context, name string) (api.Setting, error) {
	s.mu.Lock()
	_, is := s.set[name]
	s.mu.Unlock()
	if !is {
		if _, err := s.Get(name); err != nil {
			return api.Setting{}, err
		}
		return api.Setting{}, fault.Conflict.Errorf("%s was not set while the service ran", name)
	}
	return s.change(name, func(set map[string]records.Setting) { delete(set, name) }, func() error { return s.Records.RemoveSetting(ctx, name) })
}

// change has another set of settings take effect, and then keeps it.
func (s *Settings) change(name string, edit func(map[string]records.Setting), keep func() error) (api.Setting, error) {
	if _, err := define(name); err != nil {
		return api.Setting{}, s.notLive(name, err)
	}
	s.changing.Lock()
	defer s.changing.Unlock()
	s.mu.Lock()
	base, set, before := s.base, maps.Clone(s.set), s.now
	s.mu.Unlock()
	edit(set)
	now, err := over(base.Values, set)
	if err != nil {
		return api.Setting{}, err
	}
	if err := s.take(before, now, keep); err != nil {
		return api.Setting{}, fmt.Errorf("%s stays as it is: %w", name, err)
	}
	s.mu.Lock()
	s.set = set
	s.mu.Unlock()
	s.Publish(api.SettingsChanged{})
	return s.Get(name)
}

// notLive says why a setting cannot be changed.
func (s *Settings) notLive(name string, err error) error {
	if one, missing := s.Get(name); missing == nil && !one.Live {
		return fault.Conflict.Errorf("%s takes effect when the service is started; set it in the configuration file, and start the service again", name)
	}
	return err
}

// over are the values of a program with what was set while it ran.
func over(v Values, set map[string]records.Setting) (Values, error) {
	for _, name := range slices.Sorted(maps.Keys(set)) {
		var err error
		if v, err = v.with(name, set[name].Values); err != nil {
			return v, err
		}
	}
	return v, nil
}

// take has values take effect, and keeps them; if they cannot be kept, those of before are in force again.
func (s *Settings) take(before, now Values, keep func() error) error {
	put := func(v Values) {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.now = v
	}
	put(now)
	if err := s.Apply(before, now); err != nil {
		put(before)
		return err
	}
	if err := keep(); err != nil {
		put(before)
		if back := s.Apply(now, before); back != nil {
			s.Log.Error("the settings of before could not be brought back", "error", back)
		}
		return err
	}
	return nil
}

// Reload takes what a program would be started with now. It tells which settings were changed that need a restart.
func (s *Settings) Reload(base Base) (restart []string, err error) {
	s.changing.Lock()
	defer s.changing.Unlock()
	s.mu.Lock()
	before, old, set := s.now, s.base, s.set
	s.mu.Unlock()
	now, err := over(base.Values, set)
	if err != nil {
		return nil, err
	}
	if err := s.take(before, now, func() error { return nil }); err != nil {
		return nil, err
	}
	for i, one := range base.All {
		if _, err := define(one.Name); err == nil {
			continue
		}
		at := slices.IndexFunc(old.All, func(o api.Setting) bool { return o.Name == one.Name })
		if at >= 0 && slices.Equal(old.All[at].Values, one.Values) {
			continue
		}
		restart = append(restart, one.Name)
		if at >= 0 {
			base.All[i] = old.All[at] // it is in force until then
		}
	}
	s.mu.Lock()
	s.base = base
	s.mu.Unlock()
	s.Publish(api.SettingsChanged{})
	return restart, nil
}
