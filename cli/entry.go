package cli

import (
	"archive/tar"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

func (a *app) entryCommand() *cobra.Command {
	return noun("entry", "Keep boot entries: installers, memory tests and whatever else a workstation should be able to boot",
		a.entryAdd(), a.entryList(), a.entryShow(), a.entryEdit(), a.entryPreview(), a.entryNext(), a.entryAlways(), a.entryNone(), a.entryHistory(),
		a.silent(&cobra.Command{
			Use: "hide ENTRY", Short: "Take a boot entry out of all menus; edit --hidden=false puts it back", Args: cobra.ExactArgs(1), Example: "  jugate entry hide memory-test",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return changeEntry(ctx, c, args[0], func(set *api.BootEntrySettings) { set.Hidden = true })
		}),
		a.silent(&cobra.Command{
			Use: "pin ENTRY VERSION", Short: "Have workstations get one version of a boot entry, whatever is newer; 0 has them get the newest", Args: cobra.ExactArgs(2), Example: "  jugate entry pin debian-installer 1",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			n, err := strconv.Atoi(args[1])
			if err != nil {
				return fmt.Errorf("%q is not the number of a version", args[1])
			}
			return changeEntry(ctx, c, args[0], func(set *api.BootEntrySettings) { set.Pinned = n })
		}),
		a.silent(&cobra.Command{
			Use: "remove ENTRY[@VERSION]", Short: "Remove a boot entry, or one of its versions", Args: cobra.ExactArgs(1), Example: "  jugate entry remove debian-installer@1",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			name, version, cut := strings.Cut(args[0], "@")
			n, err := strconv.Atoi(version)
			if cut && (err != nil || n < 1) {
				return fmt.Errorf("%q is not the number of a version", version)
			}
			return c.RemoveBootEntry(ctx, name, n)
		}))
}

// changeEntry changes something of what is said of a boot entry.
func changeEntry(ctx context.Context, c *apiclient.Client, name string, change func(*api.BootEntrySettings)) error {
	e, err := c.BootEntry(ctx, name)
	if err != nil {
		return err
	}
	change(&e.BootEntrySettings)
	_, err = c.SetBootEntry(ctx, name, e.BootEntrySettings)
	return err
}

func (a *app) entryAdd() *cobra.Command {
	var from []string
	var only string
	cmd := &cobra.Command{
		Use: "add ENTRY --from FILE…", Short: "Take what workstations can boot, as the next version of a boot entry", Args: cobra.ExactArgs(1),
		Long:    "Take what workstations can boot, as the next version of a boot entry.\n\nIt may be a Debian package, an ISO image, another archive, a folder, a kernel and its\ninitrds (separated by commas), or a program of UEFI or a BIOS. What it is, is found by\nits content. It is in no menu before edit --release puts it there.",
		Example: "  jugate entry add debian-installer --from debian-installer-12-netboot-amd64.deb\n  jugate entry add rescue --from vmlinuz,initrd.img",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			name, content, err := openGiven(from)
			if err != nil {
				return err
			}
			defer content.Close()
			m := newMeter(cmd.ErrOrStderr(), "adding "+name)
			e, err := c.AddBootEntry(cmd.Context(), args[0], name, only, content)
			m.end()
			if err != nil {
				return err
			}
			return a.printEntry(cmd, e)
		},
	}
	cmd.Flags().StringSliceVar(&from, "from", nil, "file or folder, or several files")
	cmd.Flags().StringVar(&only, "only", "", "folder in it that is looked into, where there is more than one thing to boot")
	cmd.MarkFlagRequired("from")
	return cmd
}

// openGiven opens a file; a folder, or several files, as an archive. The name says what it was.
func openGiven(paths []string) (name string, content io.ReadCloser, err error) {
	if len(paths) == 1 {
		content, err := openOrPack(paths[0])
		return filepath.Base(paths[0]), content, err
	}
	var names []string
	for _, p := range paths {
		if info, err := os.Stat(p); err != nil {
			return "", nil, err
		} else if info.IsDir() {
			return "", nil, usageError{fmt.Errorf("%s is a folder; name it alone", p)}
		}
		names = append(names, filepath.Base(p))
	}
	return strings.Join(names, " and "), tarOf(func(t *tar.Writer) error {
		for i, p := range paths {
			if err := addFile(t, p, given(i, names[i])); err != nil {
				return err
			}
		}
		return nil
	}), nil
}

// given is what a file of several is called in the archive: those behind the first are initial root file systems, whatever their names.
func given(i int, name string) string {
	if i > 0 && !strings.HasPrefix(strings.ToLower(name), "init") {
		return fmt.Sprintf("initrd-%d-%s", i, name)
	}
	return name
}

// shownVersion is the version of a boot entry that workstations get; nil if it has none.
func shownVersion(e api.BootEntry) *api.BootEntryVersion {
	for i := range e.Versions {
		if e.Versions[i].Version == e.Shown {
			return &e.Versions[i]
		}
	}
	return nil
}

// waysOf says in a line how a version is started.
func waysOf(v *api.BootEntryVersion) string {
	if v == nil {
		return "nothing"
	}
	var all []string
	for _, s := range v.Starts {
		all = append(all, s.Way+" "+s.Arch)
	}
	return strings.Join(all, ", ")
}

// whoSees says in whose menus a boot entry is.
func whoSees(e api.BootEntry) string {
	if e.Hidden {
		return "hidden"
	}
	if len(e.Released) == 0 {
		return "those who may deliver, after signing in"
	}
	return strings.Join(e.Released, ", ")
}

func whatOf(e api.BootEntry) string {
	if v := shownVersion(e); v != nil {
		return v.What
	}
	return ""
}

func (a *app) entryList() *cobra.Command {
	return list(a, lister[api.BootEntry]{
		short: "List boot entries", example: "  jugate entry list", what: "boot entries", none: "no boot entry yet; jugate entry add takes one", fetch: (*apiclient.Client).BootEntries, sort: []string{"boot_entry", "saved"},
		columns: []column[api.BootEntry]{
			{title: "boot entry", value: func(e api.BootEntry) string { return e.Name }},
			{title: "version", value: func(e api.BootEntry) string { return strconv.Itoa(e.Shown) }, right: true},
			{title: "what", value: whatOf},
			{title: "started as", value: func(e api.BootEntry) string { return waysOf(shownVersion(e)) }},
			{title: "for", value: func(e api.BootEntry) string {
				return pick(len(e.To) == 0 && e.Where == "", "all", strings.Join(append(append([]string{}, e.To...), e.Where), " "))
			}},
			{title: "who sees it", value: whoSees},
			{title: "note", value: func(e api.BootEntry) string { return e.Note }},
		},
	})
}

func (a *app) entryShow() *cobra.Command {
	return &cobra.Command{
		Use: "show ENTRY", Short: "Show a boot entry with its versions", Args: cobra.ExactArgs(1), Example: "  jugate entry show debian-installer",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			e, err := c.BootEntry(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printEntry(cmd, e)
		},
	}
}

func (a *app) printEntry(cmd *cobra.Command, e api.BootEntry) error {
	if a.output != "table" {
		return show(cmd, a, e)
	}
	fields := []field{{"boot entry", e.Name}, {"title", e.Title}, {"what", whatOf(e)}, {"who sees it", whoSees(e)}, {"for", strings.Join(e.To, ", ")}, {"where", e.Where},
		{"destroys the disk", yesNo(e.Destroys)}, {"kernel's words", e.Words}, {"answer file", e.Reads}, {"note", e.Note}, {"saved", when(e.Saved) + " by " + e.SavedBy}}
	for _, p := range e.Parameters {
		fields = append(fields, field{"parameter " + p.Name, p.Question() + pick(p.Default == "", "", " ["+p.Default+"]")})
	}
	printFields(cmd.OutOrStdout(), fields)
	for _, v := range e.Versions {
		fmt.Fprintf(cmd.OutOrStdout(), "\nversion %d%s: %s, from %s, %s, added %s by %s\n", v.Version, pick(v.Version == e.Shown, " (shown)", ""), v.What, v.Origin, size(v.Bytes), when(v.Added), v.AddedBy)
		for _, s := range v.Starts {
			signed := ""
			if s.Way == "kernel" || s.Way == "UEFI program" {
				signed = pick(s.Signer == "", ", not signed", ", signed by "+s.Signer)
			}
			fmt.Fprintf(cmd.OutOrStdout(), "  %s, %s%s, takes %s of memory at least\n", s.Way, s.Arch, signed, humanize.IBytes(uint64(s.Memory)))
			for _, f := range s.Files {
				fmt.Fprintf(cmd.OutOrStdout(), "    %s  %s  %s\n", f.Digest[:12], size(f.Bytes), f.Path)
			}
		}
		for _, r := range v.Remarks {
			fmt.Fprintf(cmd.OutOrStdout(), "  %s\n", r)
		}
	}
	return nil
}

func (a *app) entryEdit() *cobra.Command {
	var set api.BootEntrySettings
	var answerFile string
	var parameters []string
	cmd := &cobra.Command{
		Use: "edit ENTRY", Short: "Say for whom a boot entry is, who sees it, and what it is told", Args: cobra.ExactArgs(1),
		Long:    "Say for whom a boot entry is, who sees it, and what it is told. What no flag is given\nfor stays as it is.\n\nThe kernel's words and the answer file are templates over a workstation's answers, as in\nhostname={{.computer_name}}; docs/boot-entries.md has all that they can name.",
		Example: "  jugate entry edit memory-test --release everybody --to herbarium --title 'Test the memory'\n  jugate entry edit debian-installer --answer-file own.cfg --parameter 'suite=Which release?=trixie' --erases",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			e, err := c.BootEntry(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			given := cmd.Flags().Changed
			is := &e.BootEntrySettings
			for flag, take := range map[string]func(){
				"title": func() { is.Title = set.Title }, "note": func() { is.Note = set.Note }, "position": func() { is.Position = set.Position }, "hidden": func() { is.Hidden = set.Hidden },
				"to": func() { is.To = set.To }, "where": func() { is.Where = set.Where }, "release": func() { is.Released = set.Released },
				"words": func() { is.Words = set.Words }, "reads": func() { is.Reads = set.Reads }, "erases": func() { is.Erases = set.Erases },
			} {
				if given(flag) {
					take()
				}
			}
			if given("answer-file") {
				is.AnswerFile = ""
				if answerFile != "" {
					text, err := os.ReadFile(answerFile)
					if err != nil {
						return err
					}
					is.AnswerFile = string(text)
				}
			}
			if given("parameter") {
				is.Parameters = nil
				for _, text := range parameters {
					p := strings.SplitN(text, "=", 3)
					if len(p) < 2 {
						return fmt.Errorf("%q is not NAME=QUESTION, or NAME=QUESTION=DEFAULT", text)
					}
					is.Parameters = append(is.Parameters, api.BootParameter{Name: p[0], Ask: p[1], Default: strings.Join(p[2:], "")})
				}
			}
			if e, err = c.SetBootEntry(cmd.Context(), args[0], e.BootEntrySettings); err != nil {
				return err
			}
			return a.printEntry(cmd, e)
		},
	}
	f := cmd.Flags()
	f.StringVar(&set.Title, "title", "", "what menus call it")
	f.StringVar(&set.Note, "note", "", "what people should know of it")
	f.IntVar(&set.Position, "position", 0, "its place in menus; smaller ones are first")
	f.BoolVar(&set.Hidden, "hidden", false, "it is in no menu")
	f.StringSliceVar(&set.To, "to", nil, "groups and workstations that it is for")
	whereFlag(cmd, &set.Where, "it is for those that fit a condition")
	f.StringSliceVar(&set.Released, "release", nil, "roles whose people may start it at a workstation; everybody has it in boot menus without signing in")
	f.StringVar(&set.Words, "words", "", "template of the kernel's command line")
	f.StringVar(&set.Reads, "reads", "", "form of the answer file: none, preseed, kickstart or text")
	f.StringVar(&answerFile, "answer-file", "", "file with the template of the answer file; an empty name takes the ready-made one")
	f.StringArrayVar(&parameters, "parameter", nil, "what is said when it is started: NAME=QUESTION, or NAME=QUESTION=DEFAULT")
	f.BoolVar(&set.Erases, "erases", false, "it destroys what is on the disk without asking")
	cmd.RegisterFlagCompletionFunc("to", a.complete(targetNames))
	cmd.RegisterFlagCompletionFunc("release", a.complete(roleNames))
	cmd.RegisterFlagCompletionFunc("reads", cobra.FixedCompletions([]cobra.Completion{"none", "preseed", "kickstart", "text"}, cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

func (a *app) entryPreview() *cobra.Command {
	var of api.BootPreviewOf
	cmd := &cobra.Command{
		Use: "preview ENTRY --for WORKSTATION", Short: "Show what a workstation would be given with a boot entry", Args: cobra.ExactArgs(1),
		Example: "  jugate entry preview debian-installer --for herb-01 --set mirror=mirror.fennholt.example",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := c.PreviewBootEntry(cmd.Context(), args[0], of)
			if err != nil {
				return err
			}
			if a.output != "table" {
				return show(cmd, a, p)
			}
			out := cmd.OutOrStdout()
			printFields(out, []field{{"workstation", p.Workstation}, {"boot entry", fmt.Sprintf("%s@%d, started as a %s", p.Entry, p.Version, p.Way)}, {"kernel's words", p.Words}})
			if p.AnswerFile != "" {
				fmt.Fprintf(out, "\n%s:\n%s", p.FileName, p.AnswerFile)
			}
			for _, r := range p.Remarks {
				fmt.Fprintf(cmd.ErrOrStderr(), "remark: %s\n", r)
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&of.Workstation, "for", "", "workstation")
	cmd.Flags().StringToStringVar(&of.Parameters, "set", nil, "what its parameters are")
	cmd.MarkFlagRequired("for")
	cmd.RegisterFlagCompletionFunc("for", a.complete(workstationNames))
	return cmd
}

func (a *app) entryNext() *cobra.Command {
	return a.entryChoice("once", cobra.Command{
		Use: "next WORKSTATION|GROUP… ENTRY", Short: "Have workstations boot a boot entry once, at their next start",
		Example: "  jugate entry next herb-01 memory-test\n  jugate entry next desk-gold debian-installer --set mirror=mirror.fennholt.example",
	})
}

func (a *app) entryAlways() *cobra.Command {
	return a.entryChoice("always", cobra.Command{
		Use: "always WORKSTATION|GROUP… ENTRY", Short: "Have workstations boot a boot entry at every start; of a group it is the default",
		Long:    "Have workstations boot a boot entry at every start; of a group it is the default of all\nthat are in it, also of those that come later. What was asked of a workstation (errands,\nentry next) goes first. One that destroys what is on the disk is refused.",
		Example: "  jugate entry always visitor-kiosks kiosk-system",
	})
}

// entryChoice is a command that has workstations boot the boot entry that it names last.
func (a *app) entryChoice(when string, cmd cobra.Command) *cobra.Command {
	in := api.BootChoice{When: when}
	var yes bool
	cmd.Args = cobra.MinimumNArgs(1)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		in.To, in.Entry = args[:len(args)-1], args[len(args)-1]
		return a.chooseEntry(cmd, in, yes)
	}
	whereFlag(&cmd, &in.Where, "of those, or of the whole roster, whoever fits a condition")
	cmd.Flags().StringToStringVar(&in.Parameters, "set", nil, "what its parameters are")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask, even where the disk is destroyed")
	return &cmd
}

func (a *app) entryNone() *cobra.Command {
	in := api.BootChoice{When: "never"}
	cmd := &cobra.Command{
		Use: "none WORKSTATION|GROUP…", Short: "Have workstations boot as usual again", Example: "  jugate entry none herb-01",
		RunE: func(cmd *cobra.Command, args []string) error {
			in.To = args
			return a.chooseEntry(cmd, in, true)
		},
	}
	cmd.Args = namedOr(cmd, 0)
	whereFlag(cmd, &in.Where, "of those, or of the whole roster, whoever fits a condition")
	return cmd
}

// chooseEntry says what would be lost, asks, and has workstations boot a boot entry.
func (a *app) chooseEntry(cmd *cobra.Command, in api.BootChoice, yes bool) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	if in.Entry != "" && !yes {
		e, err := c.BootEntry(cmd.Context(), in.Entry)
		if err != nil {
			return err
		}
		if e.Destroys {
			fmt.Fprintf(cmd.ErrOrStderr(), "%s (%s) destroys all that is on the disk of %s.\n", e.Name, whatOf(e), strings.Join(append(append([]string{}, in.To...), in.Where), " "))
			if err := confirmOr(cmd, "--yes", "all data on those disks would be lost", "All data on those disks is lost. Boot it?"); err != nil {
				return err
			}
		}
	}
	made, err := c.ChooseBootEntry(cmd.Context(), in)
	if err != nil {
		return err
	}
	if a.output != "table" {
		return show(cmd, a, made)
	}
	out := cmd.OutOrStdout()
	how := map[string]string{"once": "boots %s at its next start", "always": "boots %s at every start", "never": "boots as usual"}[in.When]
	if in.Entry != "" {
		how = fmt.Sprintf(how, in.Entry)
	}
	for _, w := range made.Workstations {
		fmt.Fprintf(out, "%s %s\n", w, how)
	}
	for _, g := range made.Groups {
		fmt.Fprintf(out, "whoever is in %s %s\n", g, how)
	}
	for _, l := range made.LeftOut {
		fmt.Fprintf(cmd.ErrOrStderr(), "left out: %s: %s\n", l.Workstation, l.Reason)
	}
	if len(made.LeftOut) > 0 {
		return partlyDone{fmt.Errorf("%d of %d cannot start it", len(made.LeftOut), len(made.LeftOut)+len(made.Workstations))}
	}
	return nil
}

func (a *app) entryHistory() *cobra.Command {
	cmd := list(a, lister[api.BootStart]{
		short: "List starts of boot entries, the newest first", example: "  jugate entry history --workstation herb-01", what: "starts", none: "no boot entry was started yet", fetch: (*apiclient.Client).BootStarts, sort: []string{"made"},
		columns: []column[api.BootStart]{
			{title: "start", value: func(s api.BootStart) string { return strconv.FormatInt(s.ID, 10) }, right: true},
			{title: "workstation", value: func(s api.BootStart) string { return s.Workstation }},
			{title: "boot entry", value: func(s api.BootStart) string { return fmt.Sprintf("%s@%d", s.Entry, s.Version) }},
			{title: "started as", value: func(s api.BootStart) string { return s.Way }},
			{title: "script made", value: func(s api.BootStart) string { return when(s.Made) }},
			{title: "loaded", value: func(s api.BootStart) string { return whenPtr(s.Loaded) }},
			{title: "answers fetched", value: func(s api.BootStart) string { return whenPtr(s.Fetched) }},
			{title: "ended", value: func(s api.BootStart) string { return strings.TrimSpace(whenPtr(s.Ended) + " " + s.How) }},
		},
		filters: []filter{
			{name: "workstation", help: "just those of this one", complete: a.complete(workstationNames)},
			{name: "entry", help: "just those of this boot entry", complete: a.complete(entryNames), param: "boot_entry"},
		},
	})
	cmd.Use = "history"
	return cmd
}
