package service

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"jugate/core/environment/builds"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"jugate/bootwire"
	"jugate/core/hwaddr"
	"jugate/core/netboot"
	"jugate/core/slabstore"
)

// seen is who asks for a boot file, and by which address of the service.
type seen struct {
	client netip.Addr
	server string // HOST:PORT of HTTP
}

// bootText is a boot file that is made when it is asked for.
type bootText struct{ *bytes.Reader }

func newBootText(s string) bootText { return bootText{bytes.NewReader([]byte(s))} }

// Length is bootwire.Content's.
func (t bootText) Length() int64 { return t.Size() }

// bootPart is a stored one.
type bootPart struct {
	*builds.Content
	tag string // empty for what the offer may change
}

// Length is bootwire.Content's.
func (p bootPart) Length() int64 { return p.Size }

// tagged is a boot file that never changes under its name.
type tagged interface{ Tag() string }

// Tag names the content: a build's files never change.
func (p bootPart) Tag() string { return p.tag }

// Names of what is made when it is asked for.
const bootstrapFile = "grub/grub.cfg"

// openBootFile opens what a loader asks for, the same over TFTP and HTTP: the
// loaders, their modules and first script; SCRIPT, made for one machine; and
// BUILD/vmlinuz and BUILD/initrd.
func (s *Service) openBootFile(ctx context.Context, name string, from seen) (bootwire.Content, error) {
	if name == bootstrapFile {
		return newBootText(netboot.Bootstrap(from.server)), nil
	}
	if l, address, ok := netboot.ScriptRequest(name); ok {
		l.Server = from.server
		return s.bootScript(ctx, l, address, from)
	}
	number, part, numbered := strings.Cut(name, "/")
	n, err := strconv.Atoi(number)
	if !numbered || err != nil {
		part = name
		if n, err = s.buildFor(ctx, from.client); err != nil {
			return nil, err
		}
	} else if digest, more := strings.CutPrefix(part, initrdWith); more {
		return s.openInitrdWith(n, digest)
	} else if part != builds.KernelPart && part != builds.InitrdPart {
		return nil, fmt.Errorf("there is no file %q", name)
	}
	b, err := s.boot.builds.Build(n)
	if err != nil {
		return nil, s.bootFileFailed(from.client, fmt.Errorf("%s: build %d is not there any more; restart the workstation to get the one that is offered", name, n))
	}
	content, err := s.boot.builds.Open(b, part)
	if errors.Is(err, builds.ErrNoPart) && !isLoader(part) {
		return nil, err // loaders look for things that need not be there
	}
	if err != nil {
		return nil, s.bootFileFailed(from.client, err)
	}
	if part == builds.KernelPart {
		s.bootStep(from.client, netboot.StepKernel, fmt.Sprintf("build %d, %s", n, b.Kernel))
	}
	if part == builds.PlainPart {
		return plainLoader(content, from.server)
	}
	tag := ""
	if numbered {
		tag = b.Tag(part)
	}
	return bootPart{content, tag}, nil
}

// initrdWith begins the name of a build's layers with one more behind them, whose
// digest follows.
const initrdWith = builds.InitrdPart + "+"

// openInitrdWith opens the layers of a build with one for a model behind them.
func (s *Service) openInitrdWith(build int, digest string) (bootwire.Content, error) {
	d, err := slabstore.ParseDigest(digest)
	if err != nil {
		return nil, err
	}
	b, err := s.boot.builds.Build(build)
	if err != nil {
		return nil, err
	}
	part, err := s.boot.builds.Part(d)
	if err != nil {
		return nil, err
	}
	content, err := s.boot.builds.OpenInitrd(b, part)
	if err != nil {
		return nil, err
	}
	return bootPart{content, b.Tag(builds.InitrdPart) + "-" + d.Short()}, nil
}

// plainLoader puts the service's address into the unsigned loader.
func plainLoader(c *builds.Content, server string) (bootwire.Content, error) {
	defer c.Close()
	b := make([]byte, c.Size)
	if _, err := c.ReadAt(b, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	place := []byte(builds.PlainServer)
	if len(server) > len(place) {
		return nil, fmt.Errorf("the address %s is too long for the loader", server)
	}
	return bootText{bytes.NewReader(bytes.ReplaceAll(b, place, fmt.Appendf(nil, "%-*s", len(place), server)))}, nil
}

// buildFor is the build that a machine's loaders come from.
func (s *Service) buildFor(ctx context.Context, client netip.Addr) (int, error) {
	if hw, known := s.boot.whoHas(client); known {
		if w, err := s.records.FindWorkstation(ctx, hw.String()); err == nil {
			plan, err := s.records.Plan(ctx, s.config.Now(), w.ID)
			if err == nil && plan.Build > 0 {
				return plan.Build, nil
			}
		}
	}
	n, err := s.records.Offered(ctx)
	if err == nil && n == 0 {
		err = s.bootFileFailed(client, errors.New("no build of the boot environment is offered"))
	}
	return n, err
}

// bootFileFailed notes that a machine could not be given a file.
func (s *Service) bootFileFailed(client netip.Addr, err error) error {
	s.bootStep(client, netboot.StepFailed, err.Error())
	return err
}

// bootStep notes a step of whoever has an address.
func (s *Service) bootStep(client netip.Addr, step netboot.Step, detail string) {
	if hw, known := s.boot.whoHas(client); known {
		s.step(hw, step, detail)
	}
}

func isLoader(part string) bool {
	switch part {
	case builds.ShimPart, builds.LoaderPart, builds.PlainPart, builds.BIOSPart, builds.KernelPart, builds.InitrdPart:
		return true
	}
	return false
}

// bootFileDone notes what a machine has got.
func (s *Service) bootFileDone(name string, client netip.Addr, n int64, err error) {
	if err != nil || n == 0 {
		return // firmware breaks off once it knows the size, and asks again
	}
	switch {
	case name == builds.ShimPart || name == builds.BIOSPart || name == builds.PlainPart:
		s.bootStep(client, netboot.StepLoader, fmt.Sprintf("%s, %d bytes", name, n))
	case strings.HasSuffix(name, "/"+builds.InitrdPart) || strings.Contains(name, "/"+initrdWith):
		s.bootStep(client, netboot.StepInitrd, fmt.Sprintf("%d bytes", n))
	}
}

// bootScript makes the script for one machine.
func (s *Service) bootScript(ctx context.Context, l netboot.Loader, a hwaddr.Address, from seen) (bootwire.Content, error) {
	if from.client.IsValid() {
		s.boot.mu.Lock()
		s.boot.knowAddress(from.client, a)
		s.boot.mu.Unlock()
	}
	s.boot.tell(a, l.Model)
	choice, err := s.choose(ctx, l, a)
	if err != nil {
		s.log.Error("a boot script cannot be made", "workstation", a, "error", err)
		return nil, err
	}
	s.step(a, netboot.StepScript, fmt.Sprintf("%s: %s", choice.Do, choice.Why))
	return newBootText(netboot.Script(l, choice)), nil
}

// bootRoutes serve boot files over HTTP.
func (s *Service) bootRoutes(r chi.Router) {
	serve := func(prefix string) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			markLoader(r)
			name := prefix + chi.URLParam(r, "*")
			host, _, _ := net.SplitHostPort(r.RemoteAddr)
			client, _ := netip.ParseAddr(host)
			local, _ := r.Context().Value(http.LocalAddrContextKey).(net.Addr)
			server := r.Host
			if local != nil {
				server = local.String()
			}
			f, err := s.openBootFile(r.Context(), name, seen{client.Unmap(), server})
			if err != nil {
				http.Error(w, err.Error(), http.StatusNotFound)
				return
			}
			if c, ok := f.(io.Closer); ok {
				defer c.Close()
			}
			counted := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
			counted.Header().Set("Content-Type", "application/octet-stream")
			counted.Header().Set("Cache-Control", "no-store")
			if t, ok := f.(tagged); ok && t.Tag() != "" {
				counted.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
				counted.Header().Set("ETag", `"`+t.Tag()+`"`)
			}
			http.ServeContent(counted, r, "", time.Time{}, io.NewSectionReader(f, 0, f.Length()))
			if r.Method == http.MethodGet && int64(counted.BytesWritten()) == f.Length() {
				s.bootFileDone(name, client.Unmap(), f.Length(), nil)
			}
		}
	}
	for _, method := range []string{http.MethodGet, http.MethodHead} {
		r.Method(method, netboot.FilesPath+"*", serve(""))
		r.Method(method, netboot.ScriptPath+"*", serve("script/"))
	}
}
