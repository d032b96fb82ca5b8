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

// Again are the rooms that can begin a part anew.
type Again struct {
	Boot interface {
		Restart(ctx context.Context, ifname string) error
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

// folder is the store that cannot be begun anew: it is the data folder.
const folder = store + "folder"

// means says what happens when a part is begun anew, so that nobody has to fear it; empty if it cannot be.
func means(part string) string {
	switch {
	case strings.HasPrefix(part, netboot):
		return "its sockets are closed and opened again, with the address that the interface has now; machines that are loading ask again, and deliveries go on"
	case part == folder:
		return ""
	case strings.HasPrefix(part, store):
		return "it is opened again, and what is in it is looked up; versions that are in the data folder, too, are delivered meanwhile"
	case strings.HasPrefix(part, directory):
		return "it is asked whether it answers; who has signed in stays so"
	case strings.HasPrefix(part, rule):
		return "a message is sent by it now; what waits is sent in its time"
	}
	return ""
}

// Restart begins a part anew, and tells how it is then. It is an error if that has not helped.
func (o *Overview) Restart(ctx context.Context, part string) (api.PartState, error) {
	begin := []struct {
		prefix string
		do     func(ctx context.Context, name string) error
	}{
		{netboot, o.Again.Boot.Restart}, {store, o.Again.Stores.Again}, {directory, o.Again.Directories.Ask},
		{rule, func(ctx context.Context, name string) error {
			_, err := o.Again.Notify.Try(ctx, name)
			return err
		}},
	}
	if means(part) == "" {
		return api.PartState{}, fault.Invalid.Errorf("%q is not a part that can be begun anew; jugate part list tells which can", part)
	}
	for _, b := range begin {
		if name, is := strings.CutPrefix(part, b.prefix); is {
			if err := b.do(ctx, name); err != nil {
				return api.PartState{}, err
			}
		}
	}
	now, err := o.Show(ctx)
	if err != nil {
		return api.PartState{}, err
	}
	if i := slices.IndexFunc(now.Parts, func(p api.PartState) bool { return p.Part == part }); i >= 0 {
		return now.Parts[i], nil
	}
	return api.PartState{Part: part, State: good, What: "it works", Page: "/", Again: means(part)}, nil
}
