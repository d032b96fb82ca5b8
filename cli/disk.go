package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"jugate/core/bundle"
	"jugate/core/capture"
	"jugate/core/restore"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/core/disk"
	"jugate/core/durable"
	"jugate/core/image"
	"jugate/core/partition"
	"jugate/core/readiness"
)

// The verbs of disk need no service: they read and write disks and files on the
// machine they run on.
func (a *app) diskCommand() *cobra.Command {
	return noun("disk", "Survey, pack, unpack and compare disks without a service",
		a.diskSurvey(), a.diskPack(), a.diskUnpack(), a.diskCompare())
}

func sectorFlag(cmd *cobra.Command) *int {
	return cmd.Flags().Int("sector-size", 512, "bytes a sector of a disk file; a device knows its own")
}

func (a *app) diskSurvey() *cobra.Command {
	var flags captureFlags
	var exitCode bool
	cmd := &cobra.Command{
		Use: "survey DISK", Short: "Tell what a disk holds and whether it is fit to be a golden image", Args: cobra.ExactArgs(1),
	}
	sector := sectorFlag(cmd)
	flags.addIdentity(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		s, err := openSource(args[0], *sector)
		if err != nil {
			return err
		}
		defer s.Close()
		survey, err := s.survey(flags.look())
		if err != nil {
			return err
		}
		switch a.output {
		case "json":
			err = printJSON(cmd.OutOrStdout(), survey)
		case "csv":
			err = a.printSurvey(cmd, survey)
		default:
			if err = a.printSurvey(cmd, survey); err == nil {
				printFindings(cmd.OutOrStdout(), survey.Findings)
			}
		}
		if err == nil && exitCode {
			err = survey.Blocking()
		}
		return err
	}
	cmd.Flags().BoolVar(&exitCode, "exit-code", false, "end with 1 if a finding forbids a capture")
	return cmd
}

func (a *app) printSurvey(cmd *cobra.Command, s *capture.Survey) error {
	t := s.Table
	areas := api.Areas(t, s.Areas)
	if a.output == "table" {
		id := t.DiskID.String()
		if t.Scheme != partition.GPT {
			id = fmt.Sprintf("%08x", t.Signature)
		}
		fields := []field{
			{"disk", fmt.Sprintf("%s (%d bytes), sectors of %d", size(t.DiskSize()), t.DiskSize(), t.SectorSize)},
			{"table", string(t.Scheme)}, {"disk id", id},
			{"fits onto", fmt.Sprintf("disks of at least %d bytes", (&image.Manifest{Table: t, Areas: s.Areas}).LeastDisk())},
		}
		if t.Scheme == partition.None {
			fields = append(fields[:2], fields[3:]...)
		}
		printFields(cmd.OutOrStdout(), fields)
		fmt.Fprintln(cmd.OutOrStdout())
		printLayout(cmd.OutOrStdout(), t.DiskSize(), areas)
		fmt.Fprintln(cmd.OutOrStdout())
	}
	return printList(cmd, a, areas, areaColumns)
}

// printFindings tells what speaks for and against a disk.
func printFindings(w io.Writer, findings []readiness.Finding) {
	fmt.Fprintln(w)
	if len(findings) == 0 {
		fmt.Fprintln(w, "fit to be a golden image: nothing speaks against it")
		return
	}
	blocking, blind := 0, 0
	for _, f := range findings {
		if f.Severity == readiness.Blocking {
			blocking++
		}
		if f.Code == readiness.NotLookedInto {
			blind++
		}
		fmt.Fprintf(w, "%s (%s): %s: %s\n", f.Severity, f.Code, f.Where, f.What)
		if f.Means != "" {
			fmt.Fprintf(w, "    means: %s\n", f.Means)
		}
		if f.Do != "" {
			fmt.Fprintf(w, "    do:    %s\n", f.Do)
		}
	}
	switch {
	case blocking == 0 && blind > 0:
		fmt.Fprintf(w, "not known to be fit to be a golden image: nobody could look into %d of its volumes\n", blind)
	case blocking == 0:
		fmt.Fprintln(w, "fit to be a golden image")
	case blocking == 1:
		fmt.Fprintln(w, "not fit to be a golden image: 1 finding stands against it")
	default:
		fmt.Fprintf(w, "not fit to be a golden image: %d findings stand against it\n", blocking)
	}
}

// packed is what disk pack and image import tell.
type packed struct {
	File      string             `json:"file,omitempty"`
	FileBytes int64              `json:"file_bytes,omitempty"`
	UsedBytes int64              `json:"used_bytes"`
	Slabs     int                `json:"slabs"`
	ZeroSlabs int                `json:"zero_slabs"`
	LeftOut   int64              `json:"left_out"`
	Bad       []image.Unreadable `json:"unreadable,omitempty"`
}

func packedOf(man *image.Manifest) packed {
	p := packed{UsedBytes: man.UsedBytes, Slabs: man.Slabs, ZeroSlabs: man.ZeroSlabs, Bad: man.Unreadable}
	for _, a := range man.Areas {
		p.LeftOut += a.LeftOut
	}
	return p
}

func (a *app) diskPack() *cobra.Command {
	var out outFile
	var name string
	var flags captureFlags
	cmd := &cobra.Command{
		Use: "pack DISK --into FILE", Short: "Capture a disk into one file that any Jugate, or an OCI registry, can take", Args: cobra.ExactArgs(1),
		Example: "  jugate disk pack gold.disk --into garden-desk.jugate --name garden-desk@1",
	}
	sector := sectorFlag(cmd)
	flags.add(cmd)
	out.add(cmd, "into", "the file to write")
	cmd.Flags().StringVar(&name, "name", "", "name that the file gives the image, such as garden-desk@3")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if err := mayWriteFile(out.path, out.replace, args[0]); err != nil {
			return err
		}
		s, err := openSource(args[0], *sector)
		if err != nil {
			return err
		}
		defer s.Close()
		survey, err := s.survey(flags.look())
		if err != nil {
			return err
		}
		tellFindings(cmd.ErrOrStderr(), survey.Findings)
		if err := survey.Blocking(); err != nil && flags.despite == "" {
			return fmt.Errorf("%w; to go on all the same, give the reason with --despite", err)
		}
		p, err := packInto(cmd, s, survey, out, name, flags.options())
		if err != nil {
			return err
		}
		return a.printPacked(cmd, p)
	}
	return cmd
}

func (a *app) printPacked(cmd *cobra.Command, p packed) error {
	if a.output == "json" {
		return printJSON(cmd.OutOrStdout(), p)
	}
	printFields(cmd.OutOrStdout(), []field{
		{"file", fmt.Sprintf("%s (%s)", p.File, size(p.FileBytes))},
		{"used", fmt.Sprintf("%s in %d slabs, %d of them zeros", size(p.UsedBytes), p.Slabs, p.ZeroSlabs)},
		{"left out", leftOut(p.LeftOut)}, {"unreadable", unreadable(p.Bad)},
	})
	return nil
}

func leftOut(n int64) string {
	if n == 0 {
		return ""
	}
	return size(n) + " of page and hibernation files"
}

func unreadable(bad []image.Unreadable) string {
	if len(bad) == 0 {
		return ""
	}
	var n int64
	for _, b := range bad {
		n += b.Length
	}
	return fmt.Sprintf("%d bytes in %d places, the first at byte %d of partition %d", n, len(bad), bad[0].Start, bad[0].Partition)
}

// tellFindings prints what matters of a survey in a line each.
func tellFindings(w io.Writer, findings []readiness.Finding) {
	for _, f := range findings {
		if f.Severity != readiness.Note {
			fmt.Fprintf(w, "%s: %s\n", f.Severity, f)
		}
	}
}

// packInto captures a disk into a file, which appears when it is whole.
func packInto(cmd *cobra.Command, s *source, survey *capture.Survey, out outFile, name string, o capture.Options) (p packed, err error) {
	f, err := durable.Create(out.path, 0o644)
	if err != nil {
		return p, err
	}
	defer f.Drop()
	packer := bundle.NewWriter(f)
	bar := newMeter(cmd.ErrOrStderr(), "packing")
	defer bar.end()
	o.Progress = func(done, total int64, _ int) { bar.set("packing", done, total) }
	man, slabs, err := capture.Run(cmd.Context(), s.disk, survey, packer, o)
	if err != nil {
		return p, err
	}
	return writeOut(f, out, packedOf(man), func() error { return packer.Finish(man, slabs, name) })
}

// outFile is a file to write.
type outFile struct {
	path    string
	replace bool // one that has its name
}

func (o *outFile) add(cmd *cobra.Command, flag, usage string) {
	cmd.Flags().StringVar(&o.path, flag, "", usage)
	cmd.Flags().BoolVar(&o.replace, "replace", false, "write over a file of that name")
	cmd.MarkFlagRequired(flag)
}

// writeOut ends a file, brings it onto the disk and gives it its name.
func writeOut(f *durable.File, out outFile, p packed, finish func() error) (packed, error) {
	if err := finish(); err != nil {
		return p, err
	}
	info, err := f.Stat()
	if err != nil {
		return p, err
	}
	p.File, p.FileBytes = out.path, info.Size()
	return p, keepFile(f, out.path, out.replace)
}

// unpacked is what disk unpack tells.
type unpacked struct {
	Disk     string           `json:"disk"`
	Plan     *partition.Table `json:"plan"`
	Changes  []string         `json:"changes"`
	Found    int64            `json:"found_bytes"` // left by an earlier try
	Written  bool             `json:"written"`
	Verified bool             `json:"verified"`
}

func (a *app) diskUnpack() *cobra.Command {
	var onto string
	var how api.RestoreOptions
	var planOnly, yes bool
	cmd := &cobra.Command{
		Use: "unpack FILE --onto DISK", Short: "Restore a packed image onto a disk, and check every byte of it", Args: cobra.ExactArgs(1),
		Long: "Restore a packed image onto a disk, and check every byte of it.\n\n" +
			"The plan is shown before anything is written. A disk that holds something is\n" +
			"overwritten after a question, or with --yes. A disk file that is not there is\n" +
			"made as large as the golden disk was.",
	}
	sector := sectorFlag(cmd)
	cmd.Flags().StringVar(&onto, "onto", "", "the disk, or disk file, to write")
	placementFlags(cmd, &how)
	cmd.Flags().BoolVar(&how.Trim, "trim", false, "tell the disk first that nothing on it is needed")
	cmd.Flags().BoolVar(&planOnly, "dry-run", false, "show what would be done, and write nothing")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask: what is on the disk may go")
	cmd.MarkFlagRequired("onto")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		placement, err := restore.ParsePlacement(how.Grow, how.Keep, how.Sizes, how.Partition, how.Onto)
		if err != nil {
			return usageError{err}
		}
		s, err := openSource(args[0], 512)
		if err != nil {
			return err
		}
		defer s.Close()
		if s.packed == nil {
			return fmt.Errorf("%s is not a packed image (jugate disk pack makes one)", args[0])
		}
		target, err := openTarget(onto, *sector, s.packed.Manifest, planOnly)
		if err != nil {
			return err
		}
		defer target.Close()
		if err := placement.Suits(s.packed.Manifest); err != nil {
			return err
		}
		place, options, err := placement.On(target)
		if err != nil {
			return fmt.Errorf("%s: %w", onto, err)
		}
		options.Trim, options.Label = how.Trim, s.packed.Name
		restore, err := restore.New(s.packed.Manifest, s.packed.Slabs, place, place.Size, target.SectorSize(), options)
		if err != nil {
			return fmt.Errorf("%s: %w", onto, err)
		}
		u := unpacked{Disk: onto, Plan: restore.Plan(), Changes: describePlan(s.packed.Manifest.Table, restore.Plan())}
		if a.output != "json" {
			if placement.Part != 0 {
				fmt.Fprintf(cmd.OutOrStdout(), "plan: partition %d of the image goes onto partition %d of the disk, %s; all others stay\n", placement.Part, place.Partition.Number, size(place.Size))
			} else {
				a.printPlan(cmd, s.packed.Manifest, restore, u.Changes, placement)
			}
		}
		if !planOnly {
			if err := mayOverwrite(cmd, onto, target, pick(placement.Part != 0 || placement.Keep != nil, ", except the partitions that the plan keeps", ""), yes); err != nil {
				return err
			}
			if u.Found, err = unpack(cmd.Context(), cmd.ErrOrStderr(), restore, s.packed); err != nil {
				return err
			}
			u.Written, u.Verified = true, true
		}
		if a.output == "json" {
			return printJSON(cmd.OutOrStdout(), u)
		}
		if u.Verified {
			fmt.Fprintf(cmd.OutOrStdout(), "%s is written, and every byte of it was read back and compared\n", onto)
			for _, l := range restore.Longer() {
				if !l.Fits {
					fmt.Fprintln(cmd.OutOrStdout(), l)
				}
			}
		}
		return nil
	}
	return cmd
}

// openTarget opens the disk to write to; a file that is not there is made.
func openTarget(path string, sector int, man *image.Manifest, planOnly bool) (*disk.Disk, error) {
	if _, err := os.Stat(path); missing(err) && !planOnly {
		f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
		if err != nil {
			return nil, err
		}
		if err := errors.Join(f.Truncate(man.Table.DiskSize()), f.Close()); err != nil {
			return nil, err
		}
		sector = man.Table.SectorSize
	}
	return disk.Open(path, disk.Options{Write: !planOnly, SectorSize: sector})
}

func (a *app) printPlan(cmd *cobra.Command, man *image.Manifest, r *restore.Restore, changes []string, placement restore.Placement) {
	w, to := cmd.OutOrStdout(), r.Plan()
	fmt.Fprintf(w, "plan for a disk of %s (%d bytes):\n", size(to.DiskSize()), to.DiskSize())
	printLayout(w, to.DiskSize(), api.Areas(to, man.Areas))
	for _, p := range r.Kept() {
		fmt.Fprintf(w, "  partition %d stays as it is, %s\n", p.Number, size(to.Size(p)))
	}
	for _, number := range r.LeftOut() {
		fmt.Fprintf(w, "  the image's partition %d does not come, as the disk keeps its own\n", number)
	}
	for _, c := range changes {
		fmt.Fprintln(w, "  "+c)
	}
	if g, why := man.Growing(placement.Grow); g > 0 && placement.Layout == nil && to.DiskSize() > man.Table.DiskSize() {
		fmt.Fprintf(w, "  the room of the larger disk goes to partition %d: %s\n", g, why)
	}
	for _, l := range r.Longer() {
		fmt.Fprintf(w, "  %s\n", l)
	}
}

// unpack restores from a packed image.
func unpack(ctx context.Context, stderr io.Writer, restore *restore.Restore, from *bundle.Reader) (found int64, err error) {
	bar := newMeter(stderr, "writing")
	defer bar.end()
	found, err = restore.Begin(ctx, func(done, total int64) { bar.set("looking at what is there", done, total) })
	if err != nil {
		return 0, err
	}
	if found > 0 {
		fmt.Fprintf(stderr, "an earlier try has left %s that is right; going on from there\n", size(found))
	}
	if err := restore.Fill(ctx, from, func(done, total int64) { bar.set("writing", done, total) }); err != nil {
		return found, err
	}
	return found, restore.Finish(ctx, func(done, total int64) { bar.set("checking", done, total) })
}

func (a *app) diskCompare() *cobra.Command {
	var exitCode bool
	cmd := &cobra.Command{
		Use: "compare A B", Short: "Tell what differs between two disks or packed images", Args: cobra.ExactArgs(2),
	}
	sector := sectorFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		var mans [2]*image.Manifest
		var maps [2]*image.Map
		for i, path := range args {
			s, err := openSource(path, *sector)
			if err != nil {
				return err
			}
			defer s.Close()
			bar := newMeter(cmd.ErrOrStderr(), "reading "+filepath.Base(path))
			mans[i], maps[i], err = s.version(cmd.Context(), func(done, total int64) { bar.set("reading "+filepath.Base(path), done, total) })
			bar.end()
			if err != nil {
				return fmt.Errorf("%s: %w", path, err)
			}
		}
		return a.judgeComparison(cmd, api.Compared(image.Compare(mans[0], maps[0], mans[1], maps[1])), exitCode)
	}
	cmd.Flags().BoolVar(&exitCode, "exit-code", false, exitCodeHelp)
	return cmd
}

// exitCodeHelp says what --exit-code of a comparison does.
const exitCodeHelp = "end with 1 if they differ"

// judgeComparison prints a comparison, and makes a difference an error if that is asked for.
func (a *app) judgeComparison(cmd *cobra.Command, c api.Comparison, exitCode bool) error {
	err := a.printComparison(cmd, c)
	if err == nil && exitCode && c.Different {
		err = errors.New("they differ")
	}
	return err
}

var differenceColumns = []column[api.AreaDifference]{
	{title: "partition", value: func(d api.AreaDifference) string { return areaName(d.Partition) }},
	{title: "holds", value: func(d api.AreaDifference) string {
		switch {
		case d.KindA == "":
			return d.KindB + ", in B only"
		case d.KindB == "":
			return d.KindA + ", in A only"
		case d.KindA != d.KindB:
			return fmt.Sprintf("%s, in B %s", d.KindA, d.KindB)
		}
		return d.KindA
	}},
	{title: "same", value: func(d api.AreaDifference) string { return size(d.Same) }, right: true},
	{title: "changed", value: func(d api.AreaDifference) string { return size(d.Changed) }, right: true},
	{title: "only in A", value: func(d api.AreaDifference) string { return size(d.OnlyA) }, right: true},
	{title: "only in B", value: func(d api.AreaDifference) string { return size(d.OnlyB) }, right: true},
}

func areaName(partition int) string {
	if partition == 0 {
		return "gap"
	}
	return fmt.Sprint(partition)
}

// printComparison shows how two versions differ; places are compared by slabs.
func (a *app) printComparison(cmd *cobra.Command, c api.Comparison) error {
	if a.output == "json" {
		return printJSON(cmd.OutOrStdout(), c)
	}
	if err := printList(cmd, a, c.Areas, differenceColumns); err != nil || a.output == "csv" {
		return err
	}
	fmt.Fprintln(cmd.OutOrStdout())
	switch {
	case !c.Different:
		fmt.Fprintln(cmd.OutOrStdout(), "the two hold the same")
	case c.SameTable:
		fmt.Fprintf(cmd.OutOrStdout(), "the same partitions, other content; where A is stored, B adds %s\n", size(c.New))
	default:
		fmt.Fprintf(cmd.OutOrStdout(), "the partition tables differ; where A is stored, B adds %s\n", size(c.New))
	}
	return nil
}
