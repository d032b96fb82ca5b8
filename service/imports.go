package service

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"sync"
	"time"

	"jugate/core/fault"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/core/durable"
	"jugate/core/image"
	"jugate/core/roster"
	"jugate/core/slabstore"
)

// imports are the versions that people bring in from their own machines. Those
// that are open are forgotten when the service ends; what they have stored stays,
// and the next try does not send it again.
type imports struct {
	mu   sync.Mutex
	open map[string]*imported
}

type imported struct {
	upload
	used time.Time
}

// importIdle is after which silence an import is given up.
const importIdle = time.Hour

// begin opens an import, and returns those that were given up.
func (i *imports) begin(u upload, now time.Time) (idle []string) {
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

func (i *imports) find(key string, now time.Time) (*upload, error) {
	i.mu.Lock()
	defer i.mu.Unlock()
	u := i.open[key]
	if u == nil {
		return nil, fault.NotFound.Errorf("there is no such import (any more); begin again, which sends just what is missing")
	}
	u.used = now
	return &u.upload, nil
}

func (i *imports) end(key string) {
	i.mu.Lock()
	defer i.mu.Unlock()
	delete(i.open, key)
}

// ImportID is an import in a path. (Exported for huma, see Paging.)
type ImportID struct {
	ID string `path:"id"`
}

func (s *Service) importRoutes(h huma.API) {
	tags := []string{"store"}
	huma.Register(h, huma.Operation{
		OperationID: "begin-import", Method: http.MethodPost, Path: "/imports", Tags: tags, Summary: "Begin to bring a version in from a file",
	}, func(ctx context.Context, in *struct{ Body api.NewImport }) (*reply[api.Import], error) {
		if err := roster.CheckName("an image", in.Body.Image); err != nil {
			return nil, fault.Invalid.Mark(err)
		}
		u := upload{key: "import-" + newSecret()[:16], image: in.Body.Image, note: in.Body.Note}
		for _, key := range s.imports.begin(u, s.config.Now()) {
			s.pins.release(key)
			os.Remove(s.uploadedMap(key))
		}
		return answer(api.Import{ID: u.key}, nil)
	})

	huma.Register(h, huma.Operation{
		OperationID: "import-missing", Method: http.MethodPost, Path: "/imports/{id}/missing", Tags: tags, Summary: "Tell which slabs the store lacks",
	}, func(ctx context.Context, in *struct {
		ImportID
		Body api.Digests
	}) (*reply[api.Digests], error) {
		u, err := s.imports.find(in.ID, s.config.Now())
		if err != nil {
			return nil, err
		}
		return answer(s.missing(u.key, in.Body))
	})

	huma.Register(h, huma.Operation{
		OperationID: "import-slab", Method: http.MethodPut, Path: "/imports/{id}/slabs/{digest}", Tags: tags, Summary: "Store the frame of a slab",
		MaxBodyBytes: 2 * slabstore.MaxSlab,
	}, func(ctx context.Context, in *struct {
		ImportID
		Digest  string `path:"digest"`
		RawBody []byte `contentType:"application/zstd"`
	}) (*struct{}, error) {
		u, err := s.imports.find(in.ID, s.config.Now())
		if err != nil {
			return nil, err
		}
		d, err := slabstore.ParseDigest(in.Digest)
		if err != nil {
			return nil, fault.Invalid.Mark(err)
		}
		return nil, problem(s.store(u.key, d, in.RawBody))
	})

	huma.Register(h, huma.Operation{
		OperationID: "import-map", Method: http.MethodPut, Path: "/imports/{id}/map", Tags: tags, Summary: "Hand in the slab map",
		MaxBodyBytes: image.MaxMap,
	}, func(ctx context.Context, in *struct {
		ImportID
		RawBody []byte `contentType:"application/octet-stream"`
	}) (*struct{}, error) {
		u, err := s.imports.find(in.ID, s.config.Now())
		if err != nil {
			return nil, err
		}
		return nil, problem(durable.Write(s.uploadedMap(u.key), in.RawBody, 0o640))
	})

	huma.Register(h, huma.Operation{
		OperationID: "import-manifest", Method: http.MethodPut, Path: "/imports/{id}/manifest", Tags: tags, Summary: "Hand in the manifest, which makes it a version",
		MaxBodyBytes: image.MaxManifest,
	}, func(ctx context.Context, in *struct {
		ImportID
		RawBody []byte `contentType:"application/octet-stream"`
	}) (*reply[api.Version], error) {
		u, err := s.imports.find(in.ID, s.config.Now())
		if err != nil {
			return nil, err
		}
		v, err := s.commit(ctx, u, in.RawBody)
		if err != nil {
			return nil, problem(err)
		}
		s.imports.end(u.key)
		return answer(version(*v), nil)
	})

	for what, path := range map[string]func(roster.Ref) string{
		"manifest": func(r roster.Ref) string { name, _ := s.files.Paths(r); return name },
		"map":      func(r roster.Ref) string { _, name := s.files.Paths(r); return name },
	} {
		huma.Register(h, huma.Operation{
			OperationID: "export-" + what, Method: http.MethodGet, Path: "/versions/{ref}/" + what, Tags: tags, Summary: "Fetch the " + what + " of a version as it is stored",
		}, func(ctx context.Context, in *VersionRef) (*rawReply, error) {
			v, err := s.named(ctx, in.Ref)
			if err != nil {
				return nil, problem(err)
			}
			b, err := os.ReadFile(path(v.Ref()))
			return &rawReply{"application/octet-stream", b}, err
		})
	}

	huma.Register(h, huma.Operation{
		OperationID: "export-slab", Method: http.MethodGet, Path: "/slabs/{digest}", Tags: tags, Summary: "Fetch the frame of a slab",
	}, func(ctx context.Context, in *struct {
		Digest string `path:"digest"`
	}) (*rawReply, error) {
		d, err := slabstore.ParseDigest(in.Digest)
		if err != nil {
			return nil, fault.Invalid.Mark(err)
		}
		frame, err := s.slabs.Frame(d)
		if err != nil {
			return nil, problem(fmt.Errorf("slab %s: %w", d.Short(), err))
		}
		return &rawReply{"application/zstd", frame}, nil
	})
}

// rawReply is an answer of plain bytes.
type rawReply struct {
	ContentType string `header:"Content-Type"`
	Body        []byte
}
