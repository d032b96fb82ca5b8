package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

func (a *app) imageCommand() *cobra.Command {
	return noun("image", "See and keep golden images and their versions",
		a.imageList(), a.imageShow(), a.imageFiles(), a.imageFile(), a.imageDiff(), a.imageVerify(), a.imageSettle(), a.imageNote(), a.imageRename(), a.imageRetire(), a.imageReadmit(),
		a.imagePrune(), a.imageRescan(), a.imageImport(), a.imageExport(), a.imagePush(), a.imagePull(), a.imagePlace(), a.imageUnplace(), a.imageRecipients())
}

var versionColumns = []column[api.Version]{
	{title: "image", value: func(v api.Version) string { return fmt.Sprintf("%s@%d", v.Image, v.Version) }},
	{title: "captured", value: func(v api.Version) string { return when(v.Captured) }},
	{title: "from", value: func(v api.Version) string { return v.Workstation }},
	{title: "disk", value: func(v api.Version) string { return size(v.DiskBytes) }, right: true},
	{title: "used", value: func(v api.Version) string { return size(v.UsedBytes) }, right: true},
	{title: "new slabs", value: func(v api.Version) string { return fmt.Sprintf("%d of %d", v.NewSlabs, v.Slabs) }, right: true},
	{title: "stored", value: func(v api.Version) string { return size(v.StoredBytes) }, right: true},
	{title: "digest", value: func(v api.Version) string { return v.Digest[:min(12, len(v.Digest))] }},
	{title: "state", value: func(v api.Version) string { return string(v.State) }},
	{title: "expires", value: func(v api.Version) string { return whenPtr(v.Expires) }},
	{title: "note", value: func(v api.Version) string { return v.Note }},
}

func (a *app) imageList() *cobra.Command {
	return list(a, lister[api.Version]{
		short: "List images, the newest version of each, or all versions of one",
		what:  "images", none: "no images yet; capture one with: jugate capture WORKSTATION --as IMAGE",
		filters: []filter{{name: "saved", help: "disks that were saved before they were erased, in place of golden ones", truth: true}},
		fetch:   (*apiclient.Client).Images, sort: []string{"image", "captured"}, columns: versionColumns,
		thing: "image", within: (*apiclient.Client).Versions,
	})
}

// leaning says how many slabs of a version are told by others.
func leaning(v api.Version) string {
	switch {
	case v.Leaning > 0:
		return fmt.Sprintf("%s stored as what differs from another one", count(v.Leaning, "slab"))
	case v.Settled != nil:
		return "none, settled " + when(*v.Settled)
	}
	return ""
}

// liesIn says in which store a version is, and where it goes.
func liesIn(v api.Version) string {
	if v.MovesTo != "" {
		return fmt.Sprintf("%s, on its way to %s", v.Store, v.MovesTo)
	}
	return v.Store
}

func (a *app) imageShow() *cobra.Command {
	return &cobra.Command{
		Use: "show IMAGE[@VERSION]", Short: "Show one version and what its disk holds", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			v, err := c.Version(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			err = show(cmd, a, v,
				field{"image", fmt.Sprintf("%s@%d", v.Image, v.Version)}, field{"digest", v.Digest}, field{"captured", when(v.Captured)}, field{"from", v.Workstation}, field{"note", v.Note},
				field{"state", string(v.State)}, field{"expires", whenPtr(v.Expires)}, field{"captured despite", v.Despite}, field{"unreadable", unreadableBytes(v.Unreadable)},
				field{"disk", fmt.Sprintf("%s (%d bytes)", size(v.DiskBytes), v.DiskBytes)}, field{"layout", v.Layout},
				field{"fits onto", fmt.Sprintf("disks of at least %d bytes", v.NeedBytes)},
				field{"used", fmt.Sprintf("%s in %d slabs", size(v.UsedBytes), v.Slabs)},
				field{"stored for it", fmt.Sprintf("%s in %d new slabs", size(v.StoredBytes), v.NewSlabs)},
				field{"lies in", liesIn(v)}, field{"leaning", leaning(v)})
			if err != nil || a.output != "table" {
				return err
			}
			fmt.Fprintln(cmd.OutOrStdout())
			printLayout(cmd.OutOrStdout(), v.DiskBytes, v.Areas)
			fmt.Fprintln(cmd.OutOrStdout())
			if err := printList(cmd, a, v.Areas, areaColumns); err != nil {
				return err
			}
			for _, f := range v.Findings {
				fmt.Fprintf(cmd.OutOrStdout(), "%s (%s): %s: %s\n", f.Severity, f.Code, f.Where, f.What)
			}
			return nil
		},
	}
}

func unreadableBytes(n int64) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("%d bytes of the golden disk; zeros on copies", n)
}

func areaState(r api.Area) string {
	switch {
	case r.Dirty:
		return "dirty"
	case r.Kind == "unknown":
		return ""
	}
	return "clean"
}

// areaColumns describe what a disk holds.
var areaColumns = []column[api.Area]{
	{title: "partition", value: func(r api.Area) string { return areaName(r.Partition) }},
	{title: "name", value: func(r api.Area) string { return r.Name }},
	{title: "holds", value: func(r api.Area) string { return r.Kind }},
	{title: "label", value: func(r api.Area) string { return r.Label }},
	{title: "state", value: areaState},
	{title: "cluster", value: func(r api.Area) string {
		if r.Kind == "unknown" {
			return ""
		}
		return size(r.ClusterSize)
	}, right: true},
	{title: "start", value: func(r api.Area) string { return fmt.Sprint(r.Start) }, right: true},
	{title: "size", value: func(r api.Area) string { return size(r.Size) }, right: true},
	{title: "used", value: func(r api.Area) string {
		if r.Whole {
			return "whole"
		}
		return size(r.UsedBytes)
	}, right: true},
	{title: "", value: func(r api.Area) string { return bar(r.UsedBytes, r.Size, 20) }},
}

// bar draws how much of a whole is used.
func bar(part, whole int64, width int) string {
	if whole <= 0 {
		return ""
	}
	n := int((part*int64(width) + whole - 1) / whole)
	return strings.Repeat("█", n) + strings.Repeat("░", width-n)
}

func (a *app) imageRecipients() *cobra.Command {
	var who api.Recipients
	var everybody bool
	cmd := &cobra.Command{
		Use: "recipients IMAGE", Short: "Show or set who may receive an image; those who are named have it in their boot menu", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if named := len(who.Groups)+len(who.Addresses)+len(who.Models) > 0; named || everybody {
				if named && everybody {
					return usageError{fmt.Errorf("--everybody goes with no names")}
				}
				if err := c.SetRecipients(cmd.Context(), args[0], api.Recipients{Groups: orEmpty(who.Groups), Addresses: orEmpty(who.Addresses), Models: orEmpty(who.Models)}); err != nil {
					return err
				}
			}
			is, err := c.Recipients(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if a.output == "json" {
				return printJSON(cmd.OutOrStdout(), is)
			}
			if len(is.Groups)+len(is.Addresses)+len(is.Models) == 0 {
				_, err := fmt.Fprintln(cmd.OutOrStdout(), "every workstation may receive it, when an engineer orders so; it is in no boot menu")
				return err
			}
			printFields(cmd.OutOrStdout(), []field{{"groups", strings.Join(is.Groups, ", ")}, {"hardware addresses", strings.Join(is.Addresses, ", ")}, {"models", strings.Join(is.Models, ", ")}})
			return nil
		},
	}
	flags := cmd.Flags()
	flags.StringSliceVar(&who.Groups, "group", nil, "groups that may receive it")
	flags.StringSliceVar(&who.Addresses, "address", nil, "hardware addresses that may receive it")
	flags.StringSliceVar(&who.Models, "model", nil, "models that may receive it")
	flags.BoolVar(&everybody, "everybody", false, "let every workstation receive it again")
	return cmd
}

func orEmpty(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}
