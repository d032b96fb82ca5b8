package stock

import (
	"cmp"
	"context"
	"errors"
	"net/netip"
	"os"
	"strconv"
	"time"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/environment"
	"jugate/core/environment/builds"
	"jugate/core/fault"
)

// Media makes the image of a USB stick that boots a build without network boot. Whoever
// gets the file closes it; it has no name.
func (k *Stock) Media(ctx context.Context, number int, in api.NewMedia) (*os.File, error) {
	b, err := k.findBuild(ctx, number)
	if err != nil {
		return nil, err
	}
	set, err := k.mediaSettings(ctx, in, b)
	if err != nil {
		return nil, err
	}
	f, err := os.CreateTemp(k.Scratch, "media")
	if err != nil {
		return nil, err
	}
	os.Remove(f.Name()) // it is there for as long as it is open
	if err := k.Builds.WriteMedia(b, set, f); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	k.Log.Info("media made", "build", b.Number, "service", set.Service, "fixed", in.Address, "by", actor.From(ctx))
	return f, nil
}

// mediaSettings are what media tell the agent, with a key of their own to check in
// with.
func (k *Stock) mediaSettings(ctx context.Context, in api.NewMedia, b *builds.Build) (environment.Settings, error) {
	set := environment.Settings{Service: in.Service, Shell: b.Shell}
	if in.Address != "" {
		p, err := netip.ParsePrefix(in.Address)
		if err != nil || !p.Addr().Is4() {
			return set, fault.Invalid.Errorf("%q is no IPv4 address with the length of its prefix, as 192.0.2.70/24", in.Address)
		}
		set.Network = &environment.FixedNetwork{Address: p.String(), Gateway: in.Gateway}
	}
	var err error
	set.Key, err = k.Access.NewMediaKey(ctx, cmp.Or(in.Note, "media of build "+strconv.Itoa(b.Number)), in.Group, time.Duration(in.Hours)*time.Hour)
	return set, err
}
