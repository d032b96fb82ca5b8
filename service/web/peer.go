package web

import (
	"context"
	"net/http"
	"net/netip"

	"jugate/core/slabstore"
	"jugate/oneport"
	"jugate/service/fleet"
)

// peerKey is where notePeer puts who asks.
type peerKey struct{}

// notePeer notes the address of whoever asks, and the key that it has shown by TLS; of an agent that an outpost speaks for, those
// that the outpost tells.
func (s *Server) notePeer(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		by := fleet.Caller{At: oneport.Remote(r)}
		if r.TLS != nil && len(r.TLS.PeerCertificates) > 0 {
			by.Key = slabstore.Sum(r.TLS.PeerCertificates[0].RawSubjectPublicKeyInfo).String()
		}
		by = s.relayed(r, by)
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), peerKey{}, by)))
	})
}

// peer is the address of whoever asks.
func peer(ctx context.Context) netip.Addr { return agentOf(ctx).At }

// agentOf is where an agent asks from, and the key that it has.
func agentOf(ctx context.Context) fleet.Caller {
	by, _ := ctx.Value(peerKey{}).(fleet.Caller)
	return by
}
