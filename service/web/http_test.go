package web

import (
	"crypto/tls"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// One server answers plainly and by TLS, and whichever of the two it begins with, it speaks
// HTTP/2 by TLS, as it offers to.
func TestTheOrderInWhichItBeginsToServeDoesNotMatter(t *testing.T) {
	issuer := httptest.NewUnstartedServer(nil) // has a certificate
	issuer.StartTLS()
	defer issuer.Close()
	s := &Server{Version: "test", Events: &Events{}, Log: slog.New(slog.DiscardHandler)}
	for _, first := range []string{"plain", "TLS"} {
		server := s.HTTP(issuer.TLS.Certificates)
		server.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.Header().Set("X-Protocol", r.Proto) })
		ask := func(scheme string, l net.Listener) string {
			client := http.Client{Transport: &http.Transport{ForceAttemptHTTP2: true, TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
			resp, err := client.Get(scheme + "://" + l.Addr().String())
			require.NoError(t, err, "%s, where %s came first", scheme, first)
			defer resp.Body.Close()
			return resp.Header.Get("X-Protocol")
		}
		plain, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		secure, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		begin := map[string]func(){
			"plain": func() { go server.Serve(plain); assert.Equal(t, "HTTP/1.1", ask("http", plain)) },
			"TLS":   func() { go server.ServeTLS(secure, "", ""); assert.Equal(t, "HTTP/2.0", ask("https", secure)) },
		}
		begin[first]()
		delete(begin, first)
		for _, then := range begin {
			then()
		}
		require.NoError(t, server.Close())
	}
}
