package sites_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"log/slog"
	"net/netip"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/environment/builds"
	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/netboot"
	"jugate/core/parts"
	"jugate/core/trust"
	"jugate/records"
	"jugate/records/recordstest"
	"jugate/service/access"
	"jugate/service/sites"
)

// heard are steps that the service's network boot was told.
type heard struct{ marks []netboot.Mark }

func (h *heard) Hear(_ hwaddr.Address, m netboot.Mark) { h.marks = append(h.marks, m) }
func (h *heard) NoteModel(_ hwaddr.Address, _ string)  {}

var from = netip.MustParseAddr("198.51.100.2")

type desk struct {
	*sites.Sites
	t     *testing.T
	now   time.Time
	heard *heard
	close chan struct{}
}

func newDesk(t *testing.T) *desk {
	dir := t.TempDir()
	d := &desk{t: t, now: time.Date(2026, 11, 29, 8, 0, 0, 0, time.UTC), heard: &heard{}, close: make(chan struct{})}
	clock := func() time.Time { return d.now }
	log := slog.New(slog.DiscardHandler)
	a, err := access.Open(dir, access.Names{}, log, clock)
	require.NoError(t, err)
	db := recordstest.Open(t, d.now)
	b, err := builds.Open(filepath.Join(dir, "bootenv"))
	require.NoError(t, err)
	e, err := parts.Open(filepath.Join(dir, "entries"))
	require.NoError(t, err)
	d.Sites = &sites.Sites{Multicast: func() api.OutpostMulticast { return api.OutpostMulticast{} }, Records: db, Certificates: a.Certificates, Boot: d.heard, Builds: b, Entries: e, Deliveries: nothing{}, Log: log, Now: clock, Publish: func(any) {}, Closing: d.close}
	require.NoError(t, d.Load(t.Context()))
	return d
}

// join joins by a code, with a key.
func (d *desk) join(code string, key any) (*x509.Certificate, error) {
	d.t.Helper()
	read, err := trust.ParseJoinCode(code)
	require.NoError(d.t, err)
	request, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{DNSNames: []string{"jugate.fennholt.example"}}, key)
	require.NoError(d.t, err)
	out, err := d.Join(d.t.Context(), from, api.OutpostJoin{Secret: read.Secret, Request: request})
	if err != nil {
		return nil, err
	}
	return trust.Certificate([]byte(out.Certificate))
}

func newKey(t *testing.T) *ecdsa.PrivateKey {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	return key
}

func TestWhoIsAnOutpost(t *testing.T) {
	d := newDesk(t)
	ctx := t.Context()
	code, err := d.Add(ctx, api.NewOutpost{Name: "alpine"})
	require.NoError(t, err)
	_, ed, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	_, err = d.join(code.Code, ed)
	assert.Equal(t, fault.Invalid, fault.KindOf(err), "a key of another kind")
	_, err = d.Join(ctx, from, api.OutpostJoin{Secret: "x", Request: []byte("no request")})
	assert.Equal(t, fault.Invalid, fault.KindOf(err))
	key := newKey(t)
	certificate, err := d.join(code.Code, key)
	require.NoError(t, err)
	assert.Empty(t, certificate.DNSNames, "no name that it asks for")
	assert.Error(t, certificate.VerifyHostname("jugate.fennholt.example"))
	name, is := d.Who(certificate)
	assert.True(t, is)
	assert.Equal(t, "alpine", name)

	t.Log("# a certificate of somebody else's for the same key, and one that is too old, are none")
	forged := &x509.Certificate{SerialNumber: certificate.SerialNumber, Subject: certificate.Subject, NotBefore: certificate.NotBefore, NotAfter: certificate.NotAfter, ExtKeyUsage: certificate.ExtKeyUsage}
	der, err := x509.CreateCertificate(rand.Reader, forged, forged, &key.PublicKey, key)
	require.NoError(t, err)
	forged, err = x509.ParseCertificate(der)
	require.NoError(t, err)
	_, is = d.Who(forged)
	assert.False(t, is)
	d.now = d.now.Add(31 * 24 * time.Hour)
	_, is = d.Who(certificate)
	assert.False(t, is)

	t.Log("# the next one is for the key that it has")
	renewal := func(key any) (api.OutpostJoined, error) {
		request, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{}, key)
		require.NoError(t, err)
		return d.Renew(ctx, "alpine", sites.KeyOf(certificate.RawSubjectPublicKeyInfo), api.OutpostRenewal{Request: request})
	}
	_, err = renewal(newKey(t))
	assert.Equal(t, fault.Forbidden, fault.KindOf(err))
	out, err := renewal(key)
	require.NoError(t, err)
	certificate, err = trust.Certificate([]byte(out.Certificate))
	require.NoError(t, err)
	_, is = d.Who(certificate)
	assert.True(t, is)

	t.Log("# another machine takes its place by another code, and the first is none any more")
	code, err = d.Code(ctx, "alpine")
	require.NoError(t, err)
	_, is = d.Who(certificate)
	assert.True(t, is, "until the code is used")
	second, err := d.join(code.Code, newKey(t))
	require.NoError(t, err)
	_, is = d.Who(certificate)
	assert.False(t, is)
	require.NoError(t, d.Load(ctx))
	_, is = d.Who(second)
	assert.True(t, is, "also after a restart")

	t.Log("# a code ends after a day, and wrong ones are counted")
	code, err = d.Code(ctx, "alpine")
	require.NoError(t, err)
	d.now = d.now.Add(records.CodeFor)
	_, err = d.join(code.Code, newKey(t))
	assert.ErrorIs(t, err, records.ErrCode)
	for range 9 {
		_, err = d.join(code.Code, newKey(t))
	}
	assert.Equal(t, fault.Forbidden, fault.KindOf(err))
	_, err = d.join(code.Code, newKey(t))
	assert.Equal(t, fault.TooMany, fault.KindOf(err))
}

// A machine's steps come by the outpost's clock, which may be wrong.
func TestStepsOfAWrongClock(t *testing.T) {
	d := newDesk(t)
	for off, want := range map[time.Duration]time.Duration{0: -time.Second, 2 * time.Second: time.Second, 48 * time.Hour: -time.Second, -time.Hour: -time.Second} {
		d.heard.marks = nil
		there := d.now.Add(off)
		require.NoError(t, d.Hear(t.Context(), "alpine", api.OutpostSteps{Now: there, Steps: []api.OutpostStep{{At: there.Add(-time.Second), Step: netboot.StepKernel, Detail: "build 1"}}}))
		assert.Equal(t, []netboot.Mark{{At: d.now.Add(want), Step: netboot.StepKernel, Detail: "alpine: build 1"}}, d.heard.marks, "%v", off)
	}
}

// nothing is delivered.
type nothing struct{ sites.Deliveries }

func (nothing) PartsAt(string) ([]api.OutpostDelivery, error) { return nil, nil }
func (nothing) Forsaken(string)                               {}

// Whoever copies the data folder of an outpost onto a second machine is told.
func TestTheSameOutpostTwice(t *testing.T) {
	d := newDesk(t)
	ctx := t.Context()
	_, err := d.Add(ctx, api.NewOutpost{Name: "alpine"})
	require.NoError(t, err)
	trouble := func(runs ...string) string {
		for _, run := range runs {
			d.now = d.now.Add(5 * time.Second)
			_, err := d.Tell(ctx, "alpine", api.OutpostCalls{OutpostTells: api.OutpostTells{Links: []api.NetbootLink{}, Builds: []int{}}, Run: run})
			require.NoError(t, err)
		}
		o, err := d.Show(ctx, "alpine")
		require.NoError(t, err)
		return o.Trouble
	}
	assert.Empty(t, trouble("a", "a", "b", "b", "c"), "it was started again, and again")
	assert.Contains(t, trouble("d", "c"), "two machines say that they are this outpost")
	assert.Empty(t, trouble("d", "d", "d", "d", "d", "d", "d", "d", "d", "d", "d"), "one of them was stopped")
}

func TestStepsThatCannotBe(t *testing.T) {
	d := newDesk(t)
	require.NoError(t, d.Hear(t.Context(), "alpine", api.OutpostSteps{Now: d.now, Steps: []api.OutpostStep{{At: d.now, Step: "dance"}, {At: d.now.Add(time.Hour), Step: netboot.StepAgent}}}))
	assert.Equal(t, []netboot.Mark{{At: d.now, Step: netboot.StepAgent, Detail: "alpine: "}}, d.heard.marks)
}

func TestAnOutpostHearsOfWhatIsNew(t *testing.T) {
	d := newDesk(t)
	_, err := d.Add(t.Context(), api.NewOutpost{Name: "alpine"})
	require.NoError(t, err)
	told := api.OutpostTells{Links: []api.NetbootLink{}, Builds: []int{}}
	work, err := d.Tell(t.Context(), "alpine", api.OutpostCalls{OutpostTells: told})
	require.NoError(t, err)
	require.NotEmpty(t, work.Mark)
	ended := make(chan api.OutpostWork)
	go func() {
		next, _ := d.Tell(context.Background(), "alpine", api.OutpostCalls{OutpostTells: told, Knows: work.Mark})
		ended <- next
	}()
	require.NoError(t, d.Records.Offer(t.Context(), d.now, 7, "somebody"))
	for { // until it waits
		d.Heard(api.BootStepped{})
		select {
		case next := <-ended:
			assert.Equal(t, 7, next.Offered)
			close(d.close)
			same, err := d.Tell(t.Context(), "alpine", api.OutpostCalls{OutpostTells: told, Knows: next.Mark})
			require.NoError(t, err)
			assert.Equal(t, next.Mark, same.Mark, "nobody waits while the service closes")
			return
		default:
			runtime.Gosched()
		}
	}
}
