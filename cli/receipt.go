package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/delivery"
)

func (a *app) receiptCommand() *cobra.Command {
	return noun("receipt", "See which image each workstation got", a.receiptList(), a.receiptShow(), a.receiptCheck(), a.receiptProve(), a.receiptVerify(), a.receiptHead(), a.receiptExport(), a.receiptRestored())
}

func (a *app) receiptList() *cobra.Command {
	return list(a, lister[api.Receipt]{
		short: "List receipts, the newest first", example: "  jugate receipt list --workstation herb-03\n  jugate receipt list --delivery 7 -o csv",
		what: "receipts", none: "no receipts yet; each delivery writes one for each of its workstations",
		fetch: (*apiclient.Client).Receipts, sort: []string{"ended", "workstation", "image", "outcome"},
		filters: []filter{
			{name: "workstation", help: "only receipts of a workstation", complete: a.complete(workstationNames)}, {name: "image", help: "only receipts of an image", complete: a.complete(imageNames)},
			{name: "outcome", help: "only receipts with an outcome", values: texts(delivery.Outcomes)}, {name: "delivery", help: "only receipts of a delivery, by its number", complete: a.complete(deliveryNumbers)},
		},
		columns: []column[api.Receipt]{
			{title: "receipt", value: func(r api.Receipt) string { return fmt.Sprint(r.ID) }, right: true},
			{title: "ended", value: func(r api.Receipt) string { return when(r.Ended) }},
			{title: "workstation", value: func(r api.Receipt) string { return r.Workstation }},
			{title: "hardware address", value: func(r api.Receipt) string { return r.Address }},
			{title: "job", value: func(r api.Receipt) string { return r.Job }},
			{title: "image", value: receiptOf},
			{title: "outcome", value: func(r api.Receipt) string { return string(r.Outcome) }},
			{title: "verified", value: func(r api.Receipt) string { return yesNo(r.Verified) }},
			{title: "multicast", value: func(r api.Receipt) string { return size(r.Multicast) }, right: true},
			{title: "unicast", value: func(r api.Receipt) string { return size(r.Unicast) }, right: true},
			{title: "seconds", value: func(r api.Receipt) string { return fmt.Sprintf("%.1f", r.Seconds) }, right: true},
			{title: "arrival", value: func(r api.Receipt) string { return arrival(r) }},
			{title: "drivers", value: func(r api.Receipt) string { return strings.Join(r.Drivers, ", ") }},
			{title: "reason", value: remark},
		},
	})
}

func (a *app) receiptShow() *cobra.Command {
	return &cobra.Command{
		Use: "show RECEIPT", Short: "Show all that a receipt says", Args: cobra.ExactArgs(1),
		Example: "  jugate receipt show 12",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := numberOf("a receipt", args[0])
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			r, err := c.Receipt(cmd.Context(), id)
			if err != nil {
				return err
			}
			return show(cmd, a, r,
				field{"receipt", fmt.Sprint(r.ID)}, field{"workstation", r.Workstation}, field{"hardware address", r.Address},
				field{"machine", strings.TrimSpace(r.Maker + " " + r.Model)}, field{"serial number", r.Serial}, field{"job", r.Job}, field{"image", receiptOf(r)},
				field{"digest", r.Digest}, field{"outcome", string(r.Outcome)}, field{"verified", verifiedWords(r)}, field{"reason", remark(r)},
				field{"wiped disk", wipedDisk(r)}, field{"technique", wipedBy(r)},
				field{"drivers", strings.Join(r.Drivers, ", ")}, field{"started", whenPtr(r.Started)}, field{"ended", when(r.Ended)},
				field{"received", pick(r.Wipe != nil, "", fmt.Sprintf("%s by multicast, %s by unicast", size(r.Multicast), size(r.Unicast)))},
				field{"arrival", arrival(r)}, field{"arrived as", arrivedAs(r)},
				field{"delivery", orNothing(int(r.Delivery))}, field{"ordered by", r.OrderedBy})
		},
	}
}

// receiptOf is of what a receipt is: a version or one partition of it, or a wipe.
func receiptOf(r api.Receipt) string {
	if r.Wipe != nil {
		return "wipe"
	}
	return fmt.Sprintf("%s@%d", r.Image, r.Version) + pick(r.Partition == 0, "", fmt.Sprintf(", partition %d", r.Partition))
}

func verifiedWords(r api.Receipt) string {
	switch {
	case !r.Verified:
		return "no"
	case r.Wipe != nil:
		return fmt.Sprintf("yes: %d bytes of %d were read back (%s), and are zeros", r.Wipe.Read, r.Wipe.Size, r.Wipe.Verify)
	}
	return "yes: the whole disk was read back and compared"
}

func wipedDisk(r api.Receipt) string {
	if r.Wipe == nil {
		return ""
	}
	return fmt.Sprintf("%s, serial %s, %d bytes", r.Wipe.Model, r.Wipe.Serial, r.Wipe.Size)
}

func wipedBy(r api.Receipt) string {
	if r.Wipe == nil || r.Wipe.Technique == "" {
		return ""
	}
	return fmt.Sprintf("%s (NIST SP 800-88): %s", r.Wipe.Method, r.Wipe.Technique)
}

// arrival is whether the copy has started and reported.
func arrival(r api.Receipt) string {
	if r.Arrival == nil {
		return ""
	}
	return r.Arrival.State + pick(r.Arrival.Remark == "", "", ": "+r.Arrival.Remark)
}

func arrivedAs(r api.Receipt) string {
	if r.Arrival == nil || r.Arrival.Report == nil {
		return ""
	}
	report := r.Arrival.Report
	return fmt.Sprintf("%s, %s, kernel %s, machine-id %s, %s, %.0f s after it was switched on", report.ComputerName, report.System, report.Kernel, report.MachineID, strings.Join(report.IPs, " "), report.Uptime)
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
	if r.Wipe != nil {
		all = append(all, r.Wipe.Remarks...)
	}
	return strings.Join(all, "; ")
}
