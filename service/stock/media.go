package stock

import (
	"cmp"
	"context"
	"errors"
	"os"
	"strconv"
	"time"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/bootentry"
	"jugate/core/environment"
	"jugate/core/environment/builds"
	"jugate/core/fault"
	"jugate/core/netboot"
	"jugate/core/parts"
	"jugate/core/slabstore"
)

// Media makes the image of a USB stick that boots a build without network boot. Whoever
// gets the file closes it; it has no name.
func (k *Stock) Media(ctx context.Context, number int, in api.NewMedia) (f *os.File, out api.MediaMade, err error) {
	b, err := k.findBuild(ctx, number)
	if err != nil {
		return nil, out, err
	}
	if err := checkMedia(in); err != nil {
		return nil, out, err
	}
	for _, part := range []string{builds.ShimPart, builds.MediaPart} { // before anything is entered for them
		c, err := k.Builds.Open(b, part)
		if err != nil {
			return nil, out, fault.Conflict.Errorf("no media can be made of build %d: %w", b.Number, err)
		}
		c.Close()
	}
	entries, opened, err := k.mediaEntries(ctx, in.Entries)
	defer func() {
		for _, c := range opened {
			c.Close()
		}
	}()
	if err != nil {
		return nil, out, err
	}
	set, err := k.mediaSettings(ctx, in, b)
	if err != nil {
		return nil, out, err
	}
	digest := slabstore.Sum([]byte(set.Key))
	defer func() {
		if err != nil { // nobody has the key
			err = errors.Join(err, k.Access.WithdrawMediaKey(context.WithoutCancel(ctx), digest.String()))
		}
	}()
	m := builds.Media{}
	made := func(error) {}
	if in.Outpost != "" || in.Netboot != "" || in.Deliver != nil {
		if m, out, made, err = k.Carrier.Carry(ctx, b, in, digest); err != nil {
			return nil, out, err
		}
		set.Outpost = m.Settings.Outpost
	}
	m.Settings, m.Entries = set, entries
	f, err = k.writeMedia(b, m)
	if made(err); err != nil {
		return nil, out, err
	}
	k.Log.Info("media made", "build", b.Number, "service", set.Service, "fixed", in.Address, "outpost", out.Outpost, "by", actor.From(ctx))
	return f, out, nil
}

// checkMedia holds what is asked of media against itself.
func checkMedia(in api.NewMedia) error {
	switch {
	case in.Room > 0 && in.Netboot == "":
		return fault.Invalid.Errorf("only media that answer network boot keep slabs that come over a line")
	case in.Outpost != "" && in.Netboot == "" && in.Deliver == nil:
		return fault.Invalid.Errorf("an outpost without a network has to carry a delivery: say which image to whom, or how it answers network boot")
	case in.Netboot == "whole" && (len(in.Pools) == 0 || in.Address == ""):
		return fault.Invalid.Errorf("an outpost that gives addresses needs to be told which, and has to have one of its own")
	case in.Netboot != "whole" && len(in.Pools) > 0:
		return fault.Invalid.Errorf("only an outpost of mode whole gives addresses")
	}
	if in.Address != "" {
		if _, err := (environment.FixedNetwork{Address: in.Address}).Addresses(); err != nil {
			return fault.Invalid.Mark(err)
		}
	}
	for _, text := range in.Pools {
		if _, err := netboot.ParsePool(text); err != nil {
			return fault.Invalid.Mark(err)
		}
	}
	return nil
}

// writeMedia writes media into a file without a name.
func (k *Stock) writeMedia(b *builds.Build, m builds.Media) (*os.File, error) {
	f, err := os.CreateTemp(k.Scratch, "media")
	if err != nil {
		return nil, err
	}
	os.Remove(f.Name()) // it is there for as long as it is open
	if err := k.Builds.WriteMedia(b, m, f); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// mediaEntries opens the boot entries that media carry. What was opened is to be closed.
func (k *Stock) mediaEntries(ctx context.Context, names []string) (all []builds.MediaEntry, opened []*builds.Content, err error) {
	open := func(p parts.Part) (*parts.Content, error) {
		c, err := k.Entries.Open(p)
		if err == nil {
			opened = append(opened, c)
		}
		return c, err
	}
	for _, name := range names {
		e, _, err := k.named(ctx, name)
		if err != nil {
			return nil, opened, err
		}
		one := builds.MediaEntry{Title: cmp.Or(e.set.Title, e.Name)}
		if e.answerFile() == "" {
			if one.Words, err = bootentry.Line.Render(e.words(), bootentry.Values{bootentry.Parameters: map[string]any{}}); err != nil {
				return nil, opened, fault.Conflict.Errorf("the boot entry %s is told something of each machine, which media do not know: %w", e.Name, err)
			}
		}
		for _, s := range e.found.Starts {
			if s.Way == bootentry.Disc || s.Arch == bootentry.ARM64 || s.Arch == bootentry.IA32 && s.Way != bootentry.Old {
				continue
			}
			first, err := open(s.Files[0].Part)
			if err != nil {
				return nil, opened, err
			}
			start := builds.MediaStart{EFI: s.Way != bootentry.Old, BIOS: s.Way != bootentry.Program, Signed: s.Signer != "", Bits32: s.Arch == bootentry.IA32}
			if s.Way == bootentry.Program {
				start.Program = first
			} else {
				start.Kernel = first
			}
			for _, f := range s.Files[1:] {
				c, err := open(f.Part)
				if err != nil {
					return nil, opened, err
				}
				start.Initrds = append(start.Initrds, c)
			}
			one.Starts = append(one.Starts, start)
		}
		if len(one.Starts) == 0 {
			return nil, opened, fault.Conflict.Errorf("the boot entry %s cannot be on media: %s", e.Name, e.found.Ways())
		}
		all = append(all, one)
	}
	return all, opened, nil
}

// mediaSettings are what media tell the agent, with a key of their own to check in
// with.
func (k *Stock) mediaSettings(ctx context.Context, in api.NewMedia, b *builds.Build) (environment.Settings, error) {
	set := environment.Settings{Service: in.Service, Shell: b.Shell}
	if in.Address != "" {
		set.Network = &environment.FixedNetwork{Address: in.Address, Gateway: in.Gateway}
	}
	var err error
	set.Key, err = k.Access.NewMediaKey(ctx, cmp.Or(in.Note, "media of build "+strconv.Itoa(b.Number)), in.Group, time.Duration(in.Hours)*time.Hour)
	return set, err
}
