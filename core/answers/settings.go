package answers

// Settings are answers in their typed form. What is not set is empty.
type Settings struct {
	ComputerName string       `json:"computer_name,omitempty"`
	Description  string       `json:"description,omitempty"`
	TimeZone     string       `json:"time_zone,omitempty"`
	Owner        string       `json:"registered_owner,omitempty"`
	Organisation string       `json:"organisation,omitempty"`
	ProductKey   string       `json:"product_key,omitempty"`
	Locale       string       `json:"locale,omitempty"`
	Keyboard     string       `json:"keyboard,omitempty"`
	Accounts     []Account    `json:"accounts,omitempty"`
	RootSSHKeys  []string     `json:"root_ssh_keys,omitempty"`
	RemoteAccess *bool        `json:"remote_access,omitempty"`
	Network      []Connection `json:"network,omitempty"`
	Domain       string       `json:"domain,omitempty"`
	NetProfile   string       `json:"network_profile,omitempty"`
	Programs     []Program    `json:"programs,omitempty"`
	Packages     []string     `json:"packages,omitempty"`
	SkipPages    []string     `json:"skip_pages,omitempty"`
	Proxy        string       `json:"proxy,omitempty"`
	Payloads     []Payload    `json:"payloads,omitempty"`
	Files        []File       `json:"files,omitempty"`
	Commands     []string     `json:"commands,omitempty"`
	Helper       *bool        `json:"helper,omitempty"`
}

// Account is a local account.
type Account struct {
	Name           string   `json:"name"`
	FullName       string   `json:"full_name,omitempty"`
	Administrator  bool     `json:"administrator,omitempty"`
	PasswordHash   string   `json:"password_hash,omitempty"`
	Password       string   `json:"password,omitempty"`
	SSHKeys        []string `json:"ssh_keys,omitempty"`
	ChangePassword bool     `json:"change_password,omitempty"`
}

// Connection is how one network card is set up. Without addresses it asks for them.
type Connection struct {
	HardwareAddress string   `json:"hardware_address,omitempty"`
	Addresses       []string `json:"addresses,omitempty"` // with their prefix
	Gateway         string   `json:"gateway,omitempty"`
	NameServers     []string `json:"name_servers,omitempty"`
	Search          []string `json:"search,omitempty"`
}

// Program is a program that opens when somebody signs in.
type Program struct {
	Name    string `json:"name"`
	Command string `json:"command"`
}

// Payload is a file of the service's library that is brought onto the system.
type Payload struct {
	Name    string `json:"name"`
	Path    string `json:"path,omitempty"` // where to; by default a folder of Jugate's
	Install bool   `json:"install,omitempty"`
}

// File is a file that is written.
type File struct {
	Path    string `json:"path"`
	Content string `json:"content"`
	Mode    string `json:"mode,omitempty"` // octal
}
