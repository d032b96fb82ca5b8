package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

func (a *app) storeCommand() *cobra.Command {
	return noun("store", "Keep the stores that slabs lie in: the data folder, and object stores elsewhere", a.storeList(), a.storeShow(), a.storeAdd(), a.storeUse(), a.storeMove(), a.storeCheck(),
		a.silent(&cobra.Command{
			Use: "remove STORE", Short: "Forget a store that no version is in; what lies there stays", Args: cobra.ExactArgs(1),
			Example: "  jugate store remove big",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.RemoveStore(ctx, args[0])
		}))
}

var storeColumns = []column[api.Store]{
	{title: "store", value: func(s api.Store) string { return s.Name }},
	{title: "new versions", value: func(s api.Store) string { return yes(s.InUse, "go there") }},
	{title: "state", value: func(s api.Store) string { return s.State }},
	{title: "versions", value: func(s api.Store) string { return strconv.Itoa(s.Versions) }, right: true},
	{title: "on their way", value: func(s api.Store) string { return strconv.Itoa(s.Moving) }, right: true},
	{title: "packs", value: func(s api.Store) string { return strconv.Itoa(s.Packs) }, right: true},
	{title: "bytes", value: heldInWords, right: true},
	{title: "place", value: func(s api.Store) string { return s.Place }},
	{title: "trouble", value: func(s api.Store) string { return s.Trouble }},
}

func yes(is bool, words string) string {
	if is {
		return words
	}
	return ""
}

// heldInWords is how much is in a store; of the folder, what it has of others.
func heldInWords(s api.Store) string {
	if s.MayCache > 0 || s.Cached > 0 {
		return fmt.Sprintf("%s of others, of %s", humanize.IBytes(uint64(s.Cached)), humanize.IBytes(uint64(s.MayCache)))
	}
	return humanize.IBytes(uint64(s.Bytes))
}

func (a *app) storeList() *cobra.Command {
	return list(a, lister[api.Store]{
		short: "List where slabs lie", example: "  jugate store list", what: "stores", none: "no store",
		fetch: uncut((*apiclient.Client).Stores), columns: storeColumns,
	})
}

func (a *app) storeShow() *cobra.Command {
	return &cobra.Command{
		Use: "show STORE", Short: "Show a store, and how far the version is that is moved there", Args: cobra.ExactArgs(1),
		Example: "  jugate store show big",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			s, err := c.Store(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printStore(cmd, s)
		},
	}
}

func (a *app) printStore(cmd *cobra.Command, s api.Store) error {
	if a.output != "table" {
		return show(cmd, a, s)
	}
	fields := []field{{"store", s.Name}, {"place", s.Place}, {"new versions", yes(s.InUse, "go there")}, {"state", s.State}, {"trouble", s.Trouble}, {"versions", strconv.Itoa(s.Versions)}}
	if s.Moving > 0 {
		fields = append(fields, field{"on their way", strconv.Itoa(s.Moving)})
	}
	if s.ToMove > 0 {
		fields = append(fields, field{"moved", fmt.Sprintf("%d of %d slabs of one", s.Moved, s.ToMove)})
	}
	if s.Packs > 0 {
		fields = append(fields, field{"packs", strconv.Itoa(s.Packs)}, field{"bytes", fmt.Sprintf("%s, %s of them of no version any more", humanize.IBytes(uint64(s.Bytes)), humanize.IBytes(uint64(s.Unneeded)))})
	}
	if s.MayCache > 0 {
		fields = append(fields, field{"slabs of others", fmt.Sprintf("%s, of %s at most", humanize.IBytes(uint64(s.Cached)), humanize.IBytes(uint64(s.MayCache)))})
	}
	printFields(cmd.OutOrStdout(), fields)
	return nil
}

func (a *app) storeAdd() *cobra.Command {
	var in api.NewStore
	cmd := &cobra.Command{
		Use: "add STORE PLACE", Short: "Enter an object store, or a folder of another machine, after trying all that is asked of one", Args: cobra.ExactArgs(2),
		Long:              "PLACE is https://HOST/BUCKET or https://HOST/BUCKET/PREFIX of a store with an S3 interface, or the whole path of\na folder on the service's machine, such as one that another machine shares. The secret of --key is asked for,\nor read from standard input; it is sealed, and never leaves the service. Nothing goes there yet: see\njugate store use.",
		Example:           "  jugate store add big https://objects.fennholt.example/jugate --key jugate\n  jugate store add shelf /srv/shelf",
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			in.Name, in.Place = args[0], args[1]
			c, err := a.client()
			if err != nil {
				return err
			}
			if in.Key != "" {
				if in.Secret, err = askSecret(cmd, "the secret of the key "+in.Key); err != nil {
					return err
				}
			}
			s, err := c.AddStore(cmd.Context(), in)
			if err != nil {
				return err
			}
			return a.printStore(cmd, s)
		},
	}
	cmd.Flags().StringVar(&in.Key, "key", "", "the id of the access key")
	cmd.Flags().StringVar(&in.Region, "region", "", "what the store calls its region (default us-east-1)")
	return cmd
}

func (a *app) storeUse() *cobra.Command {
	var cache string
	cmd := &cobra.Command{
		Use: "use [STORE]", Short: "Say which store new versions go to, and how much of others the data folder may have", Args: cobra.MaximumNArgs(1),
		Long:    "A new version is captured into the data folder and moved from there in the background. What the data\nfolder has of versions that are elsewhere serves deliveries as fast as ever; when it has more than --cache,\nwhat nobody has used for longest goes. The store folder is that of the data folder.",
		Example: "  jugate store use big --cache 200GiB\n  jugate store use folder",
		RunE: func(cmd *cobra.Command, args []string) error {
			var in api.StoreUse
			if len(args) > 0 {
				in.Store = &args[0]
			}
			if cache != "" {
				n, err := humanize.ParseBytes(cache)
				if err != nil {
					return usageError{fmt.Errorf("--cache: %q is not a size such as 200GiB", cache)}
				}
				bytes := int64(min(n, 1e15))
				in.Cache = &bytes
			}
			if in == (api.StoreUse{}) {
				return usageError{errors.New("say a store, or --cache")}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			s, err := c.UseStore(cmd.Context(), in)
			if err != nil {
				return err
			}
			return a.printStore(cmd, s)
		},
	}
	cmd.Flags().StringVar(&cache, "cache", "", "how much the data folder may have of slabs that are elsewhere, such as 200GiB")
	return cmd
}

func (a *app) storeMove() *cobra.Command {
	var all bool
	cmd := &cobra.Command{
		Use: "move STORE IMAGE[@VERSION]", Short: "Have versions be moved to a store, in the background", Args: cobra.RangeArgs(1, 2),
		Long:    "A version is where it was until all of it is in the other store. A move that is cut off goes on where it\nwas; jugate store show tells how far it is.",
		Example: "  jugate store move big garden-desk@3\n  jugate store move big --all\n  jugate store move folder garden-desk",
		RunE: func(cmd *cobra.Command, args []string) error {
			var in api.StoreMove
			switch {
			case len(args) == 2 && !all:
				in.Version = args[1]
			case len(args) == 1 && all:
			default:
				return usageError{errors.New("say which image or version, or --all")}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			moving, err := c.MoveToStore(cmd.Context(), args[0], in)
			if err != nil {
				return err
			}
			return printList(cmd, a, moving.Versions, []column[string]{{title: "moving", value: func(v string) string { return v }}}, "all of it is there, or on its way, already")
		},
	}
	cmd.Flags().BoolVar(&all, "all", false, "all versions of all images")
	return cmd
}

// errUnsound ends a check that found faults.
var errUnsound = errors.New("the store is not sound")

func (a *app) storeCheck() *cobra.Command {
	var in api.NewStoreCheck
	cmd := &cobra.Command{
		Use: "check STORE", Short: "Try what is asked of a store, and hold the versions that are there against what is in it", Args: cobra.ExactArgs(1),
		Example: "  jugate store check big --read",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			check, err := c.CheckStore(cmd.Context(), args[0], in)
			if err != nil {
				return err
			}
			if a.output != "table" {
				err = show(cmd, a, check)
			} else if check.Sound {
				read := "every slab of its versions is where it should be"
				if in.Read {
					read = fmt.Sprintf("all %s of its versions (%s) were read and have the right digest", count(check.Slabs, "slab"), size(check.Bytes))
				}
				_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s is sound: it does all that is asked of a store, and %s\n", check.Store, read)
			} else {
				err = printList(cmd, a, check.Faults, []column[string]{{title: "what is wrong", value: func(f string) string { return f }}})
			}
			if !check.Sound {
				err = errors.Join(err, errUnsound)
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&in.Read, "read", false, "read every slab of its versions, and check its digest")
	return cmd
}
