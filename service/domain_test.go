package service_test

import (
	"io"
	"net"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/lab"
)

// door is a way to a domain controller that can be shut.
type door struct {
	listener net.Listener
	shut     atomic.Bool
	to       func() (net.Conn, error)
}

func openDoor(t *testing.T, to func() (net.Conn, error)) *door {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	d := &door{listener: listener, to: to}
	var passing sync.WaitGroup
	passing.Go(func() {
		for {
			in, err := listener.Accept()
			if err != nil {
				return
			}
			passing.Go(func() { d.pass(in) })
		}
	})
	t.Cleanup(func() { listener.Close(); passing.Wait() })
	return d
}

func (d *door) pass(in net.Conn) {
	defer in.Close()
	if d.shut.Load() {
		return
	}
	out, err := d.to()
	if err != nil {
		return
	}
	defer out.Close()
	go func() { io.Copy(out, in); out.Close() }()
	io.Copy(in, out)
}

func TestADomainThatDoesNotAnswer(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("a domain controller in a network of its own takes root")
	}
	n, err := lab.NewNetwork(t.Context(), "dc1", "desk")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, n.Close()) })
	domain, err := n.Host("dc1").StartDomain(t.Context(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { domain.Close() })
	const unit = "OU=Workstations,DC=fennholt,DC=example"
	require.NoError(t, domain.Joiner(t.Context(), unit, "jugate"))
	way := openDoor(t, func() (net.Conn, error) {
		return n.Host("desk").Dial(t.Context(), "tcp", net.JoinHostPort(n.Host("dc1").Address.String(), "636"))
	})

	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	_, err = h.client.AddDomain(ctx, api.NewDomain{Name: lab.DomainName, Server: "ldaps://" + way.listener.Addr().String(), Account: "jugate@" + lab.DomainName, Password: lab.DomainPassword, Unit: unit, Certificate: string(domain.Authority)})
	require.NoError(t, err)
	h.start(1, linuxDisk(t), 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	for i, name := range []string{"herb-01", "herb-02"} {
		h.start(2+i, blank(t, 66<<20), 0, name)
	}
	require.NoError(t, h.set("service", map[string]any{"domain": lab.DomainName}))

	t.Log("# nobody answers: an order is refused, or has its copy in no domain, or waits")
	way.shut.Store(true)
	order := api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}}
	_, err = h.client.Deliver(ctx, order)
	assert.ErrorContains(t, err, "--domain-away")
	alone := api.NewDelivery{Image: "garden-desk", To: []string{"herb-02"}, DomainAway: "go-on"}
	r := h.receipts(h.deliver(alone).ID)["herb-02"]
	require.EqualValues(t, "delivered", r.Outcome, r.Reason)
	assert.Contains(t, r.Remark, "it is not in fennholt.example, whose controller did not answer")
	order.DomainAway = "wait"
	d, err := h.client.Deliver(ctx, order)
	require.NoError(t, err)
	h.eventually(func() bool {
		w, err := h.client.Workstation(ctx, "herb-01")
		return err == nil && strings.HasPrefix(w.Activity, "waits: ")
	})
	d, err = h.client.Delivery(ctx, d.ID)
	require.NoError(t, err)
	assert.EqualValues(t, "gathering", d.State)

	t.Log("# it is back: the workstation goes on by itself")
	way.shut.Store(false)
	h.eventually(func() bool {
		d, err = h.client.Delivery(ctx, d.ID)
		return err == nil && d.Ended != nil
	})
	r = h.receipts(d.ID)["herb-01"]
	require.EqualValues(t, "delivered", r.Outcome, r.Reason)
	assert.Contains(t, r.Remark, "answered as herb-01, in "+lab.DomainName)
	_, err = domain.Tool(ctx, "computer", "show", "herb-01")
	assert.NoError(t, err, "the controller has its account")
	_, err = domain.Tool(ctx, "computer", "show", "herb-02")
	assert.Error(t, err)
}
