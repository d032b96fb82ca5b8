package wire

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"

	"jugate/core/norm"
)

// SendReport tells how files were sent.
type SendReport struct {
	Files   int
	Bytes   int64 // of the files
	Seconds float64
	Fresh   float64 // seconds until everything had gone out once
	norm.SenderStats
}

// SendFiles sends files, each with its name, and returns when nobody asks for
// more. progress, if set, is told the bytes sent for the first time so far and in all.
func SendFiles(ctx context.Context, socket Config, config norm.SenderConfig, paths []string, progress func(done, total int64), away func(error)) (SendReport, error) {
	var report SendReport
	var objects []norm.Object
	for _, path := range paths {
		f, err := os.Open(path)
		if err != nil {
			return report, err
		}
		defer f.Close()
		info, err := f.Stat()
		if err != nil {
			return report, err
		}
		if !info.Mode().IsRegular() {
			return report, fmt.Errorf("%s is not a file", path)
		}
		report.Bytes += info.Size()
		objects = append(objects, norm.Object{Kind: norm.File, Size: info.Size(), Info: []byte(filepath.Base(path)), Content: f})
	}
	next, last := 0, norm.ObjectID(0)
	return send(ctx, socket, config, report, progress, away, func(now time.Time, s *norm.Sender) (more bool, err error) {
		for ; next < len(objects); next++ {
			id, err := s.Enqueue(now, objects[next])
			if errors.Is(err, norm.ErrFull) {
				return true, nil
			}
			if err != nil {
				return false, fmt.Errorf("%s: %w", paths[next], err)
			}
			last = id
		}
		return false, nil
	}, func(e norm.SenderEvent, r *SendReport) error {
		switch e.Kind {
		case norm.Sent:
			r.Files++
		case norm.ReadFailed:
			return fmt.Errorf("%s: %w", paths[min(int(e.Object), len(paths)-1)], e.Err)
		case norm.Flushed:
			if next == len(objects) && e.Object == last {
				return ErrDone
			}
		}
		return nil
	})
}

// SendStream sends what comes from a reader as a stream.
func SendStream(ctx context.Context, socket Config, config norm.SenderConfig, name string, from io.Reader, progress func(done, total int64), away func(error)) (SendReport, error) {
	chunks := make(chan []byte)
	failed := make(chan error, 1)
	go func() {
		defer close(chunks)
		for {
			b := make([]byte, 64<<10)
			n, err := from.Read(b)
			select {
			case chunks <- b[:n]:
			case <-ctx.Done():
				return
			}
			if err != nil {
				if err != io.EOF {
					failed <- err
				}
				return
			}
		}
	}()
	var report SendReport
	var id norm.ObjectID
	var chunk []byte
	opened, ended, closed := false, false, false
	return send(ctx, socket, config, report, progress, away, func(now time.Time, s *norm.Sender) (bool, error) {
		if !opened {
			opened = true
			var err error
			if id, err = s.OpenStream(now, []byte(name), max(16<<20, int(config.Rate/8))); err != nil {
				return false, err
			}
		}
		for !ended {
			if len(chunk) == 0 {
				select {
				case b, ok := <-chunks:
					if !ok {
						select {
						case err := <-failed:
							return false, err
						default:
						}
						ended = true
						continue
					}
					chunk = b
				default:
					return true, nil
				}
			}
			n := s.WriteStream(now, id, chunk)
			report.Bytes += int64(n)
			if chunk = chunk[n:]; len(chunk) > 0 {
				return true, nil
			}
		}
		if !closed {
			closed = s.CloseStream(now, id)
		}
		return !closed, nil
	}, func(e norm.SenderEvent, r *SendReport) error {
		r.Bytes = report.Bytes
		if e.Kind == norm.Flushed && closed {
			r.Files = 1
			return ErrDone
		}
		return nil
	})
}

func send(ctx context.Context, socket Config, config norm.SenderConfig, report SendReport, progress func(done, total int64), away func(error),
	feed func(time.Time, *norm.Sender) (bool, error), on func(norm.SenderEvent, *SendReport) error) (SendReport, error) {
	out, err := Dial(socket)
	if err != nil {
		return report, err
	}
	defer out.Close()
	in, err := Listen(socket)
	if err != nil {
		return report, err
	}
	defer in.Close()
	if config.Node == norm.NodeNone {
		config.Node = norm.NodeID(1 + rand.Uint32N(1<<31))
	}
	config.Instance = uint16(rand.Uint32())
	if config.SymbolSize == 0 {
		config.SymbolSize = out.SymbolSize()
	}
	config.Overhead = out.Overhead()
	if socket.Interface != "lo" {
		config.Overhead += etherHeader
	}
	began := time.Now()
	sender, err := norm.NewSender(config, began)
	if err != nil {
		return report, err
	}
	total := report.Bytes
	err = Transmit(ctx, out, sender, Source{
		Feed: func(now time.Time, s *norm.Sender) (bool, error) {
			if progress != nil {
				progress(s.Stats().SourceBytes, total)
			}
			return feed(now, s)
		},
		On: func(e norm.SenderEvent) error {
			if e.Kind == norm.Sent {
				report.Fresh = time.Since(began).Seconds()
			}
			return on(e, &report)
		},
		Away:  away,
		Group: in,
	})
	report.SenderStats, report.Seconds = sender.Stats(), time.Since(began).Seconds()
	return report, err
}

// etherHeader is what Ethernet adds to a packet as interfaces count it, in bytes.
const etherHeader = 14
