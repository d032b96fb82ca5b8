package records_test

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/delivery"
	"jugate/core/proof"
	"jugate/records"
)

// tampered is a copy of records that somebody with the file in hands has changed.
func tampered(t *testing.T, path, change string) *records.DB {
	t.Helper()
	copied := filepath.Join(t.TempDir(), "copy.db")
	raw, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = raw.Exec("VACUUM INTO ?", copied)
	require.NoError(t, err)
	require.NoError(t, raw.Close())
	raw, err = sql.Open("sqlite", copied)
	require.NoError(t, err)
	_, err = raw.Exec(`DROP TRIGGER receipts_stay; DROP TRIGGER receipts_stay_as_they_are; DROP TRIGGER leaves_stay; DROP TRIGGER leaves_stay_as_they_are; DROP TRIGGER logbook_lines_stay; ` + change)
	require.NoError(t, err)
	require.NoError(t, raw.Close())
	db, err := records.Open(t.Context(), noon, copied)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, db.Close()) })
	return db
}

// kept is records with three receipts and some lines.
func kept(t *testing.T) (db *records.DB, path string) {
	t.Helper()
	path = filepath.Join(t.TempDir(), "jugate.db")
	db, err := records.Open(t.Context(), noon, path)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, db.Close()) })
	var members []int64
	for n := 1; n <= 3; n++ {
		w := newcomer(t, db, n)
		require.NoError(t, db.Admit(t.Context(), w.ID, fmt.Sprintf("herb-%02d", n), nil))
		members = append(members, w.ID)
	}
	id, err := db.AddDelivery(t.Context(), records.Delivery{Image: "garden-desk", Version: 1, Created: noon}, nil, members)
	require.NoError(t, err)
	var all []records.Receipt
	for i, w := range members {
		all = append(all, records.Receipt{DeliveryID: id, WorkstationID: w, Workstation: fmt.Sprintf("herb-%02d", i+1), Image: "garden-desk", Version: 1, Ended: noon, Outcome: delivery.Delivered, Verified: true})
	}
	_, err = db.AddReceipts(t.Context(), all)
	require.NoError(t, err)
	for n := range 5 {
		_, err := db.AddLine(t.Context(), records.Line{At: noon.Add(time.Duration(n) * time.Hour), Who: "ines", Kind: "person", Through: "console", Operation: "deliver", Details: fmt.Sprintf(`{"n":%d}`, n)})
		require.NoError(t, err)
	}
	return db, path
}

func TestWhatSomebodyDoesToTheRecordsIsFound(t *testing.T) {
	db, path := kept(t)
	checked, err := db.Check(t.Context())
	require.NoError(t, err)
	assert.Equal(t, records.Checked{Receipts: 3, Lines: 5, Leaves: 8}, checked)
	forged := proof.Leaf([]byte(`{"nothing":1}`))
	for change, found := range map[string]string{
		`UPDATE receipts SET version = 2 WHERE id = 2`: "receipt 2 (herb-02, garden-desk@2) was changed",
		`DELETE FROM receipts WHERE id = 3`:            "receipt 3 was removed",
		`INSERT INTO receipts SELECT 4, delivery_id, 4, workstation, hardware_address, image, version, digest, started, ended, bytes_multicast, bytes_unicast, verified, outcome, reason, ordered_by, unreadable_bytes, drivers, remark, kind, details, machine FROM receipts WHERE id = 1`: "receipt 4 (herb-01, garden-desk@1) was added by somebody else",
		`UPDATE logbook SET who = 'tomas' WHERE id = 2`:                       "line 2 of the logbook was changed",
		`DELETE FROM logbook WHERE id = 5`:                                    "line of the logbook 5 was removed",
		`DELETE FROM logbook WHERE id = 5; DELETE FROM leaves WHERE n = 7`:    "the tree of the records is not that of their leaves",
		`DELETE FROM leaves WHERE n = 3`:                                      "leaf 3 of the records is missing",
		fmt.Sprintf(`UPDATE leaves SET hash = x'%x' WHERE n = 3`, forged[:]):  "was changed",
		fmt.Sprintf(`UPDATE hashes SET hash = x'%x' WHERE i = 14`, forged[:]): "the tree of the records is not that of their leaves",
		`DELETE FROM hashes WHERE i = 14`:                                     "there were more, or fewer",
		`UPDATE logbook SET details = 'no JSON' WHERE id = 1`:                 "line 1 of the logbook was changed",
		`INSERT INTO logbook SELECT 9, at, who, kind, from_addr, through, 'forget-lines', subject, '{"until_line":5}', changes FROM logbook WHERE id = 1; DELETE FROM logbook WHERE id < 6`: "line 9 of the logbook was added by somebody else",
	} {
		_, err := tampered(t, path, change).Check(t.Context())
		assert.ErrorContains(t, err, found, change)
	}
}

func TestLinesAreForgottenAndTheRestIsStillProven(t *testing.T) {
	db, path := kept(t)
	n, err := db.ForgetLines(t.Context(), noon.Add(9*time.Hour), noon.Add(2*time.Hour))
	require.NoError(t, err)
	assert.EqualValues(t, 2, n)
	checked, err := db.Check(t.Context())
	require.NoError(t, err)
	assert.Equal(t, records.Checked{Receipts: 3, Lines: 4, Forgotten: 2, Leaves: 9}, checked)
	lines, _, err := db.Lines(t.Context(), records.LineFilter{}, records.Page{})
	require.NoError(t, err)
	assert.Equal(t, records.ForgetOperation, lines[0].Operation)
	assert.JSONEq(t, `{"before":"2026-03-01T14:00:00Z","until_line":2,"line_count":2}`, lines[0].Details)
	n, err = db.ForgetLines(t.Context(), noon.Add(9*time.Hour), noon.Add(2*time.Hour))
	require.NoError(t, err)
	assert.Zero(t, n, "and no line says that nothing was")
	_, err = tampered(t, path, `DELETE FROM logbook WHERE id = 3`).Check(t.Context())
	assert.ErrorContains(t, err, "line of the logbook 3 was removed")

	at, leaf, err := db.LeafOfLine(t.Context(), 3)
	require.NoError(t, err)
	root, err := proof.Root(db.Hashes(t.Context()), 9)
	require.NoError(t, err)
	private, err := proof.NewKey("jugate-test")
	require.NoError(t, err)
	key, err := proof.ParseKey(private)
	require.NoError(t, err)
	head := proof.Head{Origin: key.Name(), Size: 9, Root: root}
	signed, err := key.Sign(head)
	require.NoError(t, err)
	text, err := proof.Of(db.Hashes(t.Context()), head, at, leaf, signed)
	require.NoError(t, err)
	proven, _, err := proof.Verify(text, key.Verifier())
	require.NoError(t, err)
	var said map[string]any
	require.NoError(t, json.Unmarshal(proven, &said))
	assert.Equal(t, "ines", said["who"])
}
