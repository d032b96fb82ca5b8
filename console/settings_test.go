package console_test

import (
	"testing"

	"github.com/chromedp/chromedp"
)

// An administrator changes what becomes of unknown machines, sees that it counts, and takes it back.
func TestSettingsAreChangedInTheConsole(t *testing.T) {
	b := signedIn(t, prepared(t), "/settings")
	b.do(chromedp.WaitVisible(`//tr[.//b[.="unknown"]]//div[text()="hold"]`))
	b.do(click(`//tr[.//b[.="unknown"]]//button[contains(., "Change")]`), click(`//div[contains(@class, "ant-segmented")]//label[contains(., "welcome")]`))
	b.settled()
	b.axe("a setting")
	b.shoot("setting")
	b.do(click(`//div[@role="dialog"]//button[.="Set"]`))
	b.do(chromedp.WaitVisible(`//tr[.//b[.="unknown"]]//div[text()="welcome"]`), chromedp.WaitVisible(`//tr[.//b[.="unknown"]]//span[text()="set here"]`))
	b.closed()

	t.Log("# an interface that is not there is refused, and the dialog says why")
	b.do(click(`//tr[.//b[.="netboot"]]//button[contains(., "Change")]`), keys(`//div[@role="dialog"]//textarea`, "nowhere0=beside\n"))
	b.do(click(`//div[@role="dialog"]//button[.="Set"]`), chromedp.WaitVisible(`//div[@role="dialog"]//*[contains(text(), "netboot stays as it is")]`))
	b.settled()
	b.axe("a setting that is refused")
	b.do(click(`//div[@role="dialog"]//button[.="Cancel"]`))
	b.closed()
	b.shoot("settings")

	b.do(click(`//tr[.//b[.="unknown"]]//button[.="As it was started"]`), click(`//div[contains(@class, "ant-popconfirm")]//button[.="Back"]`))
	b.do(chromedp.WaitVisible(`//tr[.//b[.="unknown"]]//div[text()="hold"]`))
}
