// Package buckettest runs a real object store for tests: a program that nobody here wrote, which
// speaks S3 and keeps objects as files of a folder. `make setup` builds it.
package buckettest

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"jugate/bucket"
	"jugate/lab/outside"
)

// The key that a server takes.
const (
	Key    = "jugate"
	Secret = "not-a-real-secret"
)

// Server is an object store on loopback, with one bucket.
type Server struct {
	t       testing.TB
	Dir     string // the bucket's files
	URL     string // of the bucket
	address string
	program *outside.Program
}

// program is where the store's program was built: bin, in the module's folder, in or below which a test runs.
func program() string {
	dir, _ := os.Getwd()
	for ; dir != "/"; dir = filepath.Dir(dir) {
		if _, err := os.Stat(filepath.Join(dir, "go.mod")); err == nil {
			break
		}
	}
	return filepath.Join(dir, "bin/versitygw")
}

// Start runs a store whose files are in dir until the test ends.
func Start(t testing.TB, dir string) *Server {
	t.Helper()
	s, err := Launch(dir)
	require.NoError(t, err)
	s.t = t
	t.Cleanup(s.Kill)
	return s
}

// Launch is Start without a test; Kill ends it.
func Launch(dir string) (*Server, error) {
	if _, err := os.Stat(program()); err != nil {
		return nil, fmt.Errorf("the object store for tests is not built: make setup (%w)", err)
	}
	address, err := outside.Address()
	if err != nil {
		return nil, err
	}
	s := &Server{Dir: filepath.Join(dir, "garden"), URL: "http://" + address + "/garden", address: address}
	if err := os.MkdirAll(s.Dir, 0o755); err != nil {
		return nil, err
	}
	return s, s.run()
}

// Run starts the store again where it was, and returns when it answers.
func (s *Server) Run() {
	s.t.Helper()
	require.NoError(s.t, s.run())
}

func (s *Server) run() (err error) {
	s.program, err = outside.Run("http://"+s.address+"/health", program(), "--port", s.address, "--access", Key, "--secret", Secret, "--health", "/health", "--quiet", "posix", filepath.Dir(s.Dir))
	return err
}

// Kill ends it at once.
func (s *Server) Kill() {
	s.program.Kill()
	s.program = nil
}

// Open opens its bucket through a transport, or the usual one if that is nil.
func (s *Server) Open(through http.RoundTripper) *bucket.Bucket {
	s.t.Helper()
	b, err := bucket.Open(bucket.Config{URL: s.URL, Key: Key, Secret: Secret, Transport: through, Attempts: 2})
	require.NoError(s.t, err)
	return b
}
