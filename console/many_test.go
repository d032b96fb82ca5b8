package console_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
)

// act opens the menu behind a button, and chooses from it.
func (b browser) act(button, what string) {
	b.t.Helper()
	item := `//li[contains(@class, "ant-dropdown-menu-item") and contains(., "` + what + `")]`
	b.do(click(button), chromedp.WaitVisible(item))
	b.settled()
	b.do(click(item))
}

// closed waits until no dialog is open, and nothing is said any more.
func (b browser) closed() {
	b.t.Helper()
	b.until(`[...document.querySelectorAll(".ant-modal-wrap")].every(m => m.style.display === "none") && !document.querySelector('[class*="ant-message-notice"]')`)
	b.settled()
}

// choose takes rows of the roster together.
func (b browser) choose(names ...string) {
	b.t.Helper()
	for _, name := range names {
		b.do(click(`//input[@aria-label="Choose ` + name + `"]`))
	}
}

// What is done to one is done to many, with the same questions.
func TestManyAtOnce(t *testing.T) {
	stage := prepared(t)
	ctx := t.Context()
	_, err := stage.Client.AddGroup(ctx, api.NewGroup{Name: "microscopes"})
	require.NoError(t, err)
	b := signedIn(t, stage, "/workstations")
	b.do(chromedp.WaitVisible(`//b[text()="herb-01"]`))
	const them = `//button[.="Do with them…"]`

	t.Log("# into a group")
	b.choose("herb-01", "herb-02")
	b.do(chromedp.WaitVisible(`//*[text()="2 chosen"]`))
	b.act(them, "Groups…")
	b.do(chromedp.WaitVisible(`//div[contains(@class, "ant-modal-title") and text()="The groups of 2 workstations"]`))
	b.settled()
	b.do(click(`#move_group`), keys(`#move_group`, "micro"), click(`//div[contains(@class, "ant-select-item-option") and contains(., "microscopes")]`), click(`//div[contains(@class, "ant-modal-footer")]//button[.="Change"]`))
	b.do(chromedp.WaitVisible(`//*[contains(text(), "microscopes has 2 workstations now")]`))
	b.closed()
	w, err := stage.Client.Workstation(ctx, "herb-02")
	require.NoError(t, err)
	assert.Contains(t, w.Groups, "microscopes")

	t.Log("# an answer for each; the selection is still there")
	b.act(them, "Set an answer…")
	b.do(chromedp.WaitVisible(`//div[contains(@class, "ant-modal-title") and text()="Set an answer for 2 workstations"]`))
	b.settled()
	b.do(click(`#answer_key`), keys(`#answer_key`, "time_zone"), click(`//div[contains(@class, "ant-select-item-option") and contains(., "time_zone")]`), keys(`#answer_value`, "Europe/Lisbon"), click(`//div[contains(@class, "ant-modal-footer")]//button[.="Set"]`))
	b.do(chromedp.WaitVisible(`//*[contains(text(), "2 of 2 workstations have their answer")]`))
	b.closed()
	answers, err := stage.Client.ResolvedAnswers(ctx, "herb-01", "")
	require.NoError(t, err)
	assert.True(t, slices.ContainsFunc(answers.Answers, func(a api.ResolvedAnswer) bool { return a.Key == "time_zone" && a.Value == "Europe/Lisbon" }))

	t.Log("# a delivery shows its plan, and asks")
	b.act(them, "Deliver an image…")
	b.do(chromedp.WaitVisible(`//div[contains(@class, "ant-modal-title") and text()="Deliver to 2 workstations"]`))
	b.settled()
	b.do(click(`#image`), keys(`#image`, "garden"), click(`//div[contains(@class, "ant-select-item-option") and contains(., "garden-desk")]`), chromedp.WaitVisible(`//button[.="Overwrite 2 disks"]`), chromedp.WaitVisible(`//td[contains(., "herb-02")]`))
	b.settled()
	b.shoot("many-deliver")
	b.do(click(`//div[contains(@class, "ant-modal-footer")]//button[.="Cancel"]`))
	b.closed()

	t.Log("# an order is prepared for them")
	b.act(them, "Prepare an order…")
	b.do(chromedp.WaitVisible(`//div[contains(@class, "ant-modal-title") and text()="Prepare an order"]`), chromedp.WaitVisible(`//span[contains(@class, "ant-select-selection-item") and contains(., "herb-02")]`))
	b.settled()
	b.do(click(`//div[contains(@class, "ant-modal-footer")]//button[.="Cancel"]`))
	b.closed()

	t.Log("# all of a list: wiping names everyone, and wants more than a click")
	b.do(chromedp.Navigate(stage.URL+"/workstations?group=herbarium-scanning"), chromedp.WaitVisible(`//b[text()="herb-08"]`))
	b.settled()
	b.do(click(`//input[@aria-label="Choose all"]`), chromedp.WaitVisible(`//*[text()="8 chosen"]`))
	b.shoot("console-roster")
	b.act(them, "Wipe their disks…")
	b.do(chromedp.WaitVisible(`//li[contains(., "herb-07: something that Jugate has not brought")]`))
	b.settled()
	b.do(click(`//div[contains(@class, "ant-modal-footer")]//button[.="Wipe them"]`), chromedp.WaitVisible(`//div[text()="That is not 8 workstations."]`))
	b.do(click(`//div[contains(@class, "ant-modal-footer")]//button[.="Cancel"]`))
	b.closed()

	t.Log("# the last two go out of service")
	b.do(click(`//input[@aria-label="Choose all"]`))
	b.choose("herb-07", "herb-08")
	b.act(them, "Retire…")
	b.do(chromedp.WaitVisible(`//div[contains(@class, "ant-modal-title") and text()="Put 2 workstations out of service?"]`))
	b.settled()
	b.do(click(`//div[contains(@class, "ant-modal-footer")]//button[.="Retire"]`), chromedp.WaitNotPresent(`//b[text()="herb-08"]`))
	w, err = stage.Client.Workstation(ctx, "herb-08")
	require.NoError(t, err)
	assert.EqualValues(t, "retired", w.State)
}

// A list has the columns that its reader wants, its address leads back to what is on screen, and it is saved as a table.
func TestListsAreTheReaders(t *testing.T) {
	stage := prepared(t)
	b := signedIn(t, stage, "/workstations?search=seed")
	b.do(chromedp.WaitVisible(`//b[text()="seed-01"]`), chromedp.WaitVisible(`//th[.="Serial"]`))

	t.Log("# without the column that nobody wants, even after coming again")
	foot := `//b[text()="seed-01"]/ancestor::div[contains(@class, "ant-table-wrapper")][1]//button[starts-with(., "Columns")]`
	b.do(click(foot), click(`//label[contains(@class, "ant-checkbox-wrapper") and .="Serial"]`), chromedp.WaitNotPresent(`//table[.//b[text()="seed-01"]]//th[.="Serial"]`))
	b.do(chromedp.Reload(), chromedp.WaitVisible(`//b[text()="seed-01"]`), chromedp.WaitVisible(`//button[.="Columns (1 hidden)"]`))
	assert.Zero(t, b.count(`[title="Serial"]`))

	t.Log("# as a table, all of it, with what is hidden on screen")
	b.do(chromedp.Evaluate[chromedp.Void](`const make = URL.createObjectURL.bind(URL); URL.createObjectURL = b => { b.text().then(t => window.saved = t); return make(b) }; 0`))
	b.do(click(strings.Replace(foot, `starts-with(., "Columns")`, `.="Save as CSV"`, 1)))
	b.until(`window.saved?.trim().split("\n").length === 3`) // the heading and two
	b.until(`window.saved.startsWith("id,name,state,hardware_addresses,maker,model,serial,")`)

	t.Log("# what was looked for, the order and the page are in the address")
	b.do(chromedp.Navigate(stage.URL+"/logbook?search=admit&sort=-at"), chromedp.WaitVisible(`//td`))
	b.until(`document.querySelector("input[placeholder^='Who, what']").value === "admit"`)
	b.do(click(`//label[.//div[text()="Proof"]]`))
	b.until(`new URLSearchParams(location.search).get("view") === "Proof"`)
}

// Who knows the name of something gets there without the mouse.
func TestGoingToAnything(t *testing.T) {
	stage := prepared(t)
	b := signedIn(t, stage, "/")
	b.do(chromedp.WaitVisible(`//h3[text()="Now"]`))
	b.do(chromedp.KeyEvent("k", chromedp.KeyModifiers(chromedp.ModifierCtrl)), chromedp.WaitVisible(`//input[@role="combobox" and contains(@aria-label, "number of a delivery")]`))
	b.do(chromedp.KeyEvent("herb"), chromedp.WaitVisible(`//div[contains(@class, "ant-select-item-option") and contains(., "herb-03")]`), chromedp.WaitVisible(`//div[contains(@class, "ant-select-item-option") and contains(., "herbarium-scanning")]`))
	b.settled()
	b.shoot("palette")
	b.axe("palette")
	b.do(chromedp.KeyEvent("arium-s"))
	b.until(`document.querySelectorAll(".ant-select-item-option").length === 1 && document.querySelector(".ant-select-item-option").innerText.includes("herbarium-scanning")`)
	b.do(chromedp.KeyEvent(kb.Enter), chromedp.WaitVisible(`//b[text()="herb-08"]`))
	b.until(`location.pathname === "/rooms/herbarium-scanning" && !document.querySelector("[role=listbox]")`)

	t.Log("# a slash goes to the search of the page, and is a slash where one types")
	b.closed()
	b.do(click(`//a[text()="Workstations"]`), chromedp.WaitVisible(`//h3[text()="Workstations"]`), chromedp.KeyEvent("/"))
	b.until(`document.activeElement.placeholder?.startsWith("Text, or =")`)
	b.do(chromedp.KeyEvent("/k"))
	b.until(`document.activeElement.value.endsWith("/k")`) // the browser is told of the character of the first one, too
}

// A long roster is one list: what is seen of it is drawn, and all of it can be chosen.
func TestALongRoster(t *testing.T) {
	stage := openStage(t)
	table := "name,serial\n"
	for n := range 300 {
		table += fmt.Sprintf("desk-%03d,AL-%04d\n", n, 3000+n)
	}
	in, err := stage.Client.ImportRoster(t.Context(), []byte(table), false, true)
	require.NoError(t, err)
	require.True(t, in.Entered)
	b := signedIn(t, stage, "/workstations")
	b.do(chromedp.WaitVisible(`//b[text()="desk-000"]`))
	b.until(`document.querySelector(".foot").dataset.loaded === "300"`)
	assert.Less(t, b.count(".ant-table-row"), 60)
	b.settled()
	b.axe("a long roster")
	b.do(click(`//input[@aria-label="Choose all"]`), chromedp.WaitVisible(`//*[text()="300 chosen"]`))
	b.until(`(document.querySelector(".ant-table-tbody-virtual-holder").scrollTop = 1e6, [...document.querySelectorAll("b")].some(e => e.innerText === "desk-299"))`)
	b.shoot("long-roster")
	b.do(chromedp.Navigate(stage.URL+"/workstations?search=desk-29"), chromedp.WaitVisible(`//b[text()="desk-290"]`))
	assert.Equal(t, 10, b.count("tr.ant-table-row"), "a short list is a plain table")
}
