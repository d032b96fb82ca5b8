package service

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"jugate/core/durable"
)

// reserveBytes is what is given up when something else has filled the disk: room for some
// ten thousand receipts.
const reserveBytes = 16 << 20

// scratch is the folder for what is worked on.
func (s *Service) scratch() string { return filepath.Join(s.config.Data, "scratch") }

// sweepFolders removes what a kill has left.
func (s *Service) sweepFolders() error {
	if err := os.RemoveAll(s.scratch()); err != nil {
		return err
	}
	if err := os.Mkdir(s.scratch(), 0o700); err != nil {
		return err
	}
	for _, pattern := range []string{"drivers?*", "media?*"} { // where version 0.1.0 had them
		left, err := filepath.Glob(filepath.Join(s.config.Data, pattern))
		if err != nil {
			return err
		}
		for _, path := range left {
			if err := os.RemoveAll(path); err != nil {
				return err
			}
		}
	}
	images, err := os.ReadDir(filepath.Join(s.config.Data, "images"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	folders := []string{s.config.Data, filepath.Join(s.config.Data, "uploads"), filepath.Join(s.config.Data, "systems"), filepath.Join(s.config.Data, "payloads")}
	for _, e := range images {
		folders = append(folders, filepath.Join(s.config.Data, "images", e.Name()))
	}
	for _, dir := range folders {
		if err := durable.Sweep(dir); err != nil {
			return err
		}
	}
	return nil
}

// keepHouse does what has to be done from time to time.
func (s *Service) keepHouse() {
	tick, minute := time.NewTicker(time.Hour), time.NewTicker(time.Minute)
	defer tick.Stop()
	defer minute.Stop()
	for {
		s.fleet.ForgetNewcomers(s.until)
		s.intake.Expire(s.until)
		if err := s.reserve.Fill(); err != nil {
			s.config.Log.Warn("there is no room for the reserve that receipts could need", "bytes", reserveBytes, "error", err)
		}
		s.directories.AskAll(s.until)
		s.access.RefreshPeople(s.until)
		if keep := s.settings.KeepLines(); keep > 0 {
			now := s.config.Now()
			if n, err := s.records.ForgetLines(s.until, now, now.Add(-keep)); err != nil && s.until.Err() == nil {
				s.config.Log.Error("old lines of the logbook could not be removed", "error", err)
			} else if n > 0 {
				s.config.Log.Info("old lines of the logbook were removed", "lines", n)
			}
		}
		if _, err := s.proofs.AskWitnesses(s.until); err != nil && s.until.Err() == nil {
			s.config.Log.Error("witnesses could not be asked", "error", err)
		}
		for waits := true; waits; {
			select {
			case <-tick.C:
				waits = false
			case <-minute.C:
				s.signHead(s.until)
				if err := s.access.Certificates.Refresh(); err != nil {
					s.config.Log.Error("a certificate could not be renewed, or read; the last one counts", "error", err)
				}
			case <-s.until.Done():
				s.signHead(context.WithoutCancel(s.until))
				return
			}
		}
	}
}

// keepBackups makes backups when they are due. One that takes hours keeps nothing else from being done.
func (s *Service) keepBackups() {
	minute := time.NewTicker(time.Minute)
	defer minute.Stop()
	for {
		select {
		case <-minute.C:
			s.backups.KeepDue(s.until)
		case <-s.until.Done():
			return
		}
	}
}

// signHead signs what is on record. What keeps it from that is said once.
func (s *Service) signHead(ctx context.Context) {
	_, err := s.proofs.Head(ctx)
	if said := s.unsigned; err != nil && (said == nil || said.Error() != err.Error()) && ctx.Err() == nil {
		s.config.Log.Error("the head of the records cannot be signed", "error", err)
	}
	s.unsigned = err
}

// examine looks through the records, while the service is at work already: it takes some
// seconds where there are years of them.
func (s *Service) examine() {
	if err := s.records.Examine(s.until); err != nil && s.until.Err() == nil {
		s.config.Log.Error("the records cannot be trusted; nothing more is written into them", "error", err)
	}
	if check, err := s.proofs.Check(s.until); s.until.Err() == nil && (err != nil || !check.Sound) {
		s.config.Log.Error("the records are not as they were written", "error", errors.Join(err, errors.New(check.Detail)))
	}
}
