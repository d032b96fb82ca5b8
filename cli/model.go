package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

func (a *app) modelCommand() *cobra.Command {
	return noun("model", "Keep what is known of the models of machines: boot keys, adapters, the firmware that they should have", a.modelList(), a.modelShow(), a.modelSet())
}

func (a *app) modelList() *cobra.Command {
	return list(a, lister[api.Model]{
		short: "List models of machines", example: "  jugate model list", what: "models", none: "no machine was seen yet",
		fetch: uncut((*apiclient.Client).Models),
		columns: []column[api.Model]{
			{title: "model", value: func(m api.Model) string { return m.Model }},
			{title: "machines", right: true, value: func(m api.Model) string { return strconv.Itoa(m.Machines) }},
			{title: "boot key", value: func(m api.Model) string { return m.BootKey }},
			{title: "setup key", value: func(m api.Model) string { return m.SetupKey }},
			{title: "adapter", value: func(m api.Model) string { return m.Adapter }},
			{title: "firmware", value: func(m api.Model) string { return m.Firmware }},
			{title: "not fit", right: true, value: func(m api.Model) string { return strconv.Itoa(m.Unfit) }},
		},
	})
}

func (a *app) modelShow() *cobra.Command {
	return &cobra.Command{
		Use: "show MODEL", Short: "Show what is known of a model, and which of its machines have another firmware than they should", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete(modelNames),
		Example: "  jugate model show 'Alder Works A310'",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			m, err := c.Model(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printModel(cmd, m)
		},
	}
}

func (a *app) printModel(cmd *cobra.Command, m api.Model) error {
	fields := []field{{"model", m.Model}, {"machines", strconv.Itoa(m.Machines)}, {"boot key", m.BootKey}, {"setup key", m.SetupKey}, {"adapter", m.Adapter}, {"firmware", m.Firmware}, {"note", m.Note}}
	for _, name := range slices.Sorted(maps.Keys(m.Settings)) {
		fields = append(fields, field{"setting", name + ": " + m.Settings[name]})
	}
	if m.Unfit > 0 {
		fields = append(fields, field{"not fit", fmt.Sprintf("%d, by their last checks", m.Unfit)})
	}
	for _, v := range m.Versions {
		if v.Version != "" {
			fields = append(fields, field{"seen", fmt.Sprintf("firmware %s: %s", v.Version, count(v.Count, "machine"))})
		}
	}
	for _, d := range m.Different {
		fields = append(fields, field{d.Workstation, strings.Join(d.What, "; ")})
	}
	if m.More > 0 {
		fields = append(fields, field{"and", fmt.Sprintf("%d more", m.More)})
	}
	return show(cmd, a, m, fields...)
}

func (a *app) modelSet() *cobra.Command {
	var in api.NewModel
	var settings []string
	cmd := &cobra.Command{
		Use: "set MODEL", Short: "Say what is known of a model; what is not said stays, and an empty text removes it", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete(modelNames),
		Example: "  jugate model set 'Alder Works A310' --boot-key F12 --setup-key F2 --firmware 1.14.2 --setting 'Secure Boot=Enabled'\n  jugate model set 'Brindle Mini 2' --boot-key F7 --adapter 'USB-C adapter, in the left port'",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			now, err := c.Model(cmd.Context(), args[0])
			if err != nil && !apiclient.IsNotFound(err) {
				return err
			}
			said := func(flag, text, before string) string { return pick(cmd.Flags().Changed(flag), text, before) }
			next := api.NewModel{Model: args[0], BootKey: said("boot-key", in.BootKey, now.BootKey), SetupKey: said("setup-key", in.SetupKey, now.SetupKey), Adapter: said("adapter", in.Adapter, now.Adapter),
				Firmware: said("firmware", in.Firmware, now.Firmware), Note: said("note", in.Note, now.Note), Settings: map[string]string{}}
			maps.Copy(next.Settings, now.Settings)
			for _, text := range settings {
				name, value, is := strings.Cut(text, "=")
				switch {
				case !is || name == "":
					return usageError{fmt.Errorf("--setting: %q is not NAME=VALUE", text)}
				case value == "":
					delete(next.Settings, name)
				default:
					next.Settings[name] = value
				}
			}
			m, err := c.SetModel(cmd.Context(), next)
			if err != nil {
				return err
			}
			return a.printModel(cmd, m)
		},
	}
	cmd.Flags().StringVar(&in.BootKey, "boot-key", "", "what is pressed to have it boot over the network")
	cmd.Flags().StringVar(&in.SetupKey, "setup-key", "", "what is pressed to get into its firmware")
	cmd.Flags().StringVar(&in.Adapter, "adapter", "", "the network adapter that it needs, and where that goes")
	cmd.Flags().StringVar(&in.Firmware, "firmware", "", "the version of the firmware that its machines are to have")
	cmd.Flags().StringArrayVar(&settings, "setting", nil, "a setting of the firmware that they are to have, as NAME=VALUE; can be given several times")
	cmd.Flags().StringVar(&in.Note, "note", "", "what else there is to know")
	return cmd
}

func modelNames(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.Models(ctx)
	return named(page, err, func(m api.Model) string { return m.Model })
}
