package records_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/fault"
	"jugate/core/roster"
	"jugate/records"
)

func table(t *testing.T, lines ...string) []roster.Row {
	t.Helper()
	rows, err := roster.ReadTable(strings.NewReader(strings.Join(lines, "\n")), nil)
	require.NoError(t, err)
	return rows
}

// took takes a table in and tells what became of each row, in words.
func took(t *testing.T, db *records.DB, o records.ImportOptions, lines ...string) (all []string) {
	t.Helper()
	results, _, err := db.Import(t.Context(), noon, table(t, lines...), o)
	require.NoError(t, err)
	for _, r := range results {
		what := strings.Join(r.Changes, "; ")
		if r.Problem != nil {
			what = "? " + r.Problem.Error()
		}
		all = append(all, what)
	}
	return all
}

func states(t *testing.T, db *records.DB) map[string]roster.State {
	t.Helper()
	all, _, err := db.Workstations(t.Context(), records.WorkstationFilter{}, records.Page{})
	require.NoError(t, err)
	found := map[string]roster.State{}
	for _, w := range all {
		found[w.Label()] = w.State
	}
	return found
}

const heads = "name,hardware_addresses,uuid,serial,groups,note,field.room"

func TestATableIsEnteredOnce(t *testing.T) {
	db, _ := open(t)
	lines := []string{heads,
		"herb-01,00:00:5e:00:53:01,,,herbarium,by the window,2.14",
		"herb-02,,,AW-0002,herbarium scanners,,",
		"herb-03,," + uuid1 + ",AW-0003,,,",
	}
	want := []string{
		"entered as herb-01; hardware address 00:00:5e:00:53:01; into the new group herbarium; note: by the window; room: 2.14",
		"entered as herb-02; known by serial number AW-0002; into the group herbarium; into the new group scanners",
		"entered as herb-03; known by serial number AW-0003, UUID " + uuid1,
	}
	assert.Equal(t, want, took(t, db, records.ImportOptions{DryRun: true}, lines...))
	assert.Empty(t, states(t, db), "a dry run enters nothing")
	assert.Equal(t, want, took(t, db, records.ImportOptions{}, lines...))
	assert.Equal(t, map[string]roster.State{"herb-01": roster.Expected, "herb-02": roster.Expected, "herb-03": roster.Expected}, states(t, db))
	assert.Equal(t, []string{"", "", ""}, took(t, db, records.ImportOptions{}, lines...), "the same again changes nothing")

	t.Log("# cells that are empty leave things, a hyphen empties them")
	assert.Equal(t, []string{"out of the group herbarium; note: nothing; room: nothing", "renamed from herb-02 to herb-12; owner: R. Holm", "? herb-04 is new, and the row has no hardware address, UUID or serial number to recognise it by"},
		took(t, db, records.ImportOptions{}, "name,serial,groups,note,field.room,field.owner", "herb-01,,-,-,-,", "herb-12,AW-0002,,,,R. Holm", "herb-04,,,,,"))
	w, err := db.FindWorkstation(t.Context(), "herb-12")
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"owner": "R. Holm"}, w.Fields())
	assert.Equal(t, []string{"herbarium", "scanners"}, w.Groups())
}

func TestRowsInDoubtAreLeftOutAndTheOthersGoIn(t *testing.T) {
	db, _ := open(t)
	ctx := t.Context()
	for n, name := range []string{"herb-01", "herb-02", "herb-03"} {
		w, err := db.CheckIn(ctx, noon, machine(strings.Replace(uuid1, "0001", fmt.Sprintf("%04d", n+1), 1), fmt.Sprintf("AW-%04d", n+1), n+1))
		require.NoError(t, err)
		require.NoError(t, db.Admit(ctx, w.ID, name, nil))
		if name == "herb-03" {
			require.NoError(t, db.Retire(ctx, w.ID))
		}
	}
	require.NoError(t, db.Refuse(ctx, records.Refusal{Value: addr(66).String(), At: noon}, []string{addr(66).String()}))
	lines := []string{heads,
		"herb-01," + addr(2).String() + ",,,,,",
		"herb-02,,,AW-9999,,,",
		"herb-03,,,,,back again,",
		"herb-04," + addr(66).String() + ",,,,,",
		"herb-05," + addr(5).String() + ",,,herb-01,,",
		"herb-06," + addr(6).String() + ",,,seed-bank,,",
		",,,AW-7777,,,",
		"herb-08,,,AW-8888,,," + strings.Repeat("x", 600),
	}
	want := []string{"belongs to|is of herb-02, and the name herb-01 of herb-01", "is a machine with serial number AW-0002", "herb-03 is retired", "are turned away", "a workstation is called herb-01", "", "has no name for it", "longer than 500"}
	for _, o := range []records.ImportOptions{{DryRun: true}, {Whole: true}, {}} {
		got := took(t, db, o, lines...)
		for i := range want {
			if want[i] == "" {
				assert.Equal(t, "entered as herb-06; hardware address "+addr(6).String()+"; into the new group seed-bank", got[i])
			} else {
				assert.Regexp(t, `^\? .*(`+want[i]+")", got[i])
			}
		}
		_, err := db.FindWorkstation(ctx, "herb-06")
		if o == (records.ImportOptions{}) {
			assert.NoError(t, err)
		} else {
			assert.ErrorIs(t, err, fault.NotFound, "%+v", o)
		}
	}
	_, err := db.Group(ctx, "seed-bank")
	assert.NoError(t, err)
	for _, name := range []string{"herb-04", "herb-05", "herb-08"} {
		_, err := db.FindWorkstation(ctx, name)
		assert.ErrorIs(t, err, fault.NotFound, "nothing is left of %s", name)
	}
}

func TestWhoIsExpectedIsAdmittedWhenItAppears(t *testing.T) {
	for name, c := range map[string]struct {
		row    string
		in     records.Seen
		is     string
		refuse string
	}{
		"by address":                {"herb-01,00:00:5e:00:53:01,,,herbarium,,", machine(uuid1, "AW-0001", 1), "herb-01", ""},
		"by serial number":          {"herb-01,,,AW-0001,herbarium,,", machine(uuid1, "AW-0001", 7), "herb-01", ""},
		"by UUID":                   {"herb-01,," + uuid1 + ",,herbarium,,", machine(uuid1, "AW-0001", 7), "herb-01", ""},
		"by both":                   {"herb-01,," + uuid1 + ",AW-0001,herbarium,,", machine(uuid1, "AW-0001", 7), "herb-01", ""},
		"by an adapter's machine":   {"herb-01,,,AW-0001,herbarium,,", adapter(machine(uuid1, "AW-0001"), 7), "herb-01", ""},
		"another serial number":     {"herb-01,,,AW-0001,herbarium,,", machine(uuid1, "AW-0002", 7), "", ""},
		"the UUID of another board": {"herb-01,," + uuid1 + ",AW-0001,herbarium,,", machine(uuid2, "AW-0001", 7), "", ""},
		"nothing told":              {"herb-01,,,AW-0001,herbarium,,", machine("", "", 7), "", ""},
		"an address of another":     {"herb-01,,,AW-0001,herbarium,,", machine(uuid1, "AW-0001", 9), "", "belongs to herb-09"},
	} {
		t.Run(name, func(t *testing.T) {
			db, _ := open(t)
			other, err := db.CheckIn(t.Context(), noon, machine("", "", 9))
			require.NoError(t, err)
			require.NoError(t, db.Admit(t.Context(), other.ID, "herb-09", nil))
			took(t, db, records.ImportOptions{}, heads, c.row)
			require.NoError(t, db.AddTicket(t.Context(), noon, "ticket", append(c.in.Own, c.in.Adapters...)[0]))
			c.in.Ticket = &records.Ticket{Digest: "ticket", Boot: "b1"}
			w, err := db.CheckIn(t.Context(), noon, c.in)
			if c.refuse != "" {
				require.ErrorIs(t, err, fault.Conflict)
				assert.ErrorContains(t, err, c.refuse)
				return
			}
			require.NoError(t, err)
			if c.is == "" {
				assert.Equal(t, roster.Newcomer, w.State)
				assert.Equal(t, roster.Expected, states(t, db)["herb-01"])
				return
			}
			assert.Equal(t, c.is, w.Name)
			assert.Equal(t, roster.Admitted, w.State)
			assert.Equal(t, []string{"herbarium"}, w.Groups())

			t.Log("# the next machine of that serial number is not it")
			if w.Serial != "" && len(c.in.Own) > 0 {
				next, err := db.CheckIn(t.Context(), noon, machine(uuid2, "AW-0001", 77))
				require.NoError(t, err)
				assert.Equal(t, roster.Newcomer, next.State)
			}
		})
	}
}

func TestNewcomersThatATableNamesAreAdmitted(t *testing.T) {
	db, _ := open(t)
	_, err := db.CheckIn(t.Context(), noon, machine(uuid1, "AW-0001", 1))
	require.NoError(t, err)
	assert.Equal(t, []string{"admitted as herb-01; into the new group herbarium"}, took(t, db, records.ImportOptions{}, heads, "herb-01,,,AW-0001,herbarium,,"))
	assert.Equal(t, map[string]roster.State{"herb-01": roster.Admitted}, states(t, db))
}

// Whoever enters a machine just as its agent calls takes nothing away from what the agent told.
func TestEnteringAMachineThatHasCalledChangesNothing(t *testing.T) {
	db, _ := open(t)
	w := newcomer(t, db, 1)
	id, err := db.Enter(t.Context(), noon, addr(1))
	require.NoError(t, err)
	assert.Zero(t, id)
	is, err := db.Workstation(t.Context(), w.ID)
	require.NoError(t, err)
	assert.Equal(t, w, is)
	id, err = db.Enter(t.Context(), noon, addr(2))
	require.NoError(t, err)
	is, err = db.Workstation(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, roster.Newcomer, is.State)
	assert.False(t, is.Seen())
}
