package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

func (a *app) quietCommand() *cobra.Command {
	return noun("quiet", "Keep times in which no order runs by itself, such as a week of exams", a.quietAdd(),
		list(a, lister[api.QuietTime]{
			short: "List quiet times", example: "  jugate order quiet list", what: "quiet times", none: "no quiet time was set", fetch: (*apiclient.Client).QuietTimes, sort: []string{"name", "begin"},
			columns: []column[api.QuietTime]{
				{title: "quiet time", value: func(t api.QuietTime) string { return t.Name }},
				{title: "from", value: func(t api.QuietTime) string { return when(t.Begin) }},
				{title: "until", value: func(t api.QuietTime) string { return when(t.Until) }},
				{title: "note", value: func(t api.QuietTime) string { return t.Note }},
			},
		}),
		a.silent(&cobra.Command{
			Use: "remove NAME", Short: "Forget a quiet time", Args: cobra.ExactArgs(1), Example: "  jugate order quiet remove exam-week",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.RemoveQuietTime(ctx, args[0])
		}))
}

func (a *app) quietAdd() *cobra.Command {
	var from, until, zone, note string
	cmd := a.silent(&cobra.Command{
		Use: "add NAME", Short: "Set a time in which no order runs by itself; one of the same name is replaced", Args: cobra.ExactArgs(1),
		Long:    "Set a time in which no order runs by itself: a run whose time comes then is missed, as\nthe history says, and nobody who is behind is brought anything. People can run orders all\nthe same. Until is a day or an instant: the time ends when that begins.",
		Example: "  jugate order quiet add exam-week --from 2027-01-18 --until 2027-01-30 --note 'nobody touches the rooms'\n  jugate order quiet add opening-day --from '2027-03-20 08:00' --until '2027-03-20 20:00' --zone Europe/Vienna",
	}, func(ctx context.Context, c *apiclient.Client, args []string) error {
		in := api.QuietTime{Name: args[0], Note: note}
		location := time.Local
		var err error
		if zone != "" {
			if location, err = time.LoadLocation(zone); err != nil {
				return usageError{fmt.Errorf("%q is not a time zone, such as Europe/Vienna", zone)}
			}
		}
		if in.Begin, err = instant(from, location); err != nil {
			return err
		}
		if in.Until, err = instant(until, location); err != nil {
			return err
		}
		_, err = c.SaveQuietTime(ctx, in)
		return err
	})
	f := cmd.Flags()
	f.StringVar(&from, "from", "", "when it begins")
	f.StringVar(&until, "until", "", "when it ends")
	f.StringVar(&zone, "zone", "", "by the clock of which place, such as Europe/Vienna (default: that of this machine)")
	f.StringVar(&note, "note", "", "what there is to say of it")
	cmd.MarkFlagRequired("from")
	cmd.MarkFlagRequired("until")
	return cmd
}

// instant reads a day, or a day and a time of it.
func instant(text string, location *time.Location) (time.Time, error) {
	for _, layout := range []string{time.DateOnly, "2006-01-02 15:04", time.RFC3339} {
		if at, err := time.ParseInLocation(layout, text, location); err == nil {
			return at, nil
		}
	}
	return time.Time{}, usageError{fmt.Errorf("%q is not a day such as 2027-01-18, nor an instant such as 2027-01-18 18:30", text)}
}
