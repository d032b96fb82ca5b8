// Package sites keeps the outposts of a service: who may be one, what each is to hold, and
// what it tells. To an outpost it answers what its machines boot, from the same roster as
// the service's own network boot.
//
//	out, err := s.Add(ctx, api.NewOutpost{Name: "alpine"}) // a code to join by
//	joined, err := s.Join(ctx, from, api.OutpostJoin{…})    // the outpost's first request
//	name, ok := s.Who(certificate)                          // every other one
//
// work.go has what outposts ask for, versions.go what they hold ahead of time.
package sites

import (
	"cmp"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/hkdf"
	"crypto/sha256"
	"crypto/x509"
	"database/sql"
	"fmt"
	"io"
	"log/slog"
	"net/netip"
	"sync"
	"time"

	"jugate/core/version"

	"jugate/api"
	"jugate/boot"
	"jugate/core/actor"
	"jugate/core/environment/builds"
	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/image"
	"jugate/core/memo"
	"jugate/core/netboot"
	"jugate/core/parts"
	"jugate/core/quota"
	"jugate/core/slabstore"
	"jugate/core/trust"
	"jugate/records"
)

// Certificates make those of outposts.
type Certificates interface {
	CertifyOutpost(name string, key any, life time.Duration) (chain string, until time.Time, err error)
	IsOutpost(certificate *x509.Certificate) bool
	// Certificate is the authority's.
	Certificate() *x509.Certificate
}

// Boot is the service's own network boot, which knows how far machines are.
type Boot interface {
	Hear(a hwaddr.Address, m netboot.Mark)
	NoteModel(a hwaddr.Address, model string)
}

// Tickets are what machines check in with.
type Tickets interface {
	Ticket(ctx context.Context, address hwaddr.Address) (string, error)
}

// Deliveries are those that go to workstations at outposts.
type Deliveries interface {
	// PartsAt are the parts that an outpost is to carry through.
	PartsAt(site string) ([]api.OutpostDelivery, error)
	// PartFile opens a file of theirs.
	PartFile(site string, d slabstore.Digest) (io.ReadSeekCloser, error)
	ToldOfParts(site string, parts []api.OutpostPart)
	HandIn(ctx context.Context, site string, in api.OutpostHandsIn) error
	// Forsaken ends the parts of an outpost that nothing will be heard of any more.
	Forsaken(site string)
}

// Store is where frames of slabs come from.
type Store interface {
	Frame(d slabstore.Digest) ([]byte, error)
	// Get returns the plain bytes of a slab, checked.
	Get(d slabstore.Digest) ([]byte, error)
}

// Sites are the outposts. Its fields are set before Load.
type Sites struct {
	Version      string   // of this program; outposts of an older one are told to renew
	At           []string // where else the service may answer
	Records      *records.DB
	Certificates Certificates
	Roster       boot.Roster
	Boot         Boot
	Tickets      Tickets
	Builds       *builds.Store
	Entries      *parts.Store
	Slabs        Store
	Deliveries   Deliveries
	Versions     Versions
	Files        image.Files
	Multicast    func() api.OutpostMulticast
	Secret       string // of the service, the same at each start
	Trust        []byte // boot.AuthorityFile
	Log          *slog.Logger
	Now          func() time.Time
	Publish      func(event any)
	Closing      <-chan struct{} // is closed when nothing more is waited for

	tries  quota.Quota[netip.Addr]
	files  memo.Cache[string, files] // of versions, by the digests of their manifests
	deltas memo.Cache[leaning, []byte]

	mu      sync.Mutex
	names   map[string]string           // of outposts that have joined, by the digests of their keys
	live    map[string]presence         // by name
	changed chan struct{}               // see awaits; nil while nobody waits
	wakes   map[string][]hwaddr.Address // cards that outposts are to wake, by their names
}

// presence is what an outpost has told since the service started.
type presence struct {
	seen, kept time.Time
	told       api.OutpostTells
	run        string    // of the program that called last
	before     string    // the one before
	twice      time.Time // when that called again: there are two
}

const (
	// upFor is how long an outpost that has said nothing counts as up. It tells every few seconds.
	upFor = 45 * time.Second
	// keepEvery is how often what an outpost tells goes into the records.
	keepEvery = time.Minute
	// wrongAtMost is how often codes may be wrong that come from one address, within wrongWithin.
	wrongAtMost, wrongWithin = 10, time.Minute
)

// Load reads who has joined.
func (s *Sites) Load(ctx context.Context) error {
	all, err := s.Records.Outposts(ctx)
	if err != nil {
		return err
	}
	s.files.Most, s.deltas.Most = filesAtMost, deltasAtMost
	s.mu.Lock()
	defer s.mu.Unlock()
	s.names, s.live = map[string]string{}, map[string]presence{}
	for _, o := range all {
		if o.Key != "" {
			s.names[o.Key] = o.Name
		}
	}
	return nil
}

// KeyOf is the digest of the key in a certificate.
func KeyOf(spki []byte) string { return slabstore.Sum(spki).String() }

// Who is the outpost that has shown a certificate, if it is one.
func (s *Sites) Who(certificate *x509.Certificate) (name string, ok bool) {
	s.mu.Lock()
	name, ok = s.names[KeyOf(certificate.RawSubjectPublicKeyInfo)]
	s.mu.Unlock()
	return name, ok && s.Certificates.IsOutpost(certificate)
}

// List lists outposts by name.
func (s *Sites) List(ctx context.Context) ([]api.Outpost, error) {
	rows, err := s.Records.Outposts(ctx)
	if err != nil {
		return nil, err
	}
	callers, err := s.Records.CountSites(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]api.Outpost, 0, len(rows))
	for _, row := range rows {
		one, err := s.outpost(row)
		if err != nil {
			return nil, err
		}
		one.Callers = callers[row.Name]
		out = append(out, one)
	}
	return out, nil
}

// Show shows one.
func (s *Sites) Show(ctx context.Context, name string) (api.Outpost, error) {
	row, err := s.Records.Outpost(ctx, name)
	if err != nil {
		return api.Outpost{}, err
	}
	callers, err := s.Records.CountSites(ctx)
	if err != nil {
		return api.Outpost{}, err
	}
	out, err := s.outpost(*row)
	if err != nil {
		return out, err
	}
	out.Callers = callers[row.Name]
	out.Placements, err = s.placements(ctx, row.Name, out.Placed)
	return out, err
}

func (s *Sites) outpost(row records.Outpost) (out api.Outpost, err error) {
	out = api.Outpost{Name: row.Name, Note: row.Note, OnMedia: row.OnMedia, Added: row.Added, Joined: records.TimeOf(row.Joined), Seen: records.TimeOf(row.Seen), Until: records.TimeOf(row.GoodUntil)}
	if out.OutpostTells, err = row.Told(); err != nil {
		return out, err
	}
	if out.OutpostSettings, err = row.Settings(); err != nil {
		return out, err
	}
	s.mu.Lock()
	p, known := s.live[row.Name]
	s.mu.Unlock()
	if known {
		out.OutpostTells, out.Seen = p.told, &p.seen
		if s.Now().Sub(p.twice) < upFor {
			out.Trouble = "two machines say that they are this outpost, by the same key: stop one of them, and have it join by a code of its own"
		}
	}
	if version.Before(out.Version, s.Version) {
		out.Trouble = cmp.Or(out.Trouble, fmt.Sprintf("its program is of version %s, and the service has %s: it goes on with what it knows; put the newer one there", out.Version, s.Version))
	}
	switch {
	case row.Withdrawn.Valid:
		out.State = "withdrawn"
	case row.Key == "":
		out.State = "expected"
	case known && s.Now().Sub(p.seen) < upFor:
		out.State = "up"
	default:
		out.State = "away"
	}
	if out.Links == nil {
		out.Links = []api.NetbootLink{}
	}
	if out.Builds == nil {
		out.Builds = []int{}
	}
	return out, nil
}

// Up tells whether an outpost is there now.
func (s *Sites) Up(name string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	p, known := s.live[name]
	return known && s.Now().Sub(p.seen) < upFor
}

// Sealed tells whether nothing of a slab lies open on the disk of an outpost.
func (s *Sites) Sealed(name string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	p, known := s.live[name]
	return known && p.told.IsSealed
}

// slabKey is what the slabs of an outpost are sealed by, for as long as it does not join anew.
func (s *Sites) slabKey(o *records.Outpost) ([]byte, error) {
	return hkdf.Key(sha256.New, []byte(s.Secret), nil, fmt.Sprintf("slabs of the outpost %s, joined %s", o.Name, o.Joined.Time.UTC().Format(time.RFC3339)), slabstore.KeySize)
}

// StreamsFrom is the address that the streams of an outpost come from, as it told last; empty if it sends none.
func (s *Sites) StreamsFrom(ctx context.Context, name string) string {
	s.mu.Lock()
	p, known := s.live[name]
	s.mu.Unlock()
	if known {
		return p.told.Streams
	}
	row, err := s.Records.Outpost(ctx, name)
	if err != nil || row.Key == "" {
		return ""
	}
	told, err := row.Told()
	if err != nil {
		return ""
	}
	return told.Streams
}

// Add enters an outpost, and makes the code that it joins by.
func (s *Sites) Add(ctx context.Context, in api.NewOutpost) (api.OutpostCode, error) {
	text, row := s.newCode(in.Name)
	row.Note, row.Added = in.Note, s.Now()
	if err := s.Records.AddOutpost(ctx, row); err != nil {
		return api.OutpostCode{}, err
	}
	s.Log.Info("outpost entered", "outpost", in.Name, "by", actor.From(ctx))
	s.Publish(api.SitesChanged{})
	return api.OutpostCode{Name: in.Name, Code: text, Until: row.CodeUntil.Time}, nil
}

// Code makes another code for an outpost, by which the same or another machine takes its place.
func (s *Sites) Code(ctx context.Context, name string) (api.OutpostCode, error) {
	known, err := s.Records.Outpost(ctx, name)
	if err != nil {
		return api.OutpostCode{}, err
	}
	text, row := s.newCode(known.Name)
	s.Log.Info("code for an outpost made", "outpost", known.Name, "by", actor.From(ctx))
	return api.OutpostCode{Name: known.Name, Code: text, Until: row.CodeUntil.Time}, s.Records.SetOutpostCode(ctx, known.Name, row.Code, row.CodeUntil.Time)
}

func (s *Sites) newCode(name string) (text string, row records.Outpost) {
	text, code := trust.NewJoinCode(s.Certificates.Certificate())
	return text, records.Outpost{Name: name, Code: digestOf(code.Secret), CodeUntil: sql.NullTime{Time: s.Now().Add(records.CodeFor), Valid: true}}
}

func digestOf(secret string) string { return slabstore.Sum([]byte(secret)).String() }

// Withdraw ends the trust in an outpost, from its next request on.
func (s *Sites) Withdraw(ctx context.Context, name string) error {
	row, err := s.Records.Outpost(ctx, name)
	if err != nil {
		return err
	}
	if err := s.Records.WithdrawOutpost(ctx, s.Now(), row.Name); err != nil {
		return err
	}
	s.forget(row.Name)
	s.Deliveries.Forsaken(row.Name)
	s.Log.Warn("outpost withdrawn", "outpost", row.Name, "by", actor.From(ctx))
	return nil
}

// Remove forgets an outpost, and ends the trust in it.
func (s *Sites) Remove(ctx context.Context, name string) error {
	row, err := s.Records.Outpost(ctx, name)
	if err != nil {
		return err
	}
	if err := s.Records.RemoveOutpost(ctx, row.Name); err != nil {
		return err
	}
	s.forget(row.Name)
	s.Deliveries.Forsaken(row.Name)
	s.Log.Warn("outpost removed", "outpost", row.Name, "by", actor.From(ctx))
	return nil
}

func (s *Sites) forget(name string) {
	s.mu.Lock()
	for key, of := range s.names {
		if of == name {
			delete(s.names, key)
		}
	}
	delete(s.live, name)
	s.mu.Unlock()
	s.Publish(api.SitesChanged{})
}

var errTooManyCodes = fault.TooMany.Errorf("too many wrong codes from here; try again in a minute")

// Join has whoever knows a code be that outpost.
func (s *Sites) Join(ctx context.Context, from netip.Addr, in api.OutpostJoin) (api.OutpostJoined, error) {
	if !s.tries.Left(from, s.Now()) {
		return api.OutpostJoined{}, errTooManyCodes
	}
	request, err := readRequest(in.Request)
	if err != nil {
		return api.OutpostJoined{}, err
	}
	key := KeyOf(request.RawSubjectPublicKeyInfo)
	row, err := s.Records.JoinOutpost(ctx, s.Now(), digestOf(in.Secret), key)
	if err != nil {
		s.tries.Take(from, s.Now(), wrongAtMost, wrongWithin)
		s.Log.Warn("somebody may not join as an outpost", "from", from, "error", err)
		return api.OutpostJoined{}, err
	}
	s.forget(row.Name)
	s.mu.Lock()
	s.names[key] = row.Name
	s.mu.Unlock()
	s.Log.Info("outpost joined", "outpost", row.Name, "from", from, "version", in.Version)
	return s.certify(ctx, row.Name, request)
}

// Renew makes the next certificate for an outpost, for the key that it has.
func (s *Sites) Renew(ctx context.Context, name, key string, in api.OutpostRenewal) (api.OutpostJoined, error) {
	request, err := readRequest(in.Request)
	if err != nil {
		return api.OutpostJoined{}, err
	}
	if KeyOf(request.RawSubjectPublicKeyInfo) != key {
		return api.OutpostJoined{}, fault.Forbidden.Errorf("an outpost keeps its key; to give it another one, have it join again (jugate outpost code %s)", name)
	}
	return s.certify(ctx, name, request)
}

func (s *Sites) certify(ctx context.Context, name string, request *x509.CertificateRequest) (api.OutpostJoined, error) {
	chain, until, err := s.Certificates.CertifyOutpost(name, request.PublicKey, 0)
	if err != nil {
		return api.OutpostJoined{}, err
	}
	return api.OutpostJoined{Name: name, Certificate: chain}, s.Records.CertifiedOutpost(ctx, name, until)
}

// readRequest reads a request for a certificate, and holds its signature against its key.
func readRequest(der []byte) (*x509.CertificateRequest, error) {
	request, err := x509.ParseCertificateRequest(der)
	if err == nil {
		err = request.CheckSignature()
	}
	if err != nil {
		return nil, fault.Invalid.Errorf("the request for a certificate cannot be taken: %w", err)
	}
	if key, is := request.PublicKey.(*ecdsa.PublicKey); !is || key.Curve != elliptic.P256() {
		return nil, fault.Invalid.Errorf("outposts have keys for ECDSA on P-256")
	}
	return request, nil
}
