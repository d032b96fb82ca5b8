package console_test

import (
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"jugate/api"
)

// One page has everything that is known of an image.
func TestTheImagePage(t *testing.T) {
	stage := prepared(t)
	ctx := t.Context()
	d, err := stage.Client.Deliver(ctx, api.NewDelivery{Image: "garden-desk@1", To: []string{"herb-01", "herb-02"}, Answers: "none"})
	require.NoError(t, err)
	importDesk(t, stage, "garden-desk", "with the spring updates")
	require.Eventually(t, func() bool {
		d, err = stage.Client.Delivery(ctx, d.ID)
		return err == nil && d.Ended != nil
	}, 5*time.Minute, 50*time.Millisecond)
	_, err = stage.Client.SetAnswers(ctx, api.NewAnswers{Of: "image:garden-desk", Values: map[string]any{"time_zone": "Europe/Vienna"}})
	require.NoError(t, err)
	b := signedIn(t, stage, "/images")
	b.do(
		click(`//a[.="garden-desk"]`),
		chromedp.WaitVisible(`//h3[.="garden-desk"]`),
		chromedp.WaitVisible(`//div[text()="with the spring updates"]`),
		chromedp.WaitVisible(`//b[text()="@1: 2"]`),
		chromedp.WaitVisible(`//a[text()="herb-02"]`),
		chromedp.WaitVisible(`//div[text()="time_zone: Europe/Vienna"]`),
		chromedp.WaitVisible(`//div[contains(text(), "that garden-desk@1 has nowhere.")]`),
		chromedp.WaitVisible(`//div[text()="the data folder: @2, @1"]`),
	)
	b.settled()
	b.shoot("image-page")
	b.axe("an image")
	b.looks("dark")
	b.settled()
	b.axe("an image, dark")
	b.looks("light")

	t.Log("# its files are looked at, and one is fetched")
	b.do(chromedp.Navigate(stage.URL+"/images/garden-desk?in=garden-desk@1"), click(`//button[.="etc/"]`), chromedp.WaitVisible(`//a[@aria-label="Fetch os-release"]`))
	b.until(`new URLSearchParams(location.search).get("folder") === "etc"`)
	b.settled()
	b.axe("files of an image")
	b.shoot("image-files")
	b.do(chromedp.Evaluate[chromedp.Void](`fetch(document.querySelector('a[aria-label="Fetch os-release"]').href).then(async r => { window.fetched = r.headers.get("content-disposition") + await r.text() }); 0`))
	b.until(`window.fetched?.includes("attachment; filename=os-release") && window.fetched.includes("ID=")`)

	t.Log("# and which of them differ")
	b.do(click(`//tr[td[text()="2"]]//button[contains(@class, "row-expand-icon")]`), chromedp.WaitVisible(`//span[text()="added" or text()="changed" or text()="removed"]`))
	b.settled()
	b.axe("files that differ")
	b.do(chromedp.Navigate(stage.URL+"/images/garden-desk?of=garden-desk@1&than=garden-desk@1"), chromedp.WaitVisible(`//*[text()="That is one version."]`))
	b.do(chromedp.Navigate(stage.URL+"/images/nobody-has"), chromedp.WaitVisible(`//*[contains(text(), "nobody-has")]`))
}
