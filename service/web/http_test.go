package web

import (
	"crypto/tls"
	"log/slog"
	"net"
	"net/http"
	"syscall"
	"testing"
	"time"

	"jugate/oneport"
	"jugate/service/access"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// testServer is a server with certificates of its own.
func testServer(t *testing.T) (*Server, *http.Client) {
	a, err := access.Open(t.TempDir(), access.Names{}, slog.New(slog.DiscardHandler), time.Now)
	require.NoError(t, err)
	client := &http.Client{Transport: &http.Transport{ForceAttemptHTTP2: true, TLSClientConfig: &tls.Config{RootCAs: a.Certificates.Pool()}}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	return &Server{Version: "test", Access: a, Events: &Events{}, Log: slog.New(slog.DiscardHandler)}, client
}

// One port answers by TLS and plainly, and offers to speak HTTP/2 by TLS only if it does.
func TestOnePortSpeaksTLSAndPlainly(t *testing.T) {
	s, client := testServer(t)
	server := s.HTTP()
	server.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.Header().Set("X-Protocol", r.Proto) })
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	over := make(chan error, 1)
	go func() { over <- oneport.Serve(server, l, s.Log) }()
	silent, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	defer silent.Close()
	for scheme, want := range map[string]string{"http": "HTTP/1.1", "https": "HTTP/2.0"} {
		resp, err := client.Get(scheme + "://" + l.Addr().String())
		require.NoError(t, err)
		resp.Body.Close()
		assert.Equal(t, want, resp.Header.Get("X-Protocol"))
	}
	t.Log("# the end of the server is the end of what has said nothing yet")
	require.NoError(t, server.Close())
	assert.ErrorIs(t, <-over, http.ErrServerClosed)
	_, err = silent.Read(make([]byte, 1))
	assert.Error(t, err)
	_, err = net.Dial("tcp", l.Addr().String())
	assert.ErrorIs(t, err, syscall.ECONNREFUSED)
}
