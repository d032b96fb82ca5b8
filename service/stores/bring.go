package stores

import (
	"context"
	"strings"

	"jugate/core/fault"
	"jugate/core/objects"
	"jugate/core/packs"
	"jugate/core/slabstore"
	"jugate/records"
)

// Objects are what is in a store elsewhere, with the name that it has.
func (s *Stores) Objects(name string) (objects.Store, string, error) {
	if strings.EqualFold(name, records.FolderStore) {
		return nil, "", fault.Invalid.Errorf("a copy of the data folder cannot go into the data folder: name another store")
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for known, o := range s.open {
		if strings.EqualFold(known, name) {
			return o.objects, known, nil
		}
	}
	return nil, "", fault.NotFound.Errorf("there is no store %s", name)
}

// Bring puts the slabs of versions into a store, wherever the versions are.
func (s *Stores) Bring(ctx context.Context, name string, versions []records.Version) error {
	o, err := s.opened(name)
	if err != nil {
		return err
	}
	s.changing.Lock()
	defer s.changing.Unlock()
	if err := s.learn(ctx, o); err != nil {
		s.note(o, err)
		return err
	}
	err = s.bring(ctx, o, versions)
	s.note(o, err)
	return err
}

// BringInto puts the slabs of versions into packs that are no store's.
func (s *Stores) BringInto(ctx context.Context, p *packs.Packs, versions []records.Version) error {
	return s.bring(ctx, &opened{packs: p}, versions)
}

func (s *Stores) bring(ctx context.Context, o *opened, versions []records.Version) error {
	for _, v := range versions {
		_, slabs, err := s.Versions.Load(&v)
		if err != nil {
			return err
		}
		var all []slabstore.Digest
		for _, d := range slabs.Distinct() {
			all = append(all, d)
		}
		if err := s.toStore(ctx, o, all); err != nil {
			return err
		}
	}
	return nil
}
