package main

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"jugate/api"
	"jugate/demo/golddisk"
	"jugate/outpost"
)

const (
	outpostsAtOnce  = 50
	outpostsDisk    = 160 << 20
	outpostsData    = 60 << 20
	outpostsChanged = 64 // pieces of outpostsPiece that differ in the next version
	outpostsPiece   = 64 << 10
)

// line carries what an outpost and its service say, and counts it.
type line struct {
	listener net.Listener
	bytes    atomic.Int64 // both ways
}

func newLine(ctx context.Context, to string) (*line, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	out := &line{listener: l}
	context.AfterFunc(ctx, func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go out.carry(c, to)
		}
	}()
	return out, nil
}

func (l *line) carry(c net.Conn, to string) {
	defer c.Close()
	far, err := net.Dial("tcp", to)
	if err != nil {
		return
	}
	defer far.Close()
	var both sync.WaitGroup
	for _, way := range [][2]net.Conn{{c, far}, {far, c}} {
		both.Go(func() {
			io.Copy(countedWriter{way[0], &l.bytes}, way[1])
			way[0].Close()
		})
	}
	both.Wait()
}

type countedWriter struct {
	io.Writer
	n *atomic.Int64
}

func (c countedWriter) Write(b []byte) (int, error) {
	n, err := c.Writer.Write(b)
	c.n.Add(int64(n))
	return n, err
}

// outposts measures a service with many outposts: when nothing happens, and when versions are placed at each.
func outposts(ctx context.Context, dir string) error {
	ctx, cancel := context.WithTimeout(ctx, 15*time.Minute)
	defer cancel()
	data := path(dir, "data")
	if err := os.MkdirAll(data, 0o755); err != nil {
		return err
	}
	s, err := startService(ctx, data)
	if err != nil {
		return err
	}
	defer s.stop()
	var lines []*line
	var work sync.WaitGroup
	defer work.Wait()
	defer cancel()
	for i := range outpostsAtOnce {
		name := fmt.Sprintf("site-%02d", i)
		code, err := s.client.AddOutpost(ctx, api.NewOutpost{Name: name})
		if err != nil {
			return err
		}
		l, err := newLine(ctx, "127.0.0.1:17460")
		if err != nil {
			return err
		}
		lines = append(lines, l)
		o, err := outpost.Open(ctx, outpost.Config{Data: path(dir, name), Service: "https://" + l.listener.Addr().String(), Code: code.Code, KeepFree: 1})
		if err != nil {
			return err
		}
		at, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return err
		}
		work.Go(func() {
			o.Serve(ctx, at)
			o.Close()
		})
	}
	all := func(is func(api.Outpost) bool) error {
		for i := range outpostsAtOnce {
			for {
				o, err := s.client.Outpost(ctx, fmt.Sprintf("site-%02d", i))
				if err != nil {
					return err
				}
				if is(o) {
					break
				}
				time.Sleep(100 * time.Millisecond)
			}
		}
		return nil
	}
	if err := all(func(o api.Outpost) bool { return o.State == "up" && o.Streams != "" }); err != nil {
		return err
	}
	time.Sleep(20 * time.Second) // what follows the start is over
	before, used := counts(lines), s.processor()
	time.Sleep(time.Minute)
	fmt.Printf("%d outposts, when nothing happens: %.2f s of a processor a minute (the service), %d MiB of memory; over each line %.1f kB a minute (%.1f at most)\n",
		outpostsAtOnce, s.processor()-used, s.memory()>>20, mean(since(lines, before))/1e3, float64(slices.Max(since(lines, before)))/1e3)

	gold := path(dir, "gold")
	if _, err := golddisk.Build(ctx, golddisk.Spec{Path: gold, Size: outpostsDisk, Data: outpostsData, Seed: 7}); err != nil {
		return err
	}
	if err := s.take(ctx, data, gold); err != nil {
		return err
	}
	before, used = counts(lines), s.processor()
	began := time.Now()
	for i := range outpostsAtOnce {
		if _, err := s.client.PlaceImage(ctx, fmt.Sprintf("site-%02d", i), api.NewPlacement{Image: "garden-desk", Newest: 2}); err != nil {
			return err
		}
	}
	holds := func(version int) func(api.Outpost) bool {
		return func(o api.Outpost) bool {
			return slices.ContainsFunc(o.Placed, func(p api.PlacedVersion) bool { return p.Version == version && p.Slabs > 0 && p.Held == p.Slabs })
		}
	}
	if err := all(holds(1)); err != nil {
		return err
	}
	took := time.Since(began)
	o, err := s.client.Outpost(ctx, "site-00")
	if err != nil {
		return err
	}
	fmt.Printf("a version of %d MB as stored placed at each: %.1f s, %.1f s of a processor; over each line / stored %.3f (%.3f at most)\n",
		o.Bytes/1e6, took.Seconds(), s.processor()-used, mean(since(lines, before))/float64(o.Bytes), float64(slices.Max(since(lines, before)))/float64(o.Bytes))

	differ, err := renew(gold)
	if err != nil {
		return err
	}
	before, used = counts(lines), s.processor()
	if err := s.take(ctx, data, gold); err != nil {
		return err
	}
	if err := all(holds(2)); err != nil {
		return err
	}
	fmt.Printf("the next version, in which %d bytes differ: %.1f s of a processor, its import included; over each line / bytes that differ %.3f (%.3f at most; goal 1.05)\n",
		differ, s.processor()-used, mean(since(lines, before))/float64(differ), float64(slices.Max(since(lines, before)))/float64(differ))
	return nil
}

// take has a service take a disk as the next version of garden-desk.
func (s *served) take(ctx context.Context, data, disk string) error {
	exe, err := filepath.Abs(executable)
	if err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, exe, "image", "import", disk, "--as", "garden-desk", "--despite", "benchmark")
	cmd.Env = append(os.Environ(), "JUGATE_SERVER="+s.url, "JUGATE_AUTHORITY="+path(data, "authority.pem"), "JUGATE_TOKEN_FILE="+path(data, "admin.token"))
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

// renew has a disk be another one in some pieces of its files, and tells how many bytes that are.
func renew(disk string) (int64, error) {
	f, err := os.OpenFile(disk, os.O_RDWR, 0)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	b, left := make([]byte, outpostsPiece), outpostsChanged
	for at := int64(outpostsDisk - 8<<20); at > outpostsDisk/3 && left > 0; at -= 5 * outpostsPiece {
		if _, err := f.ReadAt(b, at); err != nil {
			return 0, err
		}
		if slices.Contains(b[:256], 0) || slices.Contains(b[len(b)-256:], 0) {
			continue // it does not look like a file
		}
		rand.Read(b)
		if _, err := f.WriteAt(b, at); err != nil {
			return 0, err
		}
		left--
	}
	if left > 0 {
		return 0, errors.New("there are too few files on the disk")
	}
	return outpostsChanged * outpostsPiece, f.Sync()
}

func counts(lines []*line) (all []int64) {
	for _, l := range lines {
		all = append(all, l.bytes.Load())
	}
	return all
}

func since(lines []*line, before []int64) []int64 {
	all := counts(lines)
	for i := range all {
		all[i] -= before[i]
	}
	return all
}

func mean(all []int64) float64 {
	sum := int64(0)
	for _, n := range all {
		sum += n
	}
	return float64(sum) / float64(len(all))
}
