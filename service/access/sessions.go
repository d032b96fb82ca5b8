package access

import (
	"sync"
	"time"
)

// SessionLife is how long a session of the console lasts.
const SessionLife = 12 * time.Hour

// sessions are the console's, by secret. They end with the service.
type sessions struct {
	mu   sync.Mutex
	ends map[string]time.Time
}

func (s *sessions) open(now time.Time) string {
	secret := NewSecret()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ends == nil {
		s.ends = map[string]time.Time{}
	}
	for old, end := range s.ends {
		if !now.Before(end) {
			delete(s.ends, old)
		}
	}
	s.ends[secret] = now.Add(SessionLife)
	return secret
}

func (s *sessions) valid(secret string, now time.Time) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	end, known := s.ends[secret]
	return known && now.Before(end)
}

func (s *sessions) close(secret string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.ends, secret)
}

// OpenSession begins a session of the console, and returns its secret.
func (a *Access) OpenSession() string { return a.sessions.open(a.Now()) }

// InSession tells whether a session's secret is good.
func (a *Access) InSession(secret string) bool { return a.sessions.valid(secret, a.Now()) }

// CloseSession ends a session.
func (a *Access) CloseSession(secret string) { a.sessions.close(secret) }
