package records_test

import (
	"database/sql"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/delivery"
	"jugate/core/driver"
	"jugate/core/errand"
	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/roster"
	"jugate/records"
	"jugate/records/recordstest"
)

var noon = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

func open(t *testing.T) (*records.DB, string) {
	t.Helper()
	path := recordstest.Put(t, filepath.Join(t.TempDir(), "with space"))
	db, err := records.Open(t.Context(), time.Now(), path)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	return db, path
}

func addr(n int) hwaddr.Address {
	return hwaddr.MustParse(fmt.Sprintf("00:00:5e:00:53:%02x", n))
}

func newcomer(t testing.TB, db *records.DB, n int) *records.Workstation {
	t.Helper()
	w, err := db.CheckIn(t.Context(), noon, records.Seen{AgentVersion: "1", Own: []hwaddr.Address{addr(n)}, Inventory: api.Inventory{Maker: "Alder Works", Model: "A310", Serial: fmt.Sprintf("AW-%04d", n), Memory: 8 << 30}})
	require.NoError(t, err)
	return w
}

func TestANewcomerIsKnownByAnyOfItsAddresses(t *testing.T) {
	db, _ := open(t)
	w := newcomer(t, db, 1)
	assert.Equal(t, roster.Newcomer, w.State)
	assert.Equal(t, "00:00:5e:00:53:01", w.Label())

	t.Log("# a second card appears in the same machine: it is a proposal")
	again, err := db.CheckIn(t.Context(), noon.Add(time.Hour), records.Seen{AgentVersion: "1", Own: []hwaddr.Address{addr(1), addr(9)}, Inventory: api.Inventory{Model: "A310"}})
	require.NoError(t, err)
	assert.Equal(t, w.ID, again.ID)
	assert.Equal(t, []hwaddr.Address{addr(1)}, again.Addresses())
	assert.Equal(t, []hwaddr.Address{addr(9)}, again.Proposed())
	assert.Equal(t, noon.Add(time.Hour), again.LastSeen.UTC())
	assert.Equal(t, noon, again.FirstSeen.UTC())
	require.NoError(t, db.AcceptCard(t.Context(), w.ID, addr(9)))

	t.Log("# it is found by name and by every spelling of an address")
	require.NoError(t, db.AddGroup(t.Context(), "herbarium"))
	require.NoError(t, db.Admit(t.Context(), w.ID, "herb-01", []string{"herbarium"}))
	for _, ref := range []string{"herb-01", "HERB-01", "00-00-5E-00-53-09", "0000.5e00.5301"} {
		found, err := db.FindWorkstation(t.Context(), ref)
		require.NoError(t, err, ref)
		assert.Equal(t, w.ID, found.ID)
		assert.Equal(t, []string{"herbarium"}, found.Groups())
	}

	t.Log("# a card that was moved from one known machine to another is no guess")
	newcomer(t, db, 2)
	_, err = db.CheckIn(t.Context(), noon, records.Seen{AgentVersion: "1", Own: []hwaddr.Address{addr(1), addr(2)}, Inventory: api.Inventory{}})
	assert.ErrorIs(t, err, fault.Conflict)
}

func TestAdmitRefuses(t *testing.T) {
	db, _ := open(t)
	one, two := newcomer(t, db, 1), newcomer(t, db, 2)
	require.NoError(t, db.Admit(t.Context(), one.ID, "herb-01", nil))
	assert.ErrorIs(t, db.Admit(t.Context(), two.ID, "Herb-01", nil), fault.Conflict)
	assert.ErrorIs(t, db.Admit(t.Context(), 99, "herb-99", nil), fault.NotFound)
	assert.ErrorIs(t, db.Admit(t.Context(), two.ID, "herb-02", []string{"nobody"}), fault.NotFound)
	w, err := db.Workstation(t.Context(), two.ID)
	require.NoError(t, err)
	assert.Equal(t, roster.Newcomer, w.State, "a refused admission changes nothing")
}

func TestWorkstationsPageFilterAndSort(t *testing.T) {
	db, _ := open(t)
	require.NoError(t, db.AddGroup(t.Context(), "herbarium"))
	for n := 1; n <= 20; n++ {
		w := newcomer(t, db, n)
		if n <= 12 {
			require.NoError(t, db.Admit(t.Context(), w.ID, fmt.Sprintf("herb-%02d", n), []string{"herbarium"}))
		}
	}
	rows, total, err := db.Workstations(t.Context(), records.WorkstationFilter{Group: "herbarium"}, records.Page{Offset: 10, Limit: 5, Sort: "-name"})
	require.NoError(t, err)
	assert.Equal(t, 12, total)
	require.Len(t, rows, 2)
	assert.Equal(t, "herb-02", rows[0].Name)

	_, total, err = db.Workstations(t.Context(), records.WorkstationFilter{States: []roster.State{roster.Newcomer}}, records.Page{})
	require.NoError(t, err)
	assert.Equal(t, 8, total)
	for search, want := range map[string]int{"AW-0007": 1, "53:07": 1, "herb-1": 3, "%": 0, "_": 0, "a310": 20} {
		_, total, err = db.Workstations(t.Context(), records.WorkstationFilter{}, records.Page{Search: search})
		require.NoError(t, err)
		assert.Equal(t, want, total, search)
	}
	_, _, err = db.Workstations(t.Context(), records.WorkstationFilter{}, records.Page{Sort: "name; DROP TABLE receipts"})
	assert.ErrorIs(t, err, fault.Invalid)
}

func TestTargetsNameGroupsAndWorkstationsOnce(t *testing.T) {
	db, _ := open(t)
	require.NoError(t, db.AddGroup(t.Context(), "herbarium"))
	require.NoError(t, db.AddGroup(t.Context(), "empty"))
	for n := 1; n <= 3; n++ {
		require.NoError(t, db.Admit(t.Context(), newcomer(t, db, n).ID, fmt.Sprintf("herb-%02d", n), []string{"herbarium"}))
	}
	all, err := db.Targets(t.Context(), []string{"herb-02", "herbarium", "00:00:5e:00:53:03"})
	require.NoError(t, err)
	assert.Len(t, all, 3)
	newcomer(t, db, 9)
	for target, want := range map[string]error{"nobody": fault.NotFound, "empty": fault.Conflict, "00:00:5e:00:53:09": fault.Conflict} {
		_, err := db.Targets(t.Context(), []string{target})
		assert.ErrorIs(t, err, want, target)
	}
}

func TestAVersionAndItsErrandEndTogether(t *testing.T) {
	db, _ := open(t)
	w := newcomer(t, db, 1)
	require.NoError(t, db.Admit(t.Context(), w.ID, "desk-gold", nil))
	e, err := db.AddCapture(t.Context(), noon, w.ID, "garden-desk", "first try", api.CaptureOptions{})
	require.NoError(t, err)
	assert.ErrorIs(t, db.Retire(t.Context(), w.ID), fault.Conflict)

	started, err := db.StartErrand(t.Context(), noon, w.ID)
	require.NoError(t, err)
	assert.Equal(t, e.ID, started.ID)
	n, err := db.NextVersion(t.Context(), "garden-desk")
	require.NoError(t, err)
	v := records.Version{Image: "garden-desk", Number: n, Digest: "d1", Captured: noon}
	require.NoError(t, db.AddVersion(t.Context(), noon, e.ID, v))
	v.Number++
	assert.ErrorIs(t, db.AddVersion(t.Context(), noon, e.ID, v), fault.NotFound, "the errand has ended")
	got, err := db.Version(t.Context(), roster.Ref{Image: "garden-desk"})
	require.NoError(t, err)
	assert.Equal(t, 1, got.Number, "and so there is no second version")
	_, err = db.Version(t.Context(), roster.Ref{Image: "garden-desk", Version: 2})
	assert.ErrorContains(t, err, "garden-desk@2")

	none, err := db.StartErrand(t.Context(), noon, w.ID)
	require.NoError(t, err)
	assert.Nil(t, none)
	require.NoError(t, db.Retire(t.Context(), w.ID))
}

func TestReceiptsAreAChainThatShowsTampering(t *testing.T) {
	db, path := open(t)
	var members []int64
	for n := 1; n <= 3; n++ {
		w := newcomer(t, db, n)
		require.NoError(t, db.Admit(t.Context(), w.ID, fmt.Sprintf("herb-%02d", n), nil))
		members = append(members, w.ID)
	}
	id, err := db.AddDelivery(t.Context(), records.Delivery{Image: "garden-desk", Version: 1, Created: noon}, []string{"herbarium"}, members)
	require.NoError(t, err)
	for i, w := range members {
		r := records.Receipt{DeliveryID: id, WorkstationID: w, Workstation: fmt.Sprintf("herb-%02d", i+1), Image: "garden-desk", Version: 1,
			Ended: noon.Add(123456 * time.Microsecond), Outcome: delivery.Delivered, Verified: true}
		if i == 2 {
			r.Outcome, r.Verified, r.Reason = delivery.Failed, false, "silent for 60 s"
		} else {
			r.Started = sql.NullTime{Time: noon, Valid: true}
		}
		_, err := db.AddReceipt(t.Context(), r)
		require.NoError(t, err)
		_, err = db.AddReceipt(t.Context(), r)
		assert.Error(t, err, "one for each workstation and delivery")
	}
	checked, err := db.Check(t.Context())
	require.NoError(t, err)
	assert.Equal(t, records.Checked{Receipts: 3, Leaves: 3}, checked)
	errands, _, err := db.Errands(t.Context(), records.ErrandFilter{}, records.Page{})
	require.NoError(t, err)
	for i, want := range []errand.State{errand.Done, errand.Done, errand.Failed} {
		assert.Equal(t, want, errands[i].State)
	}
	rows, total, err := db.Receipts(t.Context(), records.ReceiptFilter{Outcome: delivery.Failed}, records.Page{})
	require.NoError(t, err)
	assert.Equal(t, 1, total)
	assert.Equal(t, "silent for 60 s", rows[0].Reason)

	t.Log("# the database itself refuses changes; someone with the file in hands can force them, and is found out")
	raw, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	defer raw.Close()
	_, err = raw.Exec(`UPDATE receipts SET outcome = 'delivered', verified = 1 WHERE id = 3`)
	assert.ErrorContains(t, err, "never changed")
	_, err = raw.Exec(`DELETE FROM receipts`)
	assert.ErrorContains(t, err, "never deleted")
	_, err = raw.Exec(`DROP TRIGGER receipts_stay_as_they_are; UPDATE receipts SET version = 2 WHERE id = 2`)
	require.NoError(t, err)
	_, err = db.Check(t.Context())
	assert.ErrorContains(t, err, "receipt 2 (herb-02, garden-desk@2) was changed")
}

func TestAVerifiedReceiptMustBeADelivery(t *testing.T) {
	db, _ := open(t)
	w := newcomer(t, db, 1)
	id, err := db.AddDelivery(t.Context(), records.Delivery{Created: noon}, nil, []int64{w.ID})
	require.NoError(t, err)
	_, err = db.AddReceipt(t.Context(), records.Receipt{DeliveryID: id, WorkstationID: w.ID, Ended: noon, Verified: true, Outcome: delivery.Failed})
	assert.Error(t, err)
	_, err = db.AddReceipt(t.Context(), records.Receipt{DeliveryID: id, WorkstationID: w.ID, Ended: noon, Outcome: delivery.Delivered})
	assert.Error(t, err)
}

func TestOpeningAgainKeepsEverything(t *testing.T) {
	db, path := open(t)
	newcomer(t, db, 1)
	require.NoError(t, db.Close())
	db, err := records.Open(t.Context(), time.Now(), path)
	require.NoError(t, err)
	defer db.Close()
	_, total, err := db.Workstations(t.Context(), records.WorkstationFilter{}, records.Page{})
	require.NoError(t, err)
	assert.Equal(t, 1, total)
}

func TestDriverSetsAndErrands(t *testing.T) {
	db, _ := open(t)
	ctx := t.Context()
	set := driver.Set{Name: "corvid", System: driver.Linux, Arch: "amd64", OnDemand: true, Rules: []driver.Rule{{Class: driver.Storage, Model: "A520"}}}
	require.NoError(t, db.SaveDriverSet(ctx, set))
	set.Fallback = true
	require.NoError(t, db.SaveDriverSet(ctx, set), "it is replaced")
	require.NoError(t, db.SaveDriverSet(ctx, driver.Set{Name: "alder", System: driver.Windows}))
	sets, err := db.DriverSets(ctx)
	require.NoError(t, err)
	require.Len(t, sets, 2)
	assert.Equal(t, "alder", sets[0].Name)
	got, err := db.DriverSet(ctx, "CORVID")
	require.NoError(t, err)
	assert.Equal(t, set, got)
	require.NoError(t, db.RemoveDriverSet(ctx, "corvid"))
	_, err = db.DriverSet(ctx, "corvid")
	assert.ErrorIs(t, err, fault.NotFound)
	assert.ErrorIs(t, db.RemoveDriverSet(ctx, "corvid"), fault.NotFound)

	w, err := db.CheckIn(ctx, noon, records.Seen{AgentVersion: "1", Own: []hwaddr.Address{addr(1)}})
	require.NoError(t, err)
	holds, unfinished := w.Holds()
	assert.Empty(t, holds.Image)
	assert.False(t, unfinished)
	e, err := db.AddErrand(ctx, noon, records.Asked{Workstation: w.ID, Kind: errand.Drivers, Options: records.InstallOptions{Image: "garden-desk@1"}}, "")
	require.NoError(t, err)
	assert.Equal(t, errand.Drivers, e.Kind)
	started, err := db.StartErrand(ctx, noon, w.ID)
	require.NoError(t, err)
	assert.Equal(t, e.ID, started.ID)
	require.NoError(t, db.SetErrandResult(ctx, e.ID, api.Installed{Did: []string{}}))
	require.NoError(t, db.EndErrand(ctx, noon, e.ID, errand.Done, ""))
	e, err = db.Errand(ctx, e.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{}, e.Did())
	assert.ErrorIs(t, db.SetErrandResult(ctx, 999, api.Installed{}), fault.NotFound)
}

// What core calls states, the database takes, and nothing else.
func TestTheDatabaseKnowsTheStates(t *testing.T) {
	db, path := open(t)
	w := newcomer(t, db, 1)
	require.NoError(t, db.Admit(t.Context(), w.ID, "herb-01", nil))
	e, err := db.AddCapture(t.Context(), noon, w.ID, "garden-desk", "", api.CaptureOptions{})
	require.NoError(t, err)
	raw, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	defer raw.Close()
	for _, s := range errand.States {
		_, err = raw.Exec(`UPDATE errands SET state = ? WHERE id = ?`, s, e.ID)
		assert.NoError(t, err, s)
	}
	for _, k := range errand.Kinds {
		_, err = raw.Exec(`UPDATE errands SET kind = ? WHERE id = ?`, k, e.ID)
		assert.NoError(t, err, k)
	}
	for _, s := range roster.States {
		if s == roster.Expected || s == roster.Visiting {
			continue // is admitted and was never seen, or a newcomer at a bench
		}
		_, err = raw.Exec(`UPDATE workstations SET state = ? WHERE id = ?`, s, w.ID)
		assert.NoError(t, err, s)
	}
	for _, s := range roster.CardStates {
		_, err = raw.Exec(`UPDATE addresses SET state = ? WHERE workstation_id = ?`, s, w.ID)
		assert.NoError(t, err, s)
	}
	for _, statement := range []string{`UPDATE errands SET state = 'odd'`, `UPDATE errands SET kind = 'odd'`, `UPDATE workstations SET state = 'odd'`, `UPDATE addresses SET state = 'odd'`} {
		_, err = raw.Exec(statement)
		assert.ErrorContains(t, err, "CHECK", statement)
	}
}
