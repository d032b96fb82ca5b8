package service_test

import (
	"context"
	"database/sql"
	"encoding/json"
	"net/http"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/rights"
	"jugate/service"
)

// person takes somebody in, with a password, and returns a client in a session of theirs.
func (h *house) person(name string, grants ...api.Grant) *apiclient.Client {
	h.t.Helper()
	ctx := h.t.Context()
	_, err := h.client.AddPerson(ctx, api.NewPerson{Name: name, Grants: grants})
	require.NoError(h.t, err)
	link, err := h.client.Invite(ctx, name)
	require.NoError(h.t, err)
	nobody := h.client.WithToken("")
	_, err = nobody.Accept(ctx, link.Secret, api.Acceptance{Password: password})
	require.NoError(h.t, err)
	in, _, err := nobody.OpenSession(ctx, api.SignIn{Name: name, Password: password})
	require.NoError(h.t, err)
	return in
}

const password = "the garden gate is green"

func everything(role string) api.Grant { return api.Grant{Role: role, On: "everything"} }

// operation is one of the API for people.
type operation struct {
	ID, Method, Path string
	Open             bool // without signing in
}

func operations(t *testing.T) (all []operation) {
	t.Helper()
	text, err := service.OpenAPI()
	require.NoError(t, err)
	var doc struct {
		Paths map[string]map[string]struct {
			OperationID string                 `json:"operationId"`
			Security    *[]map[string][]string `json:"security"`
		}
	}
	require.NoError(t, json.Unmarshal(text, &doc))
	for path, methods := range doc.Paths {
		for method, o := range methods {
			all = append(all, operation{o.OperationID, strings.ToUpper(method), path, o.Security != nil && len(*o.Security) == 0})
		}
	}
	return all
}

var inPath = regexp.MustCompile(`\{[a-z_]+\}`)

// call tells the status of an operation that is called with nothing that makes sense.
func (h *house) call(o operation, token string) int {
	h.t.Helper()
	ctx, cancel := context.WithCancel(h.t.Context()) // events would never end
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, o.Method, h.url+"/api/v1"+inPath.ReplaceAllString(o.Path, "7"), strings.NewReader("{}"))
	require.NoError(h.t, err)
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Authorization", "Bearer "+token)
	resp, err := h.client.HTTP().Do(r)
	require.NoError(h.t, err)
	resp.Body.Close()
	return resp.StatusCode
}

// Each right is held alone, by a token, and everything is called: what a right opens is told by what it
// is refused without.
func TestEveryRouteTakesItsRightAndNoOther(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	_, err := h.client.AddPerson(ctx, api.NewPerson{Name: "ines", Grants: []api.Grant{everything("administrator")}})
	require.NoError(t, err)
	all := operations(t)
	require.Greater(t, len(all), 100)
	opens := map[string][]rights.Right{}
	for _, right := range rights.All {
		token, err := h.client.AddToken(ctx, api.NewToken{Name: "only-" + string(right), Person: "ines", Rights: []rights.Right{right}})
		require.NoError(t, err)
		for _, o := range all {
			if o.Open || o.ID == "remove-token" {
				continue
			}
			switch status := h.call(o, token.Secret); status {
			case http.StatusForbidden:
			case http.StatusUnauthorized:
				assert.Fail(t, "it is signed in", "%s %s", o.Method, o.Path)
			default:
				opens[o.ID] = append(opens[o.ID], right)
			}
		}
	}
	forAll := 0
	for _, o := range all {
		switch n := len(opens[o.ID]); {
		case o.Open || o.ID == "remove-token":
		case n == len(rights.All): // whoever is signed in may do it
			forAll++
		case slices.Contains([]string{"add-token", "change-password", "sign-out", "end-session", "offer-factor", "confirm-factor", "remove-factor"}, o.ID):
			assert.Zero(t, n, "%s: a limited token could make itself one without limits", o.ID)
		default:
			assert.Equal(t, 1, n, "%s is opened by %v", o.ID, opens[o.ID])
		}
	}
	assert.Equal(t, 5, forAll, "who one is, one's own sessions and tokens, terms and keys of answers")
}

func TestWhoKeepsTheHerbariumCannotTouchTheSeedBank(t *testing.T) {
	t.Parallel()
	r := newRoom(t)
	ctx := t.Context()
	for _, g := range []string{"herbarium", "seed-bank"} {
		require.NoError(t, addGroup(r.house, g))
	}
	r.start(2, blank(t, r.disk.Size), 0, "herb-01", "herbarium")
	r.start(3, blank(t, r.disk.Size), 0, "seed-01", "seed-bank")
	ines := r.person("ines", everything("administrator"))
	tomas := r.person("tomas", api.Grant{Role: "engineer", On: "group:herbarium"}, api.Grant{Role: "reader", On: "image:garden-desk"})
	wren := r.person("wren", everything("reader"))

	t.Log("# what one sees is what one may see")
	page, err := tomas.Workstations(ctx, apiclient.List{})
	require.NoError(t, err)
	require.Len(t, page.Items, 1)
	assert.Equal(t, "herb-01", page.Items[0].Name)
	assert.Equal(t, 1, page.Total)
	groups, err := tomas.Groups(ctx, apiclient.List{})
	require.NoError(t, err)
	assert.Len(t, groups.Items, 1)
	images, err := tomas.Images(ctx, apiclient.List{})
	require.NoError(t, err)
	assert.Len(t, images.Items, 1)
	_, err = tomas.Workstation(ctx, "seed-01")
	assert.ErrorContains(t, err, "this takes the right to see for seed-01, which you do not have")
	page, err = wren.Workstations(ctx, apiclient.List{})
	require.NoError(t, err)
	assert.Len(t, page.Items, 3)

	t.Log("# and so it is with what is done")
	_, err = tomas.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-01", "seed-01"}})
	assert.ErrorContains(t, err, "this takes the right to deliver for seed-01")
	_, err = tomas.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"seed-bank"}})
	assert.ErrorContains(t, err, "for seed-01")
	_, err = wren.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}})
	assert.ErrorContains(t, err, "this takes the right to deliver for everything")
	_, err = tomas.Capture(ctx, api.NewCapture{Workstation: "herb-01", Image: "garden-desk"})
	assert.ErrorContains(t, err, "the right to capture for the image garden-desk")
	_, err = tomas.SetAnswers(ctx, api.NewAnswers{Of: "seed-bank", Values: map[string]any{"time_zone": "Europe/Vienna"}})
	assert.ErrorContains(t, err, "for the group seed-bank")
	_, err = tomas.SetAnswers(ctx, api.NewAnswers{Of: "service", Values: map[string]any{"time_zone": "Europe/Vienna"}})
	assert.ErrorContains(t, err, "for everything")
	_, err = tomas.SetAnswers(ctx, api.NewAnswers{Of: "herbarium", Values: map[string]any{"time_zone": "Europe/Vienna"}})
	assert.NoError(t, err)
	_, err = tomas.Include(ctx, "herbarium", api.GroupMembers{Workstations: []string{"seed-01"}})
	assert.ErrorContains(t, err, "for seed-01", "nobody takes a workstation in to get rights for it")
	d, err := tomas.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}, Rate: 200_000_000})
	require.NoError(t, err)
	assert.Equal(t, "tomas", d.OrderedBy)
	r.until(d.ID, over)
	other, err := ines.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"seed-01"}, Start: "at:2099-01-01T00:00:00Z", Rate: 200_000_000})
	require.NoError(t, err)
	_, err = tomas.StopDelivery(ctx, other.ID)
	assert.ErrorContains(t, err, "seed-01 of delivery")
	_, err = ines.StopDelivery(ctx, other.ID)
	require.NoError(t, err)

	t.Log("# what is granted for an image stays with it under another name, and with none that has its name then")
	keeper := []api.Grant{{Role: "reader", On: "everything"}, {Role: "engineer", On: "group:herbarium"}, {Role: "engineer", On: "image:garden-desk"}}
	_, err = ines.ChangePerson(ctx, "tomas", api.PersonChange{Grants: &keeper})
	require.NoError(t, err)
	_, err = tomas.SetNote(ctx, "garden-desk@1", "his")
	require.NoError(t, err)
	_, err = ines.RenameImage(ctx, "garden-desk", "garden-table")
	require.NoError(t, err)
	_, err = tomas.SetNote(ctx, "garden-table@1", "still his")
	require.NoError(t, err)
	_, err = ines.RenameImage(ctx, "garden-table", "garden-desk")
	require.NoError(t, err)
	_, err = ines.AddGroup(ctx, api.NewGroup{Name: "kiosks"})
	require.NoError(t, err)
	keeper = append(keeper, api.Grant{Role: "engineer", On: "group:kiosks"})
	_, err = ines.ChangePerson(ctx, "tomas", api.PersonChange{Grants: &keeper})
	require.NoError(t, err)
	kiosks := api.NewAnswers{Of: "kiosks", Values: map[string]any{"time_zone": "Europe/Vienna"}}
	_, err = tomas.SetAnswers(ctx, kiosks)
	require.NoError(t, err)
	require.NoError(t, ines.RemoveGroup(ctx, "kiosks"))
	_, err = ines.AddGroup(ctx, api.NewGroup{Name: "kiosks"})
	require.NoError(t, err)
	_, err = tomas.SetAnswers(ctx, kiosks)
	assert.ErrorContains(t, err, "this takes the right to set-answers for the group kiosks", "it is another group")

	t.Log("# a right that is taken away is gone at once, with a page open")
	reader := []api.Grant{everything("reader")}
	_, err = ines.ChangePerson(ctx, "tomas", api.PersonChange{Grants: &reader})
	require.NoError(t, err)
	_, err = tomas.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}})
	assert.ErrorContains(t, err, "this takes the right to deliver for everything")
	shut := true
	_, err = ines.ChangePerson(ctx, "tomas", api.PersonChange{ShutOut: &shut})
	require.NoError(t, err)
	_, err = tomas.Workstations(ctx, apiclient.List{})
	assert.ErrorContains(t, err, "sign in first")
	_, err = ines.ChangePerson(ctx, "ines", api.PersonChange{ShutOut: &shut})
	assert.ErrorContains(t, err, "nobody would be left")
}

func TestPeopleSignIn(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	h := open(t, data, "127.0.0.1:0")
	ctx := t.Context()
	nobody := h.client.WithToken("")

	t.Log("# the first administrator comes by a link")
	link, err := h.service.FirstLink(ctx)
	require.NoError(t, err)
	to, err := nobody.Invited(ctx, link.Secret)
	require.NoError(t, err)
	assert.Empty(t, to.Name)
	_, err = nobody.Accept(ctx, link.Secret, api.Acceptance{Name: "ines", Password: "short"})
	assert.ErrorContains(t, err, "12 characters at least")
	_, err = nobody.Accept(ctx, link.Secret, api.Acceptance{Name: "in es", Password: password})
	assert.Error(t, err)
	who, err := nobody.Accept(ctx, link.Secret, api.Acceptance{Name: "ines", FullName: "Ines Fairholm", Password: password})
	require.NoError(t, err)
	assert.Equal(t, "ines", who.Name)
	assert.Equal(t, rights.All, who.Rights)
	_, err = nobody.Accept(ctx, link.Secret, api.Acceptance{Name: "wren", Password: password})
	assert.ErrorContains(t, err, "this link is not good (any more)")
	again, err := h.service.FirstLink(ctx)
	require.NoError(t, err)
	assert.Empty(t, again.Secret, "there is somebody")

	t.Log("# a session outlasts a restart; a token does what it may")
	ines, _, err := nobody.OpenSession(ctx, api.SignIn{Name: "Ines", Password: password})
	require.NoError(t, err)
	token, err := ines.AddToken(ctx, api.NewToken{Name: "nightly", Rights: []rights.Right{rights.See}})
	require.NoError(t, err)
	require.Len(t, token.Secret, 64)
	h.stop()
	h = open(t, data, strings.TrimPrefix(h.url, "https://"))
	sessions, err := ines.Sessions(ctx)
	require.NoError(t, err)
	require.Len(t, sessions.Items, 2, "and the one that the link has opened")
	nightly := h.client.WithToken(token.Secret)
	_, err = nightly.Workstations(ctx, apiclient.List{})
	require.NoError(t, err)
	_, err = nightly.AddGroup(ctx, api.NewGroup{Name: "herbarium"})
	assert.ErrorContains(t, err, "this takes the right to admit for everything")
	tokens, err := ines.Tokens(ctx)
	require.NoError(t, err)
	require.Len(t, tokens.Items, 1)
	assert.NotNil(t, tokens.Items[0].Used)
	assert.Equal(t, "127.0.0.1", tokens.Items[0].UsedFrom)
	_, _, err = nobody.OpenSession(ctx, api.SignIn{Token: token.Secret})
	assert.ErrorContains(t, err, "a token is for programs")
	require.NoError(t, ines.RemoveToken(ctx, "nightly"))
	_, err = nightly.Workstations(ctx, apiclient.List{})
	assert.ErrorContains(t, err, "the token is wrong")

	t.Log("# another password ends the other sessions")
	assert.ErrorContains(t, ines.ChangePassword(ctx, api.PasswordChange{Old: "wrong", New: "another green gate"}), "the old password is wrong")
	require.NoError(t, ines.ChangePassword(ctx, api.PasswordChange{Old: password, New: "another green gate"}))
	sessions, err = ines.Sessions(ctx)
	require.NoError(t, err)
	require.Len(t, sessions.Items, 1)
	assert.True(t, sessions.Items[0].Own)
	_, _, err = nobody.OpenSession(ctx, api.SignIn{Name: "ines", Password: password})
	assert.ErrorContains(t, err, "the name or the password is wrong")

	t.Log("# the key of last resort is nobody's")
	last, _, err := nobody.OpenSession(ctx, api.SignIn{Token: h.token})
	require.NoError(t, err)
	_, err = last.AddToken(ctx, api.NewToken{Name: "x"})
	assert.ErrorContains(t, err, "say whose token it is to be")
	assert.ErrorContains(t, last.ChangePassword(ctx, api.PasswordChange{New: password}), "has no password")
	require.NoError(t, last.SignOut(ctx))
	_, err = last.Workstations(ctx, apiclient.List{})
	assert.ErrorContains(t, err, "sign in first")

	t.Log("# whoever is not there takes no other answer, and trying has an end")
	_, _, err = nobody.OpenSession(ctx, api.SignIn{Name: "nobody", Password: password})
	assert.ErrorContains(t, err, "the name or the password is wrong")
	for range 20 {
		_, _, err = nobody.OpenSession(ctx, api.SignIn{Name: "ines", Password: "guess"})
	}
	assert.ErrorContains(t, err, "too many wrong codes, tokens or passwords")
	require.NoError(t, ines.EndSession(ctx, sessions.Items[0].ID))
	_, err = ines.Workstations(ctx, apiclient.List{})
	assert.ErrorContains(t, err, "sign in first")
}

func TestTheLogbookSaysWhoChangedWhat(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	h := open(t, data, "127.0.0.1:0")
	ctx := t.Context()
	ines := h.person("ines", everything("administrator"))
	wren := h.person("wren", everything("reader"))
	_, err := ines.AddGroup(ctx, api.NewGroup{Name: "herbarium"})
	require.NoError(t, err)
	_, err = ines.AddGroup(ctx, api.NewGroup{Name: "herbarium"})
	require.Error(t, err)
	_, err = wren.AddGroup(ctx, api.NewGroup{Name: "kiosks"})
	require.Error(t, err)
	_, err = ines.As(api.CommandLine+"test").SetAnswers(ctx, api.NewAnswers{Of: "herbarium", Values: map[string]any{"time_zone": "Europe/Vienna", "product_key": "ABCDE-FGHIJ-KLMNO-PQRST-UVWXY"}})
	require.NoError(t, err)
	require.NoError(t, ines.ChangePassword(ctx, api.PasswordChange{Old: password, New: "another green gate"}))
	require.NoError(t, h.client.As(api.CommandLine+"test").RemoveGroup(ctx, "herbarium"))

	page, err := wren.Lines(ctx, apiclient.List{})
	require.NoError(t, err)
	var said []string
	for _, l := range page.Items {
		assert.Equal(t, "127.0.0.1", l.From)
		details, err := json.Marshal(l.Details)
		require.NoError(t, err)
		said = append(said, strings.Join([]string{l.Who, l.Through, l.Operation, l.Subject, string(details)}, " | "))
	}
	all := strings.Join(said, "\n")
	for _, line := range []string{
		`administrator | command line | remove-group | group herbarium | {}`,
		`ines | console | change-password |  | {"new_password":"(left out)","old_password":"(left out)"}`,
		`ines | console | set-answers |  | {"of":"herbarium","values":{"product_key":"(left out)","time_zone":"Europe/Vienna"}}`,
		`ines | console | add-group |  | {"name":"herbarium"}`,
		`wren | console | sign-in |  | {"name":"wren","password":"(left out)"}`,
		`somebody, by a link | console | accept-invitation |  | {"password":"(left out)"}`,
		`administrator | program | add-person |  | {"grants":[{"on":"everything","role":"reader"}],"person":"wren"}`,
	} {
		assert.Contains(t, said, line)
	}
	assert.Equal(t, 1, strings.Count(all, "add-group"), "what was refused changed nothing")
	for _, secret := range []string{password, "another green gate", "ABCDE"} {
		assert.NotContains(t, all, secret)
	}
	page, err = wren.Lines(ctx, apiclient.List{Search: "product_key", Filter: map[string]string{"who": "INES", "operation": "set-answers"}})
	require.NoError(t, err)
	assert.Equal(t, 1, page.Total)
	page, err = wren.Lines(ctx, apiclient.List{Filter: map[string]string{"until": "2026-01-01T00:00:00Z"}})
	require.NoError(t, err)
	assert.Zero(t, page.Total)

	t.Log("# a line stays as it is")
	h.stop()
	db, err := sql.Open("sqlite", filepath.Join(data, "jugate.db"))
	require.NoError(t, err)
	defer db.Close()
	_, err = db.ExecContext(ctx, `UPDATE logbook SET who = 'nobody'`)
	assert.ErrorContains(t, err, "a line of the logbook cannot be changed")
}
