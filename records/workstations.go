package records

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"jugate/api"
	"jugate/core/fault"

	"github.com/jmoiron/sqlx"

	"jugate/core/hwaddr"
	"jugate/core/roster"
)

// Workstation is a machine that was seen on the network.
type Workstation struct {
	ID           int64        `db:"id"`
	Name         string       `db:"name"` // empty for a newcomer
	State        roster.State `db:"state"`
	Maker        string       `db:"maker"`
	Model        string       `db:"model"`
	Serial       string       `db:"serial"`
	UUID         string       `db:"uuid"`
	Memory       int64        `db:"memory"` // bytes
	DiskSizes    string       `db:"disks"`  // see Disks
	AgentVersion string       `db:"agent_version"`
	Site         string       `db:"site"` // outpost that it called by last; empty where that was the service itself
	FirstSeen    time.Time    `db:"first_seen"`
	LastSeen     time.Time    `db:"last_seen"`
	AddressList  string       `db:"address_list"`  // see Addresses
	AcceptedList string       `db:"accepted_list"` // see Accepted
	ProposedList string       `db:"proposed_list"` // see Proposed
	GroupList    string       `db:"group_list"`    // see Groups and Wanted
	OnDisk       string       `db:"on_disk"`       // see Holds
	Brought      int64        `db:"brought"`       // when that was, in seconds since 1970; 0 if never
	Helper       string       `db:"helper"`        // what it is told, or "idle"; empty if its system has none
	Note         string       `db:"note"`
	Job          string       `db:"job"`    // of a visiting machine: a number, or whose it is
	FieldTexts   string       `db:"fields"` // see Fields
}

// Seen tells whether its agent has ever checked in: one that was only entered has not.
func (w *Workstation) Seen() bool { return w.AgentVersion != "" }

// Holds is the version that its disk got last, as its receipts say; none if it never got
// one. unfinished tells that the copy was begun and is not whole.
func (w *Workstation) Holds() (version roster.Ref, unfinished bool) {
	text, unfinished := strings.CutPrefix(w.OnDisk, unfinishedMark)
	if text == "" {
		return roster.Ref{}, false
	}
	version, _ = roster.ParseRef(text)
	return version, unfinished
}

// unfinishedMark stands before a version in OnDisk.
const unfinishedMark = "!"

// Identity is what its firmware says that it is.
func (w *Workstation) Identity() roster.Identity { return roster.NewIdentity(w.UUID, w.Serial) }

// Addresses are its hardware addresses, its own first, those of adapters then, each in
// the order of the alphabet.
func (w *Workstation) Addresses() []hwaddr.Address { return addressesIn(w.AddressList) }

// Accepted are the hardware addresses that are its own.
func (w *Workstation) Accepted() []hwaddr.Address { return addressesIn(w.AcceptedList) }

// Proposed are addresses that were seen in it and that nobody has accepted yet.
func (w *Workstation) Proposed() []hwaddr.Address { return addressesIn(w.ProposedList) }

func addressesIn(list string) []hwaddr.Address {
	var all []hwaddr.Address
	for text := range strings.FieldsSeq(list) {
		if a, err := hwaddr.Parse(text); err == nil { // Open has set aside what is not
			all = append(all, a)
		}
	}
	return all
}

// Address is the first of its hardware addresses, or none.
func (w *Workstation) Address() hwaddr.Address {
	if all := w.Addresses(); len(all) > 0 {
		return all[0]
	}
	return hwaddr.Address{}
}

// Disks are the sizes of its disks, in bytes.
func (w *Workstation) Disks() []int64 {
	sizes := []int64{}
	for text := range strings.FieldsSeq(w.DiskSizes) {
		if n, err := strconv.ParseInt(text, 10, 64); err == nil {
			sizes = append(sizes, n)
		}
	}
	return sizes
}

// Fields are the fields of the engineers' own.
func (w *Workstation) Fields() map[string]string {
	fields, _ := decode[map[string]string]("", w.FieldTexts)
	return fields
}

// Groups are the names of the groups it is in.
func (w *Workstation) Groups() (names []string) {
	for text := range strings.FieldsSeq(w.GroupList) {
		name, _, _ := strings.Cut(text, "=")
		names = append(names, name)
	}
	return names
}

// Label is its name or, for a newcomer, its first hardware address.
func (w *Workstation) Label() string {
	if w.Name != "" {
		return w.Name
	}
	if a := w.Address(); !a.IsZero() {
		return a.String()
	}
	return fmt.Sprintf("workstation %d", w.ID)
}

// MakerAndModel is how its model is called.
func (w *Workstation) MakerAndModel() string {
	return cmp.Or(strings.TrimSpace(w.Maker+" "+w.Model), "unknown model")
}

// The plus signs keep SQLite from looking for a workstation's addresses among all of a state.
const (
	workstationColumns = `w.id, coalesce(w.name, '') AS name, ` + standing + ` AS state, w.job, w.note, w.fields, w.maker, w.model, w.serial, w.uuid, w.memory, w.disks, w.agent_version, w.site, w.first_seen, w.last_seen,
		coalesce((SELECT group_concat(address, ' ') FROM (SELECT address FROM addresses WHERE workstation_id = w.id AND +state <> 'proposed' ORDER BY state, address)), '') AS address_list,
		coalesce((SELECT group_concat(address, ' ') FROM (SELECT address FROM addresses WHERE workstation_id = w.id AND +state = 'accepted' ORDER BY address)), '') AS accepted_list,
		coalesce((SELECT group_concat(address, ' ') FROM (SELECT address FROM addresses WHERE workstation_id = w.id AND +state = 'proposed' ORDER BY address)), '') AS proposed_list,
		coalesce((SELECT group_concat(name, ' ') FROM (SELECT g.name || iif(g.image = '', '', '=' || coalesce(` + wantedRef + `, '')) AS name FROM groups g JOIN group_members m ON m.group_id = g.id WHERE m.workstation_id = w.id ORDER BY g.name)), '') AS group_list,
		coalesce((SELECT iif(h.verb = '', 'idle', h.verb) FROM helpers h WHERE h.workstation_id = w.id), '') AS helper,
		` + onDisk + ` AS on_disk, coalesce((SELECT unixepoch(substr(r.ended, 1, 19)) ` + lastBrought + `), 0) AS brought`
	// Of a wipe that was begun nothing is left. One partition alone makes no image of what else is there.
	lastBrought = `FROM receipts r
			WHERE r.workstation_id = w.id AND (r.details = '' AND (r.outcome = 'delivered' OR r.outcome <> 'absent' AND r.bytes_multicast + r.bytes_unicast > 0) OR r.kind = 'wipe' AND json_extract(r.details, '$.wipe_began')) ORDER BY r.id DESC LIMIT 1`
	onDisk          = `coalesce((SELECT iif(r.kind = 'wipe', '', iif(r.outcome = 'delivered', '', '` + unfinishedMark + `') || r.image || '@' || r.version) ` + lastBrought + `), '')`
	workstationFrom = `workstations w`
)

// Workstation returns the workstation with that number.
func (db *DB) Workstation(ctx context.Context, id int64) (*Workstation, error) {
	var w Workstation
	err := db.read.GetContext(ctx, &w, "SELECT "+workstationColumns+" FROM "+workstationFrom+" WHERE w.id = ?", id)
	return &w, missing(err, "workstation", id)
}

// FindWorkstation finds one by name or by hardware address in any spelling. Of several
// that share an adapter it is the one with something to do, or the one seen last.
func (db *DB) FindWorkstation(ctx context.Context, ref string) (*Workstation, error) {
	address := ""
	if a, err := hwaddr.Parse(ref); err == nil {
		address = a.String()
	}
	var w Workstation
	err := db.read.GetContext(ctx, &w, "SELECT "+workstationColumns+" FROM "+workstationFrom+
		" WHERE w.name = ?1 OR w.id = ("+whoHas+")", ref, address)
	return &w, missing(err, "workstation", ref)
}

// whoHas is the number of the workstation that a hardware address (?2) stands for.
const whoHas = `SELECT a.workstation_id FROM addresses a JOIN workstations o ON o.id = a.workstation_id WHERE a.address = ?2 AND a.state <> 'proposed'
	ORDER BY a.state, EXISTS (SELECT 1 FROM errands e WHERE e.workstation_id = o.id AND e.state IN ('waiting', 'running')) DESC, o.last_seen DESC LIMIT 1`

// standing is the state of a workstation w. Whoever is in the roster and was never seen is
// expected; a newcomer can be visiting.
const standing = `iif(w.state = 'admitted' AND w.agent_version = '', 'expected', iif(w.bench = 1, 'visiting', w.state))`

// WorkstationFilter narrows a list of workstations; empty fields narrow nothing.
type WorkstationFilter struct {
	States []roster.State
	Group  string
	Within []string // in one of these groups; nil narrows nothing
}

var workstationList = listing{
	columns: workstationColumns, from: workstationFrom, key: "w.id", order: "w.name, w.id",
	fields: map[string]string{"name": "w.name", "model": "w.model", "serial": "w.serial", "state": "w.state", "last_seen": "w.last_seen"},
}

// Workstations lists; sortable by name, model, serial, state and last_seen.
func (db *DB) Workstations(ctx context.Context, f WorkstationFilter, p Page) (rows []Workstation, total int, err error) {
	var q query
	l := workstationList
	if len(f.States) > 0 {
		stored, seen := []string{}, []string{}
		for _, s := range f.States {
			switch s {
			case roster.Expected:
				stored, seen = append(stored, string(roster.Admitted)), append(seen, "w.agent_version = ''")
			case roster.Admitted:
				stored, seen = append(stored, string(s)), append(seen, "w.agent_version <> ''")
			case roster.Newcomer:
				stored, seen = append(stored, string(s)), append(seen, "w.state = 'newcomer' AND w.bench = 0")
			case roster.Visiting:
				stored, seen = append(stored, string(roster.Newcomer)), append(seen, "w.state = 'newcomer' AND w.bench = 1")
			default:
				stored, seen = append(stored, string(s)), append(seen, "w.state = 'retired'")
			}
		}
		q.and("w.state IN (SELECT value FROM json_each(?)) AND ("+strings.Join(seen, " OR ")+")", encode(stored))
	}
	if len(f.States) == 0 {
		hidden, err := db.anyHidden(ctx)
		if err != nil {
			return nil, 0, err
		}
		if hidden {
			q.and("w.bench <> 2")
		}
	}
	if f.Group != "" {
		q.and("w.id IN (SELECT m.workstation_id FROM group_members m JOIN groups g ON g.id = m.group_id WHERE g.name = ?)", f.Group)
	}
	if f.Within != nil {
		ids, err := db.groupNumbers(ctx, f.Within)
		if err != nil {
			return nil, 0, err
		}
		if len(q.where) == 0 && p.Search == "" { // how many there are is known without looking at them
			l.total = "SELECT coalesce(sum(members), 0) FROM groups WHERE id IN (" + ids + ")"
			if strings.Contains(ids, ",") { // one can be in several
				l.total = "SELECT count(DISTINCT workstation_id) FROM group_members WHERE group_id IN (" + ids + ")"
			}
		}
		q.and("EXISTS (SELECT 1 FROM group_members m WHERE m.workstation_id = w.id AND m.group_id IN (" + ids + "))")
	}
	q.search(p.Search, []string{"concat_ws(char(10), w.name, w.model, w.maker, w.serial, w.note, w.fields)"}, "w.id IN (SELECT workstation_id FROM addresses WHERE address LIKE ?)")
	total, err = db.list(ctx, l, &rows, q, p)
	return rows, total, err
}

// groupNumbers are those of groups of these names, as a list in SQL.
func (db *DB) groupNumbers(ctx context.Context, names []string) (list string, err error) {
	err = db.read.GetContext(ctx, &list, "SELECT coalesce(group_concat(id), '') FROM groups WHERE name COLLATE NOCASE IN (SELECT value FROM json_each(?))", encode(names))
	return list, err
}

// Inventory is what a workstation's agent told last of its parts.
func (db *DB) Inventory(ctx context.Context, id int64) (inv api.Inventory, err error) {
	var text string
	if err := db.read.GetContext(ctx, &text, `SELECT content FROM inventories WHERE workstation_id = ?`, id); err != nil {
		return inv, missing(err, "inventory of workstation", id)
	}
	return decode[api.Inventory](fmt.Sprintf("the inventory of workstation %d", id), text)
}

// SetOnDisks changes what the inventory of a workstation says of its disks.
func (db *DB) SetOnDisks(ctx context.Context, id int64, set func(inv *api.Inventory)) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		var text string
		if err := tx.GetContext(ctx, &text, `SELECT content FROM inventories WHERE workstation_id = ?`, id); err != nil {
			return missing(err, "inventory of workstation", id)
		}
		inv, err := decode[api.Inventory](fmt.Sprintf("the inventory of workstation %d", id), text)
		if err != nil {
			return err
		}
		set(&inv)
		_, err = tx.ExecContext(ctx, `UPDATE inventories SET content = ? WHERE workstation_id = ?`, encode(inv), id)
		return err
	})
}

// Inventories goes through what all workstations are made of that are not retired, and
// stops at the first error of f. Those that cannot be read are left out.
func (db *DB) Inventories(ctx context.Context, only []int64, f func(w Workstation, inv api.Inventory)) error {
	query, args := `SELECT w.id, coalesce(w.name, '') AS name, w.state, w.maker, w.model, i.content,
		coalesce((SELECT address FROM addresses WHERE workstation_id = w.id AND +state <> 'proposed' ORDER BY state, address LIMIT 1), '') AS address_list
		FROM workstations w JOIN inventories i ON i.workstation_id = w.id`, []any{}
	if only != nil {
		query += ` WHERE w.id IN (SELECT value FROM json_each(?))`
		args = append(args, encode(only))
	}
	rows, err := db.lists.QueryxContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var r struct {
			Workstation
			Content string `db:"content"`
		}
		if err := rows.StructScan(&r); err != nil {
			return err
		}
		if inv, err := decode[api.Inventory]("", r.Content); err == nil {
			f(r.Workstation, inv)
		}
	}
	return rows.Err()
}

// Admit takes a newcomer, or a retired workstation again, into the roster under
// a name and into groups, which must exist. One that is in the roster is a fault.Conflict.
func (db *DB) Admit(ctx context.Context, id int64, name string, groups []string) error {
	return db.change(ctx, func(tx *sqlx.Tx) error { return admit(ctx, tx, id, name, groups) })
}

func admit(ctx context.Context, tx *sqlx.Tx, id int64, name string, groups []string) error {
	var is struct {
		State roster.State `db:"state"`
		Name  string       `db:"name"`
	}
	if err := tx.GetContext(ctx, &is, `SELECT state, coalesce(name, '') AS name FROM workstations WHERE id = ?`, id); err != nil {
		return missing(err, "workstation", id)
	}
	if is.State == roster.Admitted {
		return fault.Conflict.Errorf("it is in the roster already, as %s; jugate workstation rename gives it another name", is.Name)
	}
	if err := nameIsFree(ctx, tx, name, id); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `UPDATE workstations SET state = 'admitted', name = ? WHERE id = ?`, name, id); err != nil {
		return err
	}
	for _, g := range groups {
		if err := include(ctx, tx, g, id); err != nil {
			return err
		}
	}
	return nil
}

// Rename gives a workstation that has a name another one. Its receipts keep the one that
// they were written with.
func (db *DB) Rename(ctx context.Context, id int64, name string) error {
	return db.change(ctx, func(tx *sqlx.Tx) error { return rename(ctx, tx, id, name) })
}

func rename(ctx context.Context, tx *sqlx.Tx, id int64, name string) error {
	if err := nameIsFree(ctx, tx, name, id); err != nil {
		return err
	}
	result, err := tx.ExecContext(ctx, `UPDATE workstations SET name = ? WHERE id = ? AND state <> 'newcomer'`, name, id)
	return changed(result, err, "workstation that was admitted", id)
}

// nameIsFree says who has a name, if it is not the workstation itself. Workstations and
// groups share one space of names, as orders name both.
func nameIsFree(ctx context.Context, tx *sqlx.Tx, name string, except int64) error {
	var has struct {
		State   roster.State `db:"state"`
		Address string       `db:"address"`
		Serial  string       `db:"serial"`
	}
	err := tx.GetContext(ctx, &has, `SELECT state, serial, coalesce((SELECT address FROM addresses WHERE workstation_id = w.id ORDER BY state, address LIMIT 1), '') AS address
		FROM workstations w WHERE name = ? AND id <> ?`, name, except)
	switch {
	case err == nil && has.State == roster.Retired:
		return fault.Conflict.Errorf("a retired workstation is called %s (%s); give that another name first: jugate workstation rename %s NAME", name, strings.TrimSpace(has.Address+" "+has.Serial), name)
	case err == nil:
		return fault.Conflict.Errorf("another workstation is called %s (%s)", name, strings.TrimSpace(has.Address+" "+has.Serial))
	case !errors.Is(err, sql.ErrNoRows):
		return err
	}
	var group string
	err = tx.GetContext(ctx, &group, `SELECT name FROM groups WHERE name = ?`, name)
	switch {
	case err == nil:
		return fault.Conflict.Errorf("a group is called %s; a workstation needs another name", group)
	case !errors.Is(err, sql.ErrNoRows):
		return err
	}
	return nil
}

// Retire puts a workstation out of service. One with an open errand is an
// fault.Conflict.
func (db *DB) Retire(ctx context.Context, id int64) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		var open int
		if err := tx.GetContext(ctx, &open, `SELECT count(*) FROM errands WHERE workstation_id = ? AND state IN ('waiting', 'running')`, id); err != nil {
			return err
		}
		if open > 0 {
			return fault.Conflict.Errorf("it has an errand to do; stop that first")
		}
		result, err := tx.ExecContext(ctx, `UPDATE workstations SET state = 'retired' WHERE id = ? AND state = 'admitted'`, id)
		if err := changed(result, err, "admitted workstation", id); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `DELETE FROM group_members WHERE workstation_id = ?`, id)
		return err
	})
}

// Forget removes a workstation that nothing is recorded of: a newcomer, or a retired
// one without receipts and errands. Any other is a fault.Conflict.
func (db *DB) Forget(ctx context.Context, id int64) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		var w struct {
			State roster.State `db:"state"`
			Name  string       `db:"name"`
			Past  int          `db:"past"`
		}
		err := tx.GetContext(ctx, &w, `SELECT state, coalesce(name, 'it') AS name, (SELECT count(*) FROM receipts WHERE workstation_id = w.id) + (SELECT count(*) FROM errands WHERE workstation_id = w.id) AS past
			FROM workstations w WHERE id = ?`, id)
		switch {
		case err != nil:
			return missing(err, "workstation", id)
		case w.State == roster.Admitted:
			return fault.Conflict.Errorf("%s is in the roster; retire it first", w.Name)
		case w.Past > 0:
			return fault.Conflict.Errorf("there are receipts or errands of %s, which stay; it can be retired, but not forgotten", w.Name)
		}
		return forget(ctx, tx, id)
	})
}

func forget(ctx context.Context, tx *sqlx.Tx, id int64) error {
	_, err := tx.ExecContext(ctx, `DELETE FROM workstations WHERE id = ?`, id)
	return err
}

// unknowns are newcomers of which nothing is recorded.
const unknowns = `SELECT w.id FROM workstations w WHERE w.state = 'newcomer' AND NOT EXISTS (SELECT 1 FROM errands WHERE workstation_id = w.id) AND NOT EXISTS (SELECT 1 FROM receipts WHERE workstation_id = w.id)`

// ForgetNewcomers removes newcomers that were last seen before a time, and of the others
// those seen longest ago beyond a number. It returns how many went.
func (db *DB) ForgetNewcomers(ctx context.Context, before time.Time, keep int) (n int64, err error) {
	err = db.change(ctx, func(tx *sqlx.Tx) error {
		result, err := tx.ExecContext(ctx, `DELETE FROM workstations WHERE id IN (`+unknowns+` AND w.last_seen < ?1) OR id IN (`+unknowns+` ORDER BY w.last_seen DESC LIMIT -1 OFFSET ?2)`, before.UTC(), keep)
		if err != nil {
			return err
		}
		if n, err = result.RowsAffected(); err != nil {
			return err
		}
		return hideVisitors(ctx, tx, before)
	})
	return n, err
}

// Gone returns those of some workstations that are not recorded any more.
func (db *DB) Gone(ctx context.Context, ids []int64) (gone []int64, err error) {
	err = db.read.SelectContext(ctx, &gone, `SELECT value FROM json_each(?) WHERE value NOT IN (SELECT id FROM workstations)`, encode(ids))
	return gone, err
}

// Refusal is a machine that is turned away for good, by hardware address or system UUID.
type Refusal struct {
	Value string    `db:"value"`
	At    time.Time `db:"at"`
	By    string    `db:"refused_by"`
	Note  string    `db:"note"`
}

// Refuse turns machines with these hardware addresses or UUIDs away for good, and
// forgets the newcomers among them.
func (db *DB) Refuse(ctx context.Context, r Refusal, values []string) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		for _, v := range values {
			if _, err := tx.ExecContext(ctx, `INSERT INTO refusals (value, at, refused_by, note) VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE SET note = excluded.note`, v, r.At.UTC(), r.By, r.Note); err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `DELETE FROM workstations WHERE id IN (`+unknowns+`) AND (uuid = ?1 OR id IN (SELECT workstation_id FROM addresses WHERE address = ?1))`, v); err != nil {
				return err
			}
		}
		return nil
	})
}

// EndRefusal lets machines with a hardware address or UUID come again.
func (db *DB) EndRefusal(ctx context.Context, value string) error {
	result, err := db.exec(ctx, `DELETE FROM refusals WHERE value = ?`, value)
	return changed(result, err, "refusal of", value)
}

// Refusals lists who is turned away; sortable by value and at.
func (db *DB) Refusals(ctx context.Context, p Page) (rows []Refusal, total int, err error) {
	var q query
	q.search(p.Search, []string{"r.value", "r.note"})
	total, err = db.list(ctx, listing{columns: "r.value, r.at, r.refused_by, r.note", from: "refusals r", key: "r.value", texts: true, order: "r.at DESC, r.value",
		fields: map[string]string{"value": "r.value", "at": "r.at"}}, &rows, q, p)
	return rows, total, err
}

// Refused tells whether a hardware address is turned away.
func (db *DB) Refused(ctx context.Context, a hwaddr.Address) (refused bool, err error) {
	err = db.read.GetContext(ctx, &refused, `SELECT EXISTS (SELECT 1 FROM refusals WHERE value = ?)`, a.String())
	return refused, err
}

// Targets resolves names of groups and workstations to admitted workstations, each once,
// in the order of the names. An unknown name is a fault.NotFound, and an empty group or a
// workstation that is not admitted a fault.Conflict.
func (db *DB) Targets(ctx context.Context, names []string) ([]Workstation, error) {
	wanted := make([]struct {
		Name    string `json:"name"`
		Address string `json:"address"`
	}, len(names))
	for i, n := range names {
		wanted[i].Name = n
		if a, err := hwaddr.Parse(n); err == nil {
			wanted[i].Address = a.String()
		}
	}
	// One pass for all names: what each means, and the workstations then.
	var meant []struct {
		At int           `db:"at"`
		ID sql.NullInt64 `db:"id"`
	}
	if err := db.read.SelectContext(ctx, &meant, `WITH wanted AS (SELECT key AS at, value ->> 'name' AS name, value ->> 'address' AS address FROM json_each(?))
		SELECT n.at, m.workstation_id AS id FROM wanted n JOIN groups g ON g.name = n.name LEFT JOIN group_members m ON m.group_id = g.id
		UNION ALL SELECT n.at, w.id FROM wanted n JOIN workstations w ON w.name = n.name WHERE NOT EXISTS (SELECT 1 FROM groups g WHERE g.name = n.name)
		ORDER BY 1, 2`, encode(wanted)); err != nil {
		return nil, err
	}
	byName := map[int][]int64{}
	for _, m := range meant {
		byName[m.At] = append(byName[m.At], m.ID.Int64)
	}
	var ids []int64
	for i, n := range names {
		found := byName[i]
		if found == nil {
			w, err := db.FindWorkstation(ctx, n) // by an address
			if errors.Is(err, fault.NotFound) {
				return nil, fault.NotFound.Errorf("there is no group and no workstation %s", n)
			} else if err != nil {
				return nil, err
			}
			found = []int64{w.ID}
		}
		if len(found) == 1 && found[0] == 0 {
			return nil, fault.Conflict.Errorf("the group %s has no workstation in it", n)
		}
		ids = append(ids, found...)
	}
	rows, err := db.ByNumber(ctx, ids)
	if err != nil {
		return nil, err
	}
	var all []Workstation
	for _, id := range ids {
		w, first := rows[id]
		if !first {
			continue
		}
		delete(rows, id)
		if err := roster.MustBeAdmitted(w.Label(), w.State); err != nil {
			return nil, err
		}
		all = append(all, w)
	}
	return all, nil
}

// ByNumber reads many workstations at once.
func (db *DB) ByNumber(ctx context.Context, ids []int64) (map[int64]Workstation, error) {
	var rows []Workstation
	err := db.read.SelectContext(ctx, &rows, "SELECT "+workstationColumns+" FROM "+workstationFrom+" WHERE w.id IN (SELECT value FROM json_each(?))", encode(ids))
	all := make(map[int64]Workstation, len(rows))
	for _, w := range rows {
		all[w.ID] = w
	}
	return all, err
}

// changed turns a change of no row into fault.NotFound.
func changed(result sql.Result, err error, what string, name any) error {
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n > 0 {
		return err
	}
	return missing(sql.ErrNoRows, what, name)
}
