package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"runtime"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/bundle"
	"jugate/core/capture"
	"jugate/core/durable"
	"jugate/core/image"
	"jugate/core/slabstore"
)

// call is a command that asks the service one thing and prints the answer.
func call[T any](a *app, use, short string, args cobra.PositionalArgs, ask func(cmd *cobra.Command, c *apiclient.Client, args []string) (T, error), show func(cmd *cobra.Command, answer T) error) *cobra.Command {
	return &cobra.Command{
		Use: use, Short: short, Args: args,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			answer, err := ask(cmd, c, args)
			if err != nil {
				return err
			}
			if a.output == "json" {
				return printJSON(cmd.OutOrStdout(), answer)
			}
			return show(cmd, answer)
		},
	}
}

func (a *app) printVersion(cmd *cobra.Command, v api.Version) error {
	return printList(cmd, a, []api.Version{v}, versionColumns)
}

func (a *app) imageNote() *cobra.Command {
	return call(a, "note IMAGE[@VERSION] TEXT", "Replace what is said of a version", cobra.ExactArgs(2),
		func(cmd *cobra.Command, c *apiclient.Client, args []string) (api.Version, error) {
			return c.SetNote(cmd.Context(), args[0], args[1])
		}, a.printVersion)
}

func (a *app) imageRetire() *cobra.Command {
	return a.standing("retire IMAGE@VERSION", "Take a version out of use; its slabs stay until the next prune", (*apiclient.Client).RetireVersion)
}

func (a *app) imageReadmit() *cobra.Command {
	return a.standing("readmit IMAGE@VERSION", "Take a retired version back into use, unless it was pruned", (*apiclient.Client).ReadmitVersion)
}

// standing changes whether a version is in use.
func (a *app) standing(use, short string, change func(c *apiclient.Client, ctx context.Context, ref string) (api.Version, error)) *cobra.Command {
	return call(a, use, short, cobra.ExactArgs(1),
		func(cmd *cobra.Command, c *apiclient.Client, args []string) (api.Version, error) {
			if !strings.Contains(args[0], "@") {
				return api.Version{}, usageError{fmt.Errorf("say which version: %s@NUMBER", args[0])}
			}
			return change(c, cmd.Context(), args[0])
		}, a.printVersion)
}

func (a *app) imageRename() *cobra.Command {
	return call(a, "rename IMAGE NAME", "Give an image another name; receipts keep the one it had", cobra.ExactArgs(2),
		func(cmd *cobra.Command, c *apiclient.Client, args []string) ([]api.Version, error) {
			page, err := c.RenameImage(cmd.Context(), args[0], args[1])
			return page.Items, err
		}, func(cmd *cobra.Command, items []api.Version) error { return printList(cmd, a, items, versionColumns) })
}

func (a *app) imageDiff() *cobra.Command {
	var exitCode, files bool
	var partition int
	cmd := &cobra.Command{
		Use: "diff A[@VERSION] B[@VERSION]", Short: "Tell what differs between two versions", Args: cobra.ExactArgs(2),
		Example: "  jugate image diff garden-desk@2 garden-desk@3\n  jugate image diff garden-desk@2 garden-desk@3 --files --partition 2",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if files {
				return a.compareFiles(cmd, c, args[0], args[1], partition)
			}
			found, err := c.CompareVersions(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return a.judgeComparison(cmd, found, exitCode)
		},
	}
	cmd.Flags().BoolVar(&exitCode, "exit-code", false, exitCodeHelp)
	cmd.Flags().BoolVar(&files, "files", false, "tell which files of a partition differ")
	cmd.Flags().IntVar(&partition, "partition", 0, "with --files: "+partitionHelp)
	return cmd
}

// errDamaged ends a verification that found faults.
var errDamaged = errors.New("the version is damaged")

func (a *app) imageVerify() *cobra.Command {
	show := func(cmd *cobra.Command, v api.Verification) error {
		if !v.Sound {
			err := printList(cmd, a, v.Faults, []column[api.Fault]{
				{title: "slab", value: func(f api.Fault) string { return f.Digest[:12] }},
				{title: "partition", value: func(f api.Fault) string { return areaName(f.Partition) }},
				{title: "at byte", value: func(f api.Fault) string { return fmt.Sprint(f.Start) }, right: true},
				{title: "what", value: func(f api.Fault) string { return f.What }},
			})
			return errors.Join(err, fmt.Errorf("%w: %d of %d slabs; capture it again, or import it from where it is whole", errDamaged, v.Faulty, v.Slabs))
		}
		_, err := fmt.Fprintf(cmd.OutOrStdout(), "%s@%d is sound: all %d slabs (%s) were read and have the right digest\n", v.Image, v.Version, v.Slabs, size(v.Bytes))
		return err
	}
	cmd := call(a, "verify IMAGE[@VERSION]", "Read every slab of a version and check its digest", cobra.ExactArgs(1),
		func(cmd *cobra.Command, c *apiclient.Client, args []string) (api.Verification, error) {
			v, err := c.VerifyVersion(cmd.Context(), args[0])
			if err == nil && a.output == "json" && !v.Sound {
				err = errors.Join(printJSON(cmd.OutOrStdout(), v), errDamaged)
			}
			return v, err
		}, show)
	return cmd
}

func (a *app) imageSettle() *cobra.Command {
	return call(a, "settle IMAGE[@VERSION]", "Have a version stand alone: no slab of it is stored as what differs from another one", cobra.ExactArgs(1),
		func(cmd *cobra.Command, c *apiclient.Client, args []string) (api.Settled, error) {
			return c.SettleVersion(cmd.Context(), args[0])
		},
		func(cmd *cobra.Command, s api.Settled) error {
			_, err := fmt.Fprintf(cmd.OutOrStdout(), "%s@%d stands alone: %s were stored anew, which takes %s more\n", s.Version.Image, s.Version.Version, count(s.Slabs, "slab"), size(s.Bytes))
			return err
		})
}

func (a *app) imagePrune() *cobra.Command {
	var dryRun bool
	cmd := call(a, "prune", "Remove the slabs that no version in use needs", cobra.NoArgs,
		func(cmd *cobra.Command, c *apiclient.Client, _ []string) (api.Pruned, error) {
			return c.Prune(cmd.Context(), dryRun)
		},
		func(cmd *cobra.Command, p api.Pruned) error {
			did := pick(p.DryRun, "would be pruned", "was pruned")
			for _, v := range p.Versions {
				fmt.Fprintf(cmd.OutOrStdout(), "%s %s: its slabs go, its record stays\n", v, did)
			}
			_, err := fmt.Fprintf(cmd.OutOrStdout(), "%s (%s) %s; %d are needed\n", count(p.Slabs, "slab"), size(p.Bytes), pick(p.DryRun, "would be removed", "were removed"), p.Kept)
			if p.LeanedOn > 0 {
				fmt.Fprintf(cmd.OutOrStdout(), "%d of these (%s) only because others lean on them; jugate image settle IMAGE@VERSION has a version stand alone\n", p.LeanedOn, size(p.LeanedBytes))
			}
			return err
		})
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "show what would be removed, and remove nothing")
	return cmd
}

func (a *app) imageRescan() *cobra.Command {
	return call(a, "rescan", "Record the versions whose files are in the store and which the records lack", cobra.NoArgs,
		func(cmd *cobra.Command, c *apiclient.Client, _ []string) (api.Rescanned, error) {
			return c.Rescan(cmd.Context())
		},
		func(cmd *cobra.Command, r api.Rescanned) error {
			fmt.Fprintf(cmd.OutOrStdout(), "%d versions were known\n", r.Known)
			for _, v := range r.Versions {
				fmt.Fprintf(cmd.OutOrStdout(), "%s is known again\n", v)
			}
			for _, b := range r.Broken {
				fmt.Fprintf(cmd.ErrOrStderr(), "broken: %s\n", b)
			}
			if len(r.Broken) > 0 {
				return fmt.Errorf("%d versions are broken", len(r.Broken))
			}
			return nil
		})
}

func (a *app) imageImport() *cobra.Command {
	var in api.NewImport
	var flags captureFlags
	cmd := &cobra.Command{
		Use: "import FILE --as IMAGE", Short: "Bring in a packed image, or the disk file of a virtual machine, as the next version", Args: cobra.ExactArgs(1),
		Long: "Bring in a packed image, or a disk, as the next version of an image. Disks can\nbe raw files, qcow2, VHD and VHDX files, and devices of this machine. Only slabs\nthat the store lacks are sent.",
	}
	sector := sectorFlag(cmd)
	flags.add(cmd)
	cmd.Flags().StringVar(&in.Image, "as", "", "name of the image")
	cmd.Flags().StringVar(&in.Note, "note", "", "what is new in this version")
	cmd.Flags().BoolVar(&in.KeepEqual, "keep-equal", false, "make a version although nothing has changed since the newest one")
	cmd.MarkFlagRequired("as")
	cmd.RegisterFlagCompletionFunc("as", a.complete(imageNames))
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		s, err := openSource(args[0], *sector)
		if err != nil {
			return err
		}
		defer s.Close()
		before, layout, err := layoutBefore(cmd.Context(), c, in.Image)
		if err != nil {
			return err
		}
		if s.packed != nil && layout != "" && s.packed.Manifest.Layout() != layout && flags.despite == "" {
			return fmt.Errorf("it has %s, and %s has %s; import it under another name, or give a reason with --despite", s.packed.Manifest.Layout(), before, layout)
		}
		into, err := c.BeginImport(cmd.Context(), in)
		if err != nil {
			return err
		}
		bar := newMeter(cmd.ErrOrStderr(), "importing")
		defer bar.end()
		var man *image.Manifest
		var slabs *image.Map
		if s.packed != nil {
			man, slabs = s.packed.Manifest, s.packed.Slabs
			err = sendPacked(cmd.Context(), s.packed, into, func(done, total int64) { bar.set("importing", done, total) })
		} else {
			man, slabs, err = importDisk(cmd, s, into, flags, filepath.Base(args[0]), before, layout, func(done, total int64) { bar.set("importing", done, total) })
		}
		if err != nil {
			return err
		}
		text, err := man.Encode()
		if err != nil {
			return err
		}
		v, err := into.Commit(cmd.Context(), slabs.Bytes(), text)
		if err != nil {
			return err
		}
		if v.Unchanged {
			fmt.Fprintf(cmd.ErrOrStderr(), "nothing has changed since %s@%d, so no version was made; --keep-equal makes one all the same\n", v.Image, v.Version)
		}
		if a.output == "json" {
			return printJSON(cmd.OutOrStdout(), v)
		}
		return a.printVersion(cmd, v)
	}
	return cmd
}

// layoutBefore is the newest version of an image, and how its disk is laid out; nothing if
// there is none.
func layoutBefore(ctx context.Context, c *apiclient.Client, name string) (ref, layout string, err error) {
	v, err := c.Version(ctx, name)
	if apiclient.IsNotFound(err) {
		return "", "", nil
	}
	return fmt.Sprintf("%s@%d", v.Image, v.Version), v.Layout, err
}

func importDisk(cmd *cobra.Command, s *source, into capture.Sink, flags captureFlags, name, before, layout string, progress func(done, total int64)) (*image.Manifest, *image.Map, error) {
	survey, err := s.survey(flags.look())
	if err != nil {
		return nil, nil, err
	}
	survey.Follow(before, layout)
	tellFindings(cmd.ErrOrStderr(), survey.Findings)
	if err := survey.Blocking(); err != nil && flags.despite == "" {
		return nil, nil, fmt.Errorf("%w; to go on all the same, give the reason with --despite", err)
	}
	o := flags.options()
	o.Source = image.Source{Workstation: "file " + name}
	o.Progress = func(done, total int64, _ int) { progress(done, total) }
	return capture.Run(cmd.Context(), s.disk, survey, into, o)
}

// askBatch is about how many slabs the service is asked at once.
const askBatch = 256

// sendPacked sends what the service lacks of a packed image.
func sendPacked(ctx context.Context, p *bundle.Reader, into capture.Sink, progress func(done, total int64)) error {
	var batch []slabstore.Digest
	var done int64
	send := func() error {
		missing, err := into.Missing(ctx, batch)
		if err != nil {
			return err
		}
		group, ctx := errgroup.WithContext(ctx)
		group.SetLimit(runtime.GOMAXPROCS(0) + 1)
		for _, d := range missing {
			group.Go(func() error {
				frame, err := p.Frame(d)
				if err != nil {
					return err
				}
				return into.Put(ctx, d, frame)
			})
		}
		batch = batch[:0]
		return group.Wait()
	}
	for i, d := range p.Slabs.Distinct() {
		done += p.Slabs.Slab(i).Length()
		if batch = append(batch, d); len(batch) == askBatch {
			if err := send(); err != nil {
				return err
			}
			progress(done, p.Manifest.UsedBytes)
		}
	}
	if len(batch) == 0 {
		return nil
	}
	return send()
}

func (a *app) imageExport() *cobra.Command {
	var out outFile
	cmd := &cobra.Command{
		Use: "export IMAGE[@VERSION] --into FILE", Short: "Write a version into one file that any Jugate, or an OCI registry, can take", Args: cobra.ExactArgs(1),
		Example: "  jugate image export garden-desk@3 --into garden-desk-3.jugate",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := mayWriteFile(out.path, out.replace); err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := export(cmd, c, args[0], out)
			if err != nil {
				return err
			}
			return a.printPacked(cmd, p)
		},
	}
	out.add(cmd, "into", "the file to write")
	return cmd
}

// exporter fetches slabs into a file. What leans on a slab of the same version stays so.
type exporter struct {
	from  *apiclient.Client
	into  *bundle.Writer
	slabs *image.Map
	bases map[slabstore.Digest]bool // others in the file lean on these
}

func (e exporter) slab(ctx context.Context, d slabstore.Digest) error {
	stored, err := e.from.StoredSlab(ctx, d)
	if err != nil {
		return err
	}
	on, notLeaning := slabstore.BaseOf(stored)
	if notLeaning == nil && e.slabs.Has(on) && !e.into.Leans(on) && !e.bases[d] {
		return e.delta(ctx, d, on, stored)
	}
	if notLeaning == nil {
		if stored, err = e.from.Slab(ctx, d); err != nil {
			return err
		}
	}
	if _, err := slabstore.ExpandChecked(nil, stored, d); err != nil {
		return err
	}
	return e.into.Put(ctx, d, stored)
}

func (e exporter) delta(ctx context.Context, d, on slabstore.Digest, delta []byte) error {
	frame, err := e.from.Slab(ctx, on)
	if err != nil {
		return err
	}
	base, err := slabstore.ExpandChecked(nil, frame, on)
	if err != nil {
		return err
	}
	if _, err := slabstore.ExpandDeltaChecked(nil, delta, base, d); err != nil {
		return err
	}
	e.bases[on] = true
	return e.into.PutDelta(d, delta)
}

func export(cmd *cobra.Command, c *apiclient.Client, ref string, out outFile) (p packed, err error) {
	ctx := cmd.Context()
	v, err := c.Version(ctx, ref)
	if err != nil {
		return p, err
	}
	name := fmt.Sprintf("%s@%d", v.Image, v.Version) // another version may become the newest meanwhile
	man, slabs, err := filesOf(ctx, c, name)
	if err != nil {
		return p, err
	}
	f, err := durable.Create(out.path, 0o644)
	if err != nil {
		return p, err
	}
	defer f.Drop()
	packer := bundle.NewWriter(f)
	bar := newMeter(cmd.ErrOrStderr(), "exporting")
	defer bar.end()
	var done int64
	exporting := exporter{c, packer, slabs, map[slabstore.Digest]bool{}}
	for i, d := range slabs.Distinct() {
		if err := exporting.slab(ctx, d); err != nil {
			return p, fmt.Errorf("slab %d: %w; jugate image verify tells more", i, err)
		}
		done += slabs.Slab(i).Length()
		bar.set("exporting", done, man.UsedBytes)
	}
	return writeOut(f, out, packedOf(man), func() error { return packer.Finish(man, slabs, name) })
}
