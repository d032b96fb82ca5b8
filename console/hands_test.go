package console_test

import (
	"testing"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/demo"
)

// answering opens the dialog for an answer, and fills it in.
func (b browser) answering(of, key, value string) {
	b.t.Helper()
	b.do(click(`//button[.="Set…"]`), chromedp.WaitVisible(`#of`))
	b.settled()
	b.do(keys(`#of`, of), click(`#key`), keys(`#key`, key), click(`//div[contains(@class, "ant-select-item-option") and contains(., "`+key+`")]`), keys(`#value`, value))
	b.settled()
}

const set = `//div[contains(@class, "ant-modal-footer")]//button[.="Set"]`

func answerOf(t *testing.T, stage *demo.Stage, key string) any {
	t.Helper()
	all, err := stage.Client.Answers(t.Context(), "service")
	require.NoError(t, err)
	for _, a := range all.Items {
		if a.Key == key {
			return a.Value
		}
	}
	return nil
}

// What happens while somebody fills in a form takes nothing of what they have typed.
func TestWhatWasTypedStays(t *testing.T) {
	stage := prepared(t)
	ctx := t.Context()
	b := open(t, stage)
	b.do(chromedp.Navigate(stage.URL + "/answers"))
	b.signInAs("ines", demo.Password)

	t.Log("# the session ends: one signs in over the form, and what was asked for is done")
	b.answering("service", "time_zone", "Europe/Lisbon")
	sessions, err := stage.Client.Sessions(ctx)
	require.NoError(t, err)
	for _, s := range sessions.Items {
		require.NoError(t, stage.Client.EndSession(ctx, s.ID))
	}
	b.do(click(set), chromedp.WaitVisible(`//div[contains(@class, "ant-modal-title") and text()="Your session has ended"]`))
	b.settled()
	b.shoot("session-ended")
	b.axe("signing in again")
	assert.NotEqual(t, "Europe/Lisbon", answerOf(t, stage, "time_zone"))
	b.do(keys(`#again_name`, "ines"), keys(`#again_password`, demo.Password), click(`//button[.="Sign in"]`))
	b.closed()
	assert.Equal(t, "Europe/Lisbon", answerOf(t, stage, "time_zone"))
	b.do(chromedp.WaitVisible(`//td[.="Europe/Lisbon"]`))

	t.Log("# somebody else is faster: the second is told what they did, and decides")
	b.answering("service", "locale", "pt_PT.UTF-8")
	_, err = stage.Client.SetAnswers(ctx, api.NewAnswers{Of: "service", Values: map[string]any{"locale": "de_AT.UTF-8"}})
	require.NoError(t, err)
	b.do(click(set))
	b.until(`document.querySelector(".ant-modal-confirm")?.innerText.includes('administrator has changed this since you opened it: locale is "de_AT.UTF-8", and was not there')`)
	b.settled()
	b.shoot("second-of-two")
	assert.Equal(t, "de_AT.UTF-8", answerOf(t, stage, "locale"))
	b.do(click(`//button[.="Change it all the same"]`))
	b.closed()
	assert.Equal(t, "pt_PT.UTF-8", answerOf(t, stage, "locale"))

	t.Log("# the service is away for a while")
	b.answering("service", "description", "by the window")
	line := func(offline bool) {
		_, err := chromedp.Call(b.ctx, network.EmulateNetworkConditionsByRule, network.EmulateNetworkConditionsByRuleParams{MatchedNetworkConditions: []*network.Conditions{{DownloadThroughput: -1, UploadThroughput: -1, Offline: offline}}})
		require.NoError(t, err)
	}
	line(true)
	b.do(click(set), chromedp.WaitVisible(`//*[contains(text(), "Failed to fetch")]`))
	line(false)
	b.do(click(set))
	b.closed()
	assert.Equal(t, "by the window", answerOf(t, stage, "description"))
}
