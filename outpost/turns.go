package outpost

import (
	"context"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"net/netip"
	"os"
	"slices"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"jugate/core/fault"
	"jugate/core/netboot"
	"jugate/core/trust"
	"jugate/wire"
)

// turns lets one of several outposts of a service answer network boot in a subnet: the first by name. Each says so once a
// second to the others on the same wire, signed by its key; who hears one with a name before its own is silent, until that
// has not been heard for a while.
type turns struct {
	o *Outpost

	mu    sync.Mutex
	run   int64 // of this program: later ones have larger numbers
	said  int64
	heard map[string]map[string]neighbour // by interface, by name
}

// neighbour is another outpost on the same wire.
type neighbour struct {
	run, number int64 // of its last beacon: older ones are not believed again
	seen        time.Time
}

const (
	// beaconEvery is how often an outpost says that it answers on a wire, and goneAfter how long another one waits for that.
	beaconEvery = time.Second
	goneAfter   = 5 * time.Second
	// beaconAtMost bounds a beacon, in bytes, neighboursAtMost how many others are listened to on a wire, and heardAtMost how many
	// beacons a second.
	beaconAtMost     = 4096
	neighboursAtMost = 64
	heardAtMost      = 100
)

// beacons go to the last address of the range that streams take theirs from by default, one port on, and no further than the wire.
var beacons = netip.MustParseAddrPort("239.255.0.255:6004")

// beacon is what an outpost says on a wire.
type beacon struct {
	Outpost string `json:"outpost"`
	Run     int64  `json:"run"`
	Number  int64  `json:"number"`
}

// signed is a beacon as it goes over the wire: the JSON of a beacon, the certificate of its sender (DER), and an ECDSA signature
// of the SHA-256 of the former (ASN.1).
type signed struct {
	Beacon      json.RawMessage `json:"beacon"`
	Certificate []byte          `json:"certificate"`
	Signature   []byte          `json:"signature"`
}

// start says and hears beacons on the interfaces that answer network boot, until ctx ends.
func (t *turns) start(ctx context.Context) {
	t.run, t.heard = t.o.config.Now().UnixMilli(), map[string]map[string]neighbour{}
	for _, i := range t.o.config.Netboot.Interfaces {
		if i.Mode == netboot.Off {
			continue
		}
		c := wire.Config{Group: beacons, Interface: i.Name, TTL: 1}
		in, err := wire.Listen(c)
		if err == nil {
			var out *wire.Socket
			if out, err = wire.Dial(c); err == nil {
				t.o.work.Go(func() { t.say(ctx, out) })
				t.o.work.Go(func() { t.hear(ctx, in, i.Name) })
				continue
			}
			in.Close()
		}
		t.o.config.Log.Warn("other outposts on this wire are not noticed", "interface", i.Name, "error", err)
	}
}

// say says beacons until ctx ends.
func (t *turns) say(ctx context.Context, out *wire.Socket) {
	defer out.Close()
	again := time.NewTicker(beaconEvery)
	defer again.Stop()
	for {
		b, err := t.next()
		if err == nil {
			err = out.Send(ctx, b)
		}
		if err != nil && ctx.Err() == nil {
			t.o.config.Log.Debug("a beacon could not be sent", "error", err)
		}
		select {
		case <-again.C:
		case <-ctx.Done():
			return
		}
	}
}

// next makes the next beacon.
func (t *turns) next() ([]byte, error) {
	t.mu.Lock()
	t.said++
	text, err := json.Marshal(beacon{t.o.Name(), t.run, t.said})
	t.mu.Unlock()
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(text)
	signature, err := ecdsa.SignASN1(rand.Reader, t.o.identity.key, sum[:])
	if err != nil {
		return nil, err
	}
	own, _ := t.o.identity.certificate()
	return json.Marshal(signed{text, own.Certificate[0], signature})
}

// hear takes beacons until ctx ends.
func (t *turns) hear(ctx context.Context, in *wire.Socket, ifname string) {
	defer in.Close()
	defer context.AfterFunc(ctx, func() { in.SetReadDeadline(time.Unix(1, 0)) })()
	may := rate.NewLimiter(heardAtMost, heardAtMost)
	batch := []wire.Message{{Buffers: [][]byte{make([]byte, beaconAtMost)}}}
	for ctx.Err() == nil {
		n, err := in.ReadBatch(batch, 0)
		if err != nil && !errors.Is(err, os.ErrDeadlineExceeded) {
			select { // the interface may be down
			case <-time.After(beaconEvery):
			case <-ctx.Done():
			}
			continue
		}
		for _, m := range batch[:max(n, 0)] {
			if !may.Allow() {
				continue
			}
			if err := fault.Guard(func() error { return t.take(t.o.config.Now(), ifname, m.Buffers[0][:m.N]) }); err != nil {
				t.o.config.Log.Debug("a beacon is not believed", "interface", ifname, "error", err)
			}
		}
	}
}

var (
	errBeacon   = errors.New("this is no beacon")
	errOld      = errors.New("it was heard before, or is older")
	errNoRoom   = errors.New("too many outposts are on this wire")
	errStranger = errors.New("its sender is no outpost of this service")
)

// take takes a beacon from an interface.
func (t *turns) take(now time.Time, ifname string, text []byte) error {
	var s signed
	var b beacon
	if json.Unmarshal(text, &s) != nil || json.Unmarshal(s.Beacon, &b) != nil || b.Outpost == "" || len(b.Outpost) > 63 {
		return errBeacon
	}
	if b.Outpost == t.o.Name() {
		return nil // its own
	}
	c, err := x509.ParseCertificate(s.Certificate)
	if err != nil {
		return errBeacon
	}
	if !t.o.identity.isOutpost(c, t.o.deliveries.clock.Now()) {
		return errStranger
	}
	key, is := c.PublicKey.(*ecdsa.PublicKey)
	if sum := sha256.Sum256(s.Beacon); !is || !ecdsa.VerifyASN1(key, sum[:], s.Signature) {
		return errStranger
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	here := t.heard[ifname]
	if here == nil {
		here = map[string]neighbour{}
		t.heard[ifname] = here
	}
	before, known := here[b.Outpost]
	if !known && len(here) >= neighboursAtMost {
		return errNoRoom
	}
	if b.Run < before.run || b.Run == before.run && b.Number <= before.number {
		return errOld
	}
	if now.Sub(before.seen) >= goneAfter {
		t.o.config.Log.Info("another outpost answers on this wire", "interface", ifname, "other", b.Outpost, "silent", b.Outpost < t.o.Name())
	}
	here[b.Outpost] = neighbour{b.Run, b.Number, now}
	return nil
}

// silent is the outpost that answers on an interface in place of this one; empty if there is none.
func (t *turns) silent(ifname string) string {
	t.mu.Lock()
	defer t.mu.Unlock()
	now := t.o.config.Now()
	var others []string
	for name, n := range t.heard[ifname] {
		if name < t.o.Name() && now.Sub(n.seen) < goneAfter {
			others = append(others, name)
		}
	}
	if len(others) == 0 {
		return ""
	}
	return slices.Min(others)
}

// isOutpost tells whether a certificate is that of an outpost of the same service, and good now.
func (i *identity) isOutpost(c *x509.Certificate, now time.Time) bool {
	block, _ := pem.Decode(i.authority)
	if block == nil {
		return false
	}
	authority, err := x509.ParseCertificate(block.Bytes)
	return err == nil && trust.IsOutpost(c, authority, now)
}
