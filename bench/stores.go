package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"jugate/agent"
	"jugate/api"
	"jugate/apiclient"
	"jugate/bucket/buckettest"
	"jugate/core/hwaddr"
	"jugate/core/lease"
	"jugate/demo/golddisk"
	"jugate/sim"
)

const (
	storesDisk  = 1 << 30
	storesData  = 600 << 20
	storeRounds = 5
)

// stores measures deliveries of a version that lies in the data folder, and in an object store with and
// without what the data folder has of it; and a backup with its restore.
func stores(ctx context.Context, dir string) error {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Minute)
	defer cancel()
	server, err := buckettest.Launch(path(dir, "objects"))
	if err != nil {
		return err
	}
	defer server.Kill()
	data := path(dir, "data")
	s, err := serveHere(ctx, data)
	if err != nil {
		return err
	}
	defer s.stop()
	gold, target := path(dir, "gold"), path(dir, "target")
	if _, err := golddisk.Build(ctx, golddisk.Spec{Path: gold, Size: storesDisk, Data: storesData, Seed: 7}); err != nil {
		return err
	}
	if err := s.run(ctx, "image", "import", gold, "--as", "garden-desk"); err != nil {
		return err
	}
	if err := golddisk.Blank(target, storesDisk); err != nil {
		return err
	}
	d, err := s.desk(ctx, target)
	if err != nil {
		return err
	}
	if _, err := s.client.AddStore(ctx, api.NewStore{Name: "big", Place: server.URL, Key: buckettest.Key, Secret: buckettest.Secret}); err != nil {
		return err
	}
	v, err := s.client.Version(ctx, "garden-desk")
	if err != nil {
		return err
	}
	folder, warm, cold := []float64{}, []float64{}, []float64{}
	inFolder := func() error {
		took, err := d.deliver(ctx)
		folder = append(folder, took)
		return err
	}
	if err := inFolder(); err != nil { // the first one finds nothing in the page cache
		return err
	}
	folder = nil
	if err := inFolder(); err != nil {
		return err
	}
	began := time.Now()
	if _, err := s.client.MoveToStore(ctx, "big", api.StoreMove{}); err != nil {
		return err
	}
	if err := s.until(ctx, func() (bool, error) {
		v, err := s.client.Version(ctx, "garden-desk")
		return v.Store == "big", err
	}); err != nil {
		return err
	}
	moved := time.Since(began).Seconds()
	none, plenty := int64(0), int64(1)<<40
	for range storeRounds {
		if err := s.cache(ctx, none); err != nil {
			return err
		}
		if err := s.until(ctx, func() (bool, error) { return emptyStore(filepath.Join(data, "slabs")) }); err != nil {
			return err
		}
		if err := s.cache(ctx, plenty); err != nil {
			return err
		}
		took, err := d.deliver(ctx)
		if err != nil {
			return err
		}
		cold = append(cold, took)
		if took, err = d.deliver(ctx); err != nil {
			return err
		}
		warm = append(warm, took)
	}
	if _, err := s.client.MoveToStore(ctx, "folder", api.StoreMove{}); err != nil {
		return err
	}
	if err := s.until(ctx, func() (bool, error) {
		v, err := s.client.Version(ctx, "garden-desk")
		return v.Store == "folder", err
	}); err != nil {
		return err
	}
	for range storeRounds {
		if err := inFolder(); err != nil {
			return err
		}
	}
	of := median(folder)
	fmt.Printf("deliveries of %d MB as stored (%d MB in use), median of %d: from the data folder %.2f s; from an object store, the data folder has it %.2f s, ratio of speeds %.2f (goal 0.9); the data folder has nothing of it %.2f s, ratio %.2f; moving it there took %.2f s\n",
		v.StoredBytes/1e6, v.UsedBytes/1e6, storeRounds, of, median(warm), of/median(warm), median(cold), of/median(cold), moved)
	return backupAndRestore(ctx, s, server, dir)
}

func backupAndRestore(ctx context.Context, s *hereService, server *buckettest.Server, dir string) error {
	began := time.Now()
	first, err := s.client.MakeBackup(ctx, api.NewBackup{Store: "big", Slabs: true})
	if err != nil {
		return err
	}
	full := time.Since(began).Seconds()
	began = time.Now()
	second, err := s.client.MakeBackup(ctx, api.NewBackup{Store: "big", Slabs: true})
	if err != nil {
		return err
	}
	again := time.Since(began).Seconds()
	cmd := exec.CommandContext(ctx, executable, "restore", "--from", server.URL, "--key", buckettest.Key, "--data", path(dir, "restored"))
	cmd.Stdin = strings.NewReader(buckettest.Secret + "\n")
	began = time.Now()
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	fmt.Printf("a backup into the object store, whose slabs are there: %.2f s, %d kB sent; the next one %.2f s, %d kB; the restore with all slabs %.2f s\n",
		full, first.Sent/1e3, again, second.Sent/1e3, time.Since(began).Seconds())
	return nil
}

func emptyStore(dir string) (bool, error) {
	left, err := filepath.Glob(filepath.Join(dir, "??", "*"))
	return len(left) == 0, err
}

func (s *hereService) cache(ctx context.Context, bytes int64) error {
	_, err := s.client.UseStore(ctx, api.StoreUse{Cache: &bytes})
	return err
}

// until asks again and again.
func (s *hereService) until(ctx context.Context, is func() (bool, error)) error {
	for {
		if yes, err := is(); yes || err != nil {
			return err
		}
		select {
		case <-time.After(10 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// desk is a workstation that is delivered to again and again.
type desk struct {
	s    *hereService
	disk string
}

func (s *hereService) desk(ctx context.Context, disk string) (*desk, error) {
	card := hwaddr.MustParse(address(1))
	w := &sim.Workstation{Addresses: []hwaddr.Address{card}, Disks: []string{disk}, Interface: "lo"}
	c, err := apiclient.ForAgent(s.url, mustRead(path(s.data, "authority.pem")))
	if err != nil {
		return nil, err
	}
	s.work.Go(func() { agent.New(c, w, agent.Options{}).Run(s.running) })
	err = s.until(ctx, func() (bool, error) {
		_, err := s.client.Admit(ctx, card.String(), api.Admission{Name: "herb-01"})
		return err == nil, nil
	})
	return &desk{s, disk}, err
}

func mustRead(name string) []byte {
	b, err := os.ReadFile(name)
	if err != nil {
		panic(err) // the service has just written it
	}
	return b
}

// deliver tells how many seconds a delivery took.
func (d *desk) deliver(ctx context.Context) (float64, error) {
	began := time.Now()
	out, err := d.s.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}, Rate: 4_000_000_000, RestoreOptions: api.RestoreOptions{}})
	if err != nil {
		return 0, err
	}
	err = d.s.until(ctx, func() (bool, error) {
		now, err := d.s.client.Delivery(ctx, out.ID)
		return now.State == "finished", err
	})
	return time.Since(began).Seconds(), err
}

// takeover measures how long it takes, from the death of the machine that is the service, until another one
// answers; and how old the oldest thing is that was answered and got lost.
func takeover(ctx context.Context, dir string) error {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Minute)
	defer cancel()
	server, err := buckettest.Launch(path(dir, "objects"))
	if err != nil {
		return err
	}
	defer server.Kill()
	start := func(n int, args ...string) (data, url string, cmd *exec.Cmd, err error) {
		data, url = path(dir, fmt.Sprintf("data-%d", n)), fmt.Sprintf("127.0.0.1:%d", 17460+n)
		cmd = exec.CommandContext(ctx, executable, append(args, "--data", data, "--listen", url, "--multicast-groups", "233.252.0.0/24")...)
		cmd.Stdin = strings.NewReader(buckettest.Secret + "\n")
		return data, "https://" + url, cmd, cmd.Start()
	}
	data, url, now, err := start(0, "serve")
	if err != nil {
		return err
	}
	c, err := connect(ctx, nil, url, data)
	if err != nil {
		return err
	}
	if _, err := c.AddStore(ctx, api.NewStore{Name: "big", Place: server.URL, Key: buckettest.Key, Secret: buckettest.Secret}); err != nil {
		return err
	}
	if _, err := c.UseStandby(ctx, "big"); err != nil {
		return err
	}
	for n := range 2000 {
		if _, err := c.AddGroup(ctx, api.NewGroup{Name: fmt.Sprintf("room-%d", n)}); err != nil {
			return err
		}
	}
	var takes []float64
	lost := time.Duration(0)
	for n := range storeRounds {
		data, url, next, err := start(n+1, "takeover", "--from", server.URL, "--key", buckettest.Key, "--wait")
		if err != nil {
			return err
		}
		time.Sleep(lease.For / 3)
		type done struct {
			name string
			at   time.Time
		}
		var all []done
		for i := 0; i < 1500; i++ {
			name := fmt.Sprintf("late-%d-%d", n, i)
			if _, err := c.AddGroup(ctx, api.NewGroup{Name: name}); err != nil {
				return err
			}
			all = append(all, done{name, time.Now()})
		}
		killed := time.Now()
		if err := errors.Join(now.Process.Kill(), ignoreExit(now.Wait())); err != nil {
			return err
		}
		if c, err = connect(ctx, nil, url, data); err != nil {
			return err
		}
		for {
			if _, err := c.Groups(ctx, apiclient.List{Limit: 1}); err == nil {
				break
			}
			time.Sleep(10 * time.Millisecond)
		}
		takes = append(takes, time.Since(killed).Seconds())
		for _, d := range all {
			page, err := c.Groups(ctx, apiclient.List{Search: d.name, Limit: 500})
			if err != nil {
				return err
			}
			if !slices.ContainsFunc(page.Items, func(g api.Group) bool { return g.Name == d.name }) {
				lost = max(lost, killed.Sub(d.at))
				break
			}
		}
		now = next
	}
	now.Process.Kill()
	now.Wait()
	fmt.Printf("takeovers, %d: %.1f s from the death of a machine until the next one answers (%.1f at most), of which %v are the lease; the oldest change that was answered and got lost was answered %.2f s before\n",
		storeRounds, median(takes), slices.Max(takes), lease.For, lost.Seconds())
	return nil
}

func ignoreExit(err error) error {
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return nil
	}
	return err
}
