package api

import "jugate/core/hwaddr"

// Carried is what media carry for an outpost that may never reach its service: what it is to hold, and what workstations
// of its deliveries get from it while the service does not answer. It is the file carried.json of its data folder.
type Carried struct {
	Work OutpostWork `json:"work"`
	// Alone means that the media serve the machine that was started from them, and no other; no network is needed.
	Alone bool `json:"alone,omitempty"`
	// Key is the digest of the key of the media, by which the machine that was started from them checks in.
	Key          string               `json:"key"`
	Workstations []CarriedWorkstation `json:"workstations"`
	Files        []CarriedFile        `json:"files"`
}

// CarriedWorkstation is a workstation of a delivery that media carry: how it is known, and what it gets.
type CarriedWorkstation struct {
	Delivery    int64            `json:"delivery"`
	Workstation int64            `json:"workstation"`
	Name        string           `json:"name"`
	Addresses   []hwaddr.Address `json:"hardware_addresses"`
	Serial      string           `json:"serial,omitempty"`
	UUID        string           `json:"uuid,omitempty"`
	Keyboard    string           `json:"keyboard,omitempty"`
	// Label names the version that it gets.
	Label string `json:"label"`
	// Pass is what it gets when it checks in, and Signed its errand, signed for that pass.
	Pass   string `json:"pass"`
	Signed string `json:"signed"`
}

// CarriedFile is a file that agents ask for, by the path below /agent/v1: of a driver package, or a payload.
type CarriedFile struct {
	Asked string      `json:"asked"`
	File  OutpostFile `json:"file"`
}
