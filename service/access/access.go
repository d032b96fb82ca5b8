// Package access knows who may do what: people with their roles, tokens and sessions, the
// administrator's token as the key of last resort, codes that people sign in with at workstations, tickets and keys that
// workstations check in with, and who may receive which image. It has the service's
// certificate, too.
//
// It says no with a fault; what that is in HTTP, package web knows.
package access

import (
	"crypto/tls"
	"log/slog"
	"path/filepath"
	"time"

	"jugate/records"
)

// Access knows the secrets of a service. Open makes one.
type Access struct {
	Records *records.DB
	Log     *slog.Logger
	Now     func() time.Time

	Certificate []byte // PEM, of the authority that the service's certificate comes from
	KeyPair     tls.Certificate
	Secret      string // what only this service knows, the same at each start
	SecurePort  uint16 // 0 without TLS

	token   string
	sealing []byte // key of secrets in the records
	callers callers
	codes   codes
	tries   tries
	hashes  chan struct{} // bounds how many passwords are hashed at once
}

// Open reads the token and the certificate from a data folder, making them on the first
// start.
func Open(dir string, log *slog.Logger, now func() time.Time) (*Access, error) {
	a := &Access{Log: log, Now: now, hashes: make(chan struct{}, atOnce)}
	var err error
	if a.token, err = token(filepath.Join(dir, "admin.token")); err != nil {
		return nil, err
	}
	if a.sealing, err = sealKey(dir); err != nil {
		return nil, err
	}
	return a, a.openCertificate(dir)
}
