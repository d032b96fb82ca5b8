package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"jugate/lab"
)

// wireCase is a transfer of one file to several receivers.
type wireCase struct {
	name      string
	receivers int
	loss      float64 // of each, independently
	mbit      float64
	megabytes int
	unshaped  bool    // the link takes what comes
	wireMost  float64 // wanted; 0 is nothing
	timeMost  float64
}

var wireCases = []wireCase{
	{"1 receiver, no loss, 200 Mbit/s", 1, 0, 200, 150, false, 1.07, 1.08},
	{"4 receivers, 1 % each, 200 Mbit/s", 4, 0.01, 200, 150, false, 1.10, 1.15},
	{"8 receivers, 2 % each, 100 Mbit/s", 8, 0.02, 100, 80, false, 1.13, 1.20},
	{"8 receivers, no loss, 100 Mbit/s, no shaping", 8, 0, 100, 80, true, 0, 0},
	{"1 receiver, 1 %, 50 Mbit/s", 1, 0.01, 50, 50, false, 0, 0},
	{"16 receivers, 1 % each, 50 Mbit/s", 16, 0.01, 50, 50, false, 0, 0},
}

const rounds = 3

// transferred is what a transfer took.
type transferred struct {
	wire, time float64 // to the payload, and to its time at the rate
	whole      float64 // seconds from a receiver's first packet until the last one has everything; Jugate's own alone
	tail       float64 // seconds from the last fresh byte until the last receiver has everything; Jugate's own alone
	rate       float64 // that was achieved while fresh bytes went out, to what was asked for
	sender     usage
	receiver   usage // the largest of all
}

type usage struct {
	cpu  float64 // seconds
	peak int64   // bytes
}

// multicast measures streams in a network of namespaces, beside the reference
// library; only, if set, is how the one case begins that is measured.
func multicast(ctx context.Context, dir string, only string) error {
	peer := path(dir, "peer")
	if out, err := exec.CommandContext(ctx, "g++", "-O2", "-o", peer, "wire/testdata/peer/peer.cpp", "-lnorm").CombinedOutput(); err != nil {
		return fmt.Errorf("build the peer: %w: %s", err, out)
	}
	fmt.Printf("\n| case | wire bytes / payload | time / (payload / rate) | reference library: wire | time | least possible: wire | wanted: wire | time | rate while fresh / asked for | last receiver after the last fresh byte, s | stolen |\n|---|---|---|---|---|---|---|---|---|---|---|\n")
	times := map[int][]float64{}
	var costs []string
	for _, c := range wireCases {
		if !strings.HasPrefix(c.name, only) {
			continue
		}
		var ours, theirs []transferred
		before := stolen()
		for round := range rounds {
			t, err := transfer(ctx, dir, c, jugateWire())
			if err != nil {
				return fmt.Errorf("%s: %w", c.name, err)
			}
			ours = append(ours, t)
			if round == 0 {
				if t, err = transfer(ctx, dir, c, peerWire(peer)); err != nil {
					fmt.Fprintf(os.Stderr, "the reference library, %s: %v\n", c.name, err)
				} else {
					theirs = append(theirs, t)
				}
			}
		}
		if c.mbit == 50 {
			times[c.receivers] = column(ours, func(t transferred) float64 { return t.time })
		}
		fmt.Printf("| %s | %s | %s | %s | %s | %.3f | %s | %s | %s | %s | %.1f %% |\n", c.name,
			spread(ours, func(t transferred) float64 { return t.wire }), spread(ours, func(t transferred) float64 { return t.time }),
			spread(theirs, func(t transferred) float64 { return t.wire }), spread(theirs, func(t transferred) float64 { return t.time }),
			leastWire(c), most(c.wireMost), most(c.timeMost), spread(ours, func(t transferred) float64 { return t.rate }), spread(ours, func(t transferred) float64 { return t.tail }), 100*stolen().since(before))
		gb := float64(c.megabytes) / 1000
		cost := func(who string, ts []transferred) {
			if len(ts) > 0 {
				costs = append(costs, fmt.Sprintf("| %s | %s | %.1f | %.1f | %.0f | %.0f |", c.name, who, ts[0].sender.cpu/gb, ts[0].receiver.cpu/gb, float64(ts[0].sender.peak)/mib, float64(ts[0].receiver.peak)/mib))
			}
		}
		cost("Jugate", ours)
		cost("reference library", theirs)
	}
	fmt.Printf("\n| case | | sender: CPU s/GB | receiver: CPU s/GB | sender: peak MiB | receiver: peak MiB |\n|---|---|---|---|---|---|\n%s\n", strings.Join(costs, "\n"))
	if only != "" {
		return nil
	}
	fmt.Printf("\n16 receivers against 1 at 50 Mbit/s and 1 %% loss: ratio of times %.3f (at most 1.10 wanted)\n", median(times[16])/median(times[1]))
	if err := unlimited(ctx, dir); err != nil {
		return err
	}
	if err := dragging(ctx, dir); err != nil {
		return fmt.Errorf("one of eight loses 20 %%: %w", err)
	}
	return crowd(ctx, dir)
}

// ticks are those of the machine, and how many of them it was not given.
type ticks struct{ all, lost float64 }

// stolen tells what other machines on the same processor have taken: a case in
// which that is much has been disturbed.
func stolen() (t ticks) {
	text, err := os.ReadFile("/proc/stat")
	if err != nil {
		return t
	}
	first, _, _ := strings.Cut(string(text), "\n")
	for i, field := range strings.Fields(first) {
		n, _ := strconv.ParseFloat(field, 64) // the first one is a name
		if t.all += n; i == 8 {
			t.lost = n
		}
	}
	return t
}

func (t ticks) since(before ticks) float64 { return (t.lost - before.lost) / (t.all - before.all) }

func column(ts []transferred, f func(transferred) float64) (all []float64) {
	for _, t := range ts {
		all = append(all, f(t))
	}
	return all
}

func spread(ts []transferred, f func(transferred) float64) string {
	v := column(ts, f)
	switch len(v) {
	case 0:
		return "did not end"
	case 1:
		return fmt.Sprintf("%.3f", v[0])
	}
	return fmt.Sprintf("%.3f (%.3f–%.3f)", median(v), slices.Min(v), slices.Max(v))
}

func most(v float64) string {
	if v == 0 {
		return ""
	}
	return fmt.Sprintf("≤ %.2f", v)
}

// Sizes on the wire, in bytes.
const (
	symbol    = 1440
	headers   = 14 + 20 + 8 + 32 // Ethernet, IPv4, UDP, NORM_DATA with its transmission information
	blockSize = 192
)

// leastWire is the least share that any code with blocks of this size can do with:
// each block goes out with headers, and on top as many symbols as its unluckiest
// receiver lost, and as many again as it loses of those.
func leastWire(c wireCase) float64 {
	dice := rand.New(rand.NewPCG(1, 2))
	const samples = 20_000
	sum := 0
	for range samples {
		worst := 0
		for range c.receivers {
			got, sent := 0, 0
			for got < blockSize {
				sent++
				if dice.Float64() >= c.loss {
					got++
				}
			}
			worst = max(worst, sent)
		}
		sum += worst
	}
	return float64(sum) / samples / blockSize * (symbol + headers) / symbol
}

// program is how a sender and receivers are started.
type program struct {
	send    func(h *lab.Host, ctx context.Context, c wireCase, file string) *exec.Cmd
	receive func(h *lab.Host, ctx context.Context, id int, into string) *exec.Cmd
	listens string // what a receiver says when it listens; nothing if it does not
	whole   string // and when it has everything; nothing if it ends then
}

const group = "233.252.0.7"

func jugateWire() program {
	return program{
		send: func(h *lab.Host, ctx context.Context, c wireCase, file string) *exec.Cmd {
			return h.Command(ctx, executable, "wire", "send", file, "--to", group+":6003", "--interface", lab.Interface, "--rate", fmt.Sprintf("%.0f", c.mbit*1e6), "--group-size", fmt.Sprint(c.receivers), "-o", "json")
		},
		receive: func(h *lab.Host, ctx context.Context, _ int, into string) *exec.Cmd {
			return h.Command(ctx, executable, "wire", "receive", "--from", group+":6003", "--interface", lab.Interface, "--into", into, "--count", "1", "-o", "json")
		},
	}
}

func peerWire(peer string) program {
	return program{
		send: func(h *lab.Host, ctx context.Context, c wireCase, file string) *exec.Cmd {
			return h.Command(ctx, peer, "send", group, "6003", lab.Interface, fmt.Sprint("rate=", c.mbit*1e6), "grtt=0.05", "block=64", "parity=32", "seconds=90", file)
		},
		receive: func(h *lab.Host, ctx context.Context, id int, into string) *exec.Cmd {
			return h.Command(ctx, peer, "receive", group, "6003", lab.Interface, fmt.Sprint("id=", id), "seconds=90", into)
		},
		listens: "listening", whole: "complete",
	}
}

// transfer sends a file in a network of its own.
func transfer(ctx context.Context, dir string, c wireCase, p program) (t transferred, err error) {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	hosts := []string{"desk"}
	for i := range c.receivers {
		hosts = append(hosts, fmt.Sprintf("herb-%02d", i+1))
	}
	n, err := lab.NewNetwork(ctx, hosts...)
	if err != nil {
		return t, err
	}
	defer n.Close()
	file := path(dir, "payload")
	if err := payload(file, int64(c.megabytes)*1e6); err != nil {
		return t, err
	}
	desk := n.Host("desk")
	if !c.unshaped {
		if err := desk.Rate(ctx, c.mbit*1e6); err != nil {
			return t, err
		}
	}
	var all sync.WaitGroup
	var mu sync.Mutex
	var failed error
	var last time.Time
	for i, name := range hosts[1:] {
		h := n.Host(name)
		if c.loss > 0 {
			if err := errors.Join(h.Lose(ctx, c.loss), desk.OneByOne(ctx)); err != nil {
				return t, err
			}
		}
		into := path(dir, name)
		if err := os.MkdirAll(into, 0o755); err != nil {
			return t, err
		}
		defer os.RemoveAll(into)
		cmd := p.receive(h, ctx, 10+i, into)
		whole, got, err := started(cmd, p)
		if err != nil {
			return t, err
		}
		all.Go(func() {
			at, err := whole()
			mu.Lock()
			defer mu.Unlock()
			if failed = errors.Join(failed, err); at.After(last) {
				last = at
			}
			var r struct{ Files []struct{ At float64 } }
			if json.Unmarshal(got.Bytes(), &r) == nil && len(r.Files) > 0 {
				t.whole = max(t.whole, r.Files[0].At)
			}
			t.receiver = larger(t.receiver, used(cmd))
		})
	}
	if p.listens == "" {
		time.Sleep(300 * time.Millisecond) // for all of them to have joined
	}
	before, err := desk.Sent(ctx)
	if err != nil {
		return t, err
	}
	began := time.Now()
	send := p.send(desk, ctx, c, file)
	out, err := send.CombinedOutput()
	if err != nil {
		return t, fmt.Errorf("%w: %s", err, out)
	}
	all.Wait()
	if failed != nil {
		return t, failed
	}
	after, err := desk.Sent(ctx)
	if err != nil {
		return t, err
	}
	t.sender = used(send)
	var sent struct{ Fresh float64 }
	if json.Unmarshal(out, &sent) == nil && sent.Fresh > 0 {
		t.tail = t.whole - sent.Fresh
		t.rate = float64(c.megabytes) * 1e6 / symbol * (symbol + headers) * 8 / (c.mbit * 1e6) / sent.Fresh
	}
	payload := float64(c.megabytes) * 1e6
	t.wire, t.time = float64(after-before)/payload, last.Sub(began).Seconds()/(payload*8/(c.mbit*1e6))
	for _, name := range hosts[1:] {
		if err := exec.CommandContext(ctx, "cmp", file, path(dir, name, "payload")).Run(); err != nil {
			return t, fmt.Errorf("what %s has got: %w", name, err)
		}
	}
	return t, nil
}

// started starts a receiver and waits until it listens; whole waits until it has
// everything, and has ended.
func started(cmd *exec.Cmd, p program) (whole func() (time.Time, error), said *bytes.Buffer, err error) {
	said = &bytes.Buffer{}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, nil, err
	}
	lines := bufio.NewScanner(out)
	if p.listens != "" && (!lines.Scan() || lines.Text() != p.listens) {
		return nil, nil, fmt.Errorf("a receiver says %q", lines.Text())
	}
	return func() (at time.Time, err error) {
		for lines.Scan() {
			fmt.Fprintln(said, lines.Text())
			if p.whole != "" && lines.Text() == p.whole {
				at = time.Now()
			}
		}
		if err := cmd.Wait(); err != nil {
			return at, fmt.Errorf("a receiver: %w", err)
		}
		if p.whole == "" {
			at = time.Now()
		}
		return at, nil
	}, said, nil
}

func used(cmd *exec.Cmd) usage {
	u := cmd.ProcessState.SysUsage().(*syscall.Rusage)
	return usage{cmd.ProcessState.UserTime().Seconds() + cmd.ProcessState.SystemTime().Seconds(), u.Maxrss << 10}
}

func larger(a, b usage) usage { return usage{max(a.cpu, b.cpu), max(a.peak, b.peak)} }

func payload(file string, size int64) error {
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = io.CopyN(f, rand.NewChaCha8([32]byte{1}), size)
	return err
}

// unlimited measures how fast a stream to one receiver is when no rate holds it.
func unlimited(ctx context.Context, dir string) error {
	c := wireCase{name: "1 receiver, without a rate", receivers: 1, mbit: 100_000, megabytes: 1000, unshaped: true}
	var all []transferred
	for range rounds {
		t, err := transfer(ctx, dir, c, jugateWire())
		if err != nil {
			return err
		}
		all = append(all, t)
	}
	gbit := column(all, func(t transferred) float64 { return 8 / t.whole })
	fmt.Printf("\nWithout a rate, to one receiver: %.2f Gbit/s of payload (%.2f–%.2f), sender %.1f s of processor time for 1 GB, receiver %.1f s.\n",
		median(gbit), slices.Min(gbit), slices.Max(gbit), all[0].sender.cpu, all[0].receiver.cpu)
	return nil
}
