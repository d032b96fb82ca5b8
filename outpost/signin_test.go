package outpost_test

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/agent"
	"jugate/api"
	"jugate/apiclient"
	"jugate/core/hwaddr"
	"jugate/outpost"
	"jugate/sim"
)

// While the line is cut whoever signed in here before may do so again, for a time, and choose; what they choose is ordered when the
// line is back, and the service asks them again.
func TestPeopleSignInWhileTheLineIsCut(t *testing.T) {
	t.Parallel()
	h := newTown(t)
	ctx := t.Context()
	h.capture()
	code, err := h.client.AddOutpost(ctx, api.NewOutpost{Name: "alpine"})
	require.NoError(t, err)
	var mu sync.Mutex
	ahead := time.Duration(0)
	at, _ := h.open(code.Code, func(c *outpost.Config) {
		c.Now = func() time.Time {
			mu.Lock()
			defer mu.Unlock()
			return time.Now().Add(ahead)
		}
	})
	c, err := apiclient.ForAgent("https://"+at, h.service.Authority())
	require.NoError(t, err)
	disk := blank(t)
	w := &sim.Workstation{Addresses: []hwaddr.Address{address(0x11)}, Maker: "Alder Works", Model: "A310", Serial: "AW-0011", Memory: 8 << 30, Interface: "lo", Disks: []string{disk}}
	a := agent.New(c, w, agent.Options{Certificate: h.service.Authority(), Log: slog.New(slog.NewTextHandler(t.Output(), nil)).With("agent", "alpine-01")})
	running, stop := context.WithCancel(ctx)
	var done sync.WaitGroup
	done.Go(func() { a.Run(running) })
	t.Cleanup(func() { stop(); done.Wait() })
	h.eventually(func() bool { _, err := h.client.Workstation(ctx, address(0x11).String()); return err == nil })
	_, err = h.client.Admit(ctx, address(0x11).String(), api.Admission{Name: "alpine-01"})
	require.NoError(t, err)
	for _, name := range []string{"iris", "rowan"} {
		_, err = h.client.AddPerson(ctx, api.NewPerson{Name: name, Grants: []api.Grant{{Role: "engineer", On: "everything"}}})
		require.NoError(t, err)
		link, err := h.client.Invite(ctx, name)
		require.NoError(t, err)
		_, err = h.client.WithToken("").Accept(ctx, link.Secret, api.Acceptance{Password: "a few words of " + name})
		require.NoError(t, err)
	}
	iris := api.Typed{Name: "Iris", Password: "a few words of iris"}

	t.Log("# the line is cut: nobody has signed in here yet")
	h.line.set(true)
	_, err = a.SignIn(ctx, iris)
	assert.True(t, apiclient.IsPassing(err), "%v", err)
	h.line.set(false)
	h.eventually(func() bool { in, err := a.SignIn(ctx, iris); return err == nil && !in.Later })
	_, err = a.SignIn(ctx, api.Typed{Name: "rowan", Password: "a few words of rowan"})
	require.NoError(t, err)

	t.Log("# it is cut again: by the same password, and by no other")
	h.line.set(true)
	in, err := a.SignIn(ctx, iris)
	require.NoError(t, err)
	assert.True(t, in.Later)
	assert.Equal(t, []string{"garden-desk"}, in.Images)
	_, err = a.SignIn(ctx, api.Typed{Name: "iris", Password: "another password"})
	assert.ErrorContains(t, err, "the password is not the one of the last time")
	_, err = a.SignIn(ctx, api.Typed{Name: "hazel", Password: "another password"})
	assert.True(t, apiclient.IsPassing(err), "%v", err)
	for range 5 {
		_, err = a.SignIn(ctx, api.Typed{Name: "rowan", Password: "another password"})
	}
	assert.ErrorContains(t, err, "too many wrong passwords")

	t.Log("# what is chosen waits for the line, and the service asks who that was")
	chosen := make(chan error, 1)
	go func() { chosen <- a.WishLater(ctx, iris, api.Wish{Kind: "receive", Image: "garden-desk"}) }()
	refused := make(chan error, 1)
	go func() {
		refused <- a.WishLater(ctx, api.Typed{Name: "rowan", Password: "another password"}, api.Wish{Kind: "capture", Image: "stolen"})
	}()
	h.line.set(false)
	require.NoError(t, <-chosen)
	assert.ErrorContains(t, <-refused, "the name or the password is wrong")
	h.eventually(func() bool {
		page, err := h.client.Receipts(ctx, apiclient.List{})
		return err == nil && len(page.Items) == 1 && page.Items[0].Outcome == "delivered"
	})
	page, err := h.client.Receipts(ctx, apiclient.List{})
	require.NoError(t, err)
	assert.Contains(t, page.Items[0].OrderedBy, "iris")

	t.Log("# it ends after the hours that are set")
	h.line.set(true)
	mu.Lock()
	ahead = 25 * time.Hour
	mu.Unlock()
	_, err = a.SignIn(ctx, iris)
	assert.True(t, apiclient.IsPassing(err), fmt.Sprint(err))
}
