package api

// What GET /events tells, beside workstations, errands, versions, deliveries and
// receipts as they are then.

// Hello is the first event of a stream, so that a listener knows that it stands.
type Hello struct {
	Version string `json:"version"`
}

// Resync tells a listener that it has missed something, and has to fetch afresh what it
// shows.
type Resync struct {
	Missed int `json:"missed" doc:"How many events; 0 if nobody knows"`
}

// BootStepped says that a machine has taken a step of its boot; without an address, that
// something else about network boot has changed.
type BootStepped struct {
	Address string `json:"hardware_address"`
}

// SitesChanged says that an outpost has come or gone.
type SitesChanged struct{}

// DriversChanged says that the library or a set has changed.
type DriversChanged struct{}

// BootEntriesChanged says that a boot entry, or what workstations are to boot, has changed.
type BootEntriesChanged struct{}

// DeliveryMoved tells what is new of one delivery, beside the delivery itself. It goes to
// those alone who have asked for that delivery.
type DeliveryMoved struct {
	Delivery int64            `json:"delivery"`
	Members  []Member         `json:"members,omitempty" nullable:"false" doc:"Workstations that something is new of"`
	Changes  []DeliveryChange `json:"changes,omitempty" nullable:"false" doc:"What was done to it since"`
}
