// Package notify tells people and programs what has happened: by mail, and by webhooks as Standard Webhooks describes them.
// Rules say who is told of what.
//
//	n := notify.New(notify.Config{Records: db, …})
//	n.Heard(event)  // for each event that is published
//	go n.Keep(ctx)  // looks for what no event tells, and sends
//
// What is to be told lies in the records as messages until it was taken: a service that is started again sends what waits. Of one
// thing a rule tells once, whatever happens in between.
//
//	catalogue.go  the events that there are
//	rules.go      who is told of what
//	happened.go   from what the service publishes to messages
//	look.go       what nobody publishes: what is stuck, late or out of order
//	send.go       when messages are sent, and tried again
//	mail.go       mail (RFC 5321) through a server
//
// The HTTP of webhooks is in package web.
package notify

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"jugate/api"
	"jugate/core/fault"
	"jugate/records"
)

// Secrets seals what must not be read in the records.
type Secrets interface {
	Seal(about, text string) (string, error)
	Unseal(about, text string) (string, error)
}

// Overview tells how everything is.
type Overview interface {
	Show(ctx context.Context) (api.Overview, error)
}

// Stock tells how machines boot.
type Stock interface {
	NetbootStatus(ctx context.Context) (api.NetbootStatus, error)
}

// Orders tell of receipts and checks.
type Orders interface {
	ReceiptOf(r records.Receipt) api.Receipt
	CheckOf(c records.MachineCheck) (api.Check, error)
}

// Hooks send webhooks.
type Hooks interface {
	// Post sends a payload to an address, signed with a secret. The error is an ErrGone or an ErrRefused, or says that the address
	// takes nothing now.
	Post(ctx context.Context, to Endpoint, id string, at time.Time, payload []byte) error
}

var (
	// ErrGone says that an address wants no more webhooks, ever.
	ErrGone = errors.New("it wants no more webhooks")
	// ErrRefused says that an address does not take this one payload.
	ErrRefused = errors.New("it does not take this one")
)

// Endpoint is an address that takes webhooks.
type Endpoint struct {
	URL         string
	Certificate string // PEM of its authority; empty for those that this machine trusts
	Secret      string // whsec_ and Base64
}

// Config says what is needed. All of it is set.
type Config struct {
	Records       *records.DB
	Secrets       Secrets
	Overview      Overview
	Stock         Stock
	Orders        Orders
	Hooks         Hooks
	Console       string // where people reach it, as https://HOST:PORT; may be empty
	ArrivalWithin func() time.Duration
	Log           *slog.Logger
	Now           func() time.Time
	Publish       func(event any)
}

// Notify tells.
type Notify struct {
	Config
	heard chan any
	bell  chan struct{}

	mu   sync.Mutex
	told map[string]struct{} // what was heard of lately, so that it is not looked up again and again
	lost int                 // events that were dropped because the queue was full
}

const (
	// heardAtMost is how many events wait to be looked at.
	heardAtMost = 8192
	// toldAtMost bounds what is remembered of them.
	toldAtMost = 16_384
)

// New makes one that tells nothing yet.
func New(c Config) *Notify {
	return &Notify{Config: c, heard: make(chan any, heardAtMost), bell: make(chan struct{}, 1), told: map[string]struct{}{}}
}

// lookEach is how often is looked for what nobody publishes.
const lookEach = time.Minute

// Keep tells of what happens until the context ends.
func (n *Notify) Keep(ctx context.Context) {
	var work sync.WaitGroup
	work.Go(func() { n.listen(ctx) })
	work.Go(func() {
		for look := time.NewTicker(lookEach); ; {
			select {
			case <-look.C:
			case <-ctx.Done():
				look.Stop()
				return
			}
			if err := fault.Guard(func() error { return n.Look(ctx) }); err != nil && ctx.Err() == nil {
				n.Log.Error("it could not be looked for what to tell of", "error", err)
			}
		}
	})
	for {
		next, err := n.Send(ctx)
		if err != nil && ctx.Err() == nil {
			n.Log.Error("messages could not be sent", "error", err)
		}
		wait := lookEach
		if !next.IsZero() {
			wait = min(max(0, next.Sub(n.Now())), lookEach)
		}
		due := time.NewTimer(wait)
		select {
		case <-due.C:
		case <-n.bell:
		case <-ctx.Done():
			due.Stop()
			work.Wait()
			return
		}
		due.Stop()
	}
}

// ring has messages be sent that are due now.
func (n *Notify) ring() {
	select {
	case n.bell <- struct{}{}:
	default:
	}
}
