package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"jugate/api"
	"jugate/apiclient"

	"github.com/knadh/koanf/parsers/yaml"
	"github.com/knadh/koanf/providers/file"
	"github.com/knadh/koanf/v2"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// The configuration is a file, /etc/jugate/jugate.yaml or the one that --config names;
// then the environment; then flags. Only settings can come from the first two, which
// are the flags of serve, and how the service is called: what an order does is said
// with the order. Nothing is read from the current folder, which may be anybody's.

// configFile is read if --config names no other.
const configFile = "/etc/jugate/jugate.yaml"

// everywhere are the settings of all commands.
var everywhere = []string{"server", "authority", "token", "token-file", "output"}

// notSettings are flags of serve and takeover that are not.
var notSettings = []string{"help", "config", "version", "from", "key", "region", "wait", "as-of"}

// configured is a setting with where its value comes from.
type configured struct {
	Name   string `json:"name"`
	Value  string `json:"value"`
	Source string `json:"source"` // a flag, a variable, a file, or the default
}

// settingsOf are the flags of a command that the configuration may set.
func settingsOf(cmd *cobra.Command) (flags []*pflag.Flag) {
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		if slices.Contains(everywhere, f.Name) || serves(cmd) && !slices.Contains(notSettings, f.Name) {
			flags = append(flags, f)
		}
	})
	return flags
}

// serveName is the name of the command whose flags are settings.
const serveName = "serve"

// serves tells whether a command runs a service, which takes those settings.
func serves(cmd *cobra.Command) bool { return cmd.Name() == serveName || cmd.Name() == takeoverName }

// variable is the name of a setting in the environment.
func variable(setting string) string {
	return "JUGATE_" + strings.ToUpper(strings.ReplaceAll(setting, "-", "_"))
}

// readConfig reads the file, and refuses what no setting is called.
func readConfig(cmd *cobra.Command) (path string, values *koanf.Koanf, err error) {
	path, _ = cmd.Flags().GetString("config")
	named := path != ""
	if !named {
		path = configFile
	}
	values = koanf.New("\x00") // no setting lies within another
	err = values.Load(file.Provider(path), yaml.Parser())
	if errors.Is(err, fs.ErrNotExist) && !named {
		return path, values, nil
	}
	if err != nil {
		return path, values, fmt.Errorf("read the configuration %s: %w", path, err)
	}
	known := slices.Clone(everywhere)
	if serve, _, err := cmd.Root().Find([]string{serveName}); err == nil {
		serve.InheritedFlags() // merges those of the root
		for _, f := range settingsOf(serve) {
			known = append(known, f.Name)
		}
	}
	for key := range values.Raw() {
		if !slices.Contains(known, key) {
			slices.Sort(known)
			return path, values, fmt.Errorf("%s: %q is not a setting; the settings are %s", path, key, strings.Join(slices.Compact(known), ", "))
		}
	}
	return path, values, nil
}

// configure fills flags that were not given from the environment and the file, and
// returns where each setting comes from.
func configure(cmd *cobra.Command) ([]configured, error) {
	path, values, err := readConfig(cmd)
	if err != nil {
		return nil, err
	}
	var all []configured
	var problems []error
	for _, f := range settingsOf(cmd) {
		source, err := byDefault, error(nil)
		text, inEnvironment := os.LookupEnv(variable(f.Name))
		if values.Exists(f.Name) { // what makes no sense is said even where it does not count
			if err := fits(f, values.Get(f.Name)); err != nil {
				problems = append(problems, fmt.Errorf("%s, from %s: %w", f.Name, path, err))
				continue
			}
		}
		switch {
		case f.Changed:
			source = byFlag
		case inEnvironment:
			source = variable(f.Name)
			err = cmd.Flags().Set(f.Name, text)
		case values.Exists(f.Name):
			source = path
			err = fromFile(cmd.Flags(), f, values.Get(f.Name))
		}
		if err != nil {
			problems = append(problems, fmt.Errorf("%s, from %s: %w", f.Name, source, err))
		}
		all = append(all, configured{f.Name, f.Value.String(), source})
	}
	if cmd.Name() != signOutName && !serves(cmd) {
		problems = append(problems, useContext(cmd, all))
	}
	return all, errors.Join(problems...)
}

// useContext fills in the service that this user speaks to, and its credential, where
// nothing else says so. The credential is for that service alone.
func useContext(cmd *cobra.Command, all []configured) error {
	spoken, path, err := readContext()
	if err != nil || spoken.Server == "" {
		return err
	}
	settings := map[string]*configured{}
	for i := range all {
		settings[all[i].Name] = &all[i]
	}
	fill := func(name, value string) error {
		settings[name].Source, settings[name].Value = path, value
		return cmd.Flags().Set(name, value)
	}
	if settings["server"].Source == byDefault {
		if err := fill("server", spoken.Server); err != nil {
			return err
		}
	}
	if settings["server"].Value == spoken.Server && settings["authority"].Source == byDefault && spoken.AuthorityFile != "" {
		if err := fill("authority", spoken.AuthorityFile); err != nil {
			return err
		}
	}
	if settings["server"].Value != spoken.Server || settings["token"].Source != byDefault || settings["token-file"].Source != byDefault {
		return nil
	}
	token, err := spoken.token()
	if err != nil {
		return nil // its service has gone without a word; whoever is spoken to says what it needs
	}
	return fill("token", token)
}

// byFlag and byDefault are where settings come from that were given with the command, and that nobody has set.
const (
	byFlag    = "flag"
	byDefault = "default"
)

// isGlobal tells whether a setting is one of all commands.
func isGlobal(name string) bool { return slices.Contains(everywhere, name) }

// fits tells whether what YAML says is a value for a flag.
func fits(f *pflag.Flag, value any) error {
	switch value.(type) {
	case nil, map[string]any:
		return errors.New("it takes a value")
	case []any:
		if _, takesMany := f.Value.(pflag.SliceValue); !takesMany {
			return errors.New("it takes one value, and not a list")
		}
	}
	return nil
}

// fromFile sets a flag to what YAML says: a list becomes a list.
func fromFile(flags *pflag.FlagSet, f *pflag.Flag, value any) error {
	list, isList := value.([]any)
	if !isList {
		return flags.Set(f.Name, fmt.Sprint(value))
	}
	var texts []string
	for _, item := range list {
		texts = append(texts, fmt.Sprint(item))
	}
	f.Changed = true
	return f.Value.(pflag.SliceValue).Replace(texts)
}

func (a *app) configCommand() *cobra.Command {
	show := &cobra.Command{
		Use: "show", Short: "Show the settings that are in force, and where each comes from", Args: cobra.NoArgs,
		Example: "  jugate config show\n  jugate config show --config ./room-2.yaml -o json",
	}
	show.RunE = func(cmd *cobra.Command, _ []string) error {
		serve, _, err := cmd.Root().Find([]string{serveName})
		if err != nil {
			return err
		}
		serve.InheritedFlags()
		if name, _ := cmd.Flags().GetString("config"); name != "" {
			if err := serve.Flags().Set("config", name); err != nil {
				return err
			}
		}
		all, err := configure(serve)
		if err != nil {
			return usageError{err}
		}
		for i, c := range all {
			if before := slices.IndexFunc(a.settings, func(b configured) bool { return b.Name == c.Name }); before >= 0 {
				all[i] = a.settings[before] // the flag has the value by now, whoever set it
			}
			if c.Name == "token" && c.Value != "" {
				all[i].Value = "(set)"
			}
		}
		return printList(cmd, a, all, []column[configured]{
			{title: "setting", value: func(c configured) string { return c.Name }},
			{title: "value", value: func(c configured) string { return c.Value }},
			{title: "from", value: func(c configured) string { return c.Source }},
		})
	}
	return noun("config", "See the configuration, and change settings while the service runs", show, a.configList(), a.configSet(), a.configUnset())
}

func (a *app) configList() *cobra.Command {
	return list(a, lister[api.Setting]{
		short: "List the settings that are in force in the service, and which can be set while it runs", example: "  jugate config list", what: "settings", none: "no setting",
		fetch: uncut((*apiclient.Client).Settings),
		columns: []column[api.Setting]{
			{title: "setting", value: func(s api.Setting) string { return s.Name }},
			{title: "value", value: func(s api.Setting) string { return strings.Join(s.Values, "; ") }},
			{title: "from", value: func(s api.Setting) string { return s.From }},
			{title: "live", value: func(s api.Setting) string { return yes(s.Live, "live") }},
			{title: "set by", value: func(s api.Setting) string { return s.By }},
		},
	})
}

func (a *app) configSet() *cobra.Command {
	return &cobra.Command{
		Use: "set SETTING VALUE…", Short: "Set a setting while the service runs", Args: cobra.MinimumNArgs(1), ValidArgsFunction: a.complete(liveSettings),
		Long:    "Set a setting while the service runs. It takes effect at once, counts before flags, environment and file, and does\nso after the service was started again, until jugate config unset. A list takes several values.",
		Example: "  jugate config set unknown welcome\n  jugate config set rate 300Mbit\n  jugate config set netboot eth1=beside eth2=whole",
		RunE: a.showsSetting(func(ctx context.Context, c *apiclient.Client, args []string) (api.Setting, error) {
			return c.SetSetting(ctx, args[0], args[1:])
		}),
	}
}

func (a *app) configUnset() *cobra.Command {
	return &cobra.Command{
		Use: "unset SETTING", Short: "Have a setting be what the service was started with", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete(liveSettings),
		Example: "  jugate config unset unknown",
		RunE: a.showsSetting(func(ctx context.Context, c *apiclient.Client, args []string) (api.Setting, error) {
			return c.UnsetSetting(ctx, args[0])
		}),
	}
}

// showsSetting asks the service for something and shows the setting that it answers with.
func (a *app) showsSetting(do func(ctx context.Context, c *apiclient.Client, args []string) (api.Setting, error)) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		s, err := do(cmd.Context(), c, args)
		if err != nil {
			return err
		}
		return show(cmd, a, s, field{"setting", s.Name}, field{"value", strings.Join(s.Values, "; ")}, field{"from", s.From}, field{"set by", s.By}, field{"instead of", strings.Join(s.Instead, "; ")})
	}
}

// liveSettings are the names of settings that can be set while the service runs.
func liveSettings(ctx context.Context, c *apiclient.Client) (names []string, err error) {
	all, err := c.Settings(ctx)
	for _, s := range all.Items {
		if s.Live {
			names = append(names, s.Name)
		}
	}
	return names, err
}

// configFileOf is the configuration file that a command reads; none if it is not there.
func configFileOf(cmd *cobra.Command) string {
	path, _ := cmd.Flags().GetString("config")
	if path == "" {
		path = configFile
	}
	if _, err := os.Stat(path); err != nil {
		return ""
	}
	return path
}
