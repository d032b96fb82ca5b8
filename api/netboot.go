package api

import "time"

// NetbootStatus is how network boot stands.
type NetbootStatus struct {
	Links    []NetbootLink `json:"links" nullable:"false"`
	Unknown  string        `json:"unknown" enum:"ignore,hold,welcome" doc:"What becomes of machines that nobody has admitted"`
	Offered  int           `json:"offered_build" doc:"The build that is offered; 0 if none is"`
	Renew    string        `json:"renew,omitempty" doc:"Why another build should be made and offered: its agent is older than the service"`
	Machines []BootTrail   `json:"machines" nullable:"false" doc:"The last steps of every machine, the latest machine first"`
}

// NetbootLink is an interface that is served.
type NetbootLink struct {
	Interface string        `json:"interface"`
	Mode      string        `json:"mode" enum:"beside,whole,off"`
	Address   string        `json:"address" doc:"The service's address there"`
	State     string        `json:"state" doc:"serving, or why not"`
	Pools     []NetbootPool `json:"pools,omitempty"`
}

// NetbootPool is a range of addresses of mode whole.
type NetbootPool struct {
	Range string `json:"range"`
	Left  int    `json:"left" doc:"Addresses that nobody has now"`
	Of    int    `json:"in_all" doc:"Addresses of the pool"`
}

// BootTrail are the last steps of one machine.
type BootTrail struct {
	Address     string     `json:"hardware_address"`
	Workstation string     `json:"workstation" doc:"Its name; empty if nobody has admitted it"`
	Steps       []BootStep `json:"steps" nullable:"false"`
	Stuck       string     `json:"stuck" doc:"What probably keeps it from getting on; empty if nothing does"`
	Model       string     `json:"model,omitempty" doc:"What its firmware or its last inventory says"`
	// Cover is set if more drivers would help: what to order of a build.
	Cover string `json:"coverable,omitempty" doc:"What to name in a build's cover, to have its devices driven"`
}

// BootStep is a station on the way from the power button to the agent.
type BootStep struct {
	At     time.Time `json:"at"`
	Step   string    `json:"step" enum:"address,loader,script,kernel,initrd,agent,entry,refused,failed"`
	Detail string    `json:"detail"`
}

// BootAdvice is what to enter into another DHCP server, for one architecture.
type BootAdvice struct {
	Interface    string       `json:"interface"`
	Architecture string       `json:"architecture"`
	When         string       `json:"when" doc:"How that server recognises such machines"`
	Options      []BootOption `json:"options" nullable:"false"`
}

// BootOption is one option and its value.
type BootOption struct {
	Number int    `json:"number" doc:"0 for a field of the header"`
	Name   string `json:"name"`
	Value  string `json:"value"`
}

// Pin has a workstation or group boot one build; 0 ends that.
type Pin struct {
	Build int `json:"build" minimum:"0" maximum:"1000000" example:"4"`
}
