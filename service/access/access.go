// Package access knows who may do what: people with their roles, tokens and sessions, the key of last
// resort, codes that people sign in with at workstations, tickets and keys that workstations check in
// with, and who may receive which image. It has the service's certificate, too.
//
// It says no with a fault; what that is in HTTP, package web knows.
package access

import (
	"context"
	"log/slog"
	"path/filepath"
	"sync/atomic"
	"time"

	"jugate/core/trust"
	"jugate/records"
)

// Directories are where people come from who are not the service's own.
type Directories interface {
	// SignIn shows a name and its password to the directory that knows it. It is a fault.Stranger if none does, or if
	// it does not take the password.
	SignIn(ctx context.Context, name, password string) (*records.Person, error)
	// Refresh asks a person's directory what they may do now.
	Refresh(ctx context.Context, p records.Person) error
}

// Access knows the secrets of a service. Open makes one.
type Access struct {
	Records *records.DB
	// Directories is nil if there are none.
	Directories Directories
	Log         *slog.Logger
	Now         func() time.Time

	Certificates *Certificates
	Signer       *trust.Signer // of what agents do and load
	Secret       string        // what only this service knows, the same at each start

	dir     string
	token   atomic.Pointer[string] // of last resort
	sealing []byte                 // key of secrets in the records
	callers callers
	places  places
	codes   codes
	tries   tries
	hashes  chan struct{} // bounds how many passwords are hashed at once
}

// Open reads the key of last resort and the certificates from a data folder, making them on the first
// start.
func Open(dir string, names Names, log *slog.Logger, now func() time.Time) (*Access, error) {
	a := &Access{Log: log, Now: now, hashes: make(chan struct{}, atOnce)}
	key, err := readLastResort(filepath.Join(dir, lastResortFile))
	if err != nil {
		return nil, err
	}
	a.dir = dir
	a.token.Store(&key)
	if a.sealing, err = sealKey(dir); err != nil {
		return nil, err
	}
	if a.Certificates, err = openCertificates(dir, names, log, now); err != nil {
		return nil, err
	}
	if a.Secret, err = a.Certificates.secret(); err != nil {
		return nil, err
	}
	a.Signer, err = openSigner(dir, a.Certificates.authority)
	return a, err
}
