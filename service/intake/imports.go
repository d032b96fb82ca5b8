package intake

import (
	"context"
	"crypto/rand"
	"os"
	"sync"
	"time"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/roster"
)

// imports are the versions that people bring in from their own machines. Those
// that are open are forgotten when the service ends; what they have stored stays,
// and the next try does not send it again.
type imports struct {
	mu   sync.Mutex
	open map[string]*imported
}

type imported struct {
	Upload
	used time.Time
}

// importIdle is how long an import may be idle before it is given up.
const importIdle = time.Hour

// begin opens an import, and returns the idle ones that were closed.
func (i *imports) begin(u Upload, now time.Time) (idle []string) {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.open == nil {
		i.open = map[string]*imported{}
	}
	for key, other := range i.open {
		if now.Sub(other.used) > importIdle {
			delete(i.open, key)
			idle = append(idle, key)
		}
	}
	i.open[u.key] = &imported{u, now}
	return idle
}

func (i *imports) find(key string, now time.Time) (*Upload, error) {
	i.mu.Lock()
	defer i.mu.Unlock()
	u := i.open[key]
	if u == nil {
		return nil, fault.NotFound.Errorf("there is no such import (any more); begin again, which sends just what is missing")
	}
	u.used = now
	return &u.Upload, nil
}

func (i *imports) end(key string) {
	i.mu.Lock()
	defer i.mu.Unlock()
	delete(i.open, key)
}

// BeginImport begins to bring a version in.
func (k *Intake) BeginImport(ctx context.Context, in api.NewImport) (_ api.Import, err error) {
	if err := roster.CheckName("an image", in.Image); err != nil {
		return api.Import{}, err
	}
	if in.Image, err = k.Records.ImageName(ctx, in.Image); err != nil {
		return api.Import{}, err
	}
	u := Upload{key: "import-" + rand.Text()[:16], image: in.Image, note: in.Note, keepEqual: in.KeepEqual}
	for _, key := range k.imports.begin(u, k.Now()) {
		k.pins.release(key)
		os.Remove(k.uploadedMap(key))
	}
	return api.Import{ID: u.key}, nil
}

// Import finds an import that is open.
func (k *Intake) Import(id string) (*Upload, error) { return k.imports.find(id, k.Now()) }
