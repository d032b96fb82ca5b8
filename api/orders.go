package api

import (
	"time"

	"jugate/core/delivery"
	"jugate/core/errand"
	"jugate/core/partition"
	"jugate/core/wipe"
)

// NewCapture asks a workstation to capture its disk.
type NewCapture struct {
	Workstation string `json:"workstation" doc:"Name or hardware address" minLength:"1" example:"desk-gold" maxLength:"100"`
	Image       string `json:"image" minLength:"1" maxLength:"63" example:"garden-desk"`
	Note        string `json:"note,omitempty" maxLength:"1000" example:"scanner software 4.2"`
	CaptureOptions
}

// CaptureOptions say what to make of a disk.
type CaptureOptions struct {
	Disk           string   `json:"disk,omitempty" doc:"Which disk: only, serial:NUMBER or size:200GB-600GB" default:"only" maxLength:"300" example:"serial:AL-2601-D1"`
	Despite        string   `json:"despite,omitempty" maxLength:"1000" doc:"Reason to capture in spite of blocking findings; the version keeps it" example:"the recovery partition is not needed"`
	PastBadSectors bool     `json:"past_bad_sectors,omitempty" doc:"Go on where the disk cannot be read, and name the places"`
	KeepPageFiles  bool     `json:"keep_page_files,omitempty" doc:"Take page and hibernation files along"`
	Only           []string `json:"only_partitions,omitempty" nullable:"false" maxItems:"64" maxLength:"250" doc:"Just these partitions of the disk: a number, label=TEXT, type=GUID or, of an MBR, type=HEX" example:"[\"label=SYSTEM\"]"`
	Without        []string `json:"without_partitions,omitempty" nullable:"false" maxItems:"64" maxLength:"250" doc:"All partitions but these" example:"[\"label=DATA\"]"`
	CopyEncrypted  bool     `json:"copy_encrypted,omitempty" doc:"Copy encrypted volumes whole"`
	KeepEqual      bool     `json:"keep_equal,omitempty" doc:"Make a version although nothing has changed since the newest one"`
	WhenDone       string   `json:"when_done,omitempty" enum:"stay,restart,power-off" doc:"What the workstation does afterwards" default:"stay"`
}

// Errand is what a workstation was asked to do.
type Errand struct {
	ID          int64        `json:"id"`
	Workstation string       `json:"workstation"`
	Kind        errand.Kind  `json:"kind" enum:"capture,receive,drivers,payloads,check,wipe,command,folders,entry"`
	State       errand.State `json:"state" enum:"waiting,running,done,failed,stopped"`
	Image       string       `json:"image"`
	Version     int          `json:"version" doc:"What a capture became; 0 until then"`
	Delivery    int64        `json:"delivery,omitempty"`
	Error       string       `json:"error"`
	Created     time.Time    `json:"created"`
	NotBefore   *time.Time   `json:"not_before,omitempty" doc:"The workstation gets it then, and does others until then"`
	Ended       *time.Time   `json:"ended,omitempty"`
	Done        int64        `json:"done" doc:"Bytes done so far"`
	Total       int64        `json:"total" doc:"Bytes to do"`
	NewSlabs    int          `json:"new_slabs"`
	Result      []string     `json:"result,omitempty" doc:"Of putting drivers in: what was done"`
	Command     *CommandRun  `json:"command_run,omitempty" doc:"Of a command; its output is told for a single errand"`
}

// NewDelivery orders a delivery.
type NewDelivery struct {
	Image    string     `json:"image" doc:"NAME or NAME@VERSION; without a version the newest" minLength:"1" example:"garden-desk@3" maxLength:"80"`
	To       []string   `json:"to,omitempty" doc:"Groups and workstations" maxItems:"10000" nullable:"false" example:"[\"herbarium\",\"seed-04\"]"`
	Where    string     `json:"where,omitempty" doc:"A condition over the roster (docs/roster.md). It narrows the targets; without any, it is for the whole roster" maxLength:"1000" example:"image != \"garden-desk\" and memory >= 8GiB"`
	Start    string     `json:"start,omitempty" doc:"Gather rule: all, first, ready:N (N workstations are ready) or at:TIME (RFC 3339). With a comma between two the stream starts when one of them holds, with a plus when both do" default:"all" example:"ready:8" maxLength:"200"`
	Rate     int64      `json:"rate,omitempty" doc:"Bits a second of the stream; 0 takes the service's setting" minimum:"0" example:"400000000"`
	AtLatest *time.Time `json:"at_latest,omitempty" doc:"When it starts at the latest, with whoever is ready; by default an hour after the order, or after the earliest time of the gather rule" example:"2030-09-01T06:30:00Z"`
	WhenDone string     `json:"when_done,omitempty" enum:"stay,restart,power-off" doc:"What a workstation does when its disk is right" default:"stay"`
	Reuse    bool       `json:"reuse,omitempty" doc:"Workstations check their disks first and keep what is right already"`
	Sealed   bool       `json:"sealed,omitempty" doc:"Encrypt the slabs on the wire"`
	Aside    AsideRule  `json:"aside_rule,omitzero"`
	// DespiteFirmware orders it although the system cannot start by the firmware that a
	// workstation was seen with.
	DespiteFirmware bool   `json:"despite_firmware,omitempty" doc:"Deliver to workstations whose firmware, as it was seen last, does not start the system"`
	DomainAway      string `json:"domain_away,omitempty" enum:"refuse,wait,go-on" default:"refuse" doc:"What to do with a workstation that is to join a domain whose controller does not answer: refuse it, have it wait until the controller does, or go on, so that the copy is in no domain"`
	Answers         string `json:"with_answers,omitempty" enum:"set,none" default:"set" doc:"Whether copies take the answers that are set for their workstation; with none they stay as the golden machine was"`
	// OwnAnswers are for what is different this once.
	OwnAnswers map[string]any `json:"own_answers,omitempty" doc:"Answers of this delivery's own, by key (docs/answers.md), which count before all that is set. Secrets and the name of a computer are set where they are kept, and not here. They take the right to set answers" example:"{\"time_zone\":\"Europe/Vienna\"}"`
	RestoreOptions
	DriverOrder
}

// DeliveryPlan is what a delivery would do, before anything is ordered.
type DeliveryPlan struct {
	Image     string               `json:"image"`
	Version   int                  `json:"version"`
	StartsBy  []partition.Firmware `json:"starts_by" nullable:"false" doc:"Firmware that can start the system, as far as its partition table shows"`
	DiskBytes int64                `json:"disk_bytes" doc:"Of the golden disk"`
	NeedBytes int64                `json:"need_bytes" doc:"Of the smallest disk that it fits onto"`
	UsedBytes int64                `json:"used_bytes"`
	Start     string               `json:"start" doc:"Gather rule"`
	AtLatest  time.Time            `json:"at_latest" doc:"When it starts at the latest, with whoever is ready"`
	Rate      int64                `json:"rate" doc:"Bits a second"`
	Seconds   float64              `json:"seconds,omitempty" doc:"How long a workstation needs from the start of the stream until its disk is checked, by earlier deliveries; absent without any"`
	Earlier   int                  `json:"earlier" doc:"Receipts that the seconds are from"`
	Members   []PlannedWorkstation `json:"members" nullable:"false"`
	Refused   string               `json:"refused" doc:"Why it would be refused; empty if it would not"`
}

// PlannedWorkstation is what a delivery would do to a workstation.
type PlannedWorkstation struct {
	Workstation string   `json:"workstation"`
	Address     string   `json:"hardware_address"`
	Maker       string   `json:"maker"`
	Model       string   `json:"model"`
	Online      bool     `json:"online" doc:"Its agent has called in the last minute"`
	Image       string   `json:"image" doc:"What is on its disk by its receipts, as NAME@VERSION"`
	Unfinished  bool     `json:"unfinished" doc:"A copy of that was begun, and is not whole"`
	Disk        *Disk    `json:"overwritten_disk,omitempty" doc:"The disk that will be overwritten, as it was seen last"`
	Stays       []string `json:"stays,omitempty" doc:"What of that disk stays as it is"`
	Problems    []string `json:"problems" nullable:"false" doc:"Why the delivery is refused"`
	Warnings    []string `json:"warnings" nullable:"false"`
}

// AsideRule says who is taken out of the stream and served alone. What is not
// said takes the usual value.
type AsideRule struct {
	Never         bool    `json:"never,omitempty" doc:"Nobody is set aside"`
	LossPercent   float64 `json:"loss_percent,omitempty" minimum:"0" maximum:"100" doc:"Loses more than this share of packets; 10 by default" example:"25"`
	DiskSeconds   int     `json:"disk_seconds,omitempty" minimum:"0" doc:"Its disk has not kept up for this long; 4 by default" example:"10"`
	SilentSeconds int     `json:"silent_seconds,omitempty" minimum:"0" doc:"Has reported nothing for this long; 20 by default" example:"60"`
}

// RestoreOptions say how an image is to lie on a disk.
type RestoreOptions struct {
	Disk string `json:"disk,omitempty" doc:"Which disk: only, serial:NUMBER or size:200GB-600GB" default:"only" maxLength:"300" example:"size:200GB-600GB"`
	Grow string `json:"grow,omitempty" doc:"Partition that takes the room of a larger disk: system, a number, last, or none" default:"system" maxLength:"20" example:"last"`
	Trim bool   `json:"trim,omitempty" doc:"Tell the disk first that nothing on it is needed"`
	// Keep and Sizes are of a disk that is not the image's alone.
	Keep  []string `json:"keep,omitempty" nullable:"false" maxItems:"16" maxLength:"250" doc:"Partitions of the disk that stay as they are: a number, label=TEXT, type=GUID or, of an MBR, type=HEX. A workstation that does not have one is stopped before anything is written." example:"[\"label=DATA\"]"`
	Sizes []string `json:"sizes,omitempty" nullable:"false" maxItems:"32" maxLength:"100" doc:"Sizes of partitions in place of the golden disk's: NUMBER=SIZE, or NAME=SIZE for an empty one that is added; SIZE is bytes (100GB), per cent of the room, or rest" example:"[\"3=60%\",\"DATA=rest\"]"`
	// Partition and Onto bring one partition alone.
	Partition int    `json:"partition,omitempty" minimum:"0" maximum:"1024" doc:"Bring just this partition of the image; 0 is all of it" example:"3"`
	Onto      string `json:"onto,omitempty" maxLength:"250" doc:"With partition: which one of the disk it replaces, named as those that are kept; all others stay" example:"label=SYSTEM"`
	// Confirm is for desks at which somebody sits.
	Confirm string `json:"confirm,omitempty" maxLength:"200" doc:"Text that somebody has to confirm at the workstation's screen, by typing yes, before anything is written; the others wait for that" example:"Are all files of this desk saved?"`
}

// Delivery is an order and how far it is.
type Delivery struct {
	ID           int64          `json:"id"`
	Image        string         `json:"image"`
	Version      int            `json:"version"`
	Digest       string         `json:"digest"`
	Targets      []string       `json:"targets" nullable:"false"`
	Start        string         `json:"start" doc:"Gather rule"`
	Rate         int64          `json:"rate" doc:"Bits a second"`
	Channel      string         `json:"channel" doc:"Multicast address and port"`
	State        delivery.State `json:"state" enum:"gathering,sending,mending,finished,stopped"`
	Workstations int            `json:"workstation_count" doc:"How many it goes to"`
	Delivered    int            `json:"delivered" doc:"How many of them have got it so far, each with its whole disk checked"`
	Reason       string         `json:"reason"`
	OrderedBy    string         `json:"ordered_by"`
	Created      time.Time      `json:"created"`
	Started      *time.Time     `json:"started,omitempty"`
	Ended        *time.Time     `json:"ended,omitempty"`
	UsedBytes    int64          `json:"used_bytes" doc:"Bytes in use in the image"`
	WireBytes    int64          `json:"wire_bytes" doc:"Sent so far: multicast packets with their headers, and the bodies of mending"`
	ReusedBytes  int64          `json:"reused_bytes" doc:"What its workstations had on their disks already, in bytes of the image, told once it is over. Of those whom an outpost serves it is not known"`
	SentSlabs    int            `json:"sent_slabs" doc:"Slabs that went into the stream"`
	Slabs        int            `json:"slabs" doc:"Slabs that the stream has in all"`
	Members      []Member       `json:"members,omitempty" nullable:"false" doc:"Told for a single delivery"`

	AtLatest    time.Time        `json:"at_latest" doc:"When it starts at the latest, with whoever is ready"`
	WhenDone    string           `json:"when_done" enum:"stay,restart,power-off"`
	Reuse       bool             `json:"reuse"`
	Sealed      bool             `json:"sealed"`
	Paused      bool             `json:"paused"`
	CarriedBy   string           `json:"carried_by,omitempty" doc:"The outpost whose media carry it: it comes from those alone" example:"media-1"`
	Unicast     bool             `json:"unicast" doc:"The network carries no multicast; everyone is served alone"`
	Round       int              `json:"round" doc:"Rounds of the stream that have begun"`
	RateNow     int64            `json:"rate_now" doc:"Bits a second that the stream is sent at now"`
	RepairBytes int64            `json:"repair_bytes" doc:"Sent again by multicast"`
	SecondsLeft *float64         `json:"seconds_left,omitempty" doc:"For those in the group; not told while nothing can be said"`
	Warning     string           `json:"warning,omitempty" doc:"What keeps it from getting on, in words"`
	Changes     []DeliveryChange `json:"changes,omitempty" nullable:"false" doc:"What was done to it, told for a single delivery"`
	Story       []string         `json:"story,omitempty" nullable:"false" doc:"How it went, in words, told for a single delivery that is over"`
	Parts       []DeliveryPart   `json:"parts,omitempty" nullable:"false" doc:"What outposts carry through of it, while it runs"`
}

// DeliveryCourse is what a delivery did over time.
type DeliveryCourse struct {
	Every   float64        `json:"every_seconds" doc:"How long after a sample the next one is taken; longer the longer it runs"`
	Members []string       `json:"member_names" nullable:"false" doc:"Its workstations, a thousand at the most, in the order in which they came"`
	Samples []CourseSample `json:"samples" nullable:"false" doc:"None from before it has begun"`
}

// CourseSample is how a delivery was at one time.
type CourseSample struct {
	At         time.Time `json:"at"`
	Rate       int64     `json:"rate_now" doc:"Bits a second that streams were sent at"`
	Repair     int64     `json:"repair_bytes" doc:"Sent again by multicast, so far"`
	LossMiddle float64   `json:"loss_middle" doc:"Share of packets that the workstation in the middle lost"`
	LossWorst  float64   `json:"loss_worst" doc:"And the one that lost most"`
	DiskMiddle float64   `json:"disk_middle" doc:"Bytes a second that the disk in the middle took"`
	DiskWorst  float64   `json:"disk_worst" doc:"And the slowest one"`
	Done       []int     `json:"done_percent" nullable:"false" doc:"How far each workstation was, by its place in member_names: to 100 while it receives, to 200 while it checks, -1 for one that was not there. Those that came later are not in it"`
}

// DeliveryPart is what an outpost carries through of a delivery, for the workstations of its site.
type DeliveryPart struct {
	Name      string         `json:"outpost" example:"alpine"`
	State     delivery.State `json:"state" enum:"gathering,sending,mending,finished,stopped"`
	Members   int            `json:"workstation_count"`
	Open      int            `json:"open_count" doc:"How many of them it is not through with"`
	SentSlabs int            `json:"sent_slabs" doc:"Slabs that went into its stream"`
	Slabs     int            `json:"slabs" doc:"Slabs that its stream has in all"`
	Round     int            `json:"round" doc:"Rounds of the stream that have begun"`
	RateNow   int64          `json:"rate_now" doc:"Bits a second that its stream is sent at now"`
	Away      bool           `json:"out_of_reach" doc:"Nothing is heard of the outpost now: it goes on by itself"`
}

// DeliveryChange is something that happened to a delivery after it was ordered.
type DeliveryChange struct {
	At   time.Time `json:"at"`
	By   string    `json:"by"`
	What string    `json:"what"`
}

// NewRate changes the rate of a delivery's stream.
type NewRate struct {
	Rate int64 `json:"rate" doc:"Bits a second" minimum:"64000" example:"400000000"`
}

// MoreTargets extends a delivery.
type MoreTargets struct {
	To    []string `json:"to,omitempty" doc:"Groups and workstations" maxItems:"10000" nullable:"false" example:"[\"herb-09\"]"`
	Where string   `json:"where,omitempty" doc:"A condition over the roster (docs/roster.md). It narrows the targets; without any, it is for the whole roster" maxLength:"1000" example:"image != \"garden-desk\" and memory >= 8GiB"`
}

// Member is one workstation of a delivery.
type Member struct {
	Workstation string           `json:"workstation"`
	Address     string           `json:"hardware_address"`
	Site        string           `json:"site,omitempty" doc:"The outpost that serves it"`
	Phase       delivery.Phase   `json:"phase" enum:"awaited,ready,receiving,mending,checking,ended"`
	Outcome     delivery.Outcome `json:"outcome" doc:"Once ended: delivered, failed, stopped or absent"`
	Reason      string           `json:"reason"`
	Done        int64            `json:"done" doc:"Bytes done in this phase"`
	Total       int64            `json:"total"`
	Multicast   int64            `json:"bytes_multicast"`
	Unicast     int64            `json:"bytes_unicast"`

	Aside       string   `json:"aside,omitempty" doc:"Why it is served alone"`
	Speed       float64  `json:"speed" doc:"Bytes a second that it gets on with"`
	LossShare   float64  `json:"loss_share" doc:"Share of the stream's packets that it lost in the last seconds"`
	RepairShare float64  `json:"repair_share" doc:"Share of its multicast bytes that was sent again"`
	DiskSpeed   float64  `json:"disk_speed" doc:"Bytes a second that its disk takes"`
	Silent      float64  `json:"silent_seconds" doc:"Seconds since it reported last"`
	SecondsLeft *float64 `json:"seconds_left,omitempty"`
}

// Receipt is the lasting record that a workstation got a version, or did not.
type Receipt struct {
	ID          int64            `json:"id"`
	Delivery    int64            `json:"delivery"`
	Workstation string           `json:"workstation"`
	Address     string           `json:"hardware_address"`
	Maker       string           `json:"maker" doc:"Of the machine, as it was then"`
	Model       string           `json:"model"`
	Serial      string           `json:"serial" doc:"Of the machine"`
	Job         string           `json:"job" doc:"What was typed at a repair bench: a number, or whose it is"`
	Image       string           `json:"image"`
	Version     int              `json:"version"`
	Digest      string           `json:"digest" doc:"BLAKE3-256 of the version's manifest"`
	Started     *time.Time       `json:"started,omitempty" doc:"When it joined the stream"`
	Ended       time.Time        `json:"ended"`
	Seconds     float64          `json:"seconds" doc:"From joining the stream to the end"`
	Multicast   int64            `json:"bytes_multicast"`
	Unicast     int64            `json:"bytes_unicast"`
	Verified    bool             `json:"verified" doc:"The whole disk was read back and compared after the write"`
	Outcome     delivery.Outcome `json:"outcome" enum:"delivered,failed,stopped,absent,wiped"`
	Reason      string           `json:"reason"`
	OrderedBy   string           `json:"ordered_by"`
	Unreadable  int64            `json:"unreadable_bytes,omitempty" doc:"What the golden disk could not read; zeros on this disk"`
	Drivers     []string         `json:"drivers,omitempty" doc:"Driver packages that were put in after the copy was checked"`
	Remark      string           `json:"remark,omitempty" doc:"What else there is to say of the disk, such as a file system that does not fill its partition"`
	Arrival     *Arrival         `json:"arrival,omitempty" doc:"The first start of the copy; absent if it was delivered without answers"`
	Partition   int              `json:"partition,omitempty" doc:"Of the version, just this partition"`
	Wipe        *wipe.Report     `json:"wipe,omitempty" doc:"Of a wipe: how it was done. Such a receipt has neither a delivery nor a version"`
}

// Arrival is the first start of a copy, as its system has told it.
type Arrival struct {
	State  string         `json:"state" enum:"awaited,arrived,not arrived" doc:"not arrived: it should have by now"`
	At     *time.Time     `json:"at,omitempty"`
	Remark string         `json:"remark" doc:"What is odd about it, such as another name or the machine-id of a sibling"`
	Report *ArrivalReport `json:"report,omitempty"`
}
