package records

import (
	"cmp"
	"encoding/json"
	"fmt"

	"jugate/api"
	"jugate/core/errand"
	"jugate/core/parcel"
)

// Columns that hold JSON are written and read here, and nowhere else. Their shapes are
// those of package api, as agents and people tell them.

// decode reads a column; an empty one is the zero value.
func decode[T any](what, text string) (v T, err error) {
	if err = json.Unmarshal([]byte(cmp.Or(text, "null")), &v); err != nil {
		err = fmt.Errorf("%s in the records cannot be read: %w", what, err)
	}
	return v, err
}

// encode writes one. The shapes that are kept can always be encoded.
func encode(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err)
	}
	return string(text)
}

// InstallOptions are kept with an errand that installs drivers.
type InstallOptions struct {
	Image string `json:"image"` // NAME@VERSION that the workstation has
	Disk  string `json:"disk"`
	api.DriverOrder
}

// OptionsOf say how an errand is to be done.
func OptionsOf[T any](e *Errand) (T, error) {
	return decode[T](fmt.Sprintf("how errand %d is to be done", e.ID), e.Options)
}

// Did says in words what an errand has done; nil if there is nothing to say.
func (e *Errand) Did() []string {
	if e.Kind == errand.Command {
		return nil
	}
	done, err := decode[api.Installed](fmt.Sprintf("the result of errand %d", e.ID), e.Result)
	if err != nil {
		return []string{e.Result}
	}
	return done.Did
}

// SetPayloads says what the stream carries beside the image.
func (d *Delivery) SetPayloads(all []parcel.Payload) { d.PayloadsJS = encode(all) }

// Payloads is what the stream carries beside the image.
func (d *Delivery) Payloads() ([]parcel.Payload, error) {
	return decode[[]parcel.Payload](fmt.Sprintf("what delivery %d carries", d.ID), d.PayloadsJS)
}

// Restore says how the image is to lie on disks.
func (d *Delivery) Restore() (api.RestoreOptions, error) {
	return decode[api.RestoreOptions](fmt.Sprintf("how delivery %d is to lie on disks", d.ID), d.Options)
}

// OwnAnswers are those that count before all that is set, as JSON by key; nil without any.
func (d *Delivery) OwnAnswers() (map[string]string, error) {
	return decode[map[string]string](fmt.Sprintf("the answers of delivery %d", d.ID), d.OwnJS)
}

// SetOwnAnswers keeps them.
func (d *Delivery) SetOwnAnswers(values map[string]string) {
	if d.OwnJS = ""; len(values) > 0 {
		d.OwnJS = encode(values)
	}
}

// DriverOrder says which drivers go into the delivered system.
func (d *Delivery) DriverOrder() (api.DriverOrder, error) {
	return decode[api.DriverOrder](fmt.Sprintf("the drivers of delivery %d", d.ID), d.Drivers)
}

// AsideRule says who is set aside.
func (d *Delivery) AsideRule() (api.AsideRule, error) {
	return decode[api.AsideRule](fmt.Sprintf("whom delivery %d sets aside", d.ID), d.Aside)
}

// SetOptions keeps how a delivery is to be done.
func (d *Delivery) SetOptions(restore api.RestoreOptions, drivers api.DriverOrder, aside api.AsideRule) {
	d.Options, d.Drivers, d.Aside = encode(restore), encode(drivers), encode(aside)
}

// Targets are the names that were ordered, of groups and workstations.
func (d *Delivery) Targets() []string {
	names, err := decode[[]string]("", d.TargetsJS)
	if err != nil {
		return []string{d.TargetsJS}
	}
	return names
}

// DriverList names the driver packages that were installed.
func (r *Receipt) DriverList() []string {
	names, err := decode[[]string]("", r.Drivers)
	if err != nil {
		return []string{r.Drivers}
	}
	return names
}

// SetDriverList keeps the names of driver packages; without any the column is empty.
func (r *Receipt) SetDriverList(names []string) {
	if r.Drivers = ""; len(names) > 0 {
		r.Drivers = encode(names)
	}
}
