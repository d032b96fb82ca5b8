package console_test

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What the desk knows of a model stands on a sheet to take along.
func TestTheSheetOfAModel(t *testing.T) {
	stage := prepared(t)
	b := signedIn(t, stage, "/models")
	b.do(chromedp.WaitVisible(`//td[.="Brindle Mini 2"]`), click(`//a[text()="Alder Works A310"]`))
	b.do(chromedp.WaitVisible(`//kbd[text()="F12"]`), chromedp.WaitVisible(`//td[contains(., "version 1.09.0, not 1.14.2; Secure Boot is Disabled, not Enabled")]`))
	b.settled()
	b.axe("model")
	b.shoot("console-model")
	b.looks("dark")
	b.settled()
	b.shoot("model-dark")
	b.looks("light")
	b.do(click(`//button[.="Change…"]`), chromedp.WaitVisible(`#boot_key`), chromedp.Evaluate[chromedp.Void](`document.querySelector('#boot_key').focus(); document.querySelector('#boot_key').select()`), keys(`#boot_key`, "F9"))
	b.settled()
	b.axe("what is known of a model")
	b.do(click(`//button[.="Keep"]`), chromedp.WaitVisible(`//kbd[text()="F9"]`))
	b.closed()
	m, err := stage.Client.Model(t.Context(), "Alder Works A310")
	require.NoError(t, err)
	assert.Equal(t, "F9", m.BootKey)
	assert.Equal(t, map[string]string{"Secure Boot": "Enabled"}, m.Settings, "what was not touched stays")
	b.do(click(`//a[text()="9 machines"]`), chromedp.WaitVisible(`//td[.//text()="herb-07"]`))
}
