package oneport

import (
	"io"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"jugate/boot"
	"jugate/core/netboot"
)

// BootFiles serves the files of b over HTTP.
func BootFiles(r chi.Router, b *boot.Boot) {
	for _, method := range []string{http.MethodGet, http.MethodHead} {
		r.Method(method, netboot.FilesPath+"*", bootFile(b, ""))
		r.Method(method, netboot.ScriptPath+"*", bootFile(b, "script/"))
	}
}

// bootFile serves what a loader asks for below a prefix.
func bootFile(b *boot.Boot, prefix string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		defer markLoader(r)()
		name, from := prefix+chi.URLParam(r, "*"), boot.Asker{Client: Remote(r), Server: r.Host}
		if local, ok := r.Context().Value(http.LocalAddrContextKey).(net.Addr); ok {
			from.Server = local.String()
		}
		f, err := b.Open(r.Context(), name, from)
		if err != nil {
			http.Error(w, err.Error(), http.StatusNotFound)
			return
		}
		if c, ok := f.(io.Closer); ok {
			defer c.Close()
		}
		counted := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		counted.Header().Set("Content-Type", "application/octet-stream")
		if strings.HasSuffix(name, ".iso") { // UEFI 2.10, 24.7.3.1: firmware takes it into its memory as a disc
			counted.Header().Set("Content-Type", "application/vnd.efi-iso")
		}
		counted.Header().Set("Cache-Control", "no-store")
		if tag := boot.TagOf(f); tag != "" {
			counted.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			counted.Header().Set("ETag", `"`+tag+`"`)
		}
		http.ServeContent(counted, r, "", time.Time{}, io.NewSectionReader(f, 0, f.Length()))
		if r.Method == http.MethodGet && int64(counted.BytesWritten()) == f.Length() {
			b.Sent(name, from.Client, f.Length())
		}
	}
}
