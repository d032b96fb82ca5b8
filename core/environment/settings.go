// Package environment has what the boot environment tells the agent that runs in it.
// How builds of it are made, package builds knows; the agent does not link that.
package environment

// Settings is what the settings layer tells the agent, in the file SettingsFile.
// The kernel's command line goes before.
type Settings struct {
	Service string        `json:"service,omitempty"` // URL
	Key     string        `json:"key,omitempty"`     // instead of a boot ticket: of media
	Network *FixedNetwork `json:"network,omitempty"`
	Shell   bool          `json:"shell,omitempty"`
}

// FixedNetwork is what to fall back to where no server gives an address.
type FixedNetwork struct {
	Address string `json:"address"` // with the prefix's length
	Gateway string `json:"gateway,omitempty"`
}

// Where the agent finds its things.
const (
	SettingsFile    = "etc/jugate/settings.json"
	CertificateFile = "etc/jugate/service.pem"
)
