package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"jugate/core/durable"
)

// spoken is the service that the command line speaks to when nobody says otherwise, and
// with which credential: the one that this user has started, or has signed in at. It is
// kept in context.json in the user's folder for configuration, jugate/ below it.
type spoken struct {
	Server string `json:"server"`
	// AuthorityFile has the certificate of the authority that the service's comes from; empty for
	// one that this machine trusts anyway.
	AuthorityFile string `json:"authority_file,omitempty"`
	// Token, or the file that has it.
	Token     string `json:"token,omitempty"`
	TokenFile string `json:"token_file,omitempty"`
	// Process is the number of the service's process, if this user has started it here. Once
	// that has gone, its port may be anybody's, who must not be sent the token.
	Process int `json:"process,omitempty"`
	// SignedIn tells that somebody has chosen it; serve leaves it alone then.
	SignedIn bool `json:"signed_in,omitempty"`
}

// contextFile is where it is kept. An error says that this user has no such folder.
func contextFile() (string, error) {
	dir, err := os.UserConfigDir()
	return filepath.Join(dir, "jugate", "context.json"), err
}

// readContext is what is kept; nothing if that is nothing.
func readContext() (s spoken, path string, err error) {
	if path, err = contextFile(); err != nil {
		return s, path, nil // a user without a folder has none
	}
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return s, path, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &s)
	}
	if err != nil {
		return spoken{}, path, fmt.Errorf("which service to speak to: %s: %w; jugate sign-out removes it", path, err)
	}
	if s.Process != 0 && !alive(s.Process) {
		return spoken{}, path, nil
	}
	return s, path, nil
}

func alive(process int) bool {
	err := syscall.Kill(process, 0)
	return err == nil || errors.Is(err, syscall.EPERM)
}

// token is the credential.
func (s spoken) token() (string, error) {
	if s.TokenFile == "" {
		return s.Token, nil
	}
	return readToken(s.TokenFile)
}

func readToken(path string) (string, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return "", fmt.Errorf("the token: %w", err)
	}
	return strings.TrimSpace(string(text)), nil
}

// keep writes it, readable by nobody else.
func (s spoken) keep() error {
	path, err := contextFile()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	text, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	return durable.Write(path, append(text, '\n'), 0o600)
}

// keepStarted has the command line find a service that was started, for as long as it
// runs, unless this user has signed in elsewhere.
func keepStarted(at *net.TCPAddr, data string) (forget func(), err error) {
	nothing := func() {}
	before, _, err := readContext()
	if err != nil || before.SignedIn {
		return nothing, err
	}
	file, err := filepath.Abs(filepath.Join(data, "admin.token"))
	if err != nil {
		return nothing, err
	}
	host := at.IP.String()
	if at.IP.IsUnspecified() {
		host = "127.0.0.1"
	}
	started := spoken{Server: "https://" + net.JoinHostPort(host, fmt.Sprint(at.Port)), AuthorityFile: filepath.Join(filepath.Dir(file), "authority.pem"), TokenFile: file, Process: os.Getpid()}
	if err := started.keep(); err != nil {
		return nothing, err
	}
	return func() {
		if now, path, err := readContext(); err == nil && now == started {
			os.Remove(path)
		}
	}, nil
}
