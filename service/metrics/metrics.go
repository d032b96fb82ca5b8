// Package metrics tells programs that watch how a service is. It counts nothing itself: each time it is asked, it asks the rooms
// that know.
//
//	m := metrics.New(version, overview, records, log)
//	families, err := m.Gather() // prometheus.Gatherer
package metrics

import (
	"context"
	"log/slog"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"jugate/api"
	"jugate/core/delivery"
	"jugate/core/roster"
	"jugate/records"
)

// Overview tells how everything is.
type Overview interface {
	Show(ctx context.Context) (api.Overview, error)
}

// Records count.
type Records interface {
	Figures(ctx context.Context) (records.Figures, error)
}

// within is how long the rooms may take to answer.
const within = 10 * time.Second

// New makes what gathers the figures of a service, and of its process.
func New(version string, overview Overview, db Records, log *slog.Logger) *prometheus.Registry {
	r := prometheus.NewPedanticRegistry()
	r.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}), &collector{version, overview, db, log})
	return r
}

type collector struct {
	version  string
	overview Overview
	records  Records
	log      *slog.Logger
}

func describe(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("jugate_"+name, help, labels, nil)
}

// What is told; docs/metrics.md lists it.
var (
	info         = describe("info", "1, with the version of the service.", "version")
	workstations = describe("workstations", "Workstations and newcomers by state.", "state")
	needs        = describe("needs", "What needs somebody: how many of each kind.", "kind")
	parts        = describe("part_state", "How a part of the service is: 0 good, 1 warning, 2 bad.", "part")
	deliveries   = describe("open_deliveries", "Deliveries that are not over, the newest twenty at the most.")
	errands      = describe("open_errands", "Errands that wait or run.")
	stream       = describe("stream_bytes_per_second", "What streams send now, together.")
	receipts     = describe("receipts_total", "Receipts by outcome.", "outcome")
	received     = describe("received_bytes_total", "Bytes that workstations have received, by the way they came.", "way")

	all = []*prometheus.Desc{info, workstations, needs, parts, deliveries, errands, stream, receipts, received}
)

var kinds = []string{"newcomers", "cards", "boots", "deliveries", "failures", "arrivals", "checks"}

// Describe is prometheus.Collector's.
func (c *collector) Describe(to chan<- *prometheus.Desc) {
	for _, d := range all {
		to <- d
	}
}

// Collect is prometheus.Collector's. What cannot be told is left out, and said in the log.
func (c *collector) Collect(to chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), within)
	defer cancel()
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	counter := func(d *prometheus.Desc, v float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, v, labels...)
	}
	gauge(info, 1, c.version)
	figures, err := c.records.Figures(ctx)
	if err != nil {
		c.log.Error("figures cannot be told", "error", err)
		return
	}
	for _, s := range roster.States {
		gauge(workstations, float64(figures.Workstations[s]), string(s))
	}
	for _, o := range delivery.Outcomes {
		counter(receipts, float64(figures.Receipts[o]), string(o))
	}
	counter(received, float64(figures.Multicast), "multicast")
	counter(received, float64(figures.Unicast), "unicast")
	now, err := c.overview.Show(ctx)
	if err != nil {
		c.log.Error("how the service is cannot be told", "error", err)
		return
	}
	waits := map[string]int{}
	for _, n := range now.Needs {
		waits[n.Kind] = n.Count
	}
	for _, kind := range kinds {
		gauge(needs, float64(waits[kind]), kind)
	}
	states := map[string]float64{} // a part may be told of twice: the worse counts
	for _, p := range now.Parts {
		states[p.Part] = max(states[p.Part], map[string]float64{api.Good: 0, api.Warning: 1, api.Bad: 2}[p.State])
	}
	for part, state := range states {
		gauge(parts, state, part)
	}
	bits := int64(0)
	for _, d := range now.Deliveries {
		bits += d.RateNow
	}
	gauge(deliveries, float64(len(now.Deliveries)))
	gauge(errands, float64(now.Errands))
	gauge(stream, float64(bits)/8)
}
