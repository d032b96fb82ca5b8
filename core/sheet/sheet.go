// Package sheet writes lists as CSV (RFC 4180), as spreadsheets and other programs read it: what the command line prints
// and what the service answers are the same.
package sheet

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"reflect"
	"strings"
	"time"
)

// Write writes the elements of a slice: a column for each field that JSON would have,
// under the same name, with plain values. Fields of a struct within stand behind a dot,
// lists of texts are separated by semicolons, and any other list is JSON. A text that a
// spreadsheet would run as a formula has an apostrophe in front, as models, serial numbers
// and reasons come from workstations.
func Write(w io.Writer, items any) error {
	list := reflect.ValueOf(items)
	out := csv.NewWriter(w)
	out.Write(columns("", list.Type().Elem()))
	for i := range list.Len() {
		line, err := cells(list.Index(i), list.Type().Elem())
		if err != nil {
			return err
		}
		out.Write(line)
	}
	out.Flush()
	return out.Error()
}

// fields goes through the fields of a struct as JSON knows them.
func fields(t reflect.Type, do func(name string, f reflect.StructField)) {
	for _, f := range reflect.VisibleFields(t) {
		tag := f.Tag.Get("json")
		name, _, _ := strings.Cut(tag, ",")
		if !f.IsExported() || f.Anonymous && name == "" || name == "-" || hidden(t, f) {
			continue
		}
		if name == "" {
			name = f.Name
		}
		do(name, f)
	}
}

// hidden tells whether a field lies within one that has a name of its own.
func hidden(t reflect.Type, f reflect.StructField) bool {
	for n := 1; n < len(f.Index); n++ {
		outer := t.FieldByIndex(f.Index[:n])
		if !outer.Anonymous || outer.Tag.Get("json") != "" {
			return true
		}
	}
	return false
}

var timeType = reflect.TypeFor[time.Time]()

// nested tells whether a type's fields become columns.
func nested(t reflect.Type) bool {
	if t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	return t.Kind() == reflect.Struct && t != timeType && !t.Implements(reflect.TypeFor[json.Marshaler]())
}

func columns(prefix string, t reflect.Type) (names []string) {
	if t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	fields(t, func(name string, f reflect.StructField) {
		if nested(f.Type) {
			names = append(names, columns(prefix+name+".", f.Type)...)
		} else {
			names = append(names, prefix+name)
		}
	})
	return names
}

// cells are the values of a struct, in the order of columns. Without a value, as where
// a pointer is nil, they are empty.
func cells(v reflect.Value, t reflect.Type) (values []string, err error) {
	if t.Kind() == reflect.Pointer {
		if t = t.Elem(); v.IsValid() {
			v = v.Elem()
		}
	}
	fields(t, func(_ string, f reflect.StructField) {
		var field reflect.Value
		if v.IsValid() {
			field, _ = v.FieldByIndexErr(f.Index)
		}
		if nested(f.Type) {
			inner, innerErr := cells(field, f.Type)
			if innerErr != nil {
				err = innerErr
			}
			values = append(values, inner...)
			return
		}
		text, textErr := cell(field)
		if textErr != nil {
			err = textErr
		}
		values = append(values, text)
	})
	return values, err
}

func cell(v reflect.Value) (string, error) {
	if v.IsValid() && v.Kind() == reflect.Pointer {
		v = v.Elem()
	}
	if !v.IsValid() {
		return "", nil
	}
	switch value := v.Interface().(type) {
	case []string:
		return NoFormula(strings.Join(value, ";")), nil
	case time.Time:
		return value.UTC().Format(time.RFC3339), nil
	}
	switch v.Kind() {
	case reflect.Slice, reflect.Map:
		if v.Len() == 0 {
			return "", nil
		}
		text, err := json.Marshal(v.Interface())
		return string(text), err
	}
	if v.Kind() == reflect.String {
		return NoFormula(v.String()), nil
	}
	return fmt.Sprint(v.Interface()), nil
}

// formula are the characters that a spreadsheet takes for the beginning of a formula.
const formula = "=+-@\t\r"

// NoFormula puts an apostrophe in front of a text that a spreadsheet would run as a formula.
func NoFormula(text string) string {
	if IsFormula(text) {
		return "'" + text
	}
	return text
}

// IsFormula tells whether a spreadsheet would run a text.
func IsFormula(text string) bool { return text != "" && strings.ContainsRune(formula, rune(text[0])) }
