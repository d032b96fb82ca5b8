package console_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The engineer brings a table of the room, looks at what it changes, and enters it; then a
// condition finds the machines.
func TestATableIsLookedAtBeforeItIsEntered(t *testing.T) {
	stage := openStage(t)
	_, err := stage.Prepare(t.Context())
	require.NoError(t, err)
	table := filepath.Join(t.TempDir(), "herbarium.csv")
	require.NoError(t, os.WriteFile(table, []byte(`name;hardware_addresses;serial;groups;note;field.room
herb-01;;;;the scanner's cable is loose;2.14
herb-02;;;;;2.14
herb-09;00:00:5e:00:53:a9;AL-2699;herbarium-scanning;arrives in March;2.15
herb-10;;AL-2700;herbarium-scanning microscopes;arrives in March;2.15
herb-11;;Default string;herbarium-scanning;;2.15
`), 0o644))
	b := open(t, stage)
	b.do(chromedp.Navigate(stage.URL + "/workstations"))
	b.signIn(stage.Token)
	b.do(chromedp.WaitVisible(`//b[text()="herb-01"]`))

	t.Log("# nothing is entered before it was looked at")
	b.do(chromedp.SetUploadFiles(`input[type="file"]`, []string{table}))
	b.do(chromedp.WaitVisible(`//td[contains(., "does not tell one machine from another")]`))
	b.settled()
	_, err = stage.Client.Workstation(t.Context(), "herb-10")
	require.Error(t, err)
	b.do(click(`//button[contains(., "Enter 4 rows")]`))
	b.do(chromedp.WaitVisible(`//b[text()="herb-10"]`))
	b.settled()
	w, err := stage.Client.Workstation(t.Context(), "herb-10")
	require.NoError(t, err)
	assert.Equal(t, []string{"herbarium-scanning", "microscopes"}, w.Groups)

	t.Log("# a condition behind an equals sign finds them")
	b.do(keys(`input[placeholder^="Text, or ="]`, `=field.room == "2.15" and state == "expected"`+"\r"))
	b.until(`document.querySelectorAll("tr[data-row-key]").length > 0 && ![...document.querySelectorAll("b")].some(e => e.innerText === "herb-01")`)
	b.settled()

	t.Log("# newcomers are named by a pattern, which shows the names before")
	b.do(
		click(`.newcomers thead input[type="checkbox"]`),
		click(`//button[contains(., "Name 3 by a pattern…")]`),
		chromedp.WaitVisible(`//div[contains(@class, "ant-modal")]//b[text()="herb-12"]`),
	)
	b.settled()
	b.do(click(`//button[contains(., "Admit them")]`))
	b.until(`!document.querySelector(".newcomers")`)
	named, err := stage.Client.Workstation(t.Context(), "herb-13")
	require.NoError(t, err)
	assert.EqualValues(t, "admitted", named.State)
}
