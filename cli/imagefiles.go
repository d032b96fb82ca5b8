package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

const partitionHelp = "number of the partition; the largest one by default"

// largest is the number of the largest partition of a version, if none was said.
func largest(ctx context.Context, c *apiclient.Client, version string, said int) (int, error) {
	if said != 0 {
		return said, nil
	}
	v, err := c.Version(ctx, version)
	if err != nil {
		return 0, err
	}
	var best api.Area
	for _, a := range v.Areas {
		if a.Partition != 0 && a.Size > best.Size {
			best = a
		}
	}
	if best.Partition == 0 {
		return 0, errors.New("it has no partition")
	}
	return best.Partition, nil
}

func (a *app) imageFiles() *cobra.Command {
	var partition int
	cmd := &cobra.Command{
		Use: "files IMAGE[@VERSION] [FOLDER]", Short: "List what is in a folder of a version, of ext, FAT and NTFS", Args: cobra.RangeArgs(1, 2),
		Example: "  jugate image files garden-desk\n  jugate image files garden-desk@3 etc --partition 2",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			number, err := largest(cmd.Context(), c, args[0], partition)
			if err != nil {
				return err
			}
			folder := ""
			if len(args) == 2 {
				folder = args[1]
			}
			page, err := c.Files(cmd.Context(), args[0], number, folder)
			if err != nil {
				return err
			}
			return printList(cmd, a, page.Items, []column[api.ImageFile]{
				{title: "kind", value: func(f api.ImageFile) string { return f.Kind }},
				{title: "size", right: true, value: func(f api.ImageFile) string { return pick(f.Kind == "file", size(f.Size), "") }},
				{title: "path", value: func(f api.ImageFile) string { return f.Path }},
			}, "there is nothing in it")
		},
	}
	cmd.Flags().IntVar(&partition, "partition", 0, partitionHelp)
	return cmd
}

func (a *app) imageFile() *cobra.Command {
	var partition int
	cmd := &cobra.Command{
		Use: "file IMAGE[@VERSION] PATH", Short: "Write a file of a version to standard output", Args: cobra.ExactArgs(2),
		Example: "  jugate image file garden-desk@3 etc/fstab --partition 2",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			number, err := largest(cmd.Context(), c, args[0], partition)
			if err != nil {
				return err
			}
			return c.File(cmd.Context(), args[0], number, args[1], cmd.OutOrStdout())
		},
	}
	cmd.Flags().IntVar(&partition, "partition", 0, partitionHelp)
	return cmd
}

// compareFiles tells which files differ.
func (a *app) compareFiles(cmd *cobra.Command, c *apiclient.Client, earlier, later string, partition int) error {
	number, err := largest(cmd.Context(), c, later, partition)
	if err != nil {
		return err
	}
	found, err := c.CompareFiles(cmd.Context(), earlier, later, number)
	if err != nil {
		return err
	}
	if a.output == "json" {
		return printJSON(cmd.OutOrStdout(), found)
	}
	err = printList(cmd, a, found.Files, []column[api.FileDifference]{
		{title: "change", value: func(f api.FileDifference) string { return f.Change }},
		{title: "before", right: true, value: func(f api.FileDifference) string { return pick(f.Change == "added", "", size(f.Before)) }},
		{title: "after", right: true, value: func(f api.FileDifference) string { return pick(f.Change == "removed", "", size(f.After)) }},
		{title: "path", value: func(f api.FileDifference) string { return f.Path }},
	}, fmt.Sprintf("no file of partition %d differs, as far as they were read", number))
	if more := found.Different - len(found.Files); more > 0 {
		fmt.Fprintf(cmd.ErrOrStderr(), "and %d more\n", more)
	}
	if found.Unread > 0 {
		fmt.Fprintf(cmd.ErrOrStderr(), "%s of one size that are larger than 256 KiB, or cannot be read, were not held against each other\n", count(found.Unread, "file"))
	}
	return err
}
