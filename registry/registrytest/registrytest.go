// Package registrytest runs a real OCI registry for tests: Debian's docker-registry.
package registrytest

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"
)

// Server is a registry on loopback.
type Server struct {
	t       testing.TB
	Address string // HOST:PORT
	Dir     string // its files
	config  string
	cmd     *exec.Cmd
	ended   <-chan struct{}
}

// Start runs a registry whose files are in dir. With a password it asks everybody for that of
// "jugate".
func Start(t testing.TB, dir, password string) *Server {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := &Server{t: t, Address: l.Addr().String(), Dir: dir, config: filepath.Join(t.TempDir(), "registry.yml")}
	require.NoError(t, l.Close())
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
	s.cmd = exec.Command("docker-registry", "serve", s.config)
	var said bytes.Buffer
	s.cmd.Stdout, s.cmd.Stderr = &said, &said
	require.NoError(s.t, s.cmd.Start())
	ended := make(chan struct{})
	s.ended = ended
	go func(cmd *exec.Cmd) { cmd.Wait(); close(ended) }(s.cmd)
	for {
		answer, err := http.Get("http://" + s.Address + "/v2/")
		if err == nil {
			answer.Body.Close()
			return
		}
		select {
		case <-ended:
			require.FailNow(s.t, "the registry has ended", said.String())
		default:
			runtime.Gosched()
		}
	}
}

// Kill ends it at once.
func (s *Server) Kill() {
	if s.cmd != nil {
		s.cmd.Process.Kill()
		<-s.ended
		s.cmd = nil
	}
}

// Credentials is the file of a registry client that has signed in.
func (s *Server) Credentials(password string) string {
	path := filepath.Join(s.t.TempDir(), "config.json")
	require.NoError(s.t, os.WriteFile(path, fmt.Appendf(nil, `{"auths": {%q: {"auth": %q}}}`, s.Address, base64.StdEncoding.EncodeToString([]byte("jugate:"+password))), 0o600))
	return path
}
