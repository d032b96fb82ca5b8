package service

import (
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
	tick := time.NewTicker(time.Hour)
	defer tick.Stop()
	for {
		s.fleet.ForgetNewcomers(s.until)
		if err := s.reserve.Fill(); err != nil {
			s.config.Log.Warn("there is no room for the reserve that receipts could need", "bytes", reserveBytes, "error", err)
		}
		select {
		case <-tick.C:
		case <-s.until.Done():
			return
		}
	}
}

// examine looks through the records, while the service is at work already: it takes some
// seconds where there are years of them.
func (s *Service) examine() {
	if err := s.records.Examine(s.until); err != nil && s.until.Err() == nil {
		s.config.Log.Error("the records cannot be trusted; nothing more is written into them", "error", err)
	}
	if n, err := s.records.CheckReceipts(s.until); err != nil && s.until.Err() == nil {
		s.config.Log.Error("the chain of receipts is not sound", "receipts", n, "error", err)
	}
}
