// Package order has the decisions about work that was prepared: when it runs by itself, what of it is done next, and when that is
// over. It knows neither workstations nor clocks.
//
//	s, err := order.ParseSchedule("weekdays 18:30", "Europe/Vienna")
//	next := s.Next(now)
//
// schedule.go says when an order runs, run.go what a run does next.
package order
