package notify

import (
	"strings"

	"jugate/api"
	"jugate/core/fault"
)

// Event is a kind of event that people and programs can be told of. Names are past tense with a full stop, as Standard
// Webhooks asks for.
type Event struct {
	Name   string
	Means  string
	Data   any    // a value of the type that a payload has as its data
	Groups bool   // it is of workstations, so that a rule can be for those of some groups
	page   string // of the console; a star stands for the subject
}

// Catalogue has all events. docs/notifications.md tells how they are sent.
var Catalogue = []Event{
	{"newcomer.seen", "A machine that nobody knows has checked in.", api.Workstation{}, false, "/workstations"},
	{"boot.stuck", "A machine is stuck while it boots. Its steps and the probable cause are told.", api.BootTrail{}, true, "/netboot"},
	{"delivery.started", "A delivery has gathered its workstations and sends.", api.Delivery{}, true, "/deliveries/*"},
	{"delivery.stalled", "Something keeps a delivery from getting on. Told once for each delivery.", api.Delivery{}, true, "/deliveries/*"},
	{"delivery.ended", "A delivery is over, or was stopped.", api.Delivery{}, true, "/deliveries/*"},
	{"receipt.written", "A workstation got an image, or did not, or its disk was wiped.", api.Receipt{}, true, "/receipts"},
	{"receipt.failed", "A workstation did not get its image.", api.Receipt{}, true, "/receipts"},
	{"arrival.reported", "A delivered system has started for the first time, and has reported that.", api.Receipt{}, true, "/receipts"},
	{"arrival.missing", "A delivered system has not reported its first start in time.", api.Receipt{}, true, "/receipts"},
	{"check.failed", "A check says that a workstation is not fit to be given out.", api.Check{}, true, "/errands"},
	{"version.captured", "An image has a new version.", api.Version{}, false, "/images"},
	{"run.ended", "A run of an order is over.", api.OrderRun{}, false, "/orders"},
	{"part.troubled", "A part of the service does not work as it should: network boot, the disk, a store, an outpost, backups.", api.PartState{}, false, "/"},
	{"part.recovered", "A part of the service works again.", api.PartState{}, false, "/"},
	{tried, "Somebody tries a rule. It is sent whatever the rule says.", api.WebhookTry{}, false, ""},
}

// tried is what a try of a rule is an event of.
const tried = "rule.tried"

// known finds an event by its name.
func known(name string) *Event {
	for i, e := range Catalogue {
		if e.Name == name {
			return &Catalogue[i]
		}
	}
	return nil
}

// pageOf is the page of the console about what happened, below the address of the service.
func pageOf(event, subject string) string {
	e := known(event)
	if e == nil {
		return ""
	}
	return strings.Replace(e.page, "*", subject, 1)
}

// checkEvents refuses events that there are not, and a rule for groups that has just events of no workstation.
func checkEvents(events []string, groups bool) error {
	var ofGroups bool
	for _, name := range events {
		e := known(name)
		if e == nil || name == tried {
			return fault.Invalid.Errorf("%q is not an event; jugate notification events lists those that are", name)
		}
		ofGroups = ofGroups || e.Groups
	}
	if groups && !ofGroups {
		return fault.Invalid.Errorf("none of these events is of workstations: a rule for groups would never tell of one")
	}
	return nil
}
