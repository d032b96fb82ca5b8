package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"jugate/api"
)

func (a *app) driverSetCommand() *cobra.Command {
	return noun("set", "Name choices of driver packages", a.driverSetList(), a.driverSetSave(), a.driverSetTry(), a.driverSetRemove())
}

// parseRule reads "class=network provider=Alder* model=… package=…".
func parseRule(text string) (r api.DriverRule, err error) {
	into := map[string]*string{"class": &r.Class, "provider": &r.Provider, "package": &r.Package, "model": &r.Model}
	for part := range strings.SplitSeq(text, ",") {
		key, value, found := strings.Cut(part, "=")
		field := into[strings.TrimSpace(key)]
		if !found || field == nil || value == "" {
			return r, fmt.Errorf("--rule: %q is not one of class=…, provider=…, package=…, model=…", part)
		}
		*field = value
	}
	return r, nil
}

func ruleText(r api.DriverRule) string {
	var parts []string
	for _, p := range [][2]string{{"class", r.Class}, {"provider", r.Provider}, {"package", r.Package}, {"model", r.Model}} {
		if p[1] != "" {
			parts = append(parts, p[0]+"="+p[1])
		}
	}
	return strings.Join(parts, ",")
}

func (a *app) driverSetSave() *cobra.Command {
	var in api.DriverSet
	var rules []string
	cmd := &cobra.Command{
		Use: "save NAME --for SYSTEM --rule RULE…", Short: "Save a set, in place of one of the same name", Args: cobra.ExactArgs(1),
		Long: "Save a set, in place of one of the same name.\n\nA package belongs to it if it fits one of the rules, in all that the rule says:\n  --rule class=network\n  --rule provider=Alder*,class=storage\n  --rule 'model=Alder Works A520'   what drives the devices of that model\n  --rule package=corvid_raid",
		RunE: func(cmd *cobra.Command, args []string) error {
			in.Name = args[0]
			for _, text := range rules {
				r, err := parseRule(text)
				if err != nil {
					return usageError{err}
				}
				in.Rules = append(in.Rules, r)
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			_, err = c.SaveDriverSet(cmd.Context(), in)
			return err
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&in.System, "for", "", "system that the set is for: windows or linux; for the boot environment, linux")
	flags.StringVar(&in.Arch, "arch", "amd64", "amd64, 386 or arm64")
	flags.StringArrayVar(&rules, "rule", nil, "what belongs to it")
	flags.BoolVar(&in.Fallback, "fallback", false, "use it only for devices that no other set serves")
	flags.BoolVar(&in.OnDemand, "on-demand", false, "add to the boot environment of each workstation what its model needs, when it boots")
	cmd.MarkFlagRequired("for")
	cmd.MarkFlagRequired("rule")
	return cmd
}

func (a *app) driverSetList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the sets", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			page, err := c.DriverSets(cmd.Context())
			if err != nil {
				return err
			}
			return printList(cmd, a, page.Items, []column[api.DriverSet]{
				{title: "set", value: func(s api.DriverSet) string { return s.Name }},
				{title: "for", value: func(s api.DriverSet) string { return s.System + " " + s.Arch }},
				{title: "fallback", value: func(s api.DriverSet) string { return yesNo(s.Fallback) }},
				{title: "on demand", value: func(s api.DriverSet) string { return yesNo(s.OnDemand) }},
				{title: "rules", value: func(s api.DriverSet) string {
					var rules []string
					for _, r := range s.Rules {
						rules = append(rules, ruleText(r))
					}
					return strings.Join(rules, " | ")
				}},
			}, "no driver sets yet; save one with: jugate driver set save NAME")
		},
	}
}

func (a *app) driverSetTry() *cobra.Command {
	var model, kernel string
	cmd := &cobra.Command{
		Use: "try SET", Short: "Show what a set would bring, before it is used", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			choices, err := c.TryDriverSet(cmd.Context(), args[0], model, kernel)
			if err != nil {
				return err
			}
			return printList(cmd, a, choices, []column[api.DriverChoice]{
				{title: "id", value: func(c api.DriverChoice) string { return c.Package }},
				{title: "package", value: func(c api.DriverChoice) string { return c.Label }},
				{title: "modules", value: func(c api.DriverChoice) string { return few(c.Modules) }},
				{title: "device", value: func(c api.DriverChoice) string { return c.Device }},
				{title: "why", value: func(c api.DriverChoice) string { return c.Why }},
			}, "the set brings nothing for that")
		},
	}
	cmd.Flags().StringVar(&model, "model", "", "for the devices of a model; wildcards may be used (default: everything)")
	cmd.Flags().StringVar(&kernel, "kernel", "", "release that modules must be for")
	return cmd
}

func (a *app) driverSetRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove SET", Short: "Forget a set; its packages stay", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			return c.RemoveDriverSet(cmd.Context(), args[0])
		},
	}
}
