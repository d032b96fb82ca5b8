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
	"jugate/core/parts"
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
	entries, opened, err := k.mediaEntries(ctx, in.Entries)
	defer func() {
		for _, c := range opened {
			c.Close()
		}
	}()
	if err != nil {
		return nil, err
	}
	f, err := os.CreateTemp(k.Scratch, "media")
	if err != nil {
		return nil, err
	}
	os.Remove(f.Name()) // it is there for as long as it is open
	if err := k.Builds.WriteMedia(b, builds.Media{Settings: set, Entries: entries}, f); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	k.Log.Info("media made", "build", b.Number, "service", set.Service, "fixed", in.Address, "by", actor.From(ctx))
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
		if _, err := set.Network.Addresses(); err != nil {
			return set, fault.Invalid.Mark(err)
		}
	}
	var err error
	set.Key, err = k.Access.NewMediaKey(ctx, cmp.Or(in.Note, "media of build "+strconv.Itoa(b.Number)), in.Group, time.Duration(in.Hours)*time.Hour)
	return set, err
}
