package wire

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"time"

	"jugate/core/norm"
)

// ReceiveReport tells what came.
type ReceiveReport struct {
	Files   []ReceivedFile
	Seconds float64 // from the first packet to the last file
	norm.ReceiverStats
}

// ReceivedFile is a file that has come.
type ReceivedFile struct {
	Name   string
	Bytes  int64
	Sender norm.NodeID
	At     float64 // seconds after the first packet
}

// LossShare is the share of packets that never came.
func (r ReceiveReport) LossShare() float64 {
	if r.Packets+r.Lost == 0 {
		return 0
	}
	return float64(r.Lost) / float64(r.Packets+r.Lost)
}

var (
	// ErrNothingHeard says that no packet came at all.
	ErrNothingHeard = errors.New("nothing was heard")
	// ErrIncompleteFiles says that fewer files came than were waited for.
	ErrIncompleteFiles = errors.New("files are missing")
)

// ReceiveOptions say when ReceiveFiles ends.
type ReceiveOptions struct {
	Count    int           // of files; 0 receives until the senders say that they are done
	Wait     time.Duration // the longest time in which nothing comes; none if 0
	Replace  bool          // files that are there already
	Progress func(name string, done, total int64)
	// Through, if set, stands between the socket and the receiver.
	Through func(Reader) Reader
}

// ReceiveFiles receives files into a folder. A file appears under its name when it
// is whole. Errors are ErrNothingHeard, ErrIncompleteFiles, or the disk's.
func ReceiveFiles(ctx context.Context, socket Config, config norm.ReceiverConfig, dir string, o ReceiveOptions) (ReceiveReport, error) {
	in, err := Listen(socket)
	if err != nil {
		return ReceiveReport{}, err
	}
	defer in.Close()
	f := &folder{dir: dir, options: o, open: map[*partFile]struct{}{}}
	defer f.clean()
	if config.Node == norm.NodeNone {
		config.Node = norm.NodeID(1 + rand.Uint32N(1<<31))
	}
	config.Seed, config.FromStart, config.Open = rand.Uint64(), true, f.begin
	receiver := norm.NewReceiver(config)
	last, packets := time.Now(), int64(0)
	var first time.Time
	var reader Reader = in
	if o.Through != nil {
		reader = o.Through(in)
	}
	err = Receive(ctx, reader, receiver, func(e norm.ReceiverEvent) error {
		switch e.Kind {
		case norm.Completed:
			if err := f.finish(e, time.Since(first).Seconds()); err != nil {
				return err
			}
			if o.Count > 0 && len(f.done) == o.Count {
				return ErrDone
			}
		case norm.Broken:
			if e.Err != nil {
				return e.Err
			}
			f.drop(e.Sink)
		case norm.SenderEnded, norm.SenderLost:
			if o.Count == 0 && len(f.done) > 0 && len(f.open) == 0 {
				return ErrDone
			}
		}
		return nil
	}, func(now time.Time) error {
		f.advance()
		if n := receiver.Stats().Packets; n != packets {
			if packets == 0 {
				first = now
			}
			packets, last = n, now
		}
		switch {
		case o.Wait == 0 || now.Sub(last) < o.Wait:
			return nil
		case packets == 0:
			return fmt.Errorf("%w from %s on %s in %v: is the sender sending, and do the switches between pass multicast (IGMP snooping needs a querier)?",
				ErrNothingHeard, socket.Group, socket.Interface, o.Wait)
		}
		return fmt.Errorf("%w: %d came, and nothing more in %v", ErrIncompleteFiles, len(f.done), o.Wait)
	})
	report := ReceiveReport{Files: f.done, ReceiverStats: receiver.Stats()}
	if n := len(f.done); n > 0 {
		report.Seconds = f.done[n-1].At
	}
	return report, err
}

// folder is where files go.
type folder struct {
	dir     string
	options ReceiveOptions
	open    map[*partFile]struct{}
	done    []ReceivedFile
	told    time.Time
}

// partFile is a file that is not whole; its name ends in .part.
type partFile struct {
	*os.File
	head  norm.Head
	bytes int64
}

func (p *partFile) WriteAt(b []byte, off int64) (int, error) {
	n, err := p.File.WriteAt(b, off)
	p.bytes += int64(n)
	return n, err
}

// failing is a sink that tells why there is none.
type failing struct{ error }

func (f failing) WriteAt([]byte, int64) (int, error) { return 0, f.error }

func (f *folder) begin(h norm.Head) norm.Sink {
	file, err := os.CreateTemp(f.dir, fmt.Sprintf(".receiving-%d-*.part", h.Object))
	if err != nil {
		return failing{err}
	}
	p := &partFile{File: file, head: h}
	f.open[p] = struct{}{}
	return p
}

func (f *folder) drop(sink norm.Sink) {
	if p, ok := sink.(*partFile); ok {
		p.Close()
		os.Remove(p.Name())
		delete(f.open, p)
	}
}

func (f *folder) clean() {
	for p := range f.open {
		f.drop(p)
	}
}

// finish gives a whole file its name.
func (f *folder) finish(e norm.ReceiverEvent, at float64) error {
	p, ok := e.Sink.(*partFile)
	if !ok {
		return fmt.Errorf("object %d of sender %d: %w", e.Object, e.Sender, e.Sink.(failing).error)
	}
	defer f.drop(p)
	name := string(e.Info)
	if name == "" {
		name = fmt.Sprintf("%s-%d-%d", e.Head.Kind, e.Sender, e.Object)
	}
	if name != filepath.Base(name) || strings.HasPrefix(name, ".") || strings.ContainsRune(name, 0) {
		return fmt.Errorf("sender %d names a file %q, which is not a plain name", e.Sender, name)
	}
	path := filepath.Join(f.dir, name)
	if err := p.Sync(); err != nil {
		return err
	}
	if err := p.Chmod(0o644); err != nil {
		return err
	}
	if f.options.Replace {
		if err := os.Rename(p.Name(), path); err != nil {
			return err
		}
	} else if err := os.Link(p.Name(), path); errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s is there already; give --replace to have it replaced", path)
	} else if err != nil {
		return err
	}
	f.done = append(f.done, ReceivedFile{Name: name, Bytes: p.bytes, Sender: e.Sender, At: at})
	if f.options.Progress != nil {
		f.options.Progress(name, p.bytes, p.bytes)
	}
	return nil
}

// tell tells how far the open files are.
func (f *folder) advance() {
	if f.options.Progress == nil || time.Since(f.told) < 200*time.Millisecond {
		return
	}
	f.told = time.Now()
	for p := range f.open {
		f.options.Progress("", p.bytes, p.head.Size)
	}
}
