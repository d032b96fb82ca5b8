package service

import (
	"reflect"
	"slices"

	"jugate/service/settings"
)

// SettingText says what a setting says that can be set while the service runs.
func SettingText(name string) string { return settings.What(name) }

// bootAs tells network boot what it is to serve when it starts. An interface that was chosen while the service ran, and that cannot be
// served, says so: the service has to run for anybody to choose otherwise. So do all where nobody types commands.
func (s *Service) bootAs(v settings.Values) {
	c := &s.boot.Config
	c.Interfaces, c.Pools, c.Force = v.Interfaces, v.Pools, v.Force
	c.Lenient = s.config.Netboot.Lenient || !slices.Equal(v.Interfaces, s.config.Netboot.Interfaces)
}

// apply has settings take effect that were changed while the service runs. Rooms ask for the others when they need them.
func (s *Service) apply(before, now settings.Values) error {
	if slices.Equal(before.Interfaces, now.Interfaces) && reflect.DeepEqual(before.Pools, now.Pools) && before.Force == now.Force {
		return nil
	}
	return s.boot.Change(now.Interfaces, now.Pools, now.Force)
}

// Reload takes the settings that the service would be started with now. It tells which were changed that need a restart.
func (s *Service) Reload(c Config) (restart []string, err error) {
	c.setDefaults()
	return s.settings.Reload(c.base())
}
