package archive

import (
	"archive/tar"
	"bufio"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// DebianPackage is a Debian package (deb(5)): an ar archive with the version of the format,
// what the package is, and what it installs.
type DebianPackage struct {
	DebianControl
	Data *tar.Reader // what it installs

	close func()
}

// DebianControl is what a package says of itself (deb-control(5)).
type DebianControl struct {
	Name, Version string
	// What it needs, and stands for, as relations between packages (Debian Policy, chapter 7).
	Depends, PreDepends, Provides string
}

// Close gives back what reading it took.
func (p *DebianPackage) Close() { p.close() }

// The ar format (ar(5)): a mark, and before each member 60 bytes of text.
const (
	arMark   = "!<arch>\n"
	arHeader = 60
	arEnd    = "`\n" // of each header
)

// OpenDebian reads what a package is. Errors wrap ErrDamaged, or are the reader's.
func OpenDebian(r io.ReaderAt) (*DebianPackage, error) {
	p := &DebianPackage{close: func() {}}
	for at := int64(len(arMark)); ; {
		head := make([]byte, arHeader)
		if n, err := r.ReadAt(head, at); n < arHeader {
			if err == nil || errors.Is(err, io.EOF) {
				err = fmt.Errorf("%w: the Debian package ends before its data", ErrDamaged)
			}
			return nil, err
		}
		// A name of 16 bytes and, at byte 48, a size of 10, both filled up by spaces.
		name := strings.TrimRight(strings.TrimRight(string(head[:16]), " "), "/")
		size, err := strconv.ParseInt(strings.TrimSpace(string(head[48:58])), 10, 64)
		if err != nil || size < 0 || string(head[58:]) != arEnd {
			return nil, fmt.Errorf("%w: a member of the Debian package at byte %d", ErrDamaged, at)
		}
		member := io.NewSectionReader(r, at+arHeader, size)
		at += arHeader + size + size%2
		switch {
		case strings.HasPrefix(name, "control.tar"):
			in, done, err := Decompress(member)
			if err != nil {
				return nil, err
			}
			err = p.readControl(tar.NewReader(in))
			done()
			if err != nil {
				return nil, err
			}
		case strings.HasPrefix(name, "data.tar"):
			if p.Name == "" {
				return nil, fmt.Errorf("%w: the Debian package does not say what it is", ErrDamaged)
			}
			in, done, err := Decompress(member)
			if err != nil {
				return nil, err
			}
			p.Data, p.close = tar.NewReader(in), done
			return p, nil
		}
	}
}

// maxControl bounds what a package says of itself, in bytes.
const maxControl = 1 << 20

// readControl takes what matters from the file control.
func (p *DebianPackage) readControl(in *tar.Reader) error {
	for {
		h, err := in.Next()
		if err != nil {
			return fmt.Errorf("%w: the Debian package does not say what it is (%w)", ErrDamaged, err)
		}
		if strings.TrimPrefix(h.Name, "./") != "control" {
			continue
		}
		fields := map[string]*string{"Package": &p.Name, "Version": &p.Version, "Depends": &p.Depends, "Pre-Depends": &p.PreDepends, "Provides": &p.Provides}
		var last *string
		for lines := bufio.NewScanner(io.LimitReader(in, maxControl)); lines.Scan(); {
			line := lines.Text()
			if strings.HasPrefix(line, " ") { // goes on
				if last != nil {
					*last += " " + strings.TrimSpace(line)
				}
				continue
			}
			field, value, _ := strings.Cut(line, ":")
			if last = fields[field]; last != nil {
				*last = strings.TrimSpace(value)
			}
		}
		return nil
	}
}
