package api

// Model is what is known of the machines of one model.
type Model struct {
	Model    string            `json:"model" doc:"Maker and model" example:"Alder Works A310"`
	BootKey  string            `json:"boot_key" doc:"What is pressed to have it boot over the network"`
	SetupKey string            `json:"setup_key" doc:"What is pressed to get into its firmware"`
	Adapter  string            `json:"needs_adapter" doc:"The network adapter that it needs, and where that goes"`
	Firmware string            `json:"wanted_firmware" doc:"The version that its machines are to have; empty if any will do"`
	Settings map[string]string `json:"wanted_settings" nullable:"false" doc:"Settings of the firmware that its machines are to have"`
	Note     string            `json:"note"`
	Machines int               `json:"machine_count" doc:"In the roster, and newcomers"`
	Unfit    int               `json:"unfit_count" doc:"How many of them are not fit, by their last checks"`

	Versions  []FirmwareSeen `json:"firmware_seen,omitempty" nullable:"false" doc:"Versions of the firmware that its machines have; told for a single model"`
	Different []NotAsWanted  `json:"not_as_wanted,omitempty" nullable:"false" doc:"Machines whose firmware is not as it should be, the first hundred; told for a single model"`
	More      int            `json:"more_not_as_wanted,omitempty" doc:"How many there are beyond those"`
}

// FirmwareSeen is a version of the firmware, and how many machines have it.
type FirmwareSeen struct {
	Version string `json:"firmware_version" doc:"Empty for machines that were not seen, or do not tell"`
	Count   int    `json:"machine_count"`
}

// NotAsWanted is a machine whose firmware is not as it should be.
type NotAsWanted struct {
	Workstation string   `json:"workstation"`
	What        []string `json:"differences" nullable:"false" doc:"In words"`
}

// NewModel says what is known of a model. It replaces what was said before.
type NewModel struct {
	Model    string            `json:"model" minLength:"1" maxLength:"400" doc:"Maker and model" example:"Alder Works A310"`
	BootKey  string            `json:"boot_key,omitempty" maxLength:"100" doc:"What is pressed to have it boot over the network" example:"F12"`
	SetupKey string            `json:"setup_key,omitempty" maxLength:"100" doc:"What is pressed to get into its firmware" example:"F2"`
	Adapter  string            `json:"needs_adapter,omitempty" maxLength:"300" doc:"The network adapter that it needs, and where that goes" example:"USB-C adapter, in the left port"`
	Firmware string            `json:"wanted_firmware,omitempty" maxLength:"200" doc:"The version that its machines are to have" example:"1.14.2"`
	Settings map[string]string `json:"wanted_settings,omitempty" nullable:"false" doc:"Settings of the firmware that its machines are to have, by the names that it tells" example:"{\"Secure Boot\":\"Enabled\"}"`
	Note     string            `json:"note,omitempty" maxLength:"10000" doc:"What else there is to know" example:"The card needs the lid open."`
}
