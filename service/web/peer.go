package web

import (
	"context"
	"net"
	"net/http"
	"net/netip"
)

// peerKey is where notePeer puts the address of whoever asks.
type peerKey struct{}

func notePeer(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), peerKey{}, remote(r))))
	})
}

func remote(r *http.Request) netip.Addr {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return netip.Addr{}
	}
	a, _ := netip.ParseAddr(host)
	return a.Unmap()
}

// peer is the address of whoever asks.
func peer(ctx context.Context) netip.Addr {
	a, _ := ctx.Value(peerKey{}).(netip.Addr)
	return a
}
