package service_test

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"jugate/agent"
	"jugate/api"
	"jugate/apiclient"
	"jugate/core/hwaddr"
	"jugate/core/image"
	"jugate/core/trust"
	"jugate/demo/golddisk"
	"jugate/sim"
)

// neighbour hears every packet of the loopback interface, as somebody in the same room hears those of the
// wire.
type neighbour struct {
	socket int
	done   sync.WaitGroup
	heard  bytes.Buffer
}

func listenIn(t *testing.T) *neighbour {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("hearing every packet takes root")
	}
	const all = 0x0300 // ETH_P_ALL in the order of the network
	s, err := unix.Socket(unix.AF_PACKET, unix.SOCK_DGRAM, all)
	require.NoError(t, err)
	require.NoError(t, unix.SetsockoptInt(s, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, 256<<20))
	require.NoError(t, unix.SetsockoptTimeval(s, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Usec: 100_000}))
	require.NoError(t, unix.Bind(s, &unix.SockaddrLinklayer{Protocol: all, Ifindex: 1}))
	return &neighbour{socket: s}
}

// over tells all that was heard while f ran, and fails if the kernel had to drop anything.
func (n *neighbour) over(t *testing.T, f func()) []byte {
	t.Helper()
	ctx, stop := context.WithCancel(t.Context())
	n.done.Go(func() {
		packet := make([]byte, 1<<17)
		for idle := false; ctx.Err() == nil || !idle; {
			size, err := unix.Read(n.socket, packet)
			idle = err != nil
			if err == nil {
				n.heard.Write(packet[:size])
			}
		}
	})
	f()
	stop()
	n.done.Wait()
	statistics, err := unix.GetsockoptTpacketStats(n.socket, unix.SOL_PACKET, unix.PACKET_STATISTICS)
	require.NoError(t, err)
	require.Zero(t, statistics.Drops, "it would have missed something")
	require.NoError(t, unix.Close(n.socket))
	return n.heard.Bytes()
}

// All secrets of people and workstations go by TLS; only what firmware asks for is there to be read.
func TestNobodyOnTheWireLearnsASecret(t *testing.T) {
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	const password, key = "the garden gate is green", "ABCDE-FGHIJ-KLMNO-PQRST-UVWXY"
	secrets := map[string]string{"the key of last resort": h.token, "a password": password, "a secret answer": key}
	heard := listenIn(t).over(t, func() {
		t.Log("# somebody signs in, makes a token and a code for workstations, and types a secret")
		_, err := h.client.AddPerson(ctx, api.NewPerson{Name: "ines", Grants: []api.Grant{everything("administrator")}})
		require.NoError(t, err)
		link, err := h.client.Invite(ctx, "ines")
		require.NoError(t, err)
		secrets["a link to set a password"] = link.Secret
		_, err = h.client.WithToken("").Accept(ctx, link.Secret, api.Acceptance{Password: password})
		require.NoError(t, err)
		session, _, err := h.client.OpenSession(ctx, api.SignIn{Name: "ines", Password: password})
		require.NoError(t, err)
		at, err := url.Parse(h.url + "/api/v1/")
		require.NoError(t, err)
		cookies := session.HTTP().Jar.Cookies(at)
		require.Len(t, cookies, 1)
		secrets["a session"] = cookies[0].Value
		token, err := session.AddToken(ctx, api.NewToken{Name: "nightly"})
		require.NoError(t, err)
		secrets["a token"] = token.Secret
		code, err := h.client.MakeCode(ctx, 1)
		require.NoError(t, err)
		secrets["a code"] = code.Code
		require.NoError(t, h.set("service", map[string]any{"product_key": key}))

		t.Log("# a workstation checks in, somebody signs in at it, and it takes part in a sealed delivery")
		h.start(1, gold(t).Path, 0, "desk-gold")
		require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
		agent, err := apiclient.ForAgent(h.url, h.service.Authority())
		require.NoError(t, err)
		in, err := agent.CheckIn(ctx, api.CheckIn{Boot: "boot", AgentVersion: "test", Addresses: []string{address(2).String()},
			Inventory: api.Inventory{Model: "A310", Disks: []api.Disk{{Model: "sample", Size: 300 * golddisk.MiB, SectorSize: 512}}, Cards: []api.Card{}}})
		require.NoError(t, err)
		secrets["a pass"] = in.Pass
		agent = agent.WithToken(in.Pass)
		_, err = h.client.Admit(ctx, address(2).String(), api.Admission{Name: "herb-01"})
		require.NoError(t, err)
		_, err = agent.SignIn(ctx, api.Typed{Code: code.Code})
		require.NoError(t, err)
		_, err = h.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}, Sealed: true})
		require.NoError(t, err)
		var standing api.Standing
		h.eventually(func() bool { standing, err = agent.Standing(ctx); return err == nil && standing.Errand != nil })
		seal := standing.Errand.Receive.SealKey
		require.NotEmpty(t, seal)
		secrets["the key of a sealed delivery"], secrets["that key in JSON"] = string(seal), base64.StdEncoding.EncodeToString(seal)

		t.Log("# a loader asks plainly, and so does somebody who has not noticed")
		plain := strings.Replace(h.url, "https:", "http:", 1)
		resp, err := http.Get(plain + "/boot/script/efi/y/" + address(2).String() + "?canary=heard-in-the-room")
		require.NoError(t, err)
		resp.Body.Close()
	})
	require.Contains(t, string(heard), "heard-in-the-room", "the neighbour hears what is said plainly")
	for what, secret := range secrets {
		require.NotEmpty(t, secret, what)
		assert.NotContains(t, string(heard), secret, what)
	}
}

// Without TLS there are boot files and nothing else.
func TestPlainHTTPHasBootFilesAlone(t *testing.T) {
	h := open(t, t.TempDir(), "127.0.0.1:0")
	plain := strings.Replace(h.url, "https:", "http:", 1)
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	ask := func(method, path string) (*http.Response, string) {
		r, err := http.NewRequestWithContext(t.Context(), method, plain+path, strings.NewReader("{}"))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set("Authorization", "Bearer "+h.token)
		resp, err := client.Do(r)
		require.NoError(t, err)
		defer resp.Body.Close()
		var body bytes.Buffer
		_, err = body.ReadFrom(resp.Body)
		require.NoError(t, err)
		return resp, body.String()
	}
	n := 0
	for _, o := range operations(t) {
		resp, body := ask(o.Method, "/api/v1"+inPath.ReplaceAllString(o.Path, "7"))
		assert.Equal(t, http.StatusForbidden, resp.StatusCode, o.ID)
		assert.Contains(t, body, "end it and make another", o.ID)
		n++
	}
	require.Greater(t, n, 100)
	for _, path := range []string{"/agent/v1/check-in", "/agent/v1/standing", "/healthz", "/readyz", "/assets/x.js", "/api/v1/openapi.json", "/", "/boot/", "/boot/files/../../api/v1/people"} {
		resp, _ := ask(http.MethodGet, path)
		assert.Contains(t, []int{http.StatusForbidden, http.StatusNotFound}, resp.StatusCode, path)
	}
	t.Log("# a browser is sent where the console is")
	resp, err := client.Get(plain + "/workstations")
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, h.url+"/workstations", resp.Header.Get("Location"))
}

// A pass is good with the key of the agent that checked in.
func TestAPassIsOfNoUseToAnotherMachine(t *testing.T) {
	h := open(t, t.TempDir(), "127.0.0.1:0")
	agent, err := apiclient.ForAgent(h.url, h.service.Authority())
	require.NoError(t, err)
	other, err := apiclient.ForAgent(h.url, h.service.Authority())
	require.NoError(t, err)
	in, err := agent.CheckIn(t.Context(), api.CheckIn{Boot: "boot", AgentVersion: "test", Addresses: []string{address(2).String()}, Inventory: api.Inventory{Disks: []api.Disk{}, Cards: []api.Card{}}})
	require.NoError(t, err)
	busy := api.Activity{Text: "here"}
	assert.NoError(t, agent.WithToken(in.Pass).TellActivity(t.Context(), busy))
	for name, c := range map[string]*apiclient.Client{"another key": other, "no key": h.client.WithToken("")} {
		assert.Equal(t, http.StatusUnauthorized, status(c.WithToken(in.Pass).TellActivity(t.Context(), busy)), name)
	}
}

// Whoever has the key that the service shows by TLS can stand in between, and hear and change everything. What a
// workstation does is not theirs to say.
func TestWhoHasTheKeyOfTLSGivesNoErrands(t *testing.T) {
	h := open(t, t.TempDir(), "127.0.0.1:0")
	h.start(1, gold(t).Path, 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)

	stolen, err := os.ReadFile(filepath.Join(h.data, "service.pem"))
	require.NoError(t, err)
	pair, err := tls.X509KeyPair(stolen, stolen)
	require.NoError(t, err)
	thief := trust.Signer{Key: pair.PrivateKey.(*ecdsa.PrivateKey), Certificate: pair.Leaf}
	target, err := url.Parse(h.url)
	require.NoError(t, err)
	own, err := apiclient.ForAgent(h.url, h.service.Authority())
	require.NoError(t, err)
	var changed atomic.Int64
	between := httptest.NewUnstartedServer(&httputil.ReverseProxy{
		Transport: own.HTTP().Transport, Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(target) }, ErrorLog: log.New(io.Discard, "", 0),
		ModifyResponse: func(r *http.Response) error {
			if r.Request.URL.Path != "/agent/v1/standing" {
				return nil
			}
			var now api.Standing
			if err := json.NewDecoder(r.Body).Decode(&now); err != nil {
				return err
			}
			if now.Signed != "" {
				pass := strings.TrimPrefix(r.Request.Header.Get("Authorization"), "Bearer ")
				var e api.ToErrand
				if err := trust.OpenSigned(now.Signed, h.service.Authority(), api.SignedErrand, pass, &e); err != nil {
					return err
				}
				e.Receive.Disk, e.Receive.WhenDone = "largest", "power-off"
				forged, err := thief.Sign(api.SignedErrand, pass, e)
				if err != nil {
					return err
				}
				now.Signed = forged
				changed.Add(1)
			}
			b, err := json.Marshal(now)
			r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(b)), int64(len(b))
			r.Header.Set("Content-Length", strconv.Itoa(len(b)))
			return err
		},
	})
	between.TLS = &tls.Config{Certificates: []tls.Certificate{pair}}
	between.StartTLS()
	defer between.Close()

	fooled, err := apiclient.ForAgent(between.URL, h.service.Authority())
	require.NoError(t, err)
	disk := blank(t, 300*golddisk.MiB)
	said := make(chan string, 1000)
	w := &sim.Workstation{Addresses: []hwaddr.Address{address(2)}, Model: "A310", Disks: []string{disk}, Interface: "lo"}
	ctx, cancel := context.WithCancel(t.Context())
	var done sync.WaitGroup
	done.Go(func() { agent.New(fooled, w, agent.Options{Show: func(s agent.Status) { said <- s.Text }}).Run(ctx) })
	defer done.Wait()
	defer cancel()
	h.eventually(func() bool { _, err := h.client.Workstation(ctx, address(2).String()); return err == nil })
	_, err = h.client.Admit(ctx, address(2).String(), api.Admission{Name: "herb-01"})
	require.NoError(t, err)
	_, err = h.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}})
	require.NoError(t, err)
	for text := range said {
		if strings.Contains(text, "is not taken: it is not signed by the service") {
			break
		}
		require.NotContains(t, text, "preparing to receive")
	}
	assert.Positive(t, changed.Load())
	content, err := os.ReadFile(disk)
	require.NoError(t, err)
	assert.True(t, image.AllZero(content), "nothing was written")
}

func TestAnAgentThatChecksNoSignaturesIsNotLetIn(t *testing.T) {
	h := open(t, t.TempDir(), "127.0.0.1:0")
	_, err := h.client.WithToken("").CheckIn(t.Context(), api.CheckIn{Boot: "boot", AgentVersion: "0.2.0", Addresses: []string{address(2).String()}, Inventory: api.Inventory{Disks: []api.Disk{}, Cards: []api.Card{}}})
	assert.Equal(t, http.StatusForbidden, status(err))
	assert.ErrorContains(t, err, "jugate environment build --offer")
}
