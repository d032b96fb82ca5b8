package settings

import (
	"time"

	"jugate/core/netboot"
)

// InForce are the values that count now.
func (s *Settings) InForce() Values {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.now
}

// Boots tells whether network boot is answered on any interface.
func (s *Settings) Boots() bool { return len(s.InForce().Interfaces) > 0 }

// Unknown is what becomes of machines that nobody has admitted.
func (s *Settings) Unknown() netboot.Unknown { return s.InForce().Unknown }

// Rate is the rate of one stream, and Ceiling what all together may take, in bits a second; 0 sets none.
func (s *Settings) Rate() int64    { return s.InForce().Rate }
func (s *Settings) Ceiling() int64 { return s.InForce().Ceiling }

// AcceptCards tells whether unknown network cards of workstations are accepted at once.
func (s *Settings) AcceptCards() bool { return s.InForce().AcceptCards }

// ArrivalWithin is how long after its delivery a copy is to have started and reported.
func (s *Settings) ArrivalWithin() time.Duration { return s.InForce().ArrivalWithin }

// KeepLines is how long lines of the logbook are kept; 0 stands for ever.
func (s *Settings) KeepLines() time.Duration { return s.InForce().KeepLines }
