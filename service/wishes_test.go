package service_test

import (
	"context"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
)

// machine is a workstation of which only the calls are there.
func (h *house) machine(n int, model string) (*apiclient.Client, string) {
	return h.boot(n, model, "boot")
}

func (h *house) boot(n int, model, boot string) (*apiclient.Client, string) {
	h.t.Helper()
	nobody := h.client.WithToken("")
	a := address(n).String()
	in, err := nobody.CheckIn(h.t.Context(), api.CheckIn{Boot: boot, AgentVersion: "test", Addresses: []string{a}, Inventory: api.Inventory{Model: model, Disks: []api.Disk{{Size: 1 << 30, SectorSize: 512}}, Cards: []api.Card{}}})
	require.NoError(h.t, err)
	return nobody.WithToken(in.Pass), a
}

func TestWhoMayReceiveAnImage(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	h.start(1, gold(t).Path, 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	ctx := t.Context()
	require.NoError(t, addGroup(h, "herbarium"))
	clients := map[string]*apiclient.Client{}
	for n, name := range map[int]string{2: "herb-01", 3: "herb-02", 4: "seed-01", 5: "kiosk-01"} {
		model := map[string]string{"seed-01": "Brindle Mini 2"}[name]
		c, a := h.machine(n, model)
		clients[name] = c
		var groups []string
		if name == "herb-01" {
			groups = []string{"herbarium"}
		}
		_, err := h.client.Admit(ctx, a, api.Admission{Name: name, Groups: groups})
		require.NoError(t, err)
	}
	order := func(to ...string) error {
		d, err := h.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: to})
		if err == nil {
			_, err = h.client.StopDelivery(ctx, d.ID)
			require.NoError(t, err)
		}
		return err
	}
	t.Log("# an image without a list goes to everybody, but nobody helps himself")
	assert.NoError(t, order("herb-02"))
	assert.ErrorContains(t, clients["herb-01"].Wish(ctx, api.Wish{Kind: "receive", Image: "garden-desk"}), "sign in first")

	t.Log("# with a list it goes to whom it names: by group, model or hardware address")
	assert.ErrorContains(t, h.client.SetRecipients(ctx, "garden-desk", api.Recipients{Groups: []string{"nobody"}, Addresses: []string{}, Models: []string{}}), "no group nobody")
	require.NoError(t, h.client.SetRecipients(ctx, "garden-desk", api.Recipients{Groups: []string{"herbarium"}, Models: []string{"brindle mini 2"}, Addresses: []string{address(3).String()}}))
	is, err := h.client.Recipients(ctx, "garden-desk")
	require.NoError(t, err)
	assert.Equal(t, api.Recipients{Groups: []string{"herbarium"}, Models: []string{"brindle mini 2"}, Addresses: []string{address(3).String()}}, is)
	assert.NoError(t, order("herb-01", "herb-02", "seed-01"))
	assert.ErrorContains(t, order("herb-01", "kiosk-01"), "does not name kiosk-01")

	t.Log("# who is named may have it from the boot menu; that is an order with a receipt to come")
	assert.ErrorContains(t, clients["kiosk-01"].Wish(ctx, api.Wish{Kind: "receive", Image: "garden-desk"}), "sign in first")
	require.NoError(t, clients["herb-01"].Wish(ctx, api.Wish{Kind: "receive", Image: "garden-desk"}))
	standing, err := clients["herb-01"].Standing(ctx)
	require.NoError(t, err)
	require.NotNil(t, standing.Errand)
	assert.EqualValues(t, "receive", standing.Errand.Kind)
	d, err := h.client.Delivery(ctx, standing.Errand.Receive.Delivery)
	require.NoError(t, err)
	assert.Equal(t, "herb-01, at the workstation", d.OrderedBy)
	assert.Equal(t, "restart", d.WhenDone)
}

func addGroup(h *house, name string) error {
	_, err := h.client.AddGroup(h.t.Context(), api.NewGroup{Name: name})
	return err
}

func TestAMachineIsRegisteredBeforeItWasEverSeen(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	w, err := h.client.Admit(t.Context(), "00-00-5E-00-53-77", api.Admission{Name: "herb-77"})
	require.NoError(t, err)
	assert.Equal(t, []string{"herb-77", "expected", "00:00:5e:00:53:77"}, []string{w.Name, string(w.State), w.Addresses[0]})
	assert.False(t, w.Online)
	_, err = h.client.Admit(t.Context(), "herb-78", api.Admission{Name: "herb-78"})
	assert.ErrorContains(t, err, "no workstation herb-78")
}

func TestSigningInAtAWorkstation(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	c, a := h.machine(7, "A310")
	code, err := h.client.MakeCode(ctx, 8)
	require.NoError(t, err)
	assert.Regexp(t, `^[A-HJKMNP-Z2-9]{4}-[A-HJKMNP-Z2-9]{4}$`, code.Code)

	_, err = c.SignIn(ctx, api.Typed{Code: "AAAA-AAAA"})
	assert.ErrorContains(t, err, "not good")
	assert.ErrorContains(t, c.Wish(ctx, api.Wish{Kind: "admit", Name: "herb-07"}), "sign in first")
	typed := code.Code[:4] + " " + code.Code[5:] // as people type it
	in, err := c.SignIn(ctx, api.Typed{Code: typed})
	require.NoError(t, err)
	assert.Empty(t, in.Images)
	assert.ErrorContains(t, c.Wish(ctx, api.Wish{Kind: "capture", Image: "garden-desk"}), "newcomer")
	assert.ErrorContains(t, c.Wish(ctx, api.Wish{Kind: "admit", Name: "no/name"}), "cannot be the name")
	require.NoError(t, c.Wish(ctx, api.Wish{Kind: "admit", Name: "herb-07"}))
	require.NoError(t, c.Wish(ctx, api.Wish{Kind: "capture", Image: "garden-desk"}))
	w, err := h.client.Workstation(ctx, a)
	require.NoError(t, err)
	assert.Equal(t, "herb-07", w.Name)

	t.Log("# another boot is another person")
	c, _ = h.boot(7, "A310", "another boot")
	assert.ErrorContains(t, c.Wish(ctx, api.Wish{Kind: "capture", Image: "garden-desk"}), "sign in first")

	t.Log("# and guessing ends soon")
	for range 20 {
		_, err = c.SignIn(ctx, api.Typed{Code: "BBBB-BBBB"})
	}
	assert.ErrorContains(t, err, "too many wrong codes")
	_, err = c.SignIn(ctx, api.Typed{Code: code.Code})
	assert.ErrorContains(t, err, "too many wrong codes", "a good one does not help for a while, here")
}

// With one's own name at a workstation one may there what one may elsewhere, until the errand is done.
func TestSigningInByNameAtAWorkstation(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.start(1, gold(t).Path, 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	for _, name := range []string{"herbarium", "seed-bank"} {
		require.NoError(t, addGroup(h, name))
	}
	const gate = "the garden gate is green"
	_, err := h.client.AddPerson(ctx, api.NewPerson{Name: "ines", Grants: []api.Grant{everything("administrator")}})
	require.NoError(t, err)
	_, err = h.client.AddPerson(ctx, api.NewPerson{Name: "tomas", Grants: []api.Grant{everything("reader"), {Role: "engineer", On: "group:herbarium"}}})
	require.NoError(t, err)
	link, err := h.client.Invite(ctx, "tomas")
	require.NoError(t, err)
	_, err = h.client.WithToken("").Accept(ctx, link.Secret, api.Acceptance{Password: gate})
	require.NoError(t, err)
	clients := map[string]*apiclient.Client{}
	for n, name := range map[int]string{2: "herb-01", 3: "seed-01"} {
		c, a := h.machine(n, "A310")
		clients[name] = c
		_, err := h.client.Admit(ctx, a, api.Admission{Name: name, Groups: []string{map[string]string{"herb-01": "herbarium", "seed-01": "seed-bank"}[name]}})
		require.NoError(t, err)
		_, err = c.SignIn(ctx, api.Typed{Name: "tomas", Password: "wrong"})
		assert.Equal(t, http.StatusForbidden, status(err), "its pass stays good")
		_, err = c.SignIn(ctx, api.Typed{Name: "Tomas", Password: gate})
		require.NoError(t, err)
	}
	assert.ErrorContains(t, clients["seed-01"].Wish(ctx, api.Wish{Kind: "receive", Image: "garden-desk"}), "this takes the right to deliver for seed-01")
	assert.ErrorContains(t, clients["seed-01"].Wish(ctx, api.Wish{Kind: "capture", Image: "seed-desk"}), "this takes the right to capture for seed-01")

	t.Log("# a right that is taken away is gone there, too, and so is who is shut out")
	engineer := []api.Grant{everything("reader"), {Role: "engineer", On: "group:herbarium"}}
	reader, in, out := engineer[:1], false, true
	for _, change := range []api.PersonChange{{Grants: &reader}, {Grants: &engineer, ShutOut: &out}} {
		_, err = h.client.ChangePerson(ctx, "tomas", change)
		require.NoError(t, err)
		assert.Equal(t, http.StatusForbidden, status(clients["herb-01"].Wish(ctx, api.Wish{Kind: "receive", Image: "garden-desk"})))
	}
	_, err = h.client.ChangePerson(ctx, "tomas", api.PersonChange{ShutOut: &in})
	require.NoError(t, err)
	require.NoError(t, clients["herb-01"].Wish(ctx, api.Wish{Kind: "receive", Image: "garden-desk"}))
	standing, err := clients["herb-01"].Standing(ctx)
	require.NoError(t, err)
	require.NotNil(t, standing.Errand)
	d, err := h.client.Delivery(ctx, standing.Errand.Receive.Delivery)
	require.NoError(t, err)
	assert.Equal(t, "tomas", d.OrderedBy)
	lines, err := h.client.Lines(ctx, apiclient.List{Filter: map[string]string{"operation": "wish"}})
	require.NoError(t, err)
	require.Len(t, lines.Items, 1)
	assert.Equal(t, []string{"tomas", "workstation", "workstation herb-01"}, []string{lines.Items[0].Who, lines.Items[0].Through, lines.Items[0].Subject})

	t.Log("# and with the errand that ends")
	_, err = h.client.StopDelivery(ctx, d.ID)
	require.NoError(t, err)
	asking, cancel := context.WithCancel(ctx)
	defer cancel()
	go clients["herb-01"].Standing(asking) // which says that it is at nothing now
	h.eventually(func() bool {
		err := clients["herb-01"].Wish(ctx, api.Wish{Kind: "admit", Name: "herb-01"})
		return err != nil && strings.Contains(err.Error(), "sign in first")
	})
}

func TestPeopleTypeInTheLayoutOfTheAnswers(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	checkIn := func() string {
		t.Helper()
		in, err := h.client.WithToken("").CheckIn(ctx, api.CheckIn{Boot: "boot", AgentVersion: "test", Addresses: []string{address(2).String()}, Inventory: api.Inventory{Disks: []api.Disk{}, Cards: []api.Card{}}})
		require.NoError(t, err)
		return in.Keyboard
	}
	set := func(place string, values map[string]any) {
		t.Helper()
		_, err := h.client.SetAnswers(ctx, api.NewAnswers{Of: place, Values: values})
		require.NoError(t, err)
	}
	assert.Empty(t, checkIn(), "nothing is set")
	set("service", map[string]any{"keyboard": "de(nodeadkeys)", "locale": "de_AT"})
	assert.Equal(t, "de(nodeadkeys)", checkIn(), "a newcomer")
	_, err := h.client.AddGroup(ctx, api.NewGroup{Name: "herbarium"})
	require.NoError(t, err)
	_, err = h.client.Admit(ctx, address(2).String(), api.Admission{Name: "herb-01", Groups: []string{"herbarium"}})
	require.NoError(t, err)
	set("group:herbarium", map[string]any{"keyboard": "fr"})
	assert.Equal(t, "fr", checkIn(), "its group goes before")
}
