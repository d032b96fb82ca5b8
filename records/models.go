package records

import (
	"context"
	"encoding/json"
)

// Model is what is known of the machines of one model.
type Model struct {
	Name     string `db:"name"` // maker and model
	BootKey  string `db:"boot_key"`
	SetupKey string `db:"setup_key"`
	Adapter  string `db:"adapter"`
	Firmware string `db:"firmware"` // the version that is wanted
	Settings string `db:"settings"` // those that are wanted, as JSON; see Wanted
	Note     string `db:"note"`
	Machines int    `db:"machines"` // in the roster, and newcomers
	Unfit    int    `db:"unfit"`    // by their last checks
}

// Wanted are the settings of the firmware that machines are to have.
func (m *Model) Wanted() (map[string]string, error) {
	return decode[map[string]string]("the settings of the model "+m.Name, m.Settings)
}

// Models lists all models: those of machines that were seen, and those that something is known of.
func (db *DB) Models(ctx context.Context) (all []Model, err error) {
	err = db.lists.SelectContext(ctx, &all, `WITH seen AS (SELECT trim(w.maker || ' ' || w.model) AS name, count(*) AS machines,
			count(iif((SELECT c.verdict FROM checks c WHERE c.workstation_id = w.id ORDER BY c.id DESC LIMIT 1) = 'bad', 1, NULL)) AS unfit
			FROM workstations w WHERE trim(maker || model) <> '' AND state <> 'retired' GROUP BY trim(maker || ' ' || model) COLLATE NOCASE)
		SELECT coalesce(s.name, m.name) AS name, coalesce(boot_key, '') AS boot_key, coalesce(setup_key, '') AS setup_key, coalesce(adapter, '') AS adapter, coalesce(firmware, '') AS firmware,
			coalesce(settings, '{}') AS settings, coalesce(note, '') AS note, coalesce(s.machines, 0) AS machines, coalesce(s.unfit, 0) AS unfit
		FROM seen s FULL JOIN models m ON m.name = s.name ORDER BY 1 COLLATE NOCASE`)
	return all, err
}

// PutModel says what is known of a model; one of which nothing is known any more is forgotten.
func (db *DB) PutModel(ctx context.Context, m Model, settings map[string]string) error {
	if settings == nil {
		settings = map[string]string{}
	}
	text, err := json.Marshal(settings)
	if err != nil {
		return err
	}
	if m.BootKey+m.SetupKey+m.Adapter+m.Firmware+m.Note == "" && len(settings) == 0 {
		_, err = db.exec(ctx, `DELETE FROM models WHERE name = ?`, m.Name)
		return err
	}
	_, err = db.exec(ctx, `INSERT INTO models (name, boot_key, setup_key, adapter, firmware, settings, note) VALUES (?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT DO UPDATE SET boot_key = excluded.boot_key, setup_key = excluded.setup_key, adapter = excluded.adapter, firmware = excluded.firmware, settings = excluded.settings, note = excluded.note`,
		m.Name, m.BootKey, m.SetupKey, m.Adapter, m.Firmware, string(text), m.Note)
	return err
}

// ToldFirmware is what the firmware of a machine says of itself.
type ToldFirmware struct {
	Label    string `db:"label"`
	Firmware string `db:"firmware"`
	Settings string `db:"settings"`
}

// OwnSettings are those that its firmware tells of.
func (m *ToldFirmware) OwnSettings() (map[string]string, error) {
	return decode[map[string]string]("the firmware's settings of "+m.Label, m.Settings)
}

// FirmwareOf tells the firmware of the machines of a model, by name.
func (db *DB) FirmwareOf(ctx context.Context, model string) (all []ToldFirmware, err error) {
	err = db.lists.SelectContext(ctx, &all, `SELECT coalesce(w.name, (SELECT address FROM addresses WHERE workstation_id = w.id LIMIT 1), '') AS label,
			coalesce(json_extract(i.content, '$.firmware_version'), '') AS firmware, coalesce(json_extract(i.content, '$.firmware_settings'), '{}') AS settings
		FROM workstations w LEFT JOIN inventories i ON i.workstation_id = w.id WHERE trim(w.maker || ' ' || w.model) = ? COLLATE NOCASE AND state <> 'retired' ORDER BY label`, model)
	return all, err
}
