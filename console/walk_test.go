package console_test

import (
	"fmt"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/apiclient"
)

// The whole job, from an empty service to desks that have arrived, without the command line: what the test does beside is to switch
// machines on, and to start them from their disks.
func TestFromAnEmptyServiceToArrivedDesks(t *testing.T) {
	stage := openStage(t)
	ctx := t.Context()
	b := open(t, stage)
	b.do(chromedp.Navigate(stage.URL))
	b.signIn(stage.Token)
	b.do(chromedp.WaitVisible(`//*[contains(text(), "Nothing: every delivery gets on")]`))
	_, err := stage.SwitchOn(ctx)
	require.NoError(t, err)
	b.do(click(`//a[text()="14 newcomers wait to be admitted"]`), chromedp.WaitVisible(`//*[contains(text(), "Newcomers (14)")]`))

	t.Log("# a room, and the golden machine")
	b.do(click(`//a[text()="Rooms"]`), click(`//button[.="Add a room…"]`), chromedp.WaitVisible(`#room_name`))
	b.settled()
	b.do(keys(`#room_name`, "herbarium"), click(`//div[contains(@class, "ant-modal-footer")]//button[.="Add"]`), chromedp.WaitVisible(`//a[text()="herbarium"]`))
	b.closed()
	name := `//input[@aria-label="Name for 00:00:5e:00:53:01"]`
	b.do(click(`//a[text()="Workstations"]`), keys(name, "desk-gold"), click(name+`/ancestor::form//button[@type="submit"]`), chromedp.WaitVisible(`//b[text()="desk-gold"]`))
	b.closed()

	t.Log("# four desks are named by a pattern")
	for n := range 4 {
		b.do(click(fmt.Sprintf(`//tr[contains(., "00:00:5e:00:53:1%d")]//input[@type="checkbox"]`, n+1)))
	}
	b.do(click(`//button[contains(., "Name 4 by a pattern…")]`), chromedp.WaitVisible(`//div[contains(@class, "ant-modal")]//b[text()="herb-04"]`))
	b.settled()
	b.do(click(`//div[contains(@class, "ant-modal")]//input[@id="groups"]`), keys(`//div[contains(@class, "ant-modal")]//input[@id="groups"]`, "herb"), click(`//div[contains(@class, "ant-select-item-option") and contains(., "herbarium")]`), click(`//label[contains(., "the lowest address")]`))
	b.until(`[...document.querySelectorAll(".ant-modal tr")].some(r => r.innerText.includes("00:00:5e:00:53:11") && r.innerText.includes("herb-01"))`)
	b.do(click(`//button[contains(., "Admit them")]`), chromedp.WaitVisible(`//b[text()="herb-04"]`))
	b.closed()

	t.Log("# the golden disk is captured")
	b.act(`//tr[.//b[text()="desk-gold"]]//button[.="More"]`, "Capture…")
	b.do(chromedp.WaitVisible(`//div[contains(@class, "ant-modal")]//input[@id="image"]`))
	b.settled()
	b.do(keys(`//div[contains(@class, "ant-modal")]//input[@id="image"]`, "garden-desk"), click(`//div[contains(@class, "ant-modal-footer")]//button[.="Capture"]`), chromedp.WaitVisible(`//*[contains(text(), "Captured as garden-desk@1")]`))
	b.settled()
	b.do(click(`//div[contains(@class, "ant-modal-footer")]//button[.="Close"]`))
	b.closed()

	t.Log("# the room gets an answer, and what it should have")
	b.do(click(`//a[text()="Answers"]`))
	b.answering("herbarium", "time_zone", "Europe/Vienna")
	b.do(click(set), chromedp.WaitVisible(`//td[.="Europe/Vienna"]`))
	b.closed()
	b.do(chromedp.Navigate(stage.URL+"/rooms"), click(`//button[.="Should have…"]`), chromedp.WaitVisible(`#should_image`))
	b.settled()
	b.do(keys(`#should_image`, "garden-desk"), click(`//button[.="Say so"]`), chromedp.WaitVisible(`//span[text()="4 behind"]`))
	b.closed()

	t.Log("# all of the room get it; their disks are named before")
	b.do(click(`//a[text()="herbarium"]`), click(`//label[.="All"]//input`), chromedp.WaitVisible(`//*[text()="4 chosen"]`))
	b.act(`//button[.="Do with them…"]`, "Deliver an image…")
	b.do(chromedp.WaitVisible(`#image`))
	b.settled()
	b.do(click(`#image`), keys(`#image`, "garden"), click(`//div[contains(@class, "ant-select-item-option") and contains(., "garden-desk")]`), click(`//button[.="Overwrite 4 disks"]`))
	b.until(`location.pathname === "/deliveries/1"`)
	b.until(`document.querySelectorAll("tr").length >= 4 && [...document.querySelectorAll("td")].filter(d => d.innerText === "delivered").length === 4`)

	t.Log("# they start under their own names, and ask nobody anything")
	for n := range 4 {
		require.NoError(t, stage.FirstStart(ctx, fmt.Sprintf("herb-%02d", n+1)))
	}
	b.do(click(`//a[text()="Receipts"]`))
	b.until(`[...document.querySelectorAll("td .ant-tag")].filter(t => t.innerText === "arrived").length === 4`)
	b.do(click(`//a[text()="Reports"]`), chromedp.WaitVisible(`//td[.="herb-01, herb-02, herb-03, herb-04"]`))
	assert.Zero(t, b.count(`tr .ant-tag-gold`), "nobody is behind")
	page, err := stage.Client.Receipts(ctx, apiclient.List{})
	require.NoError(t, err)
	for _, r := range page.Items {
		require.NotNil(t, r.Arrival, r.Workstation)
		assert.Equal(t, []string{"arrived", r.Workstation}, []string{r.Arrival.State, r.Arrival.Report.ComputerName})
	}
}
