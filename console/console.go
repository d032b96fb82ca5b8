// Package console is the web console: its built files, embedded, and the handler
// that serves them. The sources beside it (src/) are TypeScript; `make console`
// builds them into dist/.
package console

import (
	"bytes"
	"context"
	"embed"
	"io/fs"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/klauspost/compress/gzhttp"
)

//go:embed all:dist
var dist embed.FS

// Handler serves the console. Paths of its pages get its one document; what names
// neither a page nor a file is not there. nonce is what the answer's content security policy
// allows scripts and styles by.
func Handler(nonce func(context.Context) string) http.Handler {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the folder is embedded above
	}
	return handler(files, nonce)
}

// noncePlace stands in the document for the nonce (vite.config.ts).
const noncePlace = "nonce-of-the-answer"

func handler(files fs.FS, nonce func(context.Context) string) http.Handler {
	server := http.FileServerFS(files)
	return gzhttp.GzipHandler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if info, err := fs.Stat(files, name); err == nil && !info.IsDir() {
			if strings.HasPrefix(name, "assets/") { // their names carry a digest of their content
				w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			server.ServeHTTP(w, r)
			return
		}
		if !IsPage(r) {
			http.NotFound(w, r)
			return
		}
		page, err := fs.ReadFile(files, "index.html")
		if err != nil {
			http.Error(w, "This service was built without its console; run `make build`.", http.StatusNotFound)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Control", "no-cache")
		w.Write(bytes.ReplaceAll(page, []byte(noncePlace), []byte(nonce(r.Context()))))
	}))
}

// pages are the first parts of paths that the console has pages for (src/House.tsx).
var pages = []string{"", "workstations", "models", "walk", "rooms", "answers", "images", "deliveries", "orders", "errands", "receipts", "drivers", "netboot", "sites", "stores", "reports", "notifications", "settings", "people", "logbook", "welcome"}

// IsPage tells whether a browser asks for a page.
func IsPage(r *http.Request) bool {
	first, rest, _ := strings.Cut(strings.TrimPrefix(path.Clean(r.URL.Path), "/"), "/")
	_, notNumber := strconv.Atoi(rest)
	return (r.Method == http.MethodGet || r.Method == http.MethodHead) && slices.Contains(pages, first) && (rest == "" || first == "deliveries" && notNumber == nil || (first == "workstations" || first == "rooms" || first == "images") && !strings.Contains(rest, "/"))
}
