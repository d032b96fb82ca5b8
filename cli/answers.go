package cli

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/aymanbagabas/go-udiff"
	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"

	"jugate/api"
	"jugate/core/answers"
)

func (a *app) answersCommand() *cobra.Command {
	return noun("answers", "Say what delivered systems become: names, locales, accounts, network",
		a.answersList(), a.answersSet(), a.answersUnset(), a.answersShow(), a.answersPreview(), a.answersCheck())
}

// placeFlags choose where answers are set: a group or workstation is an argument, the rest are
// flags.
type placeFlags struct {
	service      bool
	model, image string
}

func (p *placeFlags) add(a *app, cmd *cobra.Command) {
	cmd.Flags().BoolVar(&p.service, "service", false, "for all workstations")
	cmd.Flags().StringVar(&p.model, "model", "", "for a model, as maker and model")
	cmd.Flags().StringVar(&p.image, "image", "", "for deliveries of an image")
	cmd.RegisterFlagCompletionFunc("image", a.complete(imageNames))
	cmd.MarkFlagsMutuallyExclusive("service", "model", "image")
}

// take finds the place, and the arguments behind it.
func (p *placeFlags) take(args []string) (of string, rest []string, err error) {
	switch {
	case p.service:
		return "service", args, nil
	case p.model != "":
		return "model:" + p.model, args, nil
	case p.image != "":
		return "image:" + p.image, args, nil
	case len(args) == 0 || strings.Contains(args[0], "="):
		return "", nil, usageError{errors.New("say whose answers: name a group or workstation, or give --service, --model or --image")}
	}
	return args[0], args[1:], nil
}

func (a *app) answersSet() *cobra.Command {
	var place placeFlags
	var from string
	var questions []string
	cmd := &cobra.Command{
		Use: "set [GROUP|WORKSTATION] KEY=VALUE…", Short: "Set answers for a group, a workstation, a model, an image or all", Args: cobra.ArbitraryArgs,
		Long: "The more particular place counts: a workstation before its groups, those before its\nmodel, that before the image, and that before what is set for all. A list is written as\nYAML, or comes from a file with --from. docs/answers.md lists the keys. With --ask a\nperson is asked at the workstation, before anything is written; the value is what counts\nif nothing is typed.",
		Example: "  jugate answers set --service time_zone=Europe/Vienna locale=de_AT keyboard=at\n  jugate answers set herbarium 'commands=[systemctl enable --now scanner]'\n" +
			"  jugate answers set herb-01 --from herb-01.yaml\n  jugate answers set herbarium --ask 'description=Where does it stand?' description=2.14",
		RunE: func(cmd *cobra.Command, args []string) error {
			of, rest, err := place.take(args)
			if err != nil {
				return err
			}
			in := api.NewAnswers{Of: of, Values: map[string]any{}}
			if from != "" {
				text, err := readFile(cmd, from, 1<<20)
				if err != nil {
					return err
				}
				if err := yaml.Unmarshal(text, &in.Values); err != nil {
					return fmt.Errorf("%s is not a mapping of well-formed YAML: %w", from, err)
				}
			}
			for _, arg := range rest {
				key, text, is := strings.Cut(arg, "=")
				if !is {
					return usageError{fmt.Errorf("%q is not KEY=VALUE", arg)}
				}
				value, err := answers.Parse(key, text)
				if err != nil {
					return usageError{err}
				}
				in.Values[key] = json.RawMessage(value)
			}
			if err := askFor(in.Values, questions); err != nil {
				return usageError{err}
			}
			return a.setAnswers(cmd, in)
		},
	}
	place.add(a, cmd)
	cmd.Flags().StringArrayVar(&questions, "ask", nil, "ask for KEY at the workstation, as KEY=QUESTION; can be given again")
	cmd.Flags().StringVar(&from, "from", "", "a YAML file of answers; - for standard input")
	return cmd
}

// askFor makes questions of values, of which those that are given are the defaults.
func askFor(values map[string]any, questions []string) error {
	for _, text := range questions {
		key, ask, is := strings.Cut(text, "=")
		if !is {
			return fmt.Errorf("--ask %q is not KEY=QUESTION", text)
		}
		q := map[string]any{"ask": ask}
		if v, given := values[key].(json.RawMessage); given {
			var text string
			if err := json.Unmarshal(v, &text); err != nil {
				return fmt.Errorf("%s cannot be asked at a workstation: it is not one line of text", key)
			}
			q["default"] = text
		}
		values[key] = q
	}
	return nil
}

func (a *app) answersUnset() *cobra.Command {
	var place placeFlags
	cmd := &cobra.Command{
		Use: "unset [GROUP|WORKSTATION] KEY…", Short: "Unset answers", Args: cobra.ArbitraryArgs,
		Example: "  jugate answers unset herbarium keyboard\n  jugate answers unset --service proxy",
		RunE: func(cmd *cobra.Command, args []string) error {
			of, rest, err := place.take(args)
			if err != nil {
				return err
			}
			in := api.NewAnswers{Of: of, Values: map[string]any{}}
			for _, key := range rest {
				in.Values[key] = nil
			}
			if len(rest) == 0 {
				return usageError{errors.New("say which answers")}
			}
			return a.setAnswers(cmd, in)
		},
	}
	place.add(a, cmd)
	return cmd
}

func (a *app) setAnswers(cmd *cobra.Command, in api.NewAnswers) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	set, err := c.SetAnswers(cmd.Context(), in)
	if err != nil {
		return err
	}
	return a.printAnswers(cmd, set.Items, "nothing is set there any more")
}

func (a *app) printAnswers(cmd *cobra.Command, items []api.Answer, none string) error {
	return printList(cmd, a, items, []column[api.Answer]{
		{title: "of", value: func(v api.Answer) string { return v.Of }},
		{title: "answer", value: func(v api.Answer) string { return v.Key }},
		{title: "value", value: func(v api.Answer) string { return inLine(v.Value) }},
	}, none)
}

// inLine is a value in one line: a text as it is, a question in words, anything else as JSON.
func inLine(v any) string {
	switch v := v.(type) {
	case string:
		return strings.ReplaceAll(v, "\n", "⏎")
	case map[string]any: // a question, with what counts if nothing is typed
		if v["ask"] != nil && v["default"] != nil {
			return fmt.Sprintf("asked: %v (%v)", v["ask"], v["default"])
		}
		if v["ask"] != nil {
			return fmt.Sprintf("asked: %v", v["ask"])
		}
	}
	text, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(text)
}

func (a *app) answersList() *cobra.Command {
	var place placeFlags
	cmd := &cobra.Command{
		Use: "list [GROUP|WORKSTATION]", Short: "List what is set, everywhere or in one place", Args: cobra.MaximumNArgs(1),
		Example: "  jugate answers list\n  jugate answers list herbarium\n  jugate answers list --model 'Alder Works A310'",
		RunE: func(cmd *cobra.Command, args []string) error {
			of := ""
			if len(args) > 0 || place != (placeFlags{}) {
				var err error
				if of, _, err = place.take(args); err != nil {
					return err
				}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			set, err := c.Answers(cmd.Context(), of)
			if err != nil {
				return err
			}
			return a.printAnswers(cmd, set.Items, "nothing is set, so copies are as the golden machine was; jugate answers set does that")
		},
	}
	place.add(a, cmd)
	return cmd
}

func (a *app) answersShow() *cobra.Command {
	var image string
	cmd := &cobra.Command{
		Use: "show WORKSTATION", Short: "Show the answers that count for a workstation, and where each is set", Args: cobra.ExactArgs(1),
		Example: "  jugate answers show herb-01\n  jugate answers show herb-01 --image garden-desk",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			r, err := c.ResolvedAnswers(cmd.Context(), args[0], image)
			if err != nil {
				return err
			}
			if a.output == "json" {
				return printJSON(cmd.OutOrStdout(), r)
			}
			if len(r.Answers) == 0 && len(r.Problems) > 0 {
				return problemsOf(r)
			}
			err = printList(cmd, a, r.Answers, []column[api.ResolvedAnswer]{
				{title: "answer", value: func(v api.ResolvedAnswer) string { return v.Key }},
				{title: "value", value: func(v api.ResolvedAnswer) string { return inLine(v.Value) }},
				{title: "set by", value: func(v api.ResolvedAnswer) string { return v.Set }},
				{title: "overrides", value: func(v api.ResolvedAnswer) string { return strings.Join(v.Hides, ", ") }},
			}, "nothing is set for "+r.Workstation+", so its copy is as the golden machine was")
			return cmp.Or(err, problemsOf(r))
		},
	}
	cmd.Flags().StringVar(&image, "image", "", "of a delivery of this image")
	cmd.RegisterFlagCompletionFunc("image", a.complete(imageNames))
	return cmd
}

func problemsOf(r api.ResolvedAnswers) error {
	if len(r.Problems) == 0 {
		return nil
	}
	return errors.New(r.Workstation + ": " + strings.Join(r.Problems, "; "))
}

func (a *app) answersCheck() *cobra.Command {
	var image, where string
	cmd := &cobra.Command{
		Use: "check [GROUP|WORKSTATION…]", Short: "Tell for which workstations answers contradict themselves or are missing; end with 1 if there are any", Args: cobra.ArbitraryArgs,
		Example: "  jugate answers check herbarium --image garden-desk",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			check, err := c.CheckAnswers(cmd.Context(), args, where, image)
			if err != nil {
				return err
			}
			err = printList(cmd, a, check.InDoubt, []column[api.AnswersProblem]{
				{title: "workstation", value: func(p api.AnswersProblem) string { return p.Workstation }},
				{title: "problem", value: func(p api.AnswersProblem) string { return p.Problem }},
			}, fmt.Sprintf("the answers of %s fit together", count(check.Checked, "workstation")))
			if bad := len(check.InDoubt); err == nil && bad > 0 {
				err = fmt.Errorf("%s cannot be answered", count(bad, "workstation"))
			}
			return err
		},
	}
	cmd.Flags().StringVar(&image, "image", "", "for a delivery of this image")
	whereFlag(cmd, &where, "of those, or of the whole roster, whoever fits a condition")
	cmd.RegisterFlagCompletionFunc("image", a.complete(imageNames))
	return cmd
}

func (a *app) answersPreview() *cobra.Command {
	var image string
	var whole bool
	cmd := &cobra.Command{
		Use: "preview WORKSTATION --image IMAGE[@VERSION]", Short: "Show what the answers of a workstation do to the system of an image", Args: cobra.ExactArgs(1),
		Example: "  jugate answers preview herb-01 --image garden-desk\n  jugate answers preview herb-01 --image garden-desk --text",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := c.PreviewAnswers(cmd.Context(), args[0], image)
			if err != nil {
				return err
			}
			if a.output != "table" {
				return show(cmd, a, p)
			}
			out := cmd.OutOrStdout()
			printFields(out, []field{{"workstation", p.Workstation}, {"image", p.Image}, {"system", p.System}})
			fmt.Fprintln(out)
			printLines(out, listText(p.Changes, []column[api.AnswersChange]{
				{title: "what", value: func(c api.AnswersChange) string { return c.Do }},
				{title: "file", value: func(c api.AnswersChange) string { return c.Path + pick(c.Target == "", "", " -> "+c.Target) }},
				{title: "mode", value: func(c api.AnswersChange) string { return c.Mode }},
				{title: "owner", value: func(c api.AnswersChange) string { return c.Owner }},
				{title: "because of", value: func(c api.AnswersChange) string { return c.Because }},
			}))
			for _, c := range p.Changes {
				if whole && c.Do == "write" && !c.Secret {
					fmt.Fprintf(out, "\n%s", udiff.Unified("golden"+c.Path, "copy"+c.Path, c.Before, c.After))
				}
			}
			for _, r := range p.Runs {
				fmt.Fprintf(out, "run in the system: %s\n", r)
			}
			for _, r := range p.Remarks {
				fmt.Fprintf(out, "remark: %s\n", r)
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&image, "image", "", "the image whose system is looked at")
	cmd.Flags().BoolVar(&whole, "text", false, "show what changes in each file")
	cmd.MarkFlagRequired("image")
	cmd.RegisterFlagCompletionFunc("image", a.complete(imageNames))
	return cmd
}
