package reports

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/fault"
	"jugate/records"
)

var noon = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

type fakeRecords struct {
	rooms  []records.RoomCount
	checks []records.MachineCheck
	sums   []records.DeliverySum
	until  time.Time
}

func (f *fakeRecords) RoomCounts(context.Context) ([]records.RoomCount, error) { return f.rooms, nil }

func (f *fakeRecords) NotGood(_ context.Context, _, until time.Time) ([]records.MachineCheck, error) {
	f.until = until
	return f.checks, nil
}

func (f *fakeRecords) DeliverySums(context.Context, time.Time, time.Time) ([]records.DeliverySum, error) {
	return f.sums, nil
}

func TestRooms(t *testing.T) {
	r := Reports{Records: &fakeRecords{rooms: []records.RoomCount{
		{Group: "herbarium", OnDisk: "garden-desk@3", Should: "garden-desk@4", Count: 2, Names: "herb-01 herb-02"},
		{Group: "herbarium", OnDisk: "!garden-desk@4", Should: "garden-desk@4", Count: 1, Names: "herb-03"},
		{Group: "kiosks", Count: 1, Names: "kiosk-01"},
	}}}
	all, err := r.Rooms(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []api.RoomReport{
		{Group: "herbarium", Image: "garden-desk@3", Count: 2, Should: "garden-desk@4", Behind: true, Workstations: []string{"herb-01", "herb-02"}},
		{Group: "herbarium", Image: "garden-desk@4", Unfinished: true, Count: 1, Should: "garden-desk@4", Behind: true, Workstations: []string{"herb-03"}},
		{Group: "kiosks", Count: 1, Workstations: []string{"kiosk-01"}},
	}, all)
}

// Each thing that was noticed is a line, unless it was good.
func TestFailures(t *testing.T) {
	f := &fakeRecords{checks: []records.MachineCheck{{Workstation: "herb-02", Ended: noon, Verdict: "bad",
		FindingsJS: `[{"about":"memory","verdict":"good","text":"all is well"},{"about":"surface","verdict":"bad","text":"1 MiB cannot be read"},{"about":"health","verdict":"doubtful","text":"it is old"}]`}}}
	r := Reports{Records: f, Now: func() time.Time { return noon }}
	all, err := r.Failures(t.Context(), noon.AddDate(0, -1, 0), time.Time{})
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, []string{"surface", "health"}, []string{all[0].About, all[1].About})
	assert.Equal(t, noon, f.until, "a period without an end ends now")
	_, err = r.Failures(t.Context(), noon.Add(time.Hour), time.Time{})
	assert.ErrorIs(t, err, fault.Invalid)
}

// Where more was sent than came, nothing was saved; where the stream had no rate, nobody knows how long it would have taken.
func TestSavings(t *testing.T) {
	r := Reports{Now: func() time.Time { return noon }, Records: &fakeRecords{sums: []records.DeliverySum{
		{ID: 3, Count: 8, Received: 8000, Wire: 1000, Rate: 8000}, {ID: 2, Count: 1, Received: 900, Wire: 1000, Rate: 8000}, {ID: 1, Count: 2, Received: 2000, Wire: 1000},
	}}}
	all, err := r.Savings(t.Context(), time.Time{}, time.Time{})
	require.NoError(t, err)
	var saved []float64
	for _, s := range all {
		saved = append(saved, float64(s.Saved), s.Seconds)
	}
	assert.Equal(t, []float64{7000, 7, 0, 0, 1000, 0}, saved)
}
