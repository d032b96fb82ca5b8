package api

import "time"

// Setting is a setting of the service, as it is in force.
type Setting struct {
	Name    string     `json:"setting" example:"unknown"`
	Values  []string   `json:"is" nullable:"false" doc:"One value, or several of a list"`
	From    string     `json:"from" doc:"A flag, a variable of the environment, a file, default, or service: it was set while the service ran" example:"service"`
	Live    bool       `json:"live" doc:"It can be set while the service runs"`
	What    string     `json:"what" doc:"What it says"`
	By      string     `json:"by,omitempty" doc:"Who has set it while the service ran"`
	At      *time.Time `json:"at,omitempty" doc:"When"`
	Instead []string   `json:"instead,omitempty" doc:"What would be in force if it had not been set while the service ran"`
}

// SettingValues is what a setting is to be.
type SettingValues struct {
	Values []string `json:"is" nullable:"false" maxItems:"100" maxLength:"1000" doc:"One value, or several of a list; none for an empty list" example:"[\"welcome\"]"`
}

// SettingsChanged says that settings have changed.
type SettingsChanged struct{}
