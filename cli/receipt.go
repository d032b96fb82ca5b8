package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"jugate/api"
)

func (a *app) receiptCommand() *cobra.Command {
	return noun("receipt", "See which image each workstation got", a.receiptList(), a.receiptCheck())
}

func (a *app) receiptList() *cobra.Command {
	var flags listFlags
	filter := map[string]*string{"workstation": new(string), "image": new(string), "outcome": new(string), "delivery": new(string)}
	cmd := &cobra.Command{
		Use: "list", Short: "List receipts, the newest first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			chosen := map[string]string{}
			for name, value := range filter {
				chosen[name] = *value
			}
			items, err := every(cmd.Context(), flags.list(chosen), c.Receipts)
			if err != nil {
				return err
			}
			return printList(cmd, a, items, []column[api.Receipt]{
				{title: "receipt", value: func(r api.Receipt) string { return fmt.Sprint(r.ID) }, right: true},
				{title: "ended", value: func(r api.Receipt) string { return when(r.Ended) }},
				{title: "workstation", value: func(r api.Receipt) string { return r.Workstation }},
				{title: "hardware address", value: func(r api.Receipt) string { return r.Address }},
				{title: "image", value: func(r api.Receipt) string { return fmt.Sprintf("%s@%d", r.Image, r.Version) }},
				{title: "outcome", value: func(r api.Receipt) string { return string(r.Outcome) }},
				{title: "verified", value: func(r api.Receipt) string { return yesNo(r.Verified) }},
				{title: "multicast", value: func(r api.Receipt) string { return size(r.Multicast) }, right: true},
				{title: "unicast", value: func(r api.Receipt) string { return size(r.Unicast) }, right: true},
				{title: "seconds", value: func(r api.Receipt) string { return fmt.Sprintf("%.1f", r.Seconds) }, right: true},
				{title: "drivers", value: func(r api.Receipt) string { return strings.Join(r.Drivers, ", ") }},
				{title: "reason", value: remark},
			})
		},
	}
	flags.add(cmd)
	cmd.Flags().StringVar(filter["workstation"], "workstation", "", "only those of a workstation")
	cmd.Flags().StringVar(filter["image"], "image", "", "only those of an image")
	cmd.Flags().StringVar(filter["outcome"], "outcome", "", "delivered, failed, stopped or absent")
	cmd.Flags().StringVar(filter["delivery"], "delivery", "", "only those of a delivery")
	cmd.RegisterFlagCompletionFunc("workstation", a.complete(workstationNames))
	cmd.RegisterFlagCompletionFunc("image", a.complete(imageNames))
	return cmd
}

// remark is why it came out so, and what there is to say of the disk.
func remark(r api.Receipt) string {
	var all []string
	if r.Reason != "" {
		all = append(all, r.Reason)
	}
	if r.Unreadable > 0 {
		all = append(all, fmt.Sprintf("%d bytes of the golden disk could not be read", r.Unreadable))
	}
	if r.Remark != "" {
		all = append(all, r.Remark)
	}
	return strings.Join(all, "; ")
}

func (a *app) receiptCheck() *cobra.Command {
	return &cobra.Command{
		Use: "check", Short: "Go through the chain of receipts and tell whether one was changed or removed", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			check, err := c.CheckReceipts(cmd.Context())
			if err != nil {
				return err
			}
			if a.output == "json" {
				err = printJSON(cmd.OutOrStdout(), check)
			} else if check.Sound {
				fmt.Fprintf(cmd.OutOrStdout(), "%d receipts, and the chain is sound\n", check.Receipts)
			}
			if !check.Sound {
				err = errors.New(check.Detail)
			}
			return err
		},
	}
}
