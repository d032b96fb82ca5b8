package withdrawn_test

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/withdrawn"
)

// authority is one that openssl keeps, with what it publishes.
type authority struct {
	t    *testing.T
	dir  string
	web  *httptest.Server
	list atomic.Pointer[[]byte] // nil while it is away
}

func newAuthority(t *testing.T) *authority {
	a := &authority{t: t, dir: t.TempDir()}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /list", func(w http.ResponseWriter, _ *http.Request) {
		if l := a.list.Load(); l != nil {
			w.Write(*l)
			return
		}
		w.WriteHeader(http.StatusServiceUnavailable)
	})
	mux.HandleFunc("POST /ocsp", a.answer)
	a.web = httptest.NewServer(mux)
	t.Cleanup(a.web.Close)
	a.write("index.txt", "")
	a.write("serial", "1000\n")
	a.write("crlnumber", "01\n")
	a.write("ca.cnf", fmt.Sprintf(`[ca]
default_ca = own
[own]
dir = %[1]s
database = %[1]s/index.txt
serial = %[1]s/serial
crlnumber = %[1]s/crlnumber
new_certs_dir = %[1]s
certificate = %[1]s/ca.pem
private_key = %[1]s/ca.key
default_md = sha256
default_days = 2
default_crl_days = 2
unique_subject = no
policy = any
[any]
commonName = supplied
[listed]
subjectAltName = IP:127.0.0.1
crlDistributionPoints = URI:%[2]s/list
[asked]
subjectAltName = IP:127.0.0.1
authorityInfoAccess = OCSP;URI:%[2]s/ocsp
`, a.dir, a.web.URL))
	a.run("req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-subj", "/CN=Fennholt authority", "-days", "2", "-keyout", "ca.key", "-out", "ca.pem",
		"-addext", "keyUsage=critical,keyCertSign,cRLSign,digitalSignature")
	return a
}

func (a *authority) write(name, content string) {
	require.NoError(a.t, os.WriteFile(filepath.Join(a.dir, name), []byte(content), 0o600))
}

func (a *authority) run(args ...string) {
	a.t.Helper()
	cmd := exec.Command("openssl", args...)
	cmd.Dir = a.dir
	out, err := cmd.CombinedOutput()
	require.NoError(a.t, err, "openssl %v: %s", args, out)
}

// publish makes the list anew.
func (a *authority) publish() {
	a.t.Helper()
	a.run("ca", "-config", "ca.cnf", "-gencrl", "-out", "list.pem")
	a.run("crl", "-in", "list.pem", "-outform", "DER", "-out", "list")
	b, err := os.ReadFile(filepath.Join(a.dir, "list"))
	require.NoError(a.t, err)
	a.list.Store(&b)
}

// answer is a responder of OCSP.
func (a *authority) answer(w http.ResponseWriter, r *http.Request) {
	question, err := io.ReadAll(r.Body)
	require.NoError(a.t, err)
	a.write("question", string(question))
	a.run("ocsp", "-index", "index.txt", "-CA", "ca.pem", "-rsigner", "ca.pem", "-rkey", "ca.key", "-reqin", "question", "-respout", "answer", "-ndays", "1")
	b, err := os.ReadFile(filepath.Join(a.dir, "answer"))
	require.NoError(a.t, err)
	w.Write(b)
}

// issue makes a certificate; how is a section of ca.cnf.
func (a *authority) issue(name, how string) tls.Certificate {
	a.t.Helper()
	a.run("req", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-subj", "/CN="+name, "-keyout", name+".key", "-out", name+".csr")
	a.run("ca", "-config", "ca.cnf", "-batch", "-notext", "-extensions", how, "-in", name+".csr", "-out", name+".pem")
	pair, err := tls.LoadX509KeyPair(filepath.Join(a.dir, name+".pem"), filepath.Join(a.dir, name+".key"))
	require.NoError(a.t, err)
	return pair
}

func (a *authority) withdraw(name string) { a.run("ca", "-config", "ca.cnf", "-revoke", name+".pem") }

// greet shakes hands with a server that has a certificate.
func (a *authority) greet(pair tls.Certificate) error {
	a.t.Helper()
	b, err := os.ReadFile(filepath.Join(a.dir, "ca.pem"))
	require.NoError(a.t, err)
	roots := x509.NewCertPool()
	require.True(a.t, roots.AppendCertsFromPEM(b))
	listener, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{pair}})
	require.NoError(a.t, err)
	defer listener.Close()
	go func() {
		if conn, err := listener.Accept(); err == nil {
			io.Copy(io.Discard, conn)
			conn.Close()
		}
	}()
	conn, err := tls.Dial("tcp", listener.Addr().String(), &tls.Config{RootCAs: roots, VerifyConnection: withdrawn.Check})
	if err == nil {
		conn.Close()
	}
	return err
}

func TestListsOfTheIssuer(t *testing.T) {
	a := newAuthority(t)
	old, now := a.issue("dc1", "listed"), a.issue("dc2", "listed")
	assert.NoError(t, a.greet(old), "the list is away, and the directory is to work")
	a.withdraw("dc1")
	a.publish()
	assert.ErrorIs(t, a.greet(old), withdrawn.ErrWithdrawn)
	assert.NoError(t, a.greet(now))
	a.list.Store(nil)
	assert.ErrorIs(t, a.greet(old), withdrawn.ErrWithdrawn, "the list is kept")

	t.Log("# a list of somebody else says nothing, and neither does rubbish")
	b, other := newAuthority(t), newAuthority(t)
	c := b.issue("dc1", "listed")
	b.withdraw("dc1")
	other.issue("dc1", "listed") // with the same number
	other.withdraw("dc1")
	other.publish()
	b.list.Store(other.list.Load())
	assert.NoError(t, b.greet(c))
	d := newAuthority(t)
	rubbish := bytes.Repeat([]byte("x"), 1000)
	d.list.Store(&rubbish)
	assert.NoError(t, d.greet(d.issue("dc1", "listed")))
}

func TestAResponderIsAsked(t *testing.T) {
	a := newAuthority(t)
	old, now := a.issue("dc1", "asked"), a.issue("dc2", "asked")
	assert.NoError(t, a.greet(old))
	a.withdraw("dc1")
	assert.ErrorIs(t, a.greet(old), withdrawn.ErrWithdrawn)
	assert.NoError(t, a.greet(now))

	t.Log("# and what comes along is enough")
	a.run("ocsp", "-index", "index.txt", "-CA", "ca.pem", "-rsigner", "ca.pem", "-rkey", "ca.key", "-issuer", "ca.pem", "-cert", "dc1.pem", "-reqout", "question", "-respout", "answer", "-ndays", "1", "-noverify")
	stapled, err := os.ReadFile(filepath.Join(a.dir, "answer"))
	require.NoError(t, err)
	a.web.Close()
	assert.NoError(t, a.greet(old), "nobody can be asked")
	old.OCSPStaple = stapled
	assert.ErrorIs(t, a.greet(old), withdrawn.ErrWithdrawn)
}
