package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
	"jugate/bucket"
	"jugate/core/objects"
	"jugate/service"
)

func (a *app) backupCommand() *cobra.Command {
	return noun("backup", "Copy what the service has into a store, while it runs", a.backupMake(), a.backupList(), a.backupCheck(), a.backupSchedule())
}

var backupColumns = []column[api.Backup]{
	{title: "backup", value: func(b api.Backup) string { return b.ID }},
	{title: "taken", value: func(b api.Backup) string { return when(b.Taken) }},
	{title: "files", value: func(b api.Backup) string { return fmt.Sprint(b.Files) }, right: true},
	{title: "bytes", value: func(b api.Backup) string { return size(b.Bytes) }, right: true},
	{title: "versions", value: func(b api.Backup) string { return fmt.Sprint(b.Versions) }, right: true},
	{title: "slabs", value: func(b api.Backup) string {
		if b.Slabs {
			return "there"
		}
		return "listed"
	}},
	{title: "by version", value: func(b api.Backup) string { return b.Of }},
}

func (a *app) backupMake() *cobra.Command {
	var in api.NewBackup
	cmd := &cobra.Command{
		Use: "make --to STORE", Short: "Make a backup of records, keys, configuration and files, with the slabs if wanted", Args: cobra.NoArgs,
		Long:    "Make a backup while the service runs. A store is one that jugate store list shows, other than the data folder;\n- stands for standard output, as a tar (jugate backup make --to - > jugate.tar). What the store has from an earlier backup is not sent again. A backup has\nthe private keys of the service: let nobody read it who may not have them.",
		Example: "  jugate backup make --to big --slabs",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if in.Store == "-" {
				return writeBackup(cmd, c, in.Slabs)
			}
			b, err := c.MakeBackup(cmd.Context(), in)
			if err != nil {
				return err
			}
			if a.output != "table" {
				return show(cmd, a, b)
			}
			fmt.Fprintf(cmd.OutOrStdout(), "backup %s is in %s: %s (%s), %s of them new\n", b.ID, b.Store, count(b.Files, "file"), size(b.Bytes), size(b.Sent))
			if len(b.Listed) > 0 {
				fmt.Fprintf(cmd.ErrOrStderr(), "of %s it has no slabs; --slabs brings them there\n", strings.Join(b.Listed, ", "))
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&in.Store, "to", "", "the store that it goes to, or - for standard output")
	cmd.Flags().BoolVar(&in.Slabs, "slabs", false, "with the slabs of all versions")
	cmd.MarkFlagRequired("to")
	cmd.RegisterFlagCompletionFunc("to", a.complete(storeNames))
	return cmd
}

func writeBackup(cmd *cobra.Command, c *apiclient.Client, slabs bool) error {
	if isTerminal(cmd.OutOrStdout()) {
		return usageError{errors.New("a backup is not text: redirect it to a file, as in jugate backup make --to - > jugate.tar")}
	}
	in, err := c.WriteBackup(cmd.Context(), slabs)
	if err != nil {
		return err
	}
	defer in.Close()
	if _, err = io.Copy(cmd.OutOrStdout(), in); err != nil {
		return fmt.Errorf("the backup is not whole: %w", err)
	}
	return nil
}

func (a *app) backupList() *cobra.Command {
	cmd := call(a, "list STORE", "List the backups in a store", cobra.ExactArgs(1),
		func(cmd *cobra.Command, c *apiclient.Client, args []string) ([]api.Backup, error) {
			page, err := c.Backups(cmd.Context(), args[0])
			return page.Items, err
		}, func(cmd *cobra.Command, all []api.Backup) error {
			return printList(cmd, a, all, backupColumns, "no backup there yet; jugate backup make makes one")
		})
	cmd.Example = "  jugate backup list big"
	return cmd
}

// errBackupUnsound ends a check that found faults.
var errBackupUnsound = errors.New("the backup is not sound: make another one")

func (a *app) backupCheck() *cobra.Command {
	return &cobra.Command{
		Use: "check STORE [BACKUP]", Short: "Read a backup, the newest by default, and see that it is whole", Args: cobra.RangeArgs(1, 2),
		Example: "  jugate backup check big",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			id := ""
			if len(args) > 1 {
				id = args[1]
			}
			check, err := c.CheckBackup(cmd.Context(), args[0], id)
			if err != nil {
				return err
			}
			b := check.Backup
			switch {
			case a.output != "table":
				err = show(cmd, a, check)
			case check.Sound && b.Slabs:
				_, err = fmt.Fprintf(cmd.OutOrStdout(), "backup %s is sound: all %s (%s) were read and have the right digest, and the slabs of %s are there\n", b.ID, count(b.Files, "file"), size(b.Bytes), count(b.Versions, "version"))
			case check.Sound:
				_, err = fmt.Fprintf(cmd.OutOrStdout(), "backup %s is sound: all %s (%s) were read and have the right digest; it has no slabs\n", b.ID, count(b.Files, "file"), size(b.Bytes))
			default:
				err = printList(cmd, a, check.Faults, []column[string]{{title: "what is wrong", value: func(f string) string { return f }}})
			}
			if !check.Sound {
				err = errors.Join(err, errBackupUnsound)
			}
			return err
		},
	}
}

func (a *app) backupSchedule() *cobra.Command {
	var at string
	var keep int
	var slabs, off bool
	cmd := &cobra.Command{
		Use: "schedule [STORE]", Short: "Say when backups are made by themselves, or tell when they are", Args: cobra.MaximumNArgs(1),
		Example: "  jugate backup schedule big --at 02:00 --keep 14 --slabs\n  jugate backup schedule\n  jugate backup schedule --off",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			due, err := c.BackupSchedule(cmd.Context())
			if err != nil {
				return err
			}
			if len(args) > 0 || off || cmd.Flags().Changed("at") || cmd.Flags().Changed("keep") || cmd.Flags().Changed("slabs") {
				s := due.BackupSchedule
				if len(args) > 0 {
					s.Store = args[0]
				}
				if off {
					s.Store = ""
				}
				if cmd.Flags().Changed("at") {
					s.At = at
				}
				if cmd.Flags().Changed("keep") {
					s.Keep = keep
				}
				if cmd.Flags().Changed("slabs") {
					s.Slabs = slabs
				}
				if due, err = c.SetBackupSchedule(cmd.Context(), s); err != nil {
					return err
				}
			}
			return a.printSchedule(cmd, due)
		},
	}
	cmd.Flags().StringVar(&at, "at", "", "time of day, by the clock of the service (default 02:00)")
	cmd.Flags().IntVar(&keep, "keep", 0, "how many stay in the store (default 14)")
	cmd.Flags().BoolVar(&slabs, "slabs", false, "with the slabs of all versions")
	cmd.Flags().BoolVar(&off, "off", false, "make none by themselves")
	return cmd
}

func (a *app) printSchedule(cmd *cobra.Command, s api.BackupsDue) error {
	if a.output != "table" {
		return show(cmd, a, s)
	}
	if s.Store == "" {
		fmt.Fprintln(cmd.OutOrStdout(), "no backups are made by themselves")
		return nil
	}
	with := "without slabs"
	if s.Slabs {
		with = "with slabs"
	}
	fields := []field{{"into", s.Store}, {"at", s.At + " every day"}, {"what", with}, {"kept", count(s.Keep, "backup")}, {"last", maybeWhen(s.Begun)}}
	if s.Trouble != "" {
		fields = append(fields, field{"trouble", s.Trouble})
	}
	printFields(cmd.OutOrStdout(), fields)
	return nil
}

func (a *app) restoreCommand() *cobra.Command {
	var from, region, key, at, data string
	cmd := &cobra.Command{
		Use: "restore --from PLACE --data DIR", Short: "Make a data folder of a backup, and tell what is newer elsewhere", Args: cobra.NoArgs,
		Long:    "Make a data folder of a backup, for a service that does not run. PLACE is what jugate store list shows as the\nplace of the store that the backup is in, or a file that jugate backup make has written. The secret of --key\nis asked for, or read from standard input. The data folder must not be there, or be empty.",
		Example: "  jugate restore --from https://objects.fennholt.example/jugate --key jugate --data /var/lib/jugate\n  jugate restore --from jugate.tar --data /var/lib/jugate",
		RunE: func(cmd *cobra.Command, _ []string) error {
			store, done, err := openBackups(cmd, from, region, key)
			if err != nil {
				return err
			}
			defer done()
			bar := newMeter(cmd.ErrOrStderr(), "restoring")
			r, err := service.Restore(cmd.Context(), store, at, data, time.Now(), func(done, total int) { bar.set("restoring slabs", int64(done), int64(total)) })
			bar.end()
			if err != nil {
				return err
			}
			if a.output != "table" {
				return show(cmd, a, r)
			}
			return printRestored(cmd, r, data)
		},
	}
	cmd.Flags().StringVar(&from, "from", "", "where the backup is: a store's place, or a file")
	cmd.Flags().StringVar(&key, "key", "", "the id of the access key of an object store")
	cmd.Flags().StringVar(&region, "region", "", "what the store calls its region (default us-east-1)")
	cmd.Flags().StringVar(&at, "at", "", "which backup (default: the newest)")
	cmd.Flags().StringVar(&data, "data", "", "the data folder that is made")
	cmd.MarkFlagRequired("from")
	cmd.MarkFlagRequired("data")
	return cmd
}

// openBackups opens what a restore reads from.
func openBackups(cmd *cobra.Command, from, region, key string) (objects.Store, func() error, error) {
	nothing := func() error { return nil }
	if info, err := os.Stat(from); err == nil && info.Mode().IsRegular() {
		f, err := os.Open(from)
		if err != nil {
			return nil, nothing, err
		}
		t, err := objects.OpenTar(f, info.Size())
		return t, f.Close, err
	}
	secret := ""
	if key != "" {
		var err error
		if secret, err = askSecret(cmd, "the secret of the key "+key); err != nil {
			return nil, nothing, err
		}
	}
	store, err := bucket.OpenPlace(from, region, key, secret)
	return store, nothing, err
}

func printRestored(cmd *cobra.Command, r service.Restored, data string) error {
	out := cmd.OutOrStdout()
	fmt.Fprintf(out, "%s is as it was at %s (backup %s): %s, %s\n", data, when(r.Taken), r.Backup, count(r.Files, "file"), count(r.Receipts, "receipt"))
	if r.Slabs > 0 {
		fmt.Fprintf(out, "%s came back (%s)\n", count(r.Slabs, "slab"), humanize.IBytes(uint64(r.Bytes)))
	}
	for _, m := range r.Missing {
		fmt.Fprintf(out, "%s: the backup has them not; bring them from elsewhere, or capture it again\n", m)
	}
	if len(r.Newer) > 0 {
		fmt.Fprintf(out, "newer there: %s; --at takes one of them\n", strings.Join(r.Newer, ", "))
	}
	if len(r.Witnesses) > 0 {
		fmt.Fprintf(out, "these witnesses may have seen later receipts: %s; once the service runs, jugate receipt check asks them, and jugate receipt restored says that it was you\n", strings.Join(r.Witnesses, ", "))
	}
	if len(r.Outposts) > 0 {
		fmt.Fprintf(out, "these outposts may know of later deliveries: %s; what they have not handed in yet comes by itself\n", strings.Join(r.Outposts, ", "))
	}
	_, err := fmt.Fprintf(out, "next: jugate serve --data %s\n", data)
	return err
}
