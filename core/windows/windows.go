// Package windows reads what a Windows installation says of itself in its settings database: which
// product it is, whether it was generalised, what waits for a restart, and what it starts first.
//
//	w, err := windows.Look(volume)
//	w.Name() // "Windows 11 Enterprise 24H2 (build 26100)"
package windows

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strconv"
	"strings"
	"time"

	"jugate/core/fileview"
	"jugate/core/hive"
)

// Files of the settings database, from the root of the volume.
const (
	SystemHive   = "Windows/System32/config/SYSTEM"
	SoftwareHive = "Windows/System32/config/SOFTWARE"
)

// ErrNone says that a volume has no Windows installation.
var ErrNone = errors.New("there is no Windows on this volume")

// System is what an installation says of itself. What it does not say is empty.
type System struct {
	Product string // "Windows 11 Enterprise"
	Edition string // EditionID, such as "EnterpriseEval"
	Version string // "24H2"
	Build   int
	// Installed is when it was; zero if it does not say.
	Installed time.Time

	// Prepared is the state that system preparation has left; 0 if none is there.
	Prepared uint64
	// Pending say what waits for a restart, by where it stands.
	Pending []string
	// Unclean is the file with changes that wait in its log; empty if there is none.
	Unclean string
	// ControlSet is the key of SYSTEM with the settings of the next start.
	ControlSet string
}

// Generalised is the state that system preparation leaves when it has ended as it should.
const Generalised = 7

// firstOfEleven is the build of the first Windows 11, whose product name still says 10.
const firstOfEleven = 22000

// Is tells whether a volume has a Windows installation.
func Is(volume fs.FS) bool {
	_, there := fileview.FindFold(volume, "Windows/System32/config")
	return there
}

// Evaluation tells whether the edition stops working after a while.
func (s *System) Evaluation() bool { return strings.HasSuffix(s.Edition, "Eval") }

// EvaluationEnds is the last day of an evaluation edition at the earliest, as the vendor's terms have it: 180 days
// after the installation of a server, else 90. Generalising it may begin that anew. It is zero if it is
// none, or if the day of its installation is not known.
func (s *System) EvaluationEnds() time.Time {
	switch {
	case !s.Evaluation() || s.Installed.IsZero():
		return time.Time{}
	case strings.HasPrefix(s.Edition, "Server"):
		return s.Installed.AddDate(0, 0, 180)
	}
	return s.Installed.AddDate(0, 0, 90)
}

// Name is the product with its version, in words.
func (s *System) Name() string {
	name := s.Product
	if name == "" {
		name = "Windows"
	}
	if s.Version != "" {
		name += " " + s.Version
	}
	if s.Build != 0 {
		name += fmt.Sprintf(" (build %d)", s.Build)
	}
	return name
}

// Look reads the settings of the installation on a volume. The error is ErrNone, or says what
// cannot be read; what was read stands in the System even then.
func Look(volume fs.FS) (*System, error) {
	if !Is(volume) {
		return nil, ErrNone
	}
	s := &System{}
	return s, errors.Join(s.lookInto(volume, SoftwareHive, s.software), s.lookInto(volume, SystemHive, s.system))
}

// lookInto opens a file of the database; one that is not there says nothing.
func (s *System) lookInto(volume fs.FS, name string, look func(*hive.Hive) error) error {
	at, there := fileview.FindFold(volume, name)
	if !there {
		return nil
	}
	f, err := volume.Open(at)
	if err != nil {
		return err
	}
	defer f.Close()
	h, err := open(f)
	if err == nil {
		if !h.Clean() && s.Unclean == "" {
			s.Unclean = at
		}
		err = look(h)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", at, err)
	}
	return nil
}

// maxWhole is the largest file that is read whole, where no part of it can be.
const maxWhole = 64 << 20

func open(f fs.File) (*hive.Hive, error) {
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if r, is := f.(io.ReaderAt); is {
		return hive.Open(r, info.Size())
	}
	if info.Size() > maxWhole {
		return nil, fmt.Errorf("it is larger than %d MiB", maxWhole>>20)
	}
	b, err := io.ReadAll(io.LimitReader(f, maxWhole))
	if err != nil {
		return nil, err
	}
	return hive.Open(bytes.NewReader(b), int64(len(b)))
}

// text is a value as a text; one that is not there is empty.
func text(k *hive.Key, name string) (string, error) {
	v, err := k.Value(name)
	if errors.Is(err, hive.ErrNotFound) {
		return "", nil
	}
	return v.Text(), err
}

func (s *System) software(h *hive.Hive) error {
	k, err := h.Find(`Microsoft\Windows NT\CurrentVersion`)
	switch {
	case errors.Is(err, hive.ErrNotFound):
	case err != nil:
		return err
	default:
		build := ""
		for name, into := range map[string]*string{"ProductName": &s.Product, "EditionID": &s.Edition, "DisplayVersion": &s.Version, "CurrentBuild": &build} {
			if *into, err = text(k, name); err != nil {
				return err
			}
		}
		v, err := k.Value("InstallDate") // seconds since 1970
		if err != nil && !errors.Is(err, hive.ErrNotFound) {
			return err
		}
		if n, is := v.Number(); is && n > 0 {
			s.Installed = time.Unix(int64(n), 0).UTC()
		}
		if s.Build, _ = strconv.Atoi(build); s.Build >= firstOfEleven {
			s.Product = strings.Replace(s.Product, "Windows 10", "Windows 11", 1)
		}
	}
	for _, key := range []string{`Microsoft\Windows\CurrentVersion\Component Based Servicing\RebootPending`, `Microsoft\Windows\CurrentVersion\WindowsUpdate\Auto Update\RebootRequired`} {
		if _, err := h.Find(key); err == nil {
			s.Pending = append(s.Pending, `SOFTWARE\`+key)
		} else if !errors.Is(err, hive.ErrNotFound) {
			return err
		}
	}
	return nil
}

func (s *System) system(h *hive.Hive) error {
	if k, err := h.Find(`Setup\Status\SysprepStatus`); err == nil {
		v, err := k.Value("GeneralizationState")
		if err != nil && !errors.Is(err, hive.ErrNotFound) {
			return err
		}
		s.Prepared, _ = v.Number()
	} else if !errors.Is(err, hive.ErrNotFound) {
		return err
	}
	set, err := controlSet(h)
	if err != nil {
		return err
	}
	s.ControlSet = set
	const manager = `Control\Session Manager`
	k, err := h.Find(set + `\` + manager)
	if errors.Is(err, hive.ErrNotFound) {
		return nil
	} else if err != nil {
		return err
	}
	v, err := k.Value("PendingFileRenameOperations")
	if len(v.Texts()) > 0 {
		s.Pending = append(s.Pending, `SYSTEM\`+set+`\`+manager+`\PendingFileRenameOperations`)
	}
	if errors.Is(err, hive.ErrNotFound) {
		err = nil
	}
	return err
}

// controlSet is the key of SYSTEM with the settings of the next start.
func controlSet(h *hive.Hive) (string, error) {
	n := uint64(1)
	k, err := h.Find("Select")
	if err == nil {
		var v hive.Value
		if v, err = k.Value("Default"); err == nil {
			n, _ = v.Number()
		}
	}
	if err != nil && !errors.Is(err, hive.ErrNotFound) {
		return "", err
	}
	return fmt.Sprintf("ControlSet%03d", n), nil
}
