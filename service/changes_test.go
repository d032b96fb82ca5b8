package service_test

import (
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/rights"
)

// changesOf is what the newest line of an operation says that differs.
func (h *house) changesOf(operation string) string {
	h.t.Helper()
	page, err := h.client.Lines(h.t.Context(), apiclient.List{Filter: map[string]string{"operation": operation}})
	require.NoError(h.t, err)
	require.NotEmpty(h.t, page.Items, operation)
	if page.Items[0].Changes == nil {
		return ""
	}
	text, err := json.Marshal(page.Items[0].Changes)
	require.NoError(h.t, err)
	return string(text)
}

func TestALineSaysWhatWasThereBefore(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.person("ines", everything("administrator"))
	h.person("tomas", everything("reader"))
	engineer := []api.Grant{everything("engineer")}
	_, err := h.client.ChangePerson(ctx, "tomas", api.PersonChange{Grants: &engineer})
	require.NoError(t, err)
	assert.JSONEq(t, `{"grants":{"before":[{"on":"everything","role":"reader"}],"after":[{"on":"everything","role":"engineer"}]}}`, h.changesOf("change-person"))
	require.NoError(t, h.client.RemovePerson(ctx, "tomas"))
	assert.Contains(t, h.changesOf("remove-person"), `"grants":{"after":null,"before":[{"on":"everything","role":"engineer"}]}`)

	_, err = h.client.PutRole(ctx, api.NewRole{Name: "keeper", Rights: []rights.Right{rights.See}})
	require.NoError(t, err)
	_, err = h.client.PutRole(ctx, api.NewRole{Name: "keeper", Rights: []rights.Right{rights.See, rights.KeepImages}})
	require.NoError(t, err)
	assert.JSONEq(t, `{"rights":{"before":["see"],"after":["see","keep-images"]}}`, h.changesOf("put-role"))

	_, a := h.machine(7, "A310")
	_, err = h.client.Admit(ctx, a, api.Admission{Name: "herb-07"})
	require.NoError(t, err)
	assert.Contains(t, h.changesOf("admit-workstation"), `"name":{"after":"herb-07","before":""}`)
	_, err = h.client.RenameWorkstation(ctx, "herb-07", "herb-08")
	require.NoError(t, err)
	assert.JSONEq(t, `{"name":{"before":"herb-07","after":"herb-08"}}`, h.changesOf("rename-workstation"), "found again under its new name")

	require.NoError(t, h.set("workstation:herb-08", map[string]any{"time_zone": "Europe/Vienna", "product_key": "ABCDE-FGHIJ-KLMNO-PQRST-UVWXY"}))
	require.NoError(t, h.set("workstation:herb-08", map[string]any{"time_zone": "UTC", "product_key": nil}))
	said := h.changesOf("set-answers")
	assert.JSONEq(t, `{"time_zone":{"before":"Europe/Vienna","after":"UTC"},"product_key":{"before":"(set)","after":null}}`, said)
	assert.True(t, h.check().Sound, "it is part of what is proven")
}

func TestTheKeyOfLastResortIsRenewedAndSwitchedOff(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	h := open(t, data, "127.0.0.1:0")
	ctx := t.Context()
	used, err := h.client.Lines(ctx, apiclient.List{Filter: map[string]string{"operation": "use-last-resort"}})
	require.NoError(t, err)
	assert.Len(t, used.Items, 1, "its use is on record")
	_, err = h.client.ChangeLastResort(ctx, api.LastResort{Off: true})
	assert.ErrorContains(t, err, "nobody could administer any more")
	ines := h.person("ines", everything("administrator"))
	session, _, err := h.client.OpenSession(ctx, api.SignIn{Token: h.token})
	require.NoError(t, err)

	renewed, err := h.client.ChangeLastResort(ctx, api.LastResort{})
	require.NoError(t, err)
	text, err := os.ReadFile(filepath.Join(data, "admin.token"))
	require.NoError(t, err)
	assert.Equal(t, renewed.Secret, strings.TrimSpace(string(text)))
	info, err := os.Stat(filepath.Join(data, "admin.token"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	for name, c := range map[string]*apiclient.Client{"the old one": h.client, "its session": session} {
		_, err = c.People(ctx)
		assert.Equal(t, http.StatusUnauthorized, status(err), name)
	}
	_, err = h.client.WithToken(renewed.Secret).People(ctx)
	require.NoError(t, err)

	off, err := ines.ChangeLastResort(ctx, api.LastResort{Off: true})
	require.NoError(t, err)
	assert.Empty(t, off.Secret)
	for _, secret := range []string{renewed.Secret, h.token, "off", ""} {
		_, err = h.client.WithToken(secret).People(ctx)
		assert.Equal(t, http.StatusUnauthorized, status(err), secret)
	}
	h.stop()
	h = open(t, data, "127.0.0.1:0")
	assert.Empty(t, h.token, "it stays off")
	h.stop()
	require.NoError(t, os.Remove(filepath.Join(data, "admin.token")))
	h = open(t, data, "127.0.0.1:0")
	_, err = h.client.People(ctx)
	assert.NoError(t, err, "until whoever is root removes the file")
}

// Of what is changed or gone its line says what it was.
func TestLinesOfEverythingElseSayWhatWasThereBefore(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.ready(2)
	_, err := h.client.AddGroup(ctx, api.NewGroup{Name: "herbarium"})
	require.NoError(t, err)
	assert.Contains(t, h.changesOf("add-group"), `"name":{"after":"herbarium","before":null}`)
	require.NoError(t, h.client.SetMenu(ctx, "herbarium", 5))
	assert.JSONEq(t, `{"menu_seconds":{"before":0,"after":5}}`, h.changesOf("set-menu"))
	_, err = h.client.Include(ctx, "herbarium", api.GroupMembers{Workstations: []string{"herb-02"}})
	require.NoError(t, err)
	assert.JSONEq(t, `{"workstation_count":{"before":0,"after":1}}`, h.changesOf("include"))
	require.NoError(t, h.client.RemoveGroup(ctx, "herbarium"))
	assert.Contains(t, h.changesOf("remove-group"), `"menu_seconds":{"after":null,"before":5}`)

	h.machine(8, "A310")
	require.NoError(t, h.client.MoveCard(ctx, "herb-02", address(8).String()))
	assert.Contains(t, h.changesOf("move-card"), `"workstation":{"after":"herb-02","before":""}`)

	require.NoError(t, h.client.Refuse(ctx, api.NewRefusal{Machine: address(9).String(), Note: "a visitor's"}))
	require.NoError(t, h.client.EndRefusal(ctx, address(9).String()))
	assert.Contains(t, h.changesOf("end-refusal"), `"note":{"after":null,"before":"a visitor's"}`)

	d, err := h.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-02"}})
	require.NoError(t, err)
	_, err = h.client.SetDeliveryRate(ctx, d.ID, 50_000_000)
	require.NoError(t, err)
	assert.JSONEq(t, `{"rate":{"before":400000000,"after":50000000}}`, h.changesOf("set-rate"))
	_, err = h.client.StopDelivery(ctx, d.ID)
	require.NoError(t, err)
	assert.Empty(t, h.changesOf("stop-delivery"), "what it was about ends by and by")

	h.eventually(func() bool {
		d, err := h.client.Delivery(ctx, d.ID)
		require.NoError(t, err)
		return d.Ended != nil
	})
	_, err = h.client.RenameImage(ctx, "garden-desk", "garden-desk-2026")
	require.NoError(t, err)
	assert.JSONEq(t, `{"image":{"before":"garden-desk","after":"garden-desk-2026"}}`, h.changesOf("rename-image"))
	assert.True(t, h.check().Sound)
}
