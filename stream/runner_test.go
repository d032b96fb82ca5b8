package stream

import (
	"context"
	"errors"
	"log/slog"
	"maps"
	"net/netip"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/delivery"
	"jugate/core/fault"
	"jugate/core/image"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/core/volume"
)

// book is a ledger that can be full, or worse.
type book struct {
	mu       sync.Mutex
	full     int // how many more receipts are refused
	room     int // how often room is given
	odd      bool
	receipts map[string]Receipt
	notes    []string
	state    delivery.State
}

func (b *book) Receipts(_ context.Context, _ int64, all []Receipt) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.full > 0 {
		b.full--
		return fault.Full.Errorf("no room")
	}
	for _, r := range all {
		b.receipts[r.Name] = r
	}
	return nil
}

func (b *book) Note(_ context.Context, _ int64, n Note) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.notes = append(b.notes, n.By+": "+n.What)
	return nil
}

func (b *book) Reached(_ context.Context, _ time.Time, _ int64, s delivery.State, _ string, _ int64) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.state = s
	return nil
}

func (b *book) Moved(context.Context, int64, []int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.odd {
		b.odd = false
		panic("odd")
	}
}

func (b *book) GiveRoom() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.room == 0 {
		return false
	}
	b.room--
	return true
}

// seen is what it has now.
func (b *book) seen() (receipts map[string]Receipt, notes []string, state delivery.State, room int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return maps.Clone(b.receipts), slices.Clone(b.notes), b.state, b.room
}

// nobody has no slab.
type nobody struct{}

func (nobody) Frame(slabstore.Digest) ([]byte, error) { return nil, errors.New("away") }
func (nobody) Get(slabstore.Digest) ([]byte, error)   { return nil, errors.New("away") }
func (nobody) Delta(slabstore.Digest) ([]byte, error) { return nil, errors.New("away") }

// begin starts a delivery of one slab to n workstations, in a network that carries nothing:
// its interface is not there.
func begin(t *testing.T, b *book, n int) (*Streams, Order, func()) {
	t.Helper()
	b.receipts = map[string]Receipt{}
	slabs := image.NewMap(image.SlabSize)
	slabs.Add(image.Slab{Extents: []volume.Extent{{Start: 0, Length: 4096}}, Digest: slabstore.Sum([]byte("a slab"))})
	s := &Streams{Slabs: nobody{}, Ledger: b, Log: slog.New(slog.DiscardHandler), Now: time.Now, Secret: "secret"}
	s.Multicast = Multicast{Interface: "nowhere0"}
	s.Multicast.SetDefaults()
	o := Order{ID: 7, Version: roster.Ref{Image: "garden-desk", Version: 1}, Rate: 1e8, Channel: netip.MustParseAddrPort("233.252.0.1:6003"), State: delivery.Gathering,
		Created: time.Now(), AtLatest: time.Now().Add(time.Hour), Slabs: slabs}
	var members []Member
	for i := range n {
		members = append(members, Member{ID: int64(i + 1), Name: []string{"herb-01", "herb-02", "herb-03"}[i%3]})
	}
	ctx, stop := context.WithCancel(t.Context())
	require.NoError(t, s.Start(ctx, o, members))
	return s, o, func() { stop(); s.Wait() }
}

// through has a workstation report that its disk is right.
func through(t *testing.T, s *Streams, id int64) {
	t.Helper()
	r := s.Runner(7)
	for _, p := range []delivery.Report{{Phase: delivery.PhaseMending}, {Phase: delivery.Checking}, {Phase: delivery.Ended, Verified: true}} {
		_, err := r.Report(time.Now(), id, p)
		require.NoError(t, err)
	}
}

// after lets a time pass, and everything happen that is due then.
func after(d time.Duration) {
	time.Sleep(d)
	synctest.Wait()
}

func TestADeliveryGoesOnWithoutItsStream(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := &book{}
		s, _, stop := begin(t, b, 2)
		defer stop()
		t.Log("# both are ready, and the stream cannot be sent")
		for id := range int64(2) {
			_, err := s.Runner(7).Report(time.Now(), id+1, delivery.Report{Phase: delivery.Ready})
			require.NoError(t, err)
		}
		after(time.Second)
		d, err := s.Runner(7).Report(time.Now(), 1, delivery.Report{Phase: delivery.Receiving})
		require.NoError(t, err)
		assert.Equal(t, 1, d.Round, "the round has ended, as it broke off")
		for id := range int64(2) {
			all := &image.SlabSet{}
			all.Add(0)
			require.NoError(t, s.Runner(7).Lacking(time.Now(), id+1, 1, all, &image.SlabSet{}))
		}
		after(time.Second)
		t.Log("# what each lacks it fetches, and has its receipt")
		through(t, s, 1)
		through(t, s, 2)
		after(time.Second)
		assert.Nil(t, s.Runner(7), "it is over")
		receipts, notes, state, _ := b.seen()
		assert.Equal(t, delivery.Finished, state)
		assert.Equal(t, delivery.Delivered, receipts["herb-01"].End.Outcome)
		assert.Equal(t, delivery.Delivered, receipts["herb-02"].End.Outcome)
		assert.Contains(t, notes[0], "the stream broke off")
	})
}

func TestReceiptsThatCannotBeWrittenStayOwed(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := &book{full: 5, room: 1}
		s, o, stop := begin(t, b, 3)
		defer stop()
		s.Runner(o.ID).Stop(time.Now(), "stopped by the administrator")
		after(1500 * time.Millisecond)
		r := s.Runner(o.ID)
		require.NotNil(t, r, "it does not end before they are written")
		assert.Contains(t, r.Warning(time.Now()), "3 receipts cannot be written, and are tried again: the disk of the records is full")
		receipts, _, _, room := b.seen()
		assert.Empty(t, receipts)
		assert.Zero(t, room, "what was kept for this is given")
		after(10 * time.Second)
		assert.Nil(t, s.Runner(o.ID))
		receipts, _, state, _ := b.seen()
		require.Len(t, receipts, 3)
		assert.Equal(t, delivery.WasStopped, receipts["herb-03"].End.Outcome)
		assert.Equal(t, "stopped by the administrator", receipts["herb-03"].End.Reason)
		assert.Equal(t, delivery.Stopped, state)
	})
}

func TestAFaultOfTheProgramLeavesReceipts(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := &book{odd: true}
		s, o, stop := begin(t, b, 2)
		defer stop()
		after(time.Second)
		assert.Nil(t, s.Runner(o.ID))
		receipts, _, _, _ := b.seen()
		require.Len(t, receipts, 2)
		assert.Contains(t, receipts["herb-01"].End.Reason, "a fault of the program")
	})
}

func TestTheMoreTakePartTheLessOftenEachReports(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for n, want := range map[int]time.Duration{2: 500 * time.Millisecond, 500: 500 * time.Millisecond, 3000: 3 * time.Second} {
			s, o, stop := begin(t, &book{}, n)
			d, err := s.Runner(o.ID).Report(time.Now(), 1, delivery.Report{Phase: delivery.Ready})
			require.NoError(t, err)
			assert.Equal(t, want.Seconds(), d.ReportAfter)
			stop()
		}
	})
}

func TestOnlyItsMembersAreHeard(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, o, stop := begin(t, &book{}, 2)
		defer stop()
		r := s.Runner(o.ID)
		assert.True(t, r.Has(1))
		assert.False(t, r.Has(3))
		assert.True(t, r.isNode(r.Node(2)))
		assert.False(t, r.isNode(r.Node(3)))
		_, err := r.Report(time.Now(), 3, delivery.Report{Phase: delivery.Ready})
		assert.ErrorIs(t, err, delivery.ErrNotMember)
		r.Extend(time.Now(), "the administrator", "extended by herb-03", []Member{{ID: 3, Name: "herb-03"}})
		assert.True(t, r.isNode(r.Node(3)), "who comes later, too")
		assert.NotEqual(t, r.Nonce(1), r.Nonce(2))
	})
}
