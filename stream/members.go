package stream

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/binary"
	"fmt"
	"time"

	"jugate/core/delivery"
	"jugate/core/image"
	"jugate/core/norm"
	"jugate/core/parcel"
	"jugate/core/roster"
	"jugate/core/slabstore"
)

// SendsMap tells whether the slab map comes by multicast for a workstation that is about
// to take part. It does until the first round has begun, unless the workstation is the
// only one.
func (r *Runner) SendsMap() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.here()) > 1 && r.d.State() == delivery.Gathering
}

// SetApart sets a workstation aside that the stream does not reach.
func (r *Runner) SetApart(now time.Time, id int64, reason string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.d.SetApart(now, id, reason)
}

// Payloads is what its stream carries beside the image.
func (r *Runner) Payloads() []parcel.Payload { return r.order.Payloads }

// Bases are the slabs of the version before that lie where those of this one will; nil where
// nobody is told anything by what is on its disk.
func (r *Runner) Bases() *image.Map { return r.order.Bases }

// Has tells whether a workstation takes part.
func (r *Runner) Has(id int64) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	_, member := r.members[id]
	return member
}

// Node is a workstation's node id in the stream: hard to guess, and the same after
// a restart of the service.
func (r *Runner) Node(workstation int64) norm.NodeID {
	sum := slabstore.Sum(fmt.Appendf(nil, "node %d of session %d", workstation, r.order.Session))
	return norm.NodeID(2 + binary.BigEndian.Uint32(sum[:])%(1<<31))
}

func (r *Runner) isNode(n norm.NodeID) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	_, known := r.byNode[n]
	return known
}

func (r *Runner) memberCount() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.here())
}

// Nonce is what a workstation's proof begins with: nobody else knows it, and it is the
// same after a restart of the service.
func (r *Runner) Nonce(workstation int64) []byte {
	sum := slabstore.Sum(fmt.Appendf(nil, "proof of %d in delivery %d, session %d: %s", workstation, r.order.ID, r.order.Session, r.in.Secret))
	return sum[:16]
}

// Proven tells whether a proof is the one that reading the whole disk back gives, but the
// areas (by their index) that were left out. No
// proof is needed from a workstation that has not begun its check, as delivery.Report refuses its report.
func (r *Runner) Proven(workstation int64, proof []byte, without []int) bool {
	r.mu.Lock()
	checks := r.members[workstation].Where != "" || r.d.Phase(workstation) == delivery.Checking
	r.mu.Unlock()
	return !checks || subtle.ConstantTimeCompare(proof, r.Slabs.Proof(r.Nonce(workstation), without...)) == 1
}

// Report takes what a workstation tells and says what it has to do. Errors are those of
// delivery.Report.
func (r *Runner) Report(now time.Time, id int64, p delivery.Report) (delivery.Directions, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	err := r.d.Report(now, id, p)
	r.moved[id] = struct{}{}
	r.nudge()
	return r.directions(id, err), err
}

const (
	// reportEvery is how often a workstation reports at the most, and reportsPerSecond how
	// often all of a delivery do.
	reportEvery      = 500 * time.Millisecond
	reportsPerSecond = 1000
)

func (r *Runner) directions(id int64, err error) delivery.Directions {
	d := delivery.Directions{State: r.d.State(), Over: err != nil || r.d.State().Over(), Run: r.number, Round: r.d.Rounds(), Aside: r.d.Aside(id)}
	d.ReportAfter = max(reportEvery, time.Duration(len(r.members))*time.Second/reportsPerSecond).Seconds()
	d.FetchMap = r.d.FetchMap()
	fetch, decided := r.d.Fetch(id)
	if d.Decided = decided; fetch != nil {
		d.Fetch = fetch.Ranges()
	}
	return d
}

// Remark notes what a workstation says of its part.
func (r *Runner) Remark(now time.Time, id int64, text string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if m, is := r.members[id]; is && r.phase(id) != delivery.Ended && r.remarks[id] != text {
		r.note(now, m.Name, text)
		r.remarks[id] = text
	}
}

// Installed notes which drivers a workstation has installed.
func (r *Runner) Installed(id int64, packages []string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.drivers[id] = packages
}

// Lacking takes which slabs a workstation lacks, and of which of them it has the base. Errors are
// those of delivery.Lacking.
func (r *Runner) Lacking(now time.Time, id int64, round int, set, has *image.SlabSet) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	err := r.d.Lacking(now, id, round, set, has.Both(r.based))
	if _, told := r.reused[id]; err == nil && round == 0 && !told {
		r.reused[id] = r.plainBytesOf(r.options.Every.Without(set))
	}
	r.nudge()
	return err
}

// plainBytesOf is how many bytes of the image and of payloads a set stands for.
func (r *Runner) plainBytesOf(set *image.SlabSet) (n int64) {
	for i := range set.All() {
		n += r.plainBytes(i)
	}
	return n
}

// Through tells that a workstation's part has ended, although its receipt may not
// be written yet.
func (r *Runner) Through(id int64) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	e := r.away[id]
	return r.phase(id) == delivery.Ended || e != nil && e.ends
}

// MayMend waits until so many bytes may go out beside the stream.
func (r *Runner) MayMend(ctx context.Context, bytes int) error {
	return r.unicasts.WaitN(ctx, min(bytes, unicastBurst))
}

// Mended counts bytes that went to one workstation beside the stream.
func (r *Runner) Mended(id, bytes int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.unicast[id] += bytes
}

// Sealed is a frame, or a piece, as it goes to one workstation of a sealed delivery.
func (r *Runner) Sealed(content []byte) []byte {
	var nonce [parcel.NonceSize]byte
	rand.Read(nonce[:])
	return r.Seal.Pack(parcel.Slab(0), content, nonce)
}

// Stop ends the delivery for everyone who is not through.
func (r *Runner) Stop(now time.Time, reason string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if !r.state().Over() && !r.stopping {
		r.reason, r.stopping = reason, true
		r.d.Stop(now, reason)
	}
	r.nudge()
}

// SetRate sets how fast the stream should go, in bits a second; words say so.
func (r *Runner) SetRate(now time.Time, by, words string, rate int64) {
	r.change(now, by, words, func() { r.rate = rate })
}

// Paused tells whether the stream is held.
func (r *Runner) Paused() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.paused
}

// Pause holds the stream, or lets it go on; words say so.
func (r *Runner) Pause(now time.Time, by, words string, paused bool) {
	r.change(now, by, words, func() {
		if r.paused = paused; paused {
			r.d.Pause(now)
		} else {
			r.d.Resume(now)
		}
	})
}

// Extend takes more workstations in; words say so.
func (r *Runner) Extend(now time.Time, by, words string, members []Member) {
	r.change(now, by, words, func() {
		r.add(now, members)
	})
}

// Seconds is a time that is left, as it is told; nil while nothing can be said.
func Seconds(left time.Duration, known bool) *float64 {
	if !known {
		return nil
	}
	s := left.Seconds()
	return &s
}

// Status is how a running delivery stands.
type Status struct {
	State              delivery.State
	Rate, RateNow      int64 // bits a second, as ordered and now
	Paused             bool
	Unheard            bool // nobody hears the multicast
	Sent, Slabs, Round int  // slabs of the round under way
	WireBytes          int64
	RepairBytes        int64
	Reused             int64  // bytes that those who are here had on their disks already
	Warning            string // what keeps it from getting on
	Left               time.Duration
	LeftKnown          bool
	Parts              []Part // of other processes
}

// Status tells how the delivery stands.
func (r *Runner) Status(now time.Time) Status {
	out := Status{WireBytes: r.WireBytes(), Warning: r.Warning(now)}
	r.mu.Lock()
	defer r.mu.Unlock()
	out.State, out.Sent, out.Slabs, out.Round, out.Parts = r.state(), r.sent, r.slabs, r.round, r.allParts()
	out.Rate, out.Paused, out.Unheard, out.RepairBytes = r.rate, r.paused, r.d.Unheard(), r.repairBytes
	for _, n := range r.reused {
		out.Reused += n
	}
	if r.streaming && !r.paused {
		out.RateNow = r.rateNow.Load()
	}
	out.Left, out.LeftKnown = r.d.TimeLeft()
	for _, p := range out.Parts { // the last to be through counts
		if p.Open > 0 {
			out.Left, out.LeftKnown = max(out.Left, p.Left), p.LeftKnown && (out.LeftKnown || r.d.State().Over())
		}
	}
	return out
}

// MemberStatus is how one workstation stands.
type MemberStatus struct {
	Member
	Status    delivery.Member
	Speed     float64 // bytes a second
	LossShare float64 // of packets, in the last seconds
	Left      time.Duration
	LeftKnown bool
}

// Member tells how one workstation stands; false if it does not take part.
func (r *Runner) Member(id int64) (MemberStatus, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.member(id)
}

func (r *Runner) member(id int64) (out MemberStatus, known bool) {
	if e := r.away[id]; e != nil {
		out = e.told
		out.Member = r.members[id]
		return out, true
	}
	if out.Status, known = r.d.Member(id); known {
		out.Member, out.Speed, out.LossShare = r.members[id], out.Status.Speed(), out.Status.LossShare()
		out.Left, out.LeftKnown = r.d.MemberLeft(id)
	}
	return out, known
}

// Members tells how all workstations stand, in no order.
func (r *Runner) Members() (all []MemberStatus) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for id := range r.members {
		if m, known := r.member(id); known {
			all = append(all, m)
		}
	}
	return all
}

// takeMoved are the workstations that something is new of since it was asked last.
func (r *Runner) takeMoved() []int64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	ids := make([]int64, 0, len(r.moved))
	for id := range r.moved {
		ids = append(ids, id)
	}
	clear(r.moved)
	return ids
}

// Version is what is delivered.
func (r *Runner) Version() roster.Ref { return r.order.Version }
