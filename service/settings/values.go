package settings

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"jugate/boot"
	"jugate/core/fault"
	"jugate/core/netboot"
	"jugate/wire"
)

// Values are the settings that are changed while the service runs.
type Values struct {
	Interfaces    []boot.Interface
	Pools         []netboot.PoolConfig
	Force         bool // mode whole starts although another server gives addresses
	Unknown       netboot.Unknown
	Rate          int64 // bits a second of one stream
	Ceiling       int64 // bits a second of all streams together; 0 sets none
	AcceptCards   bool
	ArrivalWithin time.Duration
	KeepLines     time.Duration // 0 stands for ever
}

// definition is how one of them is read and written as texts.
type definition struct {
	name  string
	what  string
	read  func(v *Values, texts []string) error
	write func(v Values) []string
}

// live are the settings that can be set while the service runs. They are called as the flags of serve are.
var live = []definition{
	{"netboot", "interfaces that answer network boot, as NAME=beside, NAME=whole or NAME=off", func(v *Values, texts []string) (err error) {
		v.Interfaces, err = each(texts, boot.ParseInterface)
		return err
	},
		func(v Values) []string { return texts(v.Interfaces, boot.Interface.String) }},
	{"pool", "addresses that mode whole gives, as \"192.0.2.100-192.0.2.199/24 router 192.0.2.1 dns 192.0.2.53 lease 1h\"", func(v *Values, texts []string) (err error) { v.Pools, err = each(texts, netboot.ParsePool); return err },
		func(v Values) []string { return texts(v.Pools, netboot.PoolConfig.String) }},
	single("netboot-force", "have mode whole start although another server gives addresses", func(v *Values) *bool { return &v.Force }, strconv.ParseBool, strconv.FormatBool),
	single("unknown", "machines that nobody has admitted: ignore, hold or welcome", func(v *Values) *netboot.Unknown { return &v.Unknown }, netboot.ParseUnknown, func(u netboot.Unknown) string { return string(u) }),
	single("rate", "rate of one stream", func(v *Values) *int64 { return &v.Rate }, positiveRate, wire.FormatRate),
	single("ceiling", "what all streams together may take, such as 800Mbit (default: no bound)", func(v *Values) *int64 { return &v.Ceiling }, wire.ParseRate, wire.FormatRate),
	single("accept-cards", "accept unknown network cards at once, where the workstation is known by UUID and serial number", func(v *Values) *bool { return &v.AcceptCards }, strconv.ParseBool, strconv.FormatBool),
	single("arrival-within", "how long after its delivery a copy is to have started and reported", func(v *Values) *time.Duration { return &v.ArrivalWithin }, positive, time.Duration.String),
	single("keep-lines", "how long lines of the logbook are kept, such as 17520h (default: for ever); receipts are kept in any case", func(v *Values) *time.Duration { return &v.KeepLines }, notNegative, time.Duration.String),
}

// single is a setting with one value, or none where that can be read.
func single[T any](name, what string, of func(*Values) *T, read func(string) (T, error), write func(T) string) definition {
	return definition{name, what,
		func(v *Values, texts []string) (err error) {
			if len(texts) > 1 {
				return fmt.Errorf("it takes one value, not %d", len(texts))
			}
			*of(v), err = read(strings.Join(texts, ""))
			return err
		},
		func(v Values) []string {
			if text := write(*of(&v)); text != "" {
				return []string{text}
			}
			return []string{}
		}}
}

func each[T any](texts []string, read func(string) (T, error)) (all []T, err error) {
	for _, text := range texts {
		one, err := read(text)
		if err != nil {
			return nil, err
		}
		all = append(all, one)
	}
	return all, nil
}

func texts[T any](all []T, write func(T) string) []string {
	out := make([]string, 0, len(all))
	for _, one := range all {
		out = append(out, write(one))
	}
	return out
}

func positiveRate(text string) (int64, error) {
	n, err := wire.ParseRate(text)
	if err == nil && n <= 0 {
		err = fmt.Errorf("%q is not a rate that anything can be sent at", text)
	}
	return n, err
}

func positive(text string) (time.Duration, error) {
	d, err := time.ParseDuration(text)
	if err == nil && d <= 0 {
		err = fmt.Errorf("%q is not a length of time, such as 2h", text)
	}
	return d, err
}

func notNegative(text string) (time.Duration, error) {
	d, err := time.ParseDuration(text)
	if err == nil && d < 0 {
		err = fmt.Errorf("%q is not a length of time, such as 17520h, or 0 for ever", text)
	}
	return d, err
}

// What says what a setting says; it is the text of the flag, too.
func What(name string) string {
	d, _ := define(name)
	return d.what
}

// define finds the setting of a name.
func define(name string) (definition, error) {
	if i := slices.IndexFunc(live, func(d definition) bool { return d.name == name }); i >= 0 {
		return live[i], nil
	}
	return definition{}, fault.NotFound.Errorf("%q is not a setting that can be set while the service runs; jugate config list tells which are", name)
}

// with are the values with one setting changed.
func (v Values) with(name string, texts []string) (Values, error) {
	d, err := define(name)
	if err != nil {
		return v, err
	}
	if err := d.read(&v, texts); err != nil {
		return v, fault.Invalid.Errorf("%s: %w", name, err)
	}
	return v, nil
}
