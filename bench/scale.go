package main

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"jugate/api"
	"jugate/core/delivery"
	"jugate/core/hwaddr"
	"jugate/core/version"
	"jugate/records"
)

// What a service with a full building does: 10,000 workstations of 200 models in 400
// groups, 2,000 deliveries with 200,000 receipts, 500 versions.
const (
	scaleWorkstations = 10_000
	scaleModels       = 200
	scaleGroups       = 400
	scaleDeliveries   = 2_000
	scaleMembers      = 100 // of a delivery
	scaleImages       = 100
	scaleVersions     = 5 // of an image
)

// scale fills a data folder, runs a service on it in a process of its own, and measures
// that.
func scale(ctx context.Context, dir string) error {
	data := path(dir, "data")
	began := time.Now()
	if err := fill(ctx, data); err != nil {
		return err
	}
	info, err := os.Stat(path(data, "jugate.db"))
	if err != nil {
		return err
	}
	fmt.Printf("\nfilled in %.0f s: %d workstations of %d models in %d groups, %d receipts of %d deliveries, %d versions; the records take %d MiB\n",
		time.Since(began).Seconds(), scaleWorkstations, scaleModels, scaleGroups, scaleDeliveries*scaleMembers, scaleDeliveries, scaleImages*scaleVersions, info.Size()>>20)
	return scaleRun(ctx, data, dir)
}

// scaleRun measures a service on a folder that was filled.
func scaleRun(ctx context.Context, data, dir string) error {
	s, err := startService(ctx, data)
	if err != nil {
		return err
	}
	defer s.stop()
	fmt.Printf("start of the service until it is ready: %.2f s (goal 2); memory then %d MiB\n", s.took.Seconds(), s.memory()>>20)
	for _, step := range []func(context.Context) error{
		s.examined, s.lists, s.checkIns, s.beside,
		func(ctx context.Context) error { return s.idle(ctx, 1_000) },
		func(ctx context.Context) error { return s.idle(ctx, 5_000) },
		s.boots,
		func(ctx context.Context) error { return s.crowds(ctx, dir) },
	} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	fmt.Printf("memory of the service at its highest: %d MiB (goal 512)\n", peakOf(s.process.Process.Pid)>>20)
	return nil
}

// scaleAddress is the hardware address of workstation n: locally administered, as the
// range for documentation has 256.
func scaleAddress(n int) hwaddr.Address {
	return hwaddr.Address{0x02, 0x00, 0x5e, byte(n >> 16), byte(n >> 8), byte(n)}
}

func scaleName(n int) string { return fmt.Sprintf("desk-%05d", n) }

// scaleInventory is what workstation n is made of: some thirty devices, as a PC has.
func scaleInventory(n int) api.Inventory {
	model := n % scaleModels
	inv := api.Inventory{Maker: "Alder Works", Model: fmt.Sprintf("A%d", 1000+model), Serial: fmt.Sprintf("AW-%06d", n), UUID: fmt.Sprintf("8d6f1a52-0c1b-4a67-9a44-%012d", n), Memory: 16 << 30,
		Disks: []api.Disk{{Model: "Brindle NV2", Serial: fmt.Sprintf("B%06d", n), Size: 512 << 30, SectorSize: 512}},
		Cards: []api.Card{{Address: scaleAddress(n).String(), Model: "sample card"}}}
	for d := range 30 {
		class := map[int]string{0: "network", 1: "storage"}[d]
		inv.Devices = append(inv.Devices, api.Device{ID: fmt.Sprintf("pci:v00008086d0000%04Xsv00008086sd00000001bc02sc00i00", 0x1000+model*40+d), Class: class, Name: fmt.Sprintf("sample device %d", d)})
	}
	return inv
}

// fillRoster takes workstations in, each into a group.
func fillRoster(ctx context.Context, db *records.DB, now time.Time, workstations int) ([]int64, error) {
	for g := range scaleGroups {
		if err := db.AddGroup(ctx, fmt.Sprintf("room-%03d", g)); err != nil {
			return nil, err
		}
	}
	ids := make([]int64, workstations)
	for n := range ids {
		w, err := db.CheckIn(ctx, now, records.Seen{Own: []hwaddr.Address{scaleAddress(n)}, AgentVersion: version.Program(), Inventory: scaleInventory(n)})
		if err != nil {
			return nil, err
		}
		ids[n] = w.ID
		if err := db.Admit(ctx, w.ID, scaleName(n), []string{fmt.Sprintf("room-%03d", n%scaleGroups)}); err != nil {
			return nil, err
		}
	}
	return ids, nil
}

// fill makes the records as a service would have them after some years.
func fill(ctx context.Context, data string) error {
	if err := os.MkdirAll(data, 0o750); err != nil {
		return err
	}
	db, err := records.Open(ctx, time.Now(), path(data, "jugate.db"))
	if err != nil {
		return err
	}
	defer db.Close()
	now := time.Now().AddDate(-3, 0, 0)
	ids, err := fillRoster(ctx, db, now, scaleWorkstations)
	if err != nil {
		return err
	}
	for i := range scaleImages {
		for v := range scaleVersions {
			if err := db.AddVersion(ctx, now, 0, records.Version{Image: fmt.Sprintf("image-%03d", i), Number: v + 1, Digest: strings.Repeat(fmt.Sprintf("%04x", i*scaleVersions+v), 16), Captured: now,
				Workstation: "desk-00000", DiskBytes: 512 << 30, UsedBytes: 40 << 30, Slabs: 40_000}); err != nil {
				return err
			}
		}
	}
	r := rand.New(rand.NewPCG(13, 1))
	for d := range scaleDeliveries {
		at := now.Add(time.Duration(d) * 12 * time.Hour)
		first := r.IntN(scaleWorkstations)
		members := make([]int64, scaleMembers)
		receipts := make([]records.Receipt, scaleMembers)
		image := fmt.Sprintf("image-%03d", d%scaleImages)
		for i := range members {
			n := (first + i*scaleGroups) % scaleWorkstations
			if i*scaleGroups >= scaleWorkstations {
				n = (first + i) % scaleWorkstations
			}
			members[i] = ids[n]
			receipts[i] = records.Receipt{WorkstationID: ids[n], Workstation: scaleName(n), Address: scaleAddress(n).String(), Image: image, Version: 1 + d%scaleVersions, Digest: strings.Repeat("ab", 32),
				Started: sql.NullTime{Time: at, Valid: true}, Ended: at.Add(time.Hour), BytesMulticast: 40 << 30, Verified: true, Outcome: delivery.Delivered, OrderedBy: "administrator"}
			if r.IntN(50) == 0 {
				receipts[i].Verified, receipts[i].Outcome, receipts[i].Reason = false, delivery.Failed, "silent for 300 s"
			}
		}
		slices.Sort(members)
		members = slices.Compact(members)
		id, err := db.AddDelivery(ctx, records.Delivery{Image: image, Version: 1 + d%scaleVersions, Digest: strings.Repeat("ab", 32), Rule: "all", Rate: 1e8, Channel: "233.252.0.1:6003", Created: at, UsedBytes: 40 << 30,
			WhenDone: "stay", Options: "{}", Aside: "{}", Drivers: "{}"}, []string{fmt.Sprintf("room-%03d", d%scaleGroups)}, members)
		if err != nil {
			return err
		}
		seen := map[int64]bool{}
		receipts = slices.DeleteFunc(receipts, func(r records.Receipt) bool {
			again := seen[r.WorkstationID]
			seen[r.WorkstationID] = true
			return again
		})
		for i := range receipts {
			receipts[i].DeliveryID = id
		}
		if _, err := db.AddReceipts(ctx, receipts); err != nil {
			return err
		}
		if err := db.SetDelivery(ctx, at.Add(time.Hour), id, delivery.Finished, "", 40<<30); err != nil {
			return err
		}
	}
	return nil
}

// served is a service in a process of its own.
type served struct {
	process *exec.Cmd
	url     string
	client  connected
	took    time.Duration // until it was ready
}

func startService(ctx context.Context, data string) (*served, error) {
	s := &served{url: "https://127.0.0.1:17460"}
	exe, err := filepath.Abs(executable)
	if err != nil {
		return nil, err
	}
	s.process = exec.CommandContext(ctx, exe, "serve", "--data", data, "--listen", "127.0.0.1:17460", "--multicast-interface", "lo")
	log, err := os.Create(path(filepath.Dir(data), "service.log"))
	if err != nil {
		return nil, err
	}
	s.process.Stdout, s.process.Stderr = log, log
	began := time.Now()
	if err := s.process.Start(); err != nil {
		return nil, err
	}
	if s.client, err = connect(ctx, nil, s.url, data); err != nil {
		text, _ := os.ReadFile(log.Name())
		return nil, fmt.Errorf("the service does not come up: %w: %s", err, text)
	}
	s.took = time.Since(began)
	return s, nil
}

func (s *served) stop() {
	s.process.Process.Signal(os.Interrupt)
	s.process.Wait()
}

// memory is what the service holds now, in bytes.
func (s *served) memory() int64 {
	text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/statm", s.process.Process.Pid))
	fields := strings.Fields(string(text))
	if len(fields) < 2 {
		return 0
	}
	pages, _ := strconv.ParseInt(fields[1], 10, 64)
	return pages * int64(os.Getpagesize())
}

// processor is how much processor time the service has taken, in seconds.
func (s *served) processor() float64 {
	text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", s.process.Process.Pid))
	_, after, _ := strings.Cut(string(text), ") ")
	fields := strings.Fields(after)
	if len(fields) < 13 {
		return 0
	}
	user, _ := strconv.ParseFloat(fields[11], 64)
	system, _ := strconv.ParseFloat(fields[12], 64)
	return (user + system) / 100
}

// get asks for a path of the API and returns how long that took.
func (s *served) get(ctx context.Context, path string) (time.Duration, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, s.url+"/api/v1"+path, nil)
	if err != nil {
		return 0, err
	}
	r.Header.Set("Authorization", "Bearer "+s.client.Token())
	began := time.Now()
	resp, err := s.client.HTTP().Do(r)
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	if _, err := discard(resp.Body); err != nil {
		return 0, err
	}
	if resp.StatusCode != http.StatusOK {
		return 0, fmt.Errorf("%s: %s", path, resp.Status)
	}
	return time.Since(began), nil
}

// examined waits until the service has read all of its records, as it does after a start.
func (s *served) examined(ctx context.Context) error {
	for before := -1.0; ; {
		now := s.processor()
		if now-before < 0.05 {
			fmt.Printf("processor time until everything was examined in the background: %.1f s\n", now)
			return nil
		}
		before = now
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// lists asks for each list at its first, a middle and its last page, by each sort and
// filter.
func (s *served) lists(ctx context.Context) error {
	routes := []struct {
		path    string
		total   int
		sorts   []string
		filters []string
	}{
		{"/workstations", scaleWorkstations, []string{"name", "-name", "model", "serial", "state", "-last_seen"}, []string{"state=admitted", "group=room-007", "search=A1042", "search=desk-0999", "state=admitted&search=5e%3A00"}},
		{"/cards", scaleWorkstations, []string{"hardware_address", "workstation", "-state"}, []string{"state=accepted", "search=desk-0099"}},
		{"/groups", scaleGroups, []string{"name", "-workstation_count"}, []string{"search=room-3"}},
		{"/images", scaleImages, []string{"image", "-captured"}, []string{"search=image-09"}},
		{"/images/image-042/versions", scaleVersions, nil, nil},
		{"/deliveries", scaleDeliveries, []string{"created", "-state", "image"}, []string{"open=true", "search=image-042"}},
		{"/errands", scaleDeliveries * scaleMembers, []string{"created", "-workstation", "kind", "state"}, []string{"open=true", "workstation=desk-00042", "search=image-042"}},
		{"/receipts", scaleDeliveries * scaleMembers, []string{"ended", "-ended", "workstation", "image", "outcome"}, []string{"outcome=failed", "outcome=delivered", "image=image-042", "workstation=desk-00042", "delivery=77", "search=desk-0999", "search=silent"}},
		{"/drivers", 1, nil, []string{"search=corvid"}},
		{"/driver-sets", 1, nil, nil},
		{"/builds", 1, nil, nil},
		{"/refusals", 1, []string{"at"}, nil},
		{"/media-keys", 1, nil, nil},
	}
	fmt.Printf("\n%-28s %8s %8s %8s   %s\n", "list", "requests", "p50 ms", "p99 ms", "slowest (goal: p99 of 50 ms)")
	for _, r := range routes {
		type timed struct {
			query string
			took  time.Duration
		}
		var all []timed
		var queries []string
		for _, offset := range []int{0, r.total / 2, max(0, r.total-100)} {
			for _, sort := range append([]string{""}, r.sorts...) {
				for _, filter := range append([]string{""}, r.filters...) {
					q := []string{fmt.Sprintf("limit=100&offset=%d", offset)}
					if sort != "" {
						q = append(q, "sort="+sort)
					}
					if filter != "" {
						q = append(q, filter)
					}
					queries = append(queries, "?"+strings.Join(q, "&"))
				}
			}
		}
		if r.sorts == nil && r.filters == nil {
			queries = []string{""}
		}
		repeat := max(3, 300/len(queries))
		for range repeat {
			for _, q := range queries {
				took, err := s.get(ctx, r.path+q)
				if err != nil {
					return err
				}
				all = append(all, timed{q, took})
			}
		}
		slices.SortFunc(all, func(a, b timed) int { return int(a.took - b.took) })
		at := func(p float64) float64 { return all[int(p*float64(len(all)-1))].took.Seconds() * 1000 }
		last := all[len(all)-1]
		fmt.Printf("%-28s %8d %8.1f %8.1f   %.1f ms %s\n", r.path, len(all), at(0.5), at(0.99), last.took.Seconds()*1000, last.query)
	}
	for _, one := range []string{"/overview", "/models", "/model?model=" + url.QueryEscape("Alder Works A1042"), "/reports/rooms", "/reports/failures", "/reports/savings", "/reports/licences", "/reports/drivers", "/coverage", "/log/check"} {
		first, err := s.get(ctx, one)
		if err != nil {
			return err
		}
		again, err := s.get(ctx, one)
		if err != nil {
			return err
		}
		fmt.Printf("%-28s first %.0f ms, again %.0f ms\n", one, first.Seconds()*1000, again.Seconds()*1000)
	}
	return nil
}
