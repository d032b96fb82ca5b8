package service_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/hwaddr"
	"jugate/demo/golddisk"
	"jugate/service"
	"jugate/sim"
)

func TestTheConsoleSignsInWithACookie(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	call := func(method, path, body string, change func(*http.Request)) *http.Response {
		req, err := http.NewRequest(method, h.url+path, strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/json")
		if change != nil {
			change(req)
		}
		resp, err := h.client.HTTP().Do(req)
		require.NoError(t, err)
		resp.Body.Close()
		return resp
	}
	assert.Equal(t, 401, call("GET", "/api/v1/session", "", nil).StatusCode)
	assert.Equal(t, 401, call("POST", "/api/v1/session", `{"token":"wrong"}`, nil).StatusCode)
	in := call("POST", "/api/v1/session", fmt.Sprintf(`{"token":%q}`, h.token), nil)
	require.Equal(t, 200, in.StatusCode)
	require.Len(t, in.Cookies(), 1)
	cookie := in.Cookies()[0]
	assert.True(t, cookie.HttpOnly)
	assert.True(t, cookie.Secure)
	assert.Equal(t, http.SameSiteStrictMode, cookie.SameSite)
	assert.NotContains(t, cookie.Value, h.token, "the cookie is not the token")
	signed := func(r *http.Request) { r.AddCookie(cookie) }
	assert.Equal(t, 200, call("GET", "/api/v1/session", "", signed).StatusCode)
	assert.Equal(t, 200, call("GET", "/api/v1/workstations", "", signed).StatusCode)

	t.Log("# another site cannot use the cookie to change anything")
	foreign := func(r *http.Request) { signed(r); r.Header.Set("Sec-Fetch-Site", "cross-site") }
	assert.Equal(t, 403, call("POST", "/api/v1/groups", `{"name":"x"}`, foreign).StatusCode)

	assert.Less(t, call("DELETE", "/api/v1/session", "", signed).StatusCode, 300)
	assert.Equal(t, 401, call("GET", "/api/v1/session", "", signed).StatusCode)
}

func TestTheConsoleIsServed(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	for _, path := range []string{"/", "/deliveries/7"} {
		resp, err := h.client.HTTP().Get(h.url + path)
		require.NoError(t, err)
		var page bytes.Buffer
		_, err = page.ReadFrom(resp.Body)
		resp.Body.Close()
		require.NoError(t, err)
		assert.Equal(t, 200, resp.StatusCode)
		assert.Contains(t, page.String(), `<div id="root">`)
		assert.Contains(t, resp.Header.Get("Content-Security-Policy"), "default-src 'none'; script-src 'self'")
	}
}

func TestTheOpenAPIDocumentIsServedToAnyone(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	resp, err := h.client.HTTP().Get(h.url + "/api/v1/openapi.json")
	require.NoError(t, err)
	defer resp.Body.Close()
	var doc struct {
		OpenAPI string
		Paths   map[string]map[string]any
	}
	require.NoError(t, json.NewDecoder(resp.Body).Decode(&doc))
	assert.Equal(t, "3.1.0", doc.OpenAPI)
	for path, method := range map[string]string{
		"/workstations": "get", "/workstations/{workstation}/admit": "post", "/groups/{group}/include": "post", "/images": "get", "/captures": "post",
		"/deliveries": "post", "/deliveries/{delivery}/stop": "post", "/receipts": "get", "/events": "get", "/session": "post",
	} {
		assert.Contains(t, doc.Paths[path], method, path)
	}
	offline, err := service.OpenAPI()
	require.NoError(t, err)
	assert.Contains(t, string(offline), `"openapi": "3.1.0"`)
}

func TestGroups(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	_, err := h.client.AddGroup(ctx, api.NewGroup{Name: "seed bank"})
	assert.ErrorContains(t, err, "cannot be the name of a group")
	_, err = h.client.AddGroup(ctx, api.NewGroup{Name: "seed-bank-lab"})
	require.NoError(t, err)
	_, err = h.client.AddGroup(ctx, api.NewGroup{Name: "Seed-Bank-Lab"})
	assert.ErrorContains(t, err, "there is a group")

	h.start(1, blank(t, golddisk.MiB), 0, "")
	ref := address(1).String()
	include := func(group string, refs ...string) error {
		_, err := h.client.Include(ctx, group, api.GroupMembers{Workstations: refs})
		return err
	}
	exclude := func(refs ...string) error {
		_, err := h.client.Exclude(ctx, "seed-bank-lab", api.GroupMembers{Workstations: refs})
		return err
	}
	assert.ErrorContains(t, include("seed-bank-lab", ref), "admit it first")
	_, err = h.client.Admit(ctx, ref, api.Admission{Name: "seed-01", Groups: []string{"seed-bank-lab"}})
	require.NoError(t, err)
	assert.NoError(t, include("seed-bank-lab", "seed-01"), "twice is once")
	assert.ErrorContains(t, include("nobody", "seed-01"), "there is no group nobody")
	groups, err := h.client.Groups(ctx, apiclient.List{})
	require.NoError(t, err)
	assert.Equal(t, []api.Group{{Name: "seed-bank-lab", Workstations: 1}}, groups.Items)
	t.Log("# all or none")
	_, err = h.client.Admit(ctx, address(2).String(), api.Admission{Name: "seed-02"})
	require.NoError(t, err)
	assert.ErrorContains(t, include("seed-bank-lab", "seed-02", "seed-99"), "there is no group and no workstation seed-99")
	assert.ErrorContains(t, exclude("seed-01", "seed-02"), "seed-02 is not in the group seed-bank-lab")
	groups, err = h.client.Groups(ctx, apiclient.List{})
	require.NoError(t, err)
	assert.Equal(t, []api.Group{{Name: "seed-bank-lab", Workstations: 1}}, groups.Items)
	require.NoError(t, include("seed-bank-lab", "seed-01", "seed-02"))
	require.NoError(t, exclude("seed-01", "seed-02"))
	assert.Error(t, exclude("seed-01"))
	require.NoError(t, h.client.RemoveGroup(ctx, "seed-bank-lab"))
	assert.True(t, apiclient.IsNotFound(h.client.RemoveGroup(ctx, "seed-bank-lab")))
}

func TestAWorkstationMayBeRenamedAndComeBackFromRetirement(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	h.start(1, blank(t, golddisk.MiB), 0, "herb-01")
	_, err := h.client.Admit(t.Context(), "herb-01", api.Admission{Name: "herb-09"})
	assert.ErrorContains(t, err, "it is in the roster already, as herb-01")
	w, err := h.client.RenameWorkstation(t.Context(), "herb-01", "herb-09")
	require.NoError(t, err)
	assert.Equal(t, "herb-09", w.Name)
	_, err = h.client.AddGroup(t.Context(), api.NewGroup{Name: "Herb-09"})
	assert.ErrorContains(t, err, "a workstation is called herb-09")
	_, err = h.client.AddGroup(t.Context(), api.NewGroup{Name: "herbarium"})
	require.NoError(t, err)
	_, err = h.client.RenameWorkstation(t.Context(), "herb-09", "Herbarium")
	assert.ErrorContains(t, err, "a group is called herbarium")
	t.Log("# an order that fails leaves nothing behind")
	for _, in := range []api.Admission{{Name: "herb-09"}, {Name: "herb-02", Groups: []string{"nobody"}}} {
		_, err = h.client.Admit(t.Context(), address(77).String(), in)
		require.Error(t, err)
		_, err = h.client.Workstation(t.Context(), address(77).String())
		assert.True(t, apiclient.IsNotFound(err), in.Name)
	}
	w, err = h.client.Retire(t.Context(), "herb-09")
	require.NoError(t, err)
	assert.EqualValues(t, "retired", w.State)
	_, err = h.client.Retire(t.Context(), "herb-09")
	assert.True(t, apiclient.IsNotFound(err))
	_, err = h.client.Capture(t.Context(), api.NewCapture{Workstation: "herb-09", Image: "x"})
	assert.ErrorContains(t, err, "herb-09 is retired")
	t.Log("# who has a name is said, and can be given another")
	_, err = h.client.Admit(t.Context(), address(78).String(), api.Admission{Name: "herb-09"})
	assert.ErrorContains(t, err, "a retired workstation is called herb-09 ("+address(1).String()+" AW-0001); give that another name first")
	w, err = h.client.Admit(t.Context(), "herb-09", api.Admission{Name: "herb-09"})
	require.NoError(t, err)
	assert.EqualValues(t, "admitted", w.State)
}

func TestACaptureCanBeTakenBack(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	off := h.start(1, gold(t).Path, 0, "desk-gold")
	off()
	e, err := h.client.Capture(t.Context(), api.NewCapture{Workstation: "desk-gold", Image: "garden-desk"})
	require.NoError(t, err)
	assert.EqualValues(t, "waiting", e.State)
	_, err = h.client.Retire(t.Context(), "desk-gold")
	assert.ErrorContains(t, err, "has an errand to do")
	e, err = h.client.StopErrand(t.Context(), e.ID)
	require.NoError(t, err)
	assert.EqualValues(t, "stopped", e.State)
	assert.Contains(t, e.Error, "administrator")
	_, err = h.client.StopErrand(t.Context(), e.ID)
	assert.Error(t, err)
	_, err = h.client.StopErrand(t.Context(), 99)
	assert.True(t, apiclient.IsNotFound(err))
}

func TestALateComerGetsTheImageToo(t *testing.T) {
	h := open(t, t.TempDir(), "127.0.0.1:0")
	disk := gold(t)
	h.start(1, disk.Path, 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	h.start(2, blank(t, disk.Size), 0, "herb-01")
	late := blank(t, disk.Size)
	w := &sim.Workstation{Addresses: []hwaddr.Address{address(3)}, Disks: []string{late}, Interface: "lo"}
	h.startMachine(w, "herb-02")()
	never := &sim.Workstation{Addresses: []hwaddr.Address{address(4)}, Disks: []string{blank(t, disk.Size)}, Interface: "lo"}
	h.startMachine(never, "herb-03")()

	d, err := h.client.Deliver(t.Context(), api.NewDelivery{Image: "garden-desk", To: []string{"herb-01", "herb-02", "herb-03"}, Start: "first", Rate: 16_000_000})
	require.NoError(t, err)
	h.eventually(func() bool {
		now, err := h.client.Delivery(t.Context(), d.ID)
		return err == nil && now.SentSlabs > 2
	})
	h.startMachine(w, "") // it is switched on while the stream runs
	h.eventually(func() bool {
		d, err = h.client.Delivery(t.Context(), d.ID)
		return err == nil && d.Ended != nil
	})
	receipts := h.receipts(d.ID)
	assert.EqualValues(t, "delivered", receipts["herb-01"].Outcome)
	assert.Zero(t, receipts["herb-01"].Unicast)
	assert.EqualValues(t, "delivered", receipts["herb-02"].Outcome, receipts["herb-02"].Reason)
	assert.Positive(t, receipts["herb-02"].Unicast, "what it missed was mended")
	assert.NoError(t, disk.On(late).Check(t.Context()))
	assert.EqualValues(t, "absent", receipts["herb-03"].Outcome)
	assert.Nil(t, receipts["herb-03"].Started)
	for _, m := range d.Members {
		assert.EqualValues(t, "ended", m.Phase)
	}
}

func TestTwoDeliveriesAtOnceDoNotMix(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	one, two := gold(t), gold(t)
	require.NoError(t, two.AddFile(t.Context(), "the-other-one", bytes.Repeat([]byte("moss"), 500_000)))
	h.start(1, one.Path, 0, "desk-one")
	h.start(2, two.Path, 0, "desk-two")
	require.EqualValues(t, "done", h.capture("desk-one", "one").State)
	require.EqualValues(t, "done", h.capture("desk-two", "two").State)
	targets := map[string]string{"one": blank(t, one.Size), "two": blank(t, two.Size)}
	h.start(3, targets["one"], 0, "herb-one")
	h.start(4, targets["two"], 0, "herb-two")
	first, err := h.client.Deliver(t.Context(), api.NewDelivery{Image: "one", To: []string{"herb-one"}, Rate: 50_000_000})
	require.NoError(t, err)
	second, err := h.client.Deliver(t.Context(), api.NewDelivery{Image: "two", To: []string{"herb-two"}, Rate: 50_000_000})
	require.NoError(t, err)
	assert.NotEqual(t, first.Channel, second.Channel)
	for _, d := range []api.Delivery{first, second} {
		h.eventually(func() bool { return len(h.receipts(d.ID)) == 1 })
	}
	assert.EqualValues(t, "delivered", h.receipts(first.ID)["herb-one"].Outcome)
	assert.EqualValues(t, "delivered", h.receipts(second.ID)["herb-two"].Outcome)
	for name, disk := range map[string]*golddisk.Disk{"one": one, "two": two} {
		want, err := disk.Files(t.Context())
		require.NoError(t, err)
		got, err := disk.On(targets[name]).Files(t.Context())
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
}
