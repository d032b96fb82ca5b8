package console_test

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
)

// The engineer sets what a room becomes, sees what counts for one workstation, and looks at what
// that changes on its copy.
func TestAnswersAreSetAndPreviewed(t *testing.T) {
	stage := openStage(t)
	_, err := stage.Prepare(t.Context())
	require.NoError(t, err)
	for of, values := range map[string]map[string]any{
		"service":            {"time_zone": "UTC", "locale": "de_AT"},
		"herbarium-scanning": {"accounts": []any{map[string]any{"name": "scan", "password_hash": "$6$fennholt$KlLxKZbDz7h1S5d9n0Y3i8yQ2b4W6m8x0z1A3C5E7G9I1K3M5O7Q9S1U3W5Y7a9c1e3g5i7k9m1o3q5s7u9w1y3A5"}}},
		"herb-01":            {"description": "2.14, by the window"},
	} {
		_, err := stage.Client.SetAnswers(t.Context(), api.NewAnswers{Of: of, Values: values})
		require.NoError(t, err)
	}
	b := open(t, stage)
	b.do(chromedp.Navigate(stage.URL))
	b.signIn(stage.Token)
	b.do(click(`//a[text()="Answers"]`), chromedp.WaitVisible(`//td[text()="(set)"]`))

	t.Log("# a value that makes no sense is refused in words, a good one is set")
	pick := func(id, item string) {
		b.do(click(id), keys(id, item), chromedp.WaitVisible(`//div[contains(@class, "ant-select-item-option-active")][@title="`+item+`"]`), keys(id, "\r"))
		b.until(`[...document.querySelectorAll(".ant-select")].some(s => s.querySelector("` + id + `") && s.innerText.includes("` + item + `"))`)
	}
	b.do(click(`//button[contains(., "Set…")]`), chromedp.WaitVisible(`#of`), keys(`#of`, "herbarium-scanning"))
	b.settled()
	pick("#key", "time_zone")
	b.do(keys(`#value`, "Vienna"), click(`//div[contains(@class, "ant-modal-footer")]//button[contains(@class, "ant-btn-primary")]`), chromedp.WaitVisible(`//*[contains(text(), "not a time zone of the IANA list")]`))
	b.do(chromedp.Evaluate[chromedp.Void](`document.querySelector("#value").focus()`), keys(`#value`, "\b\b\b\b\b\bEurope/Vienna"), click(`//div[contains(@class, "ant-modal-footer")]//button[contains(@class, "ant-btn-primary")]`), chromedp.WaitVisible(`//td[text()="Europe/Vienna"]`))
	b.settled()
	r, err := stage.Client.ResolvedAnswers(t.Context(), "herb-01", "")
	require.NoError(t, err)
	assert.Equal(t, "the group herbarium-scanning", r.Answers[2].Set)

	t.Log("# what counts, where it is set, and what it does to the image")
	pick("#answered", "herb-01")
	b.do(chromedp.WaitVisible(`//td[text()="the group herbarium-scanning"]`))
	pick("#answered-image", "garden-desk")
	b.do(chromedp.WaitVisible(`//code[text()="/etc/hostname"]`))
	b.settled()
	b.shoot("console-answers")

	t.Log("# a value can be a question for whoever stands there")
	b.do(click(`//button[contains(., "Set…")]`), chromedp.WaitVisible(`#of`), keys(`#of`, "herb-02"))
	b.settled()
	pick("#key", "description")
	b.do(keys(`#question`, "Where does it stand?"), keys(`#value`, "2.14"))
	b.do(click(`//div[contains(@class, "ant-modal-footer")]//button[contains(@class, "ant-btn-primary")]`), chromedp.WaitVisible(`//td[text()="asked: Where does it stand? (2.14)"]`))
	b.settled()
	r, err = stage.Client.ResolvedAnswers(t.Context(), "herb-02", "")
	require.NoError(t, err)
	assert.Equal(t, map[string]any{"ask": "Where does it stand?", "default": "2.14"}, r.Answers[1].Value)

	t.Log("# a payload is brought onto what is on a disk already, and refused where nobody knows what that is")
	_, err = stage.Client.AddPayload(t.Context(), "scanner-tools_2.1_amd64.deb", "for the herbarium", strings.NewReader("made up"))
	require.NoError(t, err)
	b.do(chromedp.Reload(), chromedp.WaitVisible(`//b[text()="scanner-tools_2.1_amd64.deb"]`), click(`//tr[@data-row-key="scanner-tools_2.1_amd64.deb"]//button[contains(., "Bring…")]`),
		chromedp.WaitVisible(`#to`), keys(`#to`, "herb-03"), click(`//div[contains(@class, "ant-select-item-option") and contains(., "herb-03")]`))
	// The list lies over the button until the field is left.
	b.until(`(document.activeElement.blur(), [...document.querySelectorAll(".ant-select-dropdown")].every(d => d.getClientRects().length === 0))`)
	b.do(click(`//div[contains(@class, "ant-modal-footer")]//button[contains(., "Bring")]`), chromedp.WaitVisible(`//*[contains(text(), "herb-03 has no receipt of an image")]`))
	b.do(click(`//div[contains(@class, "ant-modal-footer")]//button[contains(., "Cancel")]`))
	b.settled()

	t.Log("# a domain whose controller nobody reaches is not entered, and the dialog says why")
	b.do(click(`//button[contains(., "Add a domain…")]`), chromedp.WaitVisible(`#password`), keys(`#domain`, "fennholt.example"), keys(`#server`, "ldaps://127.0.0.1:1"), keys(`#account`, "jugate@fennholt.example"),
		keys(`#password`, "sundial"), keys(`#unit`, "OU=Workstations,DC=fennholt,DC=example"),
		click(`//div[contains(@class, "ant-modal-footer")]//button[contains(., "Try and add")]`), chromedp.WaitVisible(`//*[contains(text(), "no domain controller answers for fennholt.example")]`))
}
