// Package registrytest runs a real OCI registry for tests: Debian's docker-registry.
package registrytest

import (
	"encoding/base64"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"jugate/lab/outside"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"
)

// Server is a registry on loopback.
type Server struct {
	t       testing.TB
	Address string // HOST:PORT
	Dir     string // its files
	config  string
	program *outside.Program
}

// Start runs a registry whose files are in dir. With a password it asks everybody for that of
// "jugate".
func Start(t testing.TB, dir, password string) *Server {
	t.Helper()
	address, err := outside.Address()
	require.NoError(t, err)
	s := &Server{t: t, Address: address, Dir: dir, config: filepath.Join(t.TempDir(), "registry.yml")}
	text := fmt.Sprintf("version: 0.1\nlog: {level: error}\nstorage:\n  filesystem: {rootdirectory: %s}\nhttp: {addr: %s}\n", dir, s.Address)
	if password != "" {
		hash, err := bcrypt.GenerateFromPassword([]byte(password), bcrypt.MinCost)
		require.NoError(t, err)
		file := filepath.Join(t.TempDir(), "people")
		require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, "jugate:%s\n", hash), 0o600))
		text += fmt.Sprintf("auth:\n  htpasswd: {realm: garden, path: %s}\n", file)
	}
	require.NoError(t, os.WriteFile(s.config, []byte(text), 0o600))
	s.Run()
	t.Cleanup(s.Kill)
	return s
}

// Run starts the registry again where it was, and returns when it answers.
func (s *Server) Run() {
	s.t.Helper()
	var err error
	s.program, err = outside.Run("http://"+s.Address+"/v2/", "docker-registry", "serve", s.config)
	require.NoError(s.t, err)
}

// Kill ends it at once.
func (s *Server) Kill() {
	s.program.Kill()
	s.program = nil
}

// Credentials is the file of a registry client that has signed in.
func (s *Server) Credentials(password string) string {
	path := filepath.Join(s.t.TempDir(), "config.json")
	require.NoError(s.t, os.WriteFile(path, fmt.Appendf(nil, `{"auths": {%q: {"auth": %q}}}`, s.Address, base64.StdEncoding.EncodeToString([]byte("jugate:"+password))), 0o600))
	return path
}
