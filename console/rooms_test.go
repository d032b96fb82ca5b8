package console_test

import (
	"fmt"
	"testing"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
)

// press presses the mouse, moves it, and lets it go.
func (b browser) press(x1, y1, x2, y2 float64) {
	b.t.Helper()
	for _, p := range []input.DispatchMouseEventParams{
		{Type: "mousePressed", X: x1, Y: y1, Button: input.MouseButtonLeft, ClickCount: 1},
		{Type: "mouseMoved", X: (x1 + x2) / 2, Y: (y1 + y2) / 2, Button: input.MouseButtonLeft, Buttons: 1},
		{Type: "mouseMoved", X: x2, Y: y2, Button: input.MouseButtonLeft, Buttons: 1},
		{Type: "mouseReleased", X: x2, Y: y2, Button: input.MouseButtonLeft, ClickCount: 1},
	} {
		_, err := chromedp.Call(b.ctx, input.DispatchMouseEvent, p)
		require.NoError(b.t, err)
	}
}

// A room is drawn as it is: desks get their places, and are chosen together by drawing a box around them.
func TestARoomAsAPlan(t *testing.T) {
	stage := prepared(t)
	ctx := t.Context()
	_, err := stage.Client.SetGroupImage(ctx, "herbarium-scanning", "garden-desk")
	require.NoError(t, err)
	b := signedIn(t, stage, "/rooms")
	b.do(chromedp.WaitVisible(`//span[text()="8 behind"]`))
	b.axe("rooms")
	b.do(click(`//a[text()="herbarium-scanning"]`), chromedp.WaitVisible(`//button[contains(@class, "desk") and contains(., "herb-08")]`))

	t.Log("# places for all, then one changes places with another, by clicks alone")
	b.do(click(`//button[.="Arrange the desks"]`), chromedp.WaitVisible(`//button[.="Place them in order"]`), chromedp.Evaluate[chromedp.Void](`document.querySelector("[aria-label='Desks in a row']").select()`), keys(`[aria-label="Desks in a row"]`, "4"), click(`//button[.="Place them in order"]`))
	b.do(chromedp.WaitVisible(`//*[contains(text(), "8 have a place now")]`), chromedp.WaitNotPresent(`//*[text()="Nobody has said where they stand"]`))
	b.until(`document.querySelectorAll("[role=group] .desk").length === 8`)
	b.do(click(`//button[contains(@class, "desk") and contains(., "herb-01")]`), chromedp.WaitVisible(`//*[contains(text(), "Where does herb-01 stand?")]`), click(`//button[contains(@class, "desk") and contains(., "herb-06")]`))
	b.until(`document.querySelectorAll("[role=group] .desk")[0].innerText.startsWith("herb-06")`)
	b.do(click(`//button[contains(@class, "desk") and contains(., "herb-08")]`), click(`//button[@aria-label="Row 3, seat 5: nobody"]`))
	b.until(`[...document.querySelectorAll("[role=group] > div")].at(16)?.innerText.startsWith("herb-08")`)
	b.settled()
	b.axe("arranging a room")
	b.do(click(`//button[.="Done"]`))
	w, err := stage.Client.Workstation(ctx, "herb-08")
	require.NoError(t, err)
	assert.Equal(t, []string{"3", "5"}, []string{w.Fields["row"], w.Fields["seat"]})
	w, err = stage.Client.Workstation(ctx, "herb-06")
	require.NoError(t, err)
	assert.Equal(t, []string{"1", "1"}, []string{w.Fields["row"], w.Fields["seat"]})

	t.Log("# a box around the first row chooses it")
	b.until(`!document.querySelector("[aria-label$=nobody]")`)
	b.settled()
	box, err := chromedp.Run(b.ctx, chromedp.Evaluate[[]float64](`(() => {
		const plan = document.querySelector("[role=group]").getBoundingClientRect(), desk = document.querySelector("[role=group] .desk").getBoundingClientRect();
		return [plan.left + 4, plan.top + 4, plan.right - 4, desk.bottom - 4] })()`))
	require.NoError(t, err)
	b.press(box[0], box[1], box[2], box[3])
	b.do(chromedp.WaitVisible(`//*[text()="4 chosen"]`))

	t.Log("# a hand may be quicker than the page draws")
	b.do(click(`//label[contains(., "All")]`), chromedp.WaitVisible(`//*[text()="8 chosen"]`), chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`(() => {
		const plan = document.querySelector("[role=group]");
		for (const [type, clientX, clientY] of [["pointerdown", %[1]f, %[2]f], ["pointermove", %[3]f, %[4]f], ["pointerup", %[3]f, %[4]f]])
			plan.dispatchEvent(new PointerEvent(type, { pointerId: 1, clientX, clientY, bubbles: true })) })()`, box[0], box[1], box[2], box[3])))
	b.do(chromedp.WaitVisible(`//*[text()="4 chosen"]`))
	b.shoot("console-room")
	b.axe("a room")
	b.looks("dark")
	b.settled()
	b.axe("a room, dark")
	b.looks("light")
	b.act(`//button[.="Do with them…"]`, "Check…")
	b.do(chromedp.WaitVisible(`//div[contains(@class, "ant-modal-title") and text()="Check 4 workstations"]`))

	t.Log("# the room has an address, and what happens is seen at once")
	b.do(chromedp.Reload(), chromedp.WaitVisible(`//button[contains(@class, "desk") and contains(., "herb-06")]`))
	_, err = stage.Client.Exclude(ctx, "herbarium-scanning", api.GroupMembers{Workstations: []string{"herb-06"}})
	require.NoError(t, err)
	b.do(chromedp.WaitNotPresent(`//button[contains(@class, "desk") and contains(., "herb-06")]`))
}
