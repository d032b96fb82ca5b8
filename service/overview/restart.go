package overview

import (
	"context"
	"slices"
	"strings"

	"jugate/api"
	"jugate/core/fault"
)

// How parts are called that there are several of; the rest is the name of one.
const (
	netboot   = "network boot on "
	store     = "store "
	directory = "directory "
	rule      = "notifications by "
)

// folder is the store that cannot be begun anew: it is the data folder.
const folder = store + "folder"

// Again are the rooms that can begin a part anew.
type Again struct {
	Boot interface {
		Restart(ifname string) error
	}
	Stores interface {
		Again(ctx context.Context, name string) error
	}
	Directories interface {
		Ask(ctx context.Context, name string) error
	}
	Notify interface {
		Try(ctx context.Context, rule string) (api.Message, error)
	}
}

// restartable are the kinds of parts that can be begun anew, with what that means, so that nobody has to fear it.
var restartable = []struct {
	prefix, means string
	begin         func(a Again, ctx context.Context, name string) error
}{
	{netboot, "its sockets are closed and opened again, with the address that the interface has now; machines that are loading ask again, and deliveries go on",
		func(a Again, _ context.Context, name string) error { return a.Boot.Restart(name) }},
	{store, "it is opened again, and what is in it is looked up; versions that are in the data folder, too, are delivered meanwhile",
		func(a Again, ctx context.Context, name string) error { return a.Stores.Again(ctx, name) }},
	{directory, "it is asked whether it answers; who has signed in stays so",
		func(a Again, ctx context.Context, name string) error { return a.Directories.Ask(ctx, name) }},
	{rule, "a message is sent by it now; what waits is sent in its time",
		func(a Again, ctx context.Context, name string) error {
			_, err := a.Notify.Try(ctx, name)
			return err
		}},
}

// kindOf is the place in restartable of a part's kind; -1 if it cannot be begun anew.
func kindOf(part string) int {
	if part == folder {
		return -1
	}
	for i, kind := range restartable {
		if strings.HasPrefix(part, kind.prefix) {
			return i
		}
	}
	return -1
}

// means says what happens when a part is begun anew; empty if it cannot be.
func means(part string) string {
	if i := kindOf(part); i >= 0 {
		return restartable[i].means
	}
	return ""
}

// Restart begins a part anew, and tells how it is then. It is an error if that has not helped.
func (o *Overview) Restart(ctx context.Context, part string) (api.PartState, error) {
	i := kindOf(part)
	if i < 0 {
		return api.PartState{}, fault.Invalid.Errorf("%q is not a part that can be begun anew; jugate part list tells which can", part)
	}
	kind := restartable[i]
	if err := kind.begin(o.Again, ctx, strings.TrimPrefix(part, kind.prefix)); err != nil {
		return api.PartState{}, err
	}
	now, err := o.Show(ctx)
	if err != nil {
		return api.PartState{}, err
	}
	if i := slices.IndexFunc(now.Parts, func(p api.PartState) bool { return p.Part == part }); i >= 0 {
		return now.Parts[i], nil
	}
	return api.PartState{Part: part, State: api.Good, What: "it works", Page: "/", Again: kind.means}, nil // rules that work are not listed
}
