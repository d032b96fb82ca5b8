package sites

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"slices"
	"strconv"
	"time"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/roster"
	"jugate/records"
)

// Media can be an outpost: whoever starts a machine from them has one there for as long as that runs. Its key is made here, as it
// joins nothing.

// mediaFor is how long the certificate of media is good that have no end of their own.
const mediaFor = 2 * 365 * 24 * time.Hour

// AddOnMedia enters an outpost whose key media carry, for a life or without an end of its own if that is 0. Its service is told as
// workstations reach it. The files say who the outpost is, by their names in its data folder.
func (s *Sites) AddOnMedia(ctx context.Context, name, note, service string, life time.Duration) (files map[string][]byte, err error) {
	if err := roster.CheckName("an outpost", name); err != nil {
		return nil, err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	spki, err := x509.MarshalPKIXPublicKey(&key.PublicKey)
	if err != nil {
		return nil, err
	}
	if life == 0 {
		life = mediaFor
	}
	chain, until, err := s.Certificates.CertifyOutpost(name, &key.PublicKey, life)
	if err != nil {
		return nil, err
	}
	about, err := json.Marshal(api.OutpostIs{Name: name, Service: service})
	if err != nil {
		return nil, err
	}
	row := records.Outpost{Name: name, Note: note, Added: s.Now(), Key: KeyOf(spki)}
	if err := s.Records.AddOutpostOnMedia(ctx, row); err != nil {
		return nil, err
	}
	if err := s.Records.CertifiedOutpost(ctx, name, until); err != nil {
		return nil, err
	}
	s.mu.Lock()
	s.names[row.Key] = name
	s.mu.Unlock()
	s.Log.Info("outpost on media entered", "outpost", name, "until", until, "by", actor.From(ctx))
	s.Publish(api.SitesChanged{})
	return map[string][]byte{
		"outpost.pem":   append(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), chain...),
		"authority.pem": pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: s.Certificates.Certificate().Raw}),
		"outpost.json":  about,
	}, nil
}

// Work is what an outpost is to hold now, as it is told.
func (s *Sites) Work(ctx context.Context, name string) (api.OutpostWork, error) {
	return s.work(ctx, name)
}

// FreeOnMedia is a name that no outpost has.
func (s *Sites) FreeOnMedia(ctx context.Context) (string, error) {
	all, err := s.Records.Outposts(ctx)
	for n := 1; ; n++ {
		name := "media-" + strconv.Itoa(n)
		if !slices.ContainsFunc(all, func(o records.Outpost) bool { return o.Name == name }) {
			return name, err
		}
	}
}
