package api_test

import (
	"fmt"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"jugate/api"
	"jugate/core/delivery"
	"jugate/core/driver"
	"jugate/core/errand"
	"jugate/core/image"
	"jugate/core/readiness"
	"jugate/core/rights"
	"jugate/core/roster"
)

// words are the values of a type of states, as the API writes them.
func words[T ~string](all []T) string {
	return strings.Trim(strings.ReplaceAll(fmt.Sprintf("%q", all), "\" \"", ","), "[\"]")
}

// The enums of the API, and with them the types of the console, are those of core.
func TestStatesAreThoseOfCore(t *testing.T) {
	want := map[reflect.Type]string{
		reflect.TypeFor[roster.State]():       words(roster.States),
		reflect.TypeFor[roster.CardState]():   words(roster.CardStates),
		reflect.TypeFor[image.Standing]():     words(image.Standings),
		reflect.TypeFor[readiness.Severity](): words([]readiness.Severity{readiness.Blocking, readiness.Warning, readiness.Note}),
		reflect.TypeFor[errand.Kind]():        words(errand.Kinds),
		reflect.TypeFor[errand.State]():       words(errand.States),
		reflect.TypeFor[delivery.State]():     words(delivery.States),
		reflect.TypeFor[delivery.Phase]():     words(delivery.Phases),
		reflect.TypeFor[delivery.Outcome]():   words(delivery.Outcomes),
		reflect.TypeFor[driver.State]():       words(driver.States),
		reflect.TypeFor[rights.Right]():       words(rights.All),
	}
	seen := map[reflect.Type]bool{}
	for _, v := range []any{api.Workstation{}, api.HardwareAddress{}, api.Version{}, api.Finding{}, api.Errand{}, api.Delivery{}, api.Member{}, api.Receipt{}, api.CheckedIn{}, api.Standing{}, api.ToErrand{}, api.Directions{}, api.Progress{}, api.Cover{}, api.NewRole{}, api.NewToken{}} {
		for f := range reflect.TypeOf(v).Fields() {
			kind := f.Type
			if kind.Kind() == reflect.Slice {
				kind = kind.Elem()
			}
			words, states := want[kind]
			if !states {
				continue
			}
			seen[kind] = true
			tag, where := f.Tag.Get("enum"), reflect.TypeOf(v).Name()+"."+f.Name
			switch {
			case where == "Member.Outcome": // empty until it has ended
			case where == "Progress.Phase": // who is awaited reports nothing
				assert.Equal(t, words, "awaited,"+tag, where)
			default:
				assert.Equal(t, words, tag, where)
			}
		}
	}
	assert.Len(t, seen, len(want), "each is told somewhere")
}
