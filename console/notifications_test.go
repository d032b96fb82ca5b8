package console_test

import (
	"io"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"

	"github.com/chromedp/chromedp"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
)

// What happens reaches a program without anybody looking at the console; an address that is out of order is seen, and what it missed
// is sent again.
func TestAProgramIsToldOfWhatHappens(t *testing.T) {
	stage := prepared(t)
	var away atomic.Bool
	type taken struct {
		header http.Header
		body   []byte
	}
	all := make(chan taken, 100)
	program := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if away.Load() {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		body, err := io.ReadAll(r.Body)
		assert.NoError(t, err)
		all <- taken{r.Header, body}
	}))
	defer program.Close()
	b := signedIn(t, stage, "/notifications")
	b.do(chromedp.WaitVisible(`//*[contains(text(), "Nobody is told of anything")]`))
	b.do(click(`//button[.="Tell somebody…"]`), chromedp.WaitVisible(`#rule`))
	b.do(keys(`#rule`, "chat"), click(`//label[contains(., "a program, by webhooks")]`), chromedp.WaitVisible(`#webhook`), keys(`#webhook`, program.URL+"/hooks/desk"))
	b.do(click(`//label[contains(., "delivery.ended")]`), click(`//label[contains(., "receipt.failed")]`))
	b.settled()
	b.axe("a rule of notifications")
	b.shoot("notification-rule")
	b.do(click(`//button[.="Add"]`), chromedp.WaitVisible(`//code[starts-with(., "whsec_")]`))
	secret, err := chromedp.Run(b.ctx, chromedp.Text(`//code[starts-with(., "whsec_")]`))
	require.NoError(t, err)
	judge, err := standardwebhooks.NewWebhook(secret)
	require.NoError(t, err)
	b.do(click(`//button[.="OK"]`))
	b.closed()
	b.do(click(`//button[.="Try"]`))
	one := <-all
	require.NoError(t, judge.Verify(one.body, one.header))
	assert.Contains(t, string(one.body), `"type":"rule.tried"`)

	t.Log("# a delivery ends while the program is away")
	away.Store(true)
	deliver(t, stage, "garden-desk", "herb-01", "herb-02")
	b.do(chromedp.WaitVisible(`//td[text()="delivery.ended"]`), chromedp.WaitVisible(`//td[contains(., "503 Service Unavailable")]`))
	b.settled()
	b.axe("notifications")
	b.shoot("console-notifications")
	b.looks("dark")
	b.shoot("notifications-dark")
	b.looks("light")
	b.do(chromedp.WaitVisible(`//tr[contains(., "delivery.ended")]/td[text()="2"]`)) // the next try is minutes away
	away.Store(false)
	b.do(click(`//button[.="Send now"]`))
	one = <-all
	require.NoError(t, judge.Verify(one.body, one.header))
	assert.Contains(t, string(one.body), "2 of 2 workstations got it")
	b.do(chromedp.WaitVisible(`//tr[contains(., "delivery.ended")]//span[text()="sent"]`))

	t.Log("# it is changed, and the secret stays; it is forgotten")
	b.do(click(`//button[.="Change…"]`), chromedp.WaitVisible(`#rule`), click(`//label[contains(., "check.failed")]`), click(`//button[.="Change"]`))
	b.do(chromedp.WaitVisible(`//span[text()="check.failed"]`))
	b.closed()
	rules, err := stage.Client.NotificationRules(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"delivery.ended", "receipt.failed", "check.failed"}, rules.Items[0].Events)
	b.do(click(`//button[.="Try"]`))
	one = <-all
	require.NoError(t, judge.Verify(one.body, one.header))
	b.do(click(`//button[.="Remove"]`), click(`//button[.="Forget"]`), chromedp.WaitVisible(`//*[contains(text(), "Nobody is told of anything")]`))

	t.Log("# a mail server that does not answer is not entered")
	b.do(click(`//button[.="Say which server takes mail…"]`), chromedp.WaitVisible(`#server`), keys(`#server`, "127.0.0.1:9"), keys(`#sender`, "jugate@fennholt.example"), click(`//button[.="Try and set"]`))
	b.do(chromedp.WaitVisible(`//*[contains(text(), "does not take mail")]`))
	mail, err := stage.Client.MailSettings(t.Context())
	require.NoError(t, err)
	assert.Equal(t, api.MailSettings{Security: "starttls"}, mail)
}
