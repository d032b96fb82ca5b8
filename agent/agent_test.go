package agent_test

import (
	"bytes"
	"context"
	"encoding/json"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/agent"
	"jugate/api"
	"jugate/apiclient"
	"jugate/core/hwaddr"
	"jugate/core/roster"
	"jugate/sim"
)

var address = hwaddr.MustParse("00:00:5e:00:53:01")

// desk is a service that answers what a test wants, and an agent that works for it.
type desk struct {
	t       *testing.T
	mu      sync.Mutex
	replies []http.HandlerFunc // to GET /standing, in turn; the last one stays
	asked   []string           // method and path of every request
	shown   []string           // texts on the agent's screen
	said    chan string        // the same, as they come
}

func (d *desk) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	d.mu.Lock()
	d.asked = append(d.asked, r.Method+" "+r.URL.Path)
	var next http.HandlerFunc
	if r.URL.Path == "/agent/v1/standing" {
		next = d.replies[0]
		if len(d.replies) > 1 {
			d.replies = d.replies[1:]
		}
	}
	d.mu.Unlock()
	switch {
	case next != nil:
		next(w, r)
	case r.URL.Path == "/agent/v1/check-in":
		json.NewEncoder(w).Encode(api.CheckedIn{Pass: "pass", State: "newcomer"})
	default:
		w.WriteHeader(http.StatusNoContent)
	}
}

func status(code int) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		w.WriteHeader(code)
		json.NewEncoder(w).Encode(api.Problem{Title: http.StatusText(code), Status: code})
	}
}

// forever keeps the question open until the agent goes.
func forever(w http.ResponseWriter, r *http.Request) { <-r.Context().Done() }

func (d *desk) show(s agent.Status) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.shown = append(d.shown, s.Text)
	select {
	case d.said <- s.Text:
	default:
	}
}

// run lets the agent work until it has shown text, and returns what Run returned.
func run(t *testing.T, machine agent.Machine, until string, replies ...http.HandlerFunc) (*desk, error) {
	t.Helper()
	d := &desk{t: t, replies: replies, said: make(chan string, 1000)}
	server := httptest.NewServer(d)
	defer server.Close()
	client, err := apiclient.New(server.URL, "")
	require.NoError(t, err)
	_, certificate := authority()
	client, err = client.Trusting(certificate)
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Minute)
	defer cancel()
	ended := make(chan error, 1)
	go func() { ended <- agent.New(client, machine, agent.Options{Show: d.show}).Run(ctx) }()
	for {
		select {
		case text := <-d.said:
			if text == until {
				cancel()
			}
		case err := <-ended:
			return d, err
		}
	}
}

func machine(disks ...string) *sim.Workstation {
	return &sim.Workstation{Addresses: []hwaddr.Address{address}, Disks: disks, Interface: "lo"}
}

func TestTheScreenSaysWhatTheWorkstationWaitsFor(t *testing.T) {
	for state, text := range map[roster.State]string{
		"newcomer": "new here; waiting to be admitted",
		"admitted": "waiting for an errand",
		"retired":  "retired; the roster has no work for this workstation",
	} {
		_, err := run(t, machine(), text, standing(t, api.Standing{Name: "herb-01", State: state}), forever)
		assert.ErrorIs(t, err, context.Canceled)
	}
}

func TestAPassThatIsNoLongerGoodMeansCheckingInAgain(t *testing.T) {
	d, err := run(t, machine(), "waiting for an errand", status(http.StatusUnauthorized), standing(t, api.Standing{State: "admitted"}), forever)
	assert.ErrorIs(t, err, context.Canceled)
	checkIns := 0
	for _, request := range d.asked {
		if request == "POST /agent/v1/check-in" {
			checkIns++
		}
	}
	assert.Equal(t, 2, checkIns)
}

func TestACaptureWithoutADiskIsToldAndTheAgentGoesOn(t *testing.T) {
	d, err := run(t, machine(), "waiting for an errand",
		standing(t, api.Standing{State: "newcomer", Errand: &api.ToErrand{ID: 7, Kind: "capture", Image: "garden-desk"}}),
		standing(t, api.Standing{State: "admitted"}), forever)
	assert.ErrorIs(t, err, context.Canceled)
	assert.Contains(t, d.asked, "POST /agent/v1/errands/7/fail")
	assert.Contains(t, d.shown, "the capture failed: this workstation has no disk (or its disk controller has no driver here)")
}

func TestAnErrandOfAnUnknownKindIsDeclinedAndTheAgentGoesOn(t *testing.T) {
	d, err := run(t, machine(), "waiting for an errand", standing(t, api.Standing{State: "newcomer", Errand: &api.ToErrand{ID: 9, Kind: "dance"}}),
		standing(t, api.Standing{State: "admitted"}), forever)
	assert.ErrorIs(t, err, context.Canceled)
	assert.Contains(t, d.asked, "POST /agent/v1/errands/9/fail")
}

func TestTroubleOfTheServiceEndsNoAgent(t *testing.T) {
	for _, code := range []int{http.StatusInternalServerError, http.StatusInsufficientStorage, http.StatusBadGateway, http.StatusTooManyRequests} {
		d, err := run(t, machine(), "waiting for an errand", status(code), standing(t, api.Standing{State: "admitted"}), forever)
		assert.ErrorIs(t, err, context.Canceled, "%d", code)
		assert.Contains(t, strings.Join(d.shown, "\n"), "cannot do this now")
	}
}

func TestAMachineWithoutACardIsNobody(t *testing.T) {
	m := machine()
	m.Addresses = nil
	_, err := run(t, m, "", forever)
	assert.ErrorContains(t, err, "no network card")
}

func TestAServiceThatIsAwayIsWaitedFor(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	url := "http://" + l.Addr().String()
	require.NoError(t, l.Close())
	client, err := apiclient.New(url, "")
	require.NoError(t, err)
	d := &desk{t: t, replies: []http.HandlerFunc{forever}, said: make(chan string, 1000)}
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	ended := make(chan error, 1)
	go func() { ended <- agent.New(client, machine(), agent.Options{Show: d.show}).Run(ctx) }()

	waitFor(t, d.said, "does not answer; trying again in")
	l, err = net.Listen("tcp", l.Addr().String())
	require.NoError(t, err)
	server := &http.Server{Handler: d}
	go server.Serve(l)
	defer server.Close()
	waitFor(t, d.said, "the service is back")
	waitFor(t, d.said, "waiting to be admitted")
	cancel()
	assert.ErrorIs(t, <-ended, context.Canceled)
}

func waitFor(t *testing.T, said <-chan string, text string) {
	t.Helper()
	for deadline := time.After(5 * time.Minute); ; {
		select {
		case got := <-said:
			if bytes.Contains([]byte(got), []byte(text)) {
				return
			}
		case <-deadline:
			t.Fatalf("it never showed %q", text)
		}
	}
}

func TestScreenPrintsEachTextOnce(t *testing.T) {
	var out bytes.Buffer
	show := agent.Screen(&out)
	for range 2 {
		show(agent.Status{Text: "new here"})
	}
	show(agent.Status{Name: "herb-01", Text: "receiving", Done: 1, Total: 3})
	show(agent.Status{Name: "herb-01", Text: "receiving", Done: 1, Total: 3})
	assert.Equal(t, "new here\nherb-01: receiving  33 %\n", out.String())
}

// The real machine's inventory is whatever this one has; it must not fail, and
// every address must be one.
func TestHardwareDescribesThisMachine(t *testing.T) {
	inv, err := agent.Hardware{}.Inventory()
	require.NoError(t, err)
	assert.Positive(t, inv.Memory)
	for _, c := range inv.Cards {
		_, err := hwaddr.Parse(c.Address)
		assert.NoError(t, err)
	}
	for i, d := range inv.Disks {
		assert.Positive(t, d.Size, "disk %d", i)
		assert.Contains(t, []int{512, 4096}, d.SectorSize)
	}
	_, err = agent.Hardware{}.OpenDisk(len(inv.Disks))
	assert.Error(t, err)
}
