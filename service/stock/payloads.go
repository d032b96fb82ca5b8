package stock

import (
	"context"
	"io"
	"os"
	"path/filepath"

	"github.com/zeebo/blake3"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/answers"
	"jugate/core/durable"
	"jugate/core/fault"
	"jugate/core/slabstore"
	"jugate/records"
)

// maxPayload is the largest payload, in bytes.
const maxPayload = 16 << 30

func (k *Stock) payloadFile(digest string) string { return filepath.Join(k.Dir, "payloads", digest) }

// AddPayload takes a file that goes onto delivered systems. The same content is kept once.
func (k *Stock) AddPayload(ctx context.Context, name, note string, body io.Reader) (api.Payload, error) {
	if err := answers.CheckPayloadName(name); err != nil {
		return api.Payload{}, err
	}
	if err := os.MkdirAll(filepath.Join(k.Dir, "payloads"), 0o750); err != nil {
		return api.Payload{}, err
	}
	f, err := durable.Create(k.payloadFile("payload"), 0o640)
	if err != nil {
		return api.Payload{}, err
	}
	defer f.Drop()
	h := blake3.New()
	n, err := io.Copy(io.MultiWriter(f, h), io.LimitReader(body, maxPayload+1))
	switch {
	case err != nil:
		return api.Payload{}, err
	case n > maxPayload:
		return api.Payload{}, fault.TooLarge.Errorf("%s has more than %d bytes", name, int64(maxPayload))
	case n == 0:
		return api.Payload{}, fault.Invalid.Errorf("%s is empty", name)
	}
	p := records.Payload{Name: name, Digest: slabstore.Digest(h.Sum(nil)).String(), Size: n, Note: note, Added: k.Now()}
	k.keeping.Lock()
	defer k.keeping.Unlock()
	if err := f.KeepAs(k.payloadFile(p.Digest)); err != nil {
		return api.Payload{}, err
	}
	if err := k.Records.AddPayload(ctx, p); err != nil {
		return api.Payload{}, err
	}
	k.Log.Info("payload added", "payload", name, "digest", p.Digest, "bytes", n, "by", actor.From(ctx))
	return k.Payload(ctx, name)
}

// Payloads lists them by name.
func (k *Stock) Payloads(ctx context.Context) ([]api.Payload, error) {
	rows, err := k.Records.Payloads(ctx)
	all := make([]api.Payload, len(rows))
	for i, r := range rows {
		all[i] = api.Payload(r)
	}
	return all, err
}

// Payload shows one.
func (k *Stock) Payload(ctx context.Context, name string) (api.Payload, error) {
	p, err := k.Records.Payload(ctx, name)
	if err != nil {
		return api.Payload{}, err
	}
	return api.Payload(*p), nil
}

// RemovePayload forgets a payload, and removes its content if no other has it.
func (k *Stock) RemovePayload(ctx context.Context, name string) error {
	k.keeping.Lock()
	defer k.keeping.Unlock()
	digest, last, err := k.Records.RemovePayload(ctx, name)
	if err != nil || !last {
		return err
	}
	k.Log.Info("payload removed", "payload", name, "by", actor.From(ctx))
	return os.Remove(k.payloadFile(digest))
}

// ReadPayload fills b with what a payload has from there on: it is stream.Payloads'.
func (k *Stock) ReadPayload(digest string, b []byte, from int64) error {
	f, err := k.PayloadContent(digest)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = f.ReadAt(b, from)
	if err == io.EOF {
		err = fault.Conflict.Errorf("the payload with the digest %s is shorter than it was", digest)
	}
	return err
}

// PayloadContent opens what a digest names.
func (k *Stock) PayloadContent(digest string) (*os.File, error) {
	if _, err := slabstore.ParseDigest(digest); err != nil {
		return nil, err
	}
	f, err := os.Open(k.payloadFile(digest))
	if os.IsNotExist(err) {
		err = fault.NotFound.Errorf("there is no payload with the digest %s any more", digest)
	}
	return f, err
}
