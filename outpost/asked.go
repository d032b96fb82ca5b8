package outpost

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/zeebo/blake3"
	"golang.org/x/sync/singleflight"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/parts"
	"jugate/core/slabstore"
)

// asked keeps files of driver packages and payloads that workstations ask for, so that each comes over the line once. Whether
// somebody may have one the service says each time, for as long as it answers (RFC 9110, 13.1.3).
type asked struct {
	o       *Outpost
	files   *parts.Store
	filling singleflight.Group
	sound   sync.Map // digests of files that were looked at since the start
}

// keptAsked: askedFile, by what was asked below agentPath.
const keptAsked = "asked"

// askedFile is a file that has come.
type askedFile struct {
	File     api.OutpostFile `json:"file"`
	Modified string          `json:"modified"` // as the service told it
}

// askedAtMost is how many bytes are kept; then all go, and those that are asked for again come again.
const askedAtMost = 4 << 30

func openAsked(o *Outpost) (*asked, error) {
	files, err := parts.Open(filepath.Join(o.config.Data, "asked"))
	return &asked{o: o, files: files}, err
}

// file gives a workstation a file of a driver package, or a payload.
func (r *relay) file(w http.ResponseWriter, req *http.Request) {
	path := strings.TrimPrefix(req.URL.Path, agentPath+"/")
	if req.Header.Get("Range") != "" {
		r.proxy.ServeHTTP(w, req)
		return
	}
	if !r.o.line.down() {
		f, has := r.asked.has(req.Context(), path)
		if !has {
			f, has = r.asked.bring(req, path)
		}
		again := req.Clone(req.Context())
		if has {
			again.Header.Set("If-Modified-Since", f.Modified)
		}
		answer := &answer{ResponseWriter: w, header: http.Header{}, through: true}
		switch r.proxy.ServeHTTP(answer, again); {
		case answer.away:
		case has && answer.status == http.StatusNotModified:
			serveFile(w, req, r.asked.files, f.File)
			return
		default:
			answer.pass()
			return
		}
	}
	if req.Context().Err() != nil {
		return
	}
	if r.carriedFile(w, req, path) {
		return
	}
	if f, has := r.asked.has(req.Context(), path); has && r.isServed(req) {
		serveFile(w, req, r.asked.files, f.File)
		return
	}
	problem(w, http.StatusServiceUnavailable, r.awayWords())
}

// carriedFile gives a workstation a file that the media carry, and tells whether there is one for it.
func (r *relay) carriedFile(w http.ResponseWriter, req *http.Request, path string) bool {
	_, known := r.o.carried.passes[authorization(req)]
	f, is := r.o.carried.file(path)
	if !known || !is {
		return false
	}
	serveFile(w, req, r.o.deliveries.files, f)
	return true
}

// isServed tells whether who asks takes part in a delivery here: the service has let it in.
func (r *relay) isServed(req *http.Request) bool {
	pass, key := authorization(req), keyOf(req)
	r.mu.Lock()
	defer r.mu.Unlock()
	for who := range r.serves {
		if who.pass == pass && who.key == key {
			return true
		}
	}
	return false
}

func serveFile(w http.ResponseWriter, req *http.Request, from *parts.Store, f api.OutpostFile) {
	c, err := from.Open(parts.Part(f))
	if err != nil {
		fail(w, err)
		return
	}
	defer c.Close()
	w.Header().Set("Content-Type", "application/octet-stream")
	http.ServeContent(w, req, "", time.Time{}, io.NewSectionReader(c, 0, c.Size))
}

// has tells whether a file is here.
func (a *asked) has(ctx context.Context, path string) (f askedFile, has bool) {
	if _, err := a.o.records.Kept(ctx, keptAsked, path, &f); err != nil {
		return f, false
	}
	have, err := a.files.Find(f.File.Digest)
	if err != nil || have.Size != f.File.Size {
		return f, false
	}
	if _, looked := a.sound.Load(f.File.Digest); !looked {
		if err := a.look(f); err != nil {
			a.o.config.Log.Warn("a file that was asked for is damaged, and is fetched anew", "file", path, "error", err)
			return f, false
		}
		a.sound.Store(f.File.Digest, struct{}{})
	}
	return f, true
}

// look reads a file, and compares its digest.
func (a *asked) look(f askedFile) error {
	c, err := a.files.Open(parts.Part(f.File))
	if err != nil {
		return err
	}
	defer c.Close()
	h := blake3.New()
	if _, err := io.Copy(h, io.NewSectionReader(c, 0, c.Size)); err != nil {
		return err
	}
	if got := slabstore.Digest(h.Sum(nil)); got != f.File.Digest {
		return fmt.Errorf("%w: it is %s", slabstore.ErrDigest, got.Short())
	}
	return nil
}

// bring has a file come over the line, once for all who ask for it now. If it cannot be kept, each is given it by the service.
func (a *asked) bring(req *http.Request, path string) (f askedFile, has bool) {
	out, err, _ := a.filling.Do(path, func() (any, error) {
		if f, has := a.has(req.Context(), path); has { // it came a moment ago
			return f, nil
		}
		return a.fill(req, path)
	})
	if err != nil {
		a.o.config.Log.Debug("a file that was asked for is not kept", "file", path, "error", err)
		return f, false
	}
	return out.(askedFile), true
}

// fill has a file come for who asks, and keeps it.
func (a *asked) fill(req *http.Request, path string) (f askedFile, err error) {
	ctx := a.o.until // others wait for it, too
	s := &sink{a: a, header: http.Header{}}
	defer func() { a.o.slabs.came(s.room) }()
	part, err := a.files.Put(func(w io.Writer) error {
		s.to = w
		a.o.relay.proxy.ServeHTTP(s, req.Clone(ctx))
		if s.err == nil && (s.status != http.StatusOK || s.n != s.room) {
			s.err = fmt.Errorf("%d bytes of %d came, with the status %d", s.n, s.room, s.status)
		}
		return s.err
	})
	if err != nil {
		return f, err
	}
	f = askedFile{api.OutpostFile(part), s.header.Get("Last-Modified")}
	if err := a.clear(ctx, part); err != nil {
		return f, err
	}
	return f, a.o.records.Keep(ctx, a.o.config.Now(), keptAsked, path, f)
}

// clear removes all but one if they are too many.
func (a *asked) clear(ctx context.Context, but parts.Part) (err error) {
	all, err := a.files.All()
	total := int64(0)
	for _, p := range all {
		total += p.Size
	}
	if err != nil || total <= askedAtMost {
		return err
	}
	for _, p := range all {
		if p != but {
			err = errors.Join(err, a.files.Remove(p))
		}
	}
	return err
}

// sink takes an answer of the service as a file.
type sink struct {
	a      *asked
	to     io.Writer
	header http.Header
	status int
	room   int64 // that is kept free for it, which is its length
	n      int64
	err    error
}

func (s *sink) Header() http.Header { return s.header }

func (s *sink) WriteHeader(status int) {
	if s.status = status; status != http.StatusOK {
		return
	}
	n, err := strconv.ParseInt(s.header.Get("Content-Length"), 10, 64)
	if err == nil && (n < 0 || n > askedAtMost || s.header.Get("Last-Modified") == "") {
		err = fault.Full.Errorf("a file of %d bytes is not kept", n)
	}
	if err == nil {
		err = s.a.o.slabs.room(n)
	}
	if s.err = err; err == nil {
		s.room = n
	}
}

func (s *sink) Write(b []byte) (int, error) {
	if s.status == 0 {
		s.WriteHeader(http.StatusOK)
	}
	if s.err != nil || s.status != http.StatusOK {
		return 0, errors.Join(s.err, io.ErrClosedPipe) // nobody takes it
	}
	var n int
	for len(b) > 0 && s.err == nil {
		some := b[:min(len(b), burst)]
		if s.err = s.a.o.slabs.pace.WaitN(s.a.o.until, len(some)); s.err == nil {
			var wrote int
			wrote, s.err = s.to.Write(some)
			n += wrote
		}
		b = b[len(some):]
	}
	s.n += int64(n)
	s.a.o.hold.fetched.Add(int64(n))
	return n, s.err
}
