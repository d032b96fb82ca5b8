package api

import (
	"net/netip"
	"time"

	"jugate/core/delivery"
	"jugate/core/hwaddr"
	"jugate/core/netboot"
	"jugate/core/parcel"
	"jugate/core/slabstore"
)

// Outpost is a program at another site that answers network boot there for the service, and holds what its machines need.
type Outpost struct {
	Name    string     `json:"outpost" example:"alpine"`
	Note    string     `json:"note"`
	State   string     `json:"state" enum:"expected,up,away,withdrawn"`
	OnMedia bool       `json:"on_media" doc:"It is a workstation that was started from media, and comes and goes"`
	Added   time.Time  `json:"added"`
	Joined  *time.Time `json:"joined,omitempty"`
	Seen    *time.Time `json:"last_seen,omitempty"`
	Until   *time.Time `json:"certificate_until,omitempty" doc:"It renews its certificate long before"`
	Callers int        `json:"workstation_count" doc:"How many called by it last"`
	OutpostSettings
	Placements []Placement `json:"placements,omitempty" nullable:"false" doc:"What it is to hold ahead of time; told for a single outpost"`
	OutpostTells
}

// OutpostSettings are how the line of an outpost may be used.
type OutpostSettings struct {
	LineRate int64  `json:"line_rate" doc:"Bits a second that may come over its line; 0 sets no bound" minimum:"0" maximum:"1000000000000" example:"20000000"`
	Hours    string `json:"ahead_hours" doc:"When versions come ahead of time, by the clock of its place; empty for always" pattern:"^(([01][0-9]|2[0-3]):[0-5][0-9]-([01][0-9]|2[0-3]):[0-5][0-9])?$" maxLength:"11" example:"20:00-06:00"`
	Sealed   bool   `json:"sealed_slabs" doc:"Slabs on its disk are sealed by a key that is not there: a stolen disk tells nothing of them"`
	SignIn   int    `json:"sign_in_hours" doc:"For how many hours after they have signed in there by name and password people may do so while the line is cut; what they choose is ordered when it is back" minimum:"0" maximum:"720" example:"24"`
}

// OutpostChange changes an outpost; what is left out stays.
type OutpostChange struct {
	Note     *string `json:"note,omitempty" maxLength:"500" example:"in the Alpine house, across the river"`
	LineRate *int64  `json:"line_rate,omitempty" doc:"Bits a second that may come over its line; 0 sets no bound" minimum:"0" maximum:"1000000000000" example:"20000000"`
	Hours    *string `json:"ahead_hours,omitempty" doc:"When versions come ahead of time, by the clock of its place; empty for always" pattern:"^(([01][0-9]|2[0-3]):[0-5][0-9]-([01][0-9]|2[0-3]):[0-5][0-9])?$" maxLength:"11" example:"20:00-06:00"`
	Sealed   *bool   `json:"sealed_slabs,omitempty" doc:"Whether slabs on its disk are sealed by a key that is not there"`
	SignIn   *int    `json:"sign_in_hours,omitempty" doc:"For how many hours people may sign in there again while the line is cut; 0 lets nobody" minimum:"0" maximum:"720" example:"24"`
}

// NewPlacement has an outpost hold versions ahead of time: one, the newest of an image, or the newest of every image that
// workstations of a group have.
type NewPlacement struct {
	Image   string `json:"image,omitempty" maxLength:"63" example:"garden-desk"`
	Version int    `json:"version,omitempty" doc:"Of the image; without it, the newest" minimum:"1" maximum:"1000000" example:"3"`
	Newest  int    `json:"newest,omitempty" doc:"How many of the newest versions, by default 1" minimum:"1" maximum:"20" example:"2"`
	Group   string `json:"group,omitempty" doc:"In place of an image: every image that workstations of this group have" maxLength:"63" example:"herbarium-scanning"`
}

// Placement is what an outpost is to hold, and which versions that are now.
type Placement struct {
	ID       int64           `json:"placement"`
	Image    string          `json:"image,omitempty"`
	Version  int             `json:"version,omitempty"`
	Newest   int             `json:"newest,omitempty"`
	Group    string          `json:"group,omitempty"`
	Versions []PlacedVersion `json:"placed_versions" nullable:"false"`
}

// PlacedVersion is a version that an outpost is to hold, and how much of it is there.
type PlacedVersion struct {
	Image   string `json:"image" maxLength:"100"`
	Version int    `json:"version" minimum:"1"`
	Held    int    `json:"slabs_held" minimum:"0"`
	Slabs   int    `json:"slabs" doc:"That it has; 0 while the outpost has not looked" minimum:"0"`
}

// OutpostTells is what an outpost tells of itself.
type OutpostTells struct {
	Version  string          `json:"outpost_version" maxLength:"50" example:"0.1.0"`
	Address  string          `json:"address" doc:"Where it answers its machines, as HOST:PORT" maxLength:"100" example:"198.51.100.2:7460"`
	Links    []NetbootLink   `json:"links" nullable:"false" maxItems:"64"`
	Builds   []int           `json:"builds" nullable:"false" doc:"Builds of the boot environment that it holds" maxItems:"10000"`
	Entries  int             `json:"entry_files" doc:"How many files of boot entries it holds" minimum:"0"`
	Slabs    int             `json:"slabs_held" doc:"How many slabs it holds" minimum:"0"`
	Bytes    int64           `json:"bytes_held" doc:"Of slabs, as stored" minimum:"0"`
	Streams  string          `json:"streams_from,omitempty" doc:"The address that its streams come from; nothing if it sends none" maxLength:"64" example:"198.51.100.2"`
	Fetched  int64           `json:"bytes_fetched" doc:"Bytes of slabs, builds and boot entries that have come over the line since it started" minimum:"0"`
	Served   int64           `json:"bytes_served" doc:"Bytes of slabs that its machines got since it started" minimum:"0"`
	IsSealed bool            `json:"slabs_are_sealed,omitempty" doc:"All slabs on its disk are sealed, and it has the key"`
	Placed   []PlacedVersion `json:"placed,omitempty" doc:"Versions that it holds ahead of time" maxItems:"1000"`
	Trouble  string          `json:"trouble,omitempty" doc:"What keeps it from its work" maxLength:"500"`
}

// NewOutpost is an outpost that is to join.
type NewOutpost struct {
	Name string `json:"outpost" doc:"What its site is called" pattern:"^[a-z0-9][a-z0-9-]*$" minLength:"1" maxLength:"63" example:"alpine"`
	Note string `json:"note,omitempty" maxLength:"500" example:"in the Alpine house, across the river"`
}

// OutpostCode is what an outpost joins by, once.
type OutpostCode struct {
	Name  string    `json:"outpost" example:"alpine"`
	Code  string    `json:"join_code" doc:"Shown this once; it names the service's authority, too"`
	Until time.Time `json:"until"`
}

// What outposts and their service say to each other.

// Headers of requests that an outpost passes on: where the agent has called from, and the digest of the key that it has shown;
// with which deliveries it is through, by their numbers with commas between; and of the answer that has the outpost itself serve
// a workstation in a delivery: its number.
const (
	AgentAtHeader    = "Jugate-Agent-At"
	AgentKeyHeader   = "Jugate-Agent-Key"
	AgentEndsHeader  = "Jugate-Agent-Ends"
	ServedHereHeader = "Jugate-Served-Here"
)

// OutpostJoin is an outpost's first request.
type OutpostJoin struct {
	Secret  string `json:"secret" maxLength:"64"`
	Request []byte `json:"request" doc:"Certificate signing request (RFC 2986), DER" maxLength:"8192"`
	Version string `json:"version" maxLength:"50"`
}

// OutpostRenewal asks for the next certificate.
type OutpostRenewal struct {
	Request []byte `json:"request" maxLength:"8192"`
}

// OutpostJoined is who it is, with a certificate in PEM and the authority's behind.
type OutpostJoined struct {
	Name        string `json:"outpost"`
	Certificate string `json:"certificate"`
}

// OutpostCalls is what an outpost tells, again and again. The service answers at once if the outpost is to hold something else
// than it says, and otherwise when that changes, or after a while.
type OutpostCalls struct {
	OutpostTells
	Knows string `json:"knows" maxLength:"64"` // OutpostWork.Mark of the last answer
	Run   string `json:"run" maxLength:"64"`   // another text at each start of the program
}

// OutpostWork is what an outpost is to hold.
type OutpostWork struct {
	Mark    string                      `json:"mark"` // of all that is below
	Name    string                      `json:"outpost"`
	Offered int                         `json:"offered"` // build; 0 if there is none
	Builds  []OutpostBuild              `json:"builds"`
	Entries []OutpostFile               `json:"entries"`
	Fixed   map[string][]hwaddr.Address `json:"fixed"`          // addresses that belong to machines
	Trust   []byte                      `json:"trust"`          // boot.AuthorityFile
	Wake    []hwaddr.Address            `json:"wake,omitempty"` // cards to wake, once
	// Deliveries are those that it carries through for workstations of its site, by Multicast.
	Deliveries []OutpostDelivery `json:"deliveries,omitempty"`
	// Versions are those that it is to hold ahead of time, and how its line may be used for that.
	Versions []OutpostVersion `json:"versions,omitempty"`
	Line     OutpostSettings  `json:"line"`
	// At is where else the service may answer.
	At []string `json:"at,omitempty"`
	// SlabKey is what its slabs are sealed by, if they are to be. It is kept in memory alone.
	SlabKey   []byte           `json:"slab_key,omitempty"`
	Multicast OutpostMulticast `json:"multicast"`
	// Now is the service's time, which Mark leaves out. All times of deliveries are by this clock.
	Now time.Time `json:"now"`
}

// OutpostMulticast is how the service has streams sent.
type OutpostMulticast struct {
	Groups  netip.Prefix `json:"groups"`
	Port    uint16       `json:"port"`
	TTL     int          `json:"ttl"`
	Ceiling int64        `json:"ceiling"` // bits a second of all together; 0 sets none
}

// OutpostDelivery is the part of a delivery that an outpost carries through. Its files come by their digests.
type OutpostDelivery struct {
	ID int64 `json:"delivery"`
	OutpostVersion
	Bases    *OutpostFile       `json:"bases,omitempty"`
	Payloads []parcel.Payload   `json:"payloads,omitempty"`
	Rule     string             `json:"rule"`
	Aside    delivery.AsideRule `json:"aside"`
	Rate     int64              `json:"rate"` // bits a second
	Channel  string             `json:"channel"`
	Session  uint32             `json:"session"`
	Sealed   bool               `json:"sealed,omitempty"`
	SealKey  []byte             `json:"seal_key,omitempty"` // of the stream; kept in memory alone
	Paused   bool               `json:"paused,omitempty"`
	Stop     string             `json:"stop,omitempty"` // why it is to end
	Ordered  time.Time          `json:"ordered"`
	AtLatest time.Time          `json:"at_latest"`
	Bytes    int64              `json:"bytes"`            // of the image that are in use
	Others   int                `json:"others,omitempty"` // workstations that were never seen yet, and may turn up there
	Members  []OutpostMember    `json:"members"`
}

// OutpostVersion is a version with its files. Before has the slabs of the version before that lay where this one has others: what
// differs from them is enough for whoever has them (image.Bases).
type OutpostVersion struct {
	Image    string       `json:"image"`
	Version  int          `json:"version"`
	Manifest OutpostFile  `json:"manifest"` // its digest is the version's
	Map      OutpostFile  `json:"map"`
	Before   *OutpostFile `json:"before,omitempty"`
}

// OutpostMember is a workstation of a delivery, by its number in the roster.
type OutpostMember struct {
	ID   int64  `json:"workstation"`
	Name string `json:"name"`
}

// OutpostIs is who an outpost is, and where its service: the file outpost.json of its data folder.
type OutpostIs struct {
	Name    string `json:"outpost"`
	Service string `json:"service"`
}

// OutpostBuild is a build as it is described in its folder.
type OutpostBuild struct {
	Number      int    `json:"build"`
	Description []byte `json:"description"`
}

// OutpostFile is a file by its digest.
type OutpostFile struct {
	Digest slabstore.Digest `json:"digest"`
	Size   int64            `json:"size"` // bytes
}

// OutpostAsks is what a machine at an outpost asks for.
type OutpostAsks struct {
	Address hwaddr.Address  `json:"hardware_address"`
	Loader  *netboot.Loader `json:"loader,omitempty"`
}

// OutpostChoice is what a machine boots. Spare is a ticket for a boot while the service does not answer.
type OutpostChoice struct {
	Choice netboot.Choice `json:"choice"`
	Spare  string         `json:"spare,omitempty"`
}

// OutpostBuildFor is the build whose loaders a machine gets.
type OutpostBuildFor struct {
	Build int `json:"build"`
}

// OutpostSteps are steps of machines that boot, in order, by the outpost's clock.
type OutpostSteps struct {
	Now   time.Time     `json:"now"`
	Steps []OutpostStep `json:"steps" maxItems:"10000"`
	// Loaded are files of boot entries that machines have loaded.
	Loaded []OutpostLoaded `json:"loaded,omitempty" maxItems:"10000"`
}

// OutpostStep is one of them.
type OutpostStep struct {
	Address hwaddr.Address `json:"hardware_address"`
	At      time.Time      `json:"at"`
	Step    netboot.Step   `json:"step" maxLength:"40"`
	Detail  string         `json:"detail" maxLength:"1000"`
}

// OutpostLoaded is a file of a boot entry that a machine has loaded.
type OutpostLoaded struct {
	Address hwaddr.Address   `json:"hardware_address"`
	File    slabstore.Digest `json:"file"`
}

// OutpostParts are how far an outpost is with its parts of deliveries.
type OutpostParts struct {
	Parts []OutpostPart `json:"parts" maxItems:"1000"`
}

// OutpostPart is one of them, with those of its workstations that something is new of.
type OutpostPart struct {
	Delivery    int64               `json:"delivery"`
	State       delivery.State      `json:"state"`
	RateNow     int64               `json:"rate_now" minimum:"0"`
	Unheard     bool                `json:"unheard,omitempty"`
	Sent        int                 `json:"sent" minimum:"0"`
	Slabs       int                 `json:"slabs" minimum:"0"`
	Round       int                 `json:"round" minimum:"0"`
	WireBytes   int64               `json:"wire_bytes" minimum:"0"`
	RepairBytes int64               `json:"repair_bytes" minimum:"0"`
	SecondsLeft *float64            `json:"seconds_left,omitempty"`
	Members     []OutpostMemberTold `json:"members,omitempty" maxItems:"20000"`
}

// OutpostMemberTold is how a workstation is with its delivery.
type OutpostMemberTold struct {
	Workstation int64            `json:"workstation"`
	Phase       delivery.Phase   `json:"phase"`
	Report      *delivery.Report `json:"report,omitempty"` // its last; nothing while it is awaited
	Aside       string           `json:"aside,omitempty" maxLength:"500"`
	Began       time.Time        `json:"began,omitzero"`
	Speed       float64          `json:"speed,omitempty"`
	LossShare   float64          `json:"loss_share,omitempty"`
	SecondsLeft *float64         `json:"seconds_left,omitempty"`
}

// OutpostHandsIn is what an outpost has kept for the service, in order; what came before comes once all the same.
type OutpostHandsIn struct {
	Box   string        `json:"box" minLength:"1" maxLength:"64"` // the numbers are of this one: another text for another database
	Items []OutpostItem `json:"items" maxItems:"1000"`
}

// OutpostItem is a receipt, or a note of what was done to a delivery.
type OutpostItem struct {
	Number   int64           `json:"number" minimum:"1"` // grows from one to the next
	Delivery int64           `json:"delivery"`
	Receipt  *OutpostReceipt `json:"receipt,omitempty"`
	Note     *OutpostNote    `json:"note,omitempty"`
}

// OutpostReceipt is how a delivery has ended for a workstation, with its last report: what that proves the service holds against
// the version itself.
type OutpostReceipt struct {
	Workstation int64            `json:"workstation"`
	Last        Progress         `json:"last"`
	Outcome     delivery.Outcome `json:"outcome"`
	Reason      string           `json:"reason,omitempty" maxLength:"8000"`
	Aside       string           `json:"aside,omitempty" maxLength:"500"`
	Apart       bool             `json:"apart,omitempty"`
	Began       time.Time        `json:"began,omitzero"`
	Ended       time.Time        `json:"ended"`
}

// OutpostNote is something that was done.
type OutpostNote struct {
	At   time.Time `json:"at"`
	What string    `json:"what" maxLength:"8000"`
}
