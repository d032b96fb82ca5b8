package api

// CheckIn is the first thing an agent says.
type CheckIn struct {
	AgentVersion string    `json:"agent_version"`
	Addresses    []string  `json:"hardware_addresses" minItems:"1" maxItems:"64"`
	Inventory    Inventory `json:"inventory"`
}

// CheckedIn is the reply. Pass goes into the Authorization header of every
// further request, as a bearer token; it is good until the service restarts or
// the same workstation checks in again.
type CheckedIn struct {
	Pass  string `json:"pass"`
	Name  string `json:"name"`
	State string `json:"state" enum:"newcomer,admitted,retired"`
}

// Standing answers the question what to do. Without an errand: wait, and ask again.
type Standing struct {
	Name   string    `json:"name"`
	State  string    `json:"state" enum:"newcomer,admitted,retired"`
	Errand *ToErrand `json:"errand,omitempty"`
}

// ToErrand is an errand as the agent gets it.
type ToErrand struct {
	ID      int64      `json:"id"`
	Kind    string     `json:"kind" enum:"capture,receive"`
	Image   string     `json:"image"`
	Capture *ToCapture `json:"capture,omitempty"`
	Receive *ToReceive `json:"receive,omitempty"`
}

// ToCapture is how an agent captures.
type ToCapture struct {
	CaptureOptions
	IdentityFiles []string `json:"identity_files,omitempty" doc:"Patterns of files that tell one machine from another; none takes the usual ones"`
}

// ToReceive is what an agent needs to take part in a delivery.
type ToReceive struct {
	Delivery int64  `json:"delivery"`
	Version  int    `json:"version"`
	Digest   string `json:"digest" doc:"BLAKE3-256 of the manifest"`
	Channel  string `json:"channel" doc:"Multicast address and port"`
	Session  uint32 `json:"session"`
	Label    string `json:"label" doc:"Names the image to whoever looks at an unfinished disk"`
	RestoreOptions
}

// Activity tells what the agent is doing, in words, and how far it is.
type Activity struct {
	Text     string `json:"text" maxLength:"500"`
	Done     int64  `json:"done"`
	Total    int64  `json:"total"`
	NewSlabs int    `json:"new_slabs"`
}

// Digests are names of slabs.
type Digests struct {
	Digests []string `json:"digests" nullable:"false" maxItems:"4096"`
}

// Committed is the version that a capture became.
type Committed struct {
	Image   string `json:"image"`
	Version int    `json:"version"`
	Digest  string `json:"digest"`
}

// Failure ends an errand that could not be done.
type Failure struct {
	Error string `json:"error" maxLength:"4000"`
}

// Progress is what a workstation of a delivery reports, at least every few
// seconds. Counts are bytes.
type Progress struct {
	Phase     string `json:"phase" enum:"ready,receiving,mending,checking,ended"`
	Done      int64  `json:"done"`
	Total     int64  `json:"total"`
	Multicast int64  `json:"bytes_multicast"`
	Unicast   int64  `json:"bytes_unicast"`
	Verified  bool   `json:"verified" doc:"With ended: the whole disk was read back and is right"`
	Error     string `json:"error,omitempty" maxLength:"4000"`
}

// Course is the reply to a Progress: how far the delivery as a whole is. In the
// state mending nothing more comes by multicast; when it is over for this
// workstation, the agent leaves it.
type Course struct {
	State string `json:"state" enum:"gathering,sending,mending,finished,stopped"`
	Over  bool   `json:"over"`
}
