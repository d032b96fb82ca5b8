package console_test

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/oauth2-proxy/mockoidc"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
)

// Signing in by an OpenID provider: the browser goes there and comes back.
func TestSigningInByAProvider(t *testing.T) {
	stage := openStage(t)
	_, err := stage.Prepare(t.Context())
	require.NoError(t, err)
	provider, err := mockoidc.Run()
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, provider.Shutdown()) })
	enter := api.NewDirectory{Name: "gate", Server: provider.Issuer(), Account: provider.ClientID, Password: provider.ClientSecret, Roles: []api.GroupRole{{Group: "engineers", Role: "engineer", On: "everything"}}}
	wrong := enter
	wrong.Server = "http://127.0.0.1:1"
	_, err = stage.Client.AddDirectory(t.Context(), wrong)
	assert.ErrorContains(t, err, "refused")
	b := open(t, stage)
	t.Log("# the provider is entered where people are, and asked at once")
	b.do(chromedp.Navigate(stage.URL))
	b.signIn(stage.Token)
	b.do(click(`//a[text()="People"]`), click(`//button[contains(., "Add a directory…")]`), chromedp.WaitVisible(`#directory`), keys(`#directory`, enter.Name), keys(`#server`, enter.Server), keys(`#account`, enter.Account), keys(`#password`, enter.Password),
		keys(`#group_roles_0_group_name`, "engineers"), chromedp.WaitVisible(`//*[contains(text(), "/signin/gate/back")]`))
	b.settled()
	b.do(click(`//button[contains(., "Try and add")]`), chromedp.WaitVisible(`//td//b[text()="gate"]`))
	enter.Roles[0].Role = "engineer"
	_, err = stage.Client.AddDirectory(t.Context(), enter)
	require.NoError(t, err)
	b.do(chromedp.Reload(), chromedp.WaitVisible(`//*[contains(text(), "engineers: engineer")]`), click(`//button[contains(., "Sign out")]`), chromedp.WaitVisible(`#password`))
	t.Log("# somebody whose groups may do nothing here is told so")
	provider.QueueUser(&mockoidc.MockUser{Subject: "1", PreferredUsername: "guest", Groups: []string{"visitors"}})
	b.do(chromedp.Navigate(stage.URL), click(`//a[contains(., "Sign in by gate")]`), chromedp.WaitVisible(`//*[contains(text(), "none of their groups there may do anything here")]`))

	t.Log("# and somebody else is in")
	provider.QueueUser(&mockoidc.MockUser{Subject: "2", PreferredUsername: "rowan", Groups: []string{"visitors", "engineers"}})
	b.do(click(`//a[contains(., "Sign in by gate")]`), chromedp.WaitVisible(`//a[text()="Workstations"]`), chromedp.WaitVisible(`//button[@title="Your account"]//*[text()="rowan"]`))
	p, err := stage.Client.Person(t.Context(), "rowan")
	require.NoError(t, err)
	assert.Equal(t, "gate", p.Directory)
	assert.Equal(t, []api.Grant{{Role: "engineer", On: "everything"}}, p.Grants)
	lines, err := stage.Client.Lines(t.Context(), apiclient.List{Filter: map[string]string{"operation": "sign-in"}})
	require.NoError(t, err)
	assert.Equal(t, "rowan", lines.Items[0].Who)

	t.Log("# who has not begun here, or comes back twice, is not let in")
	b.do(click(`//button[contains(., "Sign out")]`), chromedp.WaitVisible(`#password`))
	for path, says := range map[string]string{"/signin/gate/back?code=x&state=y": "has not begun to sign in here", "/signin/gate/back": "has not begun to sign in here", "/signin/nowhere": "there is no directory nowhere"} {
		b.do(chromedp.Navigate(stage.URL+path), chromedp.WaitVisible(`//*[contains(text(), "`+says+`")]`), chromedp.Reload(), chromedp.WaitVisible(`#password`))
		b.until(`!document.body.innerText.includes("` + says + `")`)
	}
}
