package console_test

import (
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/demo"
)

// Signing in as people do: by name and password, and with a second factor that they set up themselves.
func TestSigningInWithASecondFactor(t *testing.T) {
	stage := openStage(t)
	_, err := stage.Prepare(t.Context())
	require.NoError(t, err)
	b := open(t, stage)
	enter := func() {
		b.do(chromedp.WaitVisible(`#password`), keys(`#name`, "ines"), keys(`#password`, demo.Password), click(`button[type=submit]`))
	}
	b.do(chromedp.Navigate(stage.URL))
	enter()
	b.do(click(`//button[@title="Your account"]`), click(`//button[contains(., "Set up a second factor")]`), chromedp.WaitVisible(`.ant-qrcode svg`))
	b.settled()
	secret, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`document.querySelector(".ant-modal code").textContent`))
	require.NoError(t, err)
	code := func(ahead time.Duration) string {
		text, err := totp.GenerateCode(secret, time.Now().Add(ahead))
		require.NoError(t, err)
		return text
	}
	b.do(keys(`#second_factor_code`, "000000"), click(`//button[contains(., "Confirm")]`), chromedp.WaitVisible(`//*[contains(text(), "this code is not right")]`))
	b.do(chromedp.Evaluate[chromedp.Void](`document.querySelector('#second_factor_code').select()`), keys(`#second_factor_code`, code(0)), click(`//button[contains(., "Confirm")]`), chromedp.WaitVisible(`//button[contains(., "Remove it")]`))
	p, err := stage.Client.Person(t.Context(), "ines")
	require.NoError(t, err)
	assert.True(t, p.Factor)

	t.Log("# from then on the code is asked for")
	b.do(chromedp.Reload(), click(`//button[contains(., "Sign out")]`))
	enter()
	b.do(chromedp.WaitVisible(`#second_factor_code`), chromedp.WaitVisible(`//*[contains(text(), "enter the code that your second factor shows")]`))
	b.settled()
	b.do(keys(`#second_factor_code`, code(30*time.Second)), click(`button[type=submit]`), chromedp.WaitVisible(`//a[text()="Workstations"]`))
}
