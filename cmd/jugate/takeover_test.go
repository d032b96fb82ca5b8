package main

import (
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
)

// machine is a machine that is the service, or waits to become it.
type machine struct {
	data, listen string
	cmd          *exec.Cmd
}

func (m *machine) client(t *testing.T) *apiclient.Client {
	t.Helper()
	token, err := os.ReadFile(filepath.Join(m.data, "admin.token"))
	require.NoError(t, err)
	authority, err := os.ReadFile(filepath.Join(m.data, "authority.pem"))
	require.NoError(t, err)
	c, err := apiclient.New("https://"+m.listen, strings.TrimSpace(string(token)))
	require.NoError(t, err)
	c, err = c.Trusting(authority)
	require.NoError(t, err)
	return c
}

// free is an address on loopback that nobody has now.
func free(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

// answers waits until a machine is the service.
func (m *machine) answers(t *testing.T) *apiclient.Client {
	t.Helper()
	var c *apiclient.Client
	require.Eventually(t, func() bool {
		if _, err := os.Stat(filepath.Join(m.data, "admin.token")); err != nil {
			return false
		}
		c = m.client(t)
		_, err := c.Groups(t.Context(), apiclient.List{})
		return err == nil
	}, 5*time.Minute, 20*time.Millisecond)
	return c
}

// One machine after the other is the service, is killed in the middle of its work, and the next one, which
// waits, goes on. What was answered is there but for the newest, in the order in which it was answered; the log
// is sound, and what was signed and is lost is on record.
func TestKilledMachinesAreFollowedByOthers(t *testing.T) {
	shelf, folders := t.TempDir(), t.TempDir()
	random := rand.New(rand.NewPCG(20, 29))
	start := func(n int, args ...string) *machine {
		m := &machine{data: filepath.Join(folders, fmt.Sprint(n)), listen: free(t)}
		m.cmd = jugate(t, append(args, "--data", m.data, "--listen", m.listen, "--multicast-groups", "233.252.0.0/24")...)
		m.cmd.Stderr = t.Output()
		require.NoError(t, m.cmd.Start())
		return m
	}
	now := start(0, "serve")
	c := now.answers(t)
	_, err := c.AddStore(t.Context(), api.NewStore{Name: "shelf", Place: shelf})
	require.NoError(t, err)
	_, err = c.UseStandby(t.Context(), "shelf")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		s, err := c.Standby(t.Context())
		return err == nil && s.Files != nil && s.Records != nil
	}, 5*time.Minute, 20*time.Millisecond)

	var kept []string // groups that are known to be there
	var lost, forks int
	var worst time.Duration
	var takes []time.Duration
	for n := range kills(t, 4) {
		next := start(n+1, "takeover", "--from", shelf, "--wait")
		type answered struct {
			name string
			at   time.Time
		}
		var mu sync.Mutex
		var all []answered
		stop := make(chan struct{})
		var writing sync.WaitGroup
		writing.Go(func() {
			for i := 0; ; i++ {
				select {
				case <-stop:
					return
				default:
				}
				name := fmt.Sprintf("room-%d-%d", n, i)
				if _, err := c.AddGroup(t.Context(), api.NewGroup{Name: name}); err != nil {
					return
				}
				mu.Lock()
				all = append(all, answered{name, time.Now()})
				mu.Unlock()
			}
		})
		enough := 1 + random.IntN(600)
		require.Eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return len(all) >= enough }, 5*time.Minute, time.Millisecond)
		killed := time.Now()
		require.NoError(t, now.cmd.Process.Kill())
		close(stop)
		writing.Wait()
		now.cmd.Wait()

		c = next.answers(t)
		takes = append(takes, time.Since(killed))
		there := map[string]bool{}
		for offset := 0; ; {
			page, err := c.Groups(t.Context(), apiclient.List{Limit: 500, Offset: offset})
			require.NoError(t, err)
			for _, g := range page.Items {
				there[g.Name] = true
			}
			if offset += len(page.Items); len(page.Items) == 0 || offset >= page.Total {
				break
			}
		}
		for _, name := range kept {
			require.True(t, there[name], "%s was there before", name)
		}
		gone := false
		for _, a := range all {
			if !there[a.name] {
				if !gone {
					worst = max(worst, killed.Sub(a.at))
				}
				gone = true
				lost++
				continue
			}
			assert.False(t, gone, "%s is there, and what was answered before is not", a.name)
			kept = append(kept, a.name)
		}
		check, err := c.CheckLog(t.Context())
		require.NoError(t, err)
		assert.True(t, check.Sound, check.Detail)
		s, err := c.Standby(t.Context())
		require.NoError(t, err)
		assert.Equal(t, int64(n+2), s.Term)
		now = next
	}
	page, err := c.Lines(t.Context(), apiclient.List{Limit: 500})
	require.NoError(t, err)
	for _, l := range page.Items {
		if l.Operation == "restore-log" {
			forks++
		}
	}
	t.Logf("%d kills, %d groups answered and there, %d answered and lost, the oldest %s before the kill; %d forks among the newest lines of the log; it took %s until the next machine answered", len(takes), len(kept), lost, worst, forks, takes)
	now.cmd.Process.Kill()
	now.cmd.Wait()
}
