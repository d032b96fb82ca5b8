package main

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/delivery"
	"jugate/core/image"
	"jugate/core/version"
)

func discard(r io.Reader) (int64, error) { return io.Copy(io.Discard, r) }

// timesOf is the middle and the 99th percentile of some times, in milliseconds.
func timesOf(all []time.Duration) string {
	slices.Sort(all)
	at := func(p float64) float64 { return all[int(p*float64(len(all)-1))].Seconds() * 1000 }
	return fmt.Sprintf("p50 %.0f ms, p99 %.0f ms", at(0.5), at(0.99))
}

// member is a workstation as far as its service sees it: it calls in, waits, and reports
// on deliveries as an agent does, but has no disk and hears no stream.
type member struct {
	number int
	*apiclient.Client
}

// enter checks in.
func (s *served) enter(ctx context.Context, n int) (*member, error) {
	inv := scaleInventory(n)
	in, err := s.client.WithToken("").CheckIn(ctx, api.CheckIn{AgentVersion: version.Program(), Boot: fmt.Sprintf("boot-%d-%d", n, time.Now().UnixNano()), Addresses: []string{scaleAddress(n).String()}, Inventory: inv})
	if err != nil {
		return nil, err
	}
	return &member{n, s.client.WithToken(in.Pass)}, nil
}

// checkIns has machines call in that were switched on together.
func (s *served) checkIns(ctx context.Context) error {
	const machines = 2_000
	times := make([]time.Duration, machines)
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(200)
	began := time.Now()
	for n := range machines {
		group.Go(func() error {
			at := time.Now()
			_, err := s.enter(ctx, n)
			times[n] = time.Since(at)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	took := time.Since(began)
	fmt.Printf("\n%d machines of the roster check in, 200 at a time: %.0f a second, %s\n", machines, machines/took.Seconds(), timesOf(times))
	return nil
}

// beside has machines check in while eight people ask for lists that take long.
func (s *served) beside(ctx context.Context) error {
	asking, stop := context.WithCancel(ctx)
	var people sync.WaitGroup
	defer people.Wait()
	defer stop()
	var asked atomic.Int64
	for range 8 {
		people.Go(func() {
			for asking.Err() == nil {
				if _, err := s.get(asking, "/receipts?limit=1000&sort=image&search=desk-0"); err == nil {
					asked.Add(1)
				}
			}
		})
	}
	times := make([]time.Duration, 200)
	for n := range times {
		at := time.Now()
		if _, err := s.enter(ctx, n); err != nil {
			return err
		}
		times[n] = time.Since(at)
	}
	fmt.Printf("check-ins one after the other, while eight people ask for lists of all receipts (%d answers): %s\n", asked.Load(), timesOf(times))
	return nil
}

// idle has agents wait for errands, and measures what that costs the service.
func (s *served) idle(ctx context.Context, n int) error {
	ctx, stop := context.WithCancel(ctx)
	var waiting sync.WaitGroup
	defer waiting.Wait()
	defer stop()
	var failed atomic.Int64
	for i := range n {
		waiting.Go(func() {
			m, err := s.enter(ctx, i)
			for err == nil {
				_, err = m.Standing(ctx)
			}
			if ctx.Err() == nil {
				failed.Add(1)
			}
		})
	}
	const settle, measured = 25 * time.Second, 40 * time.Second // a question stays open for 20 s
	select {
	case <-time.After(settle):
	case <-ctx.Done():
		return ctx.Err()
	}
	before := s.processor()
	time.Sleep(measured)
	fmt.Printf("%d agents at rest: %.2f of a processor (goal for 1000: 0.5), memory %d MiB, %d went away\n", n, (s.processor()-before)/measured.Seconds(), s.memory()>>20, failed.Load())
	return nil
}

// boots has machines ask for what they boot: the first script, their own, and then call.
func (s *served) boots(ctx context.Context) error {
	const machines, within = 500, 10 * time.Second
	var mu sync.Mutex
	var scripts, calls []time.Duration
	group, ctx := errgroup.WithContext(ctx)
	began := time.Now()
	for n := range machines {
		group.Go(func() error {
			select {
			case <-time.After(within * time.Duration(n) / machines):
			case <-ctx.Done():
				return ctx.Err()
			}
			at := time.Now()
			for _, path := range []string{"/boot/files/grub/grub.cfg", fmt.Sprintf("/boot/script/efi/y/%s/A1000", scaleAddress(n))} {
				resp, err := http.Get(strings.Replace(s.url, "https:", "http:", 1) + path) // as loaders do
				if err != nil {
					return err
				}
				_, err = discard(resp.Body)
				resp.Body.Close()
				if err != nil {
					return err
				}
			}
			script := time.Since(at)
			at = time.Now()
			if _, err := s.enter(ctx, n); err != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			scripts, calls = append(scripts, script), append(calls, time.Since(at))
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	fmt.Printf("%d machines boot within %.0f s: both scripts %s; the agent's call %s; all done after %.1f s\n", machines, within.Seconds(), timesOf(scripts), timesOf(calls), time.Since(began).Seconds())
	return nil
}

// crowds delivers to a hundred and then to a thousand members, the second time with a
// hundred consoles open.
func (s *served) crowds(ctx context.Context, dir string) error {
	const megabytes, mbit = 16, 8
	gold, err := goldDisk(ctx, dir, megabytes)
	if err != nil {
		return err
	}
	if out, err := exec.CommandContext(ctx, executable, "--server", s.url, "--token", s.client.Token(), "image", "import", gold, "--as", "garden-desk", "--despite", "benchmark").CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	open, err := s.client.Deliveries(ctx, apiclient.List{Filter: map[string]string{"open": "true"}})
	if err != nil {
		return err
	}
	for _, d := range open.Items { // of a run that was cut off
		if _, err := s.client.StopDelivery(ctx, d.ID); err != nil {
			return err
		}
	}
	few, err := s.crowd(ctx, 0, 100, mbit, 0)
	if err != nil {
		return err
	}
	many, err := s.crowd(ctx, 1_000, 1_000, mbit, 100)
	if err != nil {
		return err
	}
	fmt.Printf("time of the delivery to 1000 against that to 100: %.2f (goal 1.2)\n", many.Seconds()/few.Seconds())
	return nil
}

func (s *served) crowd(ctx context.Context, first, n int, mbit int64, consoles int) (time.Duration, error) {
	ctx, stop := context.WithCancel(ctx)
	var work sync.WaitGroup
	defer work.Wait()
	defer stop()
	members := make([]*member, n)
	entering, entered := errgroup.WithContext(ctx)
	entering.SetLimit(100)
	for i := range members {
		entering.Go(func() (err error) {
			members[i], err = s.enter(entered, first+i)
			return err
		})
	}
	if err := entering.Wait(); err != nil {
		return 0, err
	}
	var names []string
	var heard heardMap
	failures := make(chan error, n)
	for i, m := range members {
		names = append(names, scaleName(first+i))
		work.Go(func() {
			if err := m.takePart(ctx, &heard); err != nil && ctx.Err() == nil {
				failures <- fmt.Errorf("%s: %w", scaleName(m.number), err)
			}
		})
	}
	began, before := time.Now(), s.processor()
	d, err := s.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: names, Rate: mbit * 1e6})
	if err != nil {
		return 0, err
	}
	ordered := time.Since(began)
	lists, shows := make([]atomic.Int64, consoles), make([]atomic.Int64, consoles)
	for i := range consoles {
		path, counts := "/events", &lists[i]
		if i%10 == 0 { // some look at this very delivery
			path, counts = fmt.Sprintf("/events?delivery=%d", d.ID), &shows[i]
		}
		work.Go(func() { s.listen(ctx, path, counts) })
	}
	for d.Ended == nil {
		select {
		case err := <-failures:
			return 0, err
		case <-time.After(100 * time.Millisecond):
		}
		page, err := s.client.Deliveries(ctx, apiclient.List{Limit: 10, Filter: map[string]string{"open": "true"}})
		if err != nil {
			return 0, err
		}
		if len(page.Items) == 0 {
			if d, err = s.client.Delivery(ctx, d.ID); err != nil {
				return 0, err
			}
		}
	}
	took, delivered := time.Since(began), 0
	for _, m := range d.Members {
		if m.Outcome == "delivered" {
			delivered++
		}
	}
	fmt.Printf("\na delivery of %.0f MB at %d Mbit/s to %d members: %d delivered; ordered within %.2f s, sending after %.1f s, over after %.1f s; %.2f of a processor\n",
		float64(d.UsedBytes)/1e6, mbit, n, delivered, ordered.Seconds(), d.Started.Sub(d.Created).Seconds(), took.Seconds(), (s.processor()-before)/took.Seconds())
	if consoles > 0 {
		perSecond := func(all []atomic.Int64, of int) float64 {
			sum := int64(0)
			for i := range all {
				sum += all[i].Load()
			}
			return float64(sum) / float64(of) / took.Seconds() / 1000
		}
		fmt.Printf("%d consoles meanwhile: %.1f kB a second each for those that show lists, %.1f kB for those that show the delivery\n", consoles, perSecond(lists, consoles-consoles/10), perSecond(shows, consoles/10))
	}
	return took, nil
}

// listen counts the bytes of events.
func (s *served) listen(ctx context.Context, path string, count *atomic.Int64) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, s.url+"/api/v1"+path, nil)
	if err != nil {
		return
	}
	r.Header.Set("Authorization", "Bearer "+s.client.Token())
	resp, err := s.client.HTTP().Do(r)
	if err != nil {
		return
	}
	defer resp.Body.Close()
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 4<<20)
	for lines.Scan() {
		count.Add(int64(len(lines.Bytes()) + 1))
	}
}

// heardMap is the slab map as those have it who hear the multicast, which these members do
// not: one of them fetches it for all.
type heardMap struct {
	once sync.Once
	raw  []byte
	err  error
}

func (h *heardMap) by(ctx context.Context, m *member, delivery int64) ([]byte, error) {
	h.once.Do(func() { h.raw, h.err = m.DeliveryMap(ctx, delivery) })
	return h.raw, h.err
}

// takePart waits for the next delivery and reports on it as an agent does.
func (m *member) takePart(ctx context.Context, heard *heardMap) error {
	var to *api.ToReceive
	for to == nil {
		st, err := m.Standing(ctx)
		if err != nil {
			return err
		}
		if st.Errand != nil {
			to = st.Errand.Receive
		}
	}
	text, err := m.DeliveryManifest(ctx, to.Delivery)
	if err != nil {
		return err
	}
	man, err := image.ParseManifest(text)
	if err != nil {
		return err
	}
	raw, err := heard.by(ctx, m, to.Delivery)
	if err != nil {
		return err
	}
	slabs, err := image.ParseMap(raw, man)
	if err != nil {
		return err
	}
	p := api.Progress{Report: delivery.Report{Phase: "ready", Total: man.UsedBytes, LacksMap: to.MapComes}}
	for {
		d, err := m.TellProgress(ctx, to.Delivery, p)
		if err != nil || d.Over || p.Phase == "ended" {
			return err
		}
		switch {
		case d.State == "gathering":
		case p.LacksMap:
			if err := m.TellLacking(ctx, to.Delivery, api.Lacking{Slabs: [][2]int{{0, slabs.Len() - 1}}}); err != nil {
				return err
			}
			p.LacksMap = false
		case d.Round == 0:
			p.Phase, p.Packets = "receiving", p.Packets+100
			p.Done = min(p.Done+man.UsedBytes/20, man.UsedBytes)
			p.Multicast = p.Done
		case p.Phase != "checking":
			if err := m.TellLacking(ctx, to.Delivery, api.Lacking{Round: d.Round, Slabs: [][2]int{}}); err != nil {
				return err
			}
			p.Phase, p.Done = "checking", man.UsedBytes
		default:
			p.Phase, p.Verified, p.Proof = "ended", true, bytes.Clone(slabs.Proof(to.Nonce))
		}
		select {
		case <-time.After(max(500*time.Millisecond, time.Duration(d.ReportAfter*float64(time.Second)))):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}
