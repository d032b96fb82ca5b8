// Package oneport is what stands in front of a service or an outpost: people, agents and
// firmware all know one port. Whoever begins with a TLS handshake gets everything, and
// whoever does not gets boot files and nothing else (RFC 8446, 5.1: a handshake begins
// with the byte 22, which no method of HTTP begins with).
//
//	server := oneport.Server(handler, config, log)
//	err := oneport.Run(ctx, server, listener, log, end, grace)
//
// loaders.go and steady.go limit what a client that has not signed in can make the other
// side do.
package oneport

import (
	"context"
	"crypto/tls"
	"errors"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"time"
)

// Server is a server around a handler, with time limits for clients. What it asks of TLS is completed.
func Server(h http.Handler, t *tls.Config, log *slog.Logger) *http.Server {
	conns := &loaders{}
	t.MinVersion = tls.VersionTLS13
	// Without h2 here, a server that begins with its plain listener would offer HTTP/2 by
	// TLS, and then close every connection that takes it.
	t.NextProtos = []string{"h2", "http/1.1"}
	return &http.Server{
		Handler:           h,
		ConnContext:       conns.context,
		ConnState:         conns.state,
		ReadHeaderTimeout: standStill, // and for the handshake of TLS, which takes a slow machine its time
		IdleTimeout:       2 * time.Minute,
		ErrorLog:          slog.NewLogLogger(log.Handler(), slog.LevelWarn),
		TLSConfig:         t,
	}
}

// Serve answers what a listener accepts, by TLS and plainly, until the server is shut down or the listener fails.
func Serve(server *http.Server, l net.Listener, log *slog.Logger) error {
	secure, plain := split(l, log)
	failed := make(chan error, 2)
	go func() { failed <- server.Serve(plain) }()
	go func() { failed <- server.ServeTLS(secure, "", "") }() // which speaks HTTP/2, too
	return <-failed
}

// Run is Serve until ctx ends. It says so to what waits, by end, and lets running requests finish within grace.
func Run(ctx context.Context, server *http.Server, l net.Listener, log *slog.Logger, end func(), grace time.Duration) error {
	failed := make(chan error, 1)
	go func() { failed <- Serve(server, l, log) }()
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	end()
	within, cancel := context.WithTimeout(context.WithoutCancel(ctx), grace)
	defer cancel()
	if err := server.Shutdown(within); !errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	// What is left are connections on which nothing was asked yet, or that do not end.
	log.Warn("requests that had not ended were cut off", "after", grace)
	return server.Close()
}

// Remote is the address that a request came from.
func Remote(r *http.Request) netip.Addr {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return netip.Addr{}
	}
	a, _ := netip.ParseAddr(host)
	return a.Unmap()
}
