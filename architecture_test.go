package jugate_test

import (
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rooms says what each room of the house may import of the others. A room that
// is not listed may be imported by nobody but commands; core rooms see only
// core rooms.
var rooms = map[string][]string{
	"core":                  {"core"},
	"api":                   {"core"},
	"apiclient":             {"api", "core"},
	"wire":                  {"core"},
	"boot":                  {"wire", "core"},
	"boot/boottest":         {},
	"stream":                {"wire", "core"},
	"oneport":               {"boot", "stream", "core"},
	"agent":                 {"wire", "apiclient", "api", "core"},
	"agent/machine":         {"agent", "wire", "apiclient", "api", "core"},
	"records":               {"records/prepared", "api", "core"},
	"console":               {},
	"outpost":               {"oneport", "boot", "stream", "wire", "records/outbox", "apiclient", "api", "core"},
	"records/outbox":        {"records/prepared", "core"},
	"records/prepared":      {},
	"records/recordstest":   {"records"},
	"bucket":                {"bucket", "lab/outside", "core"},
	"registry":              {"core"},
	"registry/registrytest": {"lab/outside"},
	"lab/outside":           {},
	"service":               {"service/standby", "service/backups", "service/stores", "service/access", "service/carry", "service/directories", "service/doctor", "service/domains", "service/fleet", "service/intake", "service/metrics", "service/notify", "service/orders", "service/overview", "service/proofs", "service/reports", "service/settings", "service/sites", "service/stock", "service/web", "oneport", "boot", "stream", "records", "api", "core"},
	"service/access":        {"records", "api", "core"},
	"service/metrics":       {"records", "api", "core"},
	"service/notify":        {"withdrawn", "records", "api", "core"},
	"service/overview":      {"records", "api", "core"},
	"service/reports":       {"records", "api", "core"},
	"service/doctor":        {"boot", "records", "api", "core"},
	"service/settings":      {"boot", "wire", "records", "api", "core"},
	"service/carry":         {"service/orders", "service/sites", "records", "api", "core"},
	"withdrawn":             {"core"},
	"ldaps":                 {"withdrawn", "core"},
	"service/directories":   {"ldaps", "withdrawn", "records", "api", "core"},
	"service/domains":       {"ldaps", "withdrawn", "records", "api", "core"},
	"service/fleet":         {"records", "api", "core"},
	"service/intake":        {"records", "api", "core"},
	"service/orders":        {"stream", "records", "api", "core"},
	"service/proofs":        {"records", "api", "core"},
	"service/sites":         {"boot", "records", "api", "core"},
	"service/stock":         {"boot", "records", "api", "core"},
	"service/standby":       {"records/replica", "records", "api", "core"},
	"records/replica":       {"core"},
	"service/backups":       {"records", "api", "core"},
	"service/stores":        {"bucket", "records", "api", "core"},
	"service/web":           {"service/standby", "service/backups", "service/stores", "service/access", "service/directories", "service/doctor", "service/domains", "service/fleet", "service/intake", "service/notify", "service/orders", "service/overview", "service/proofs", "service/reports", "service/settings", "service/sites", "service/stock", "withdrawn", "oneport", "boot", "stream", "records", "api", "core", "console"},
	"sim":                   {"wire", "agent", "apiclient", "api", "core"},
	"demo":                  {"outpost", "boot", "demo", "sim", "service", "agent", "apiclient", "api", "core"},
	"demo/golddisk":         {},
	"demo/goldimage":        {"demo", "core"},
	"demo/madeup":           {},
	"privileges":            {},
	"supervised":            {},
	"setup":                 {"boot", "api", "core"},
	"cli":                   {"bucket", "registry", "privileges", "supervised", "setup", "boot", "wire", "demo", "sim", "service", "agent", "apiclient", "api", "core"},
	"cmd":                   {"outpost", "privileges", "supervised", "boot", "wire", "cli", "agent", "agent/machine", "apiclient", "core"},
	"lab":                   {"wire", "core"},
	"bench":                 {"bucket", "bench", "outpost", "cli", "lab", "demo", "sim", "service", "records", "agent", "apiclient", "api", "core"},
}

// forbidden says what of the world a room must not reach, not even through
// others.
var forbidden = map[string][]string{
	"core":               {"net/http", "database/sql", "github.com/spf13/cobra"},
	"api":                {"net/http", "database/sql", "github.com/spf13/cobra", "github.com/danielgtaylor/huma/v2"},
	"stream":             {"net/http", "database/sql", "github.com/spf13/cobra"},
	"wire":               {"net/http", "database/sql", "github.com/spf13/cobra"},
	"boot":               {"net/http", "database/sql", "github.com/spf13/cobra"},
	"agent":              {"database/sql", "github.com/spf13/cobra", "github.com/danielgtaylor/huma/v2", "jugate/service", "jugate/records"},
	"cmd/jugate-outpost": {"github.com/spf13/cobra", "github.com/danielgtaylor/huma/v2", "jugate/service", "jugate/console", "jugate/agent"},
	"outpost":            {"github.com/danielgtaylor/huma/v2", "jugate/service", "jugate/agent"},
	"cmd/jugate-agent":   {"database/sql", "github.com/spf13/cobra", "jugate/service", "jugate/records", "jugate/console"},
}

// strange says what of the world a room must not use itself, although something below it
// may.
var strange = map[string][]string{
	"service/access":      {"net/http", "github.com/danielgtaylor/huma/v2", "github.com/go-chi/chi/v5"},
	"service/directories": {"net/http", "github.com/danielgtaylor/huma/v2", "github.com/go-chi/chi/v5"},
	"service/domains":     {"net/http", "github.com/danielgtaylor/huma/v2", "github.com/go-chi/chi/v5"},
	"service/fleet":       {"net/http", "github.com/danielgtaylor/huma/v2", "github.com/go-chi/chi/v5"},
	"service/intake":      {"net/http", "github.com/danielgtaylor/huma/v2", "github.com/go-chi/chi/v5"},
	"service/notify":      {"net/http", "github.com/danielgtaylor/huma/v2", "github.com/go-chi/chi/v5"},
	"service/orders":      {"net/http", "github.com/danielgtaylor/huma/v2", "github.com/go-chi/chi/v5"},
	"service/proofs":      {"net/http", "github.com/danielgtaylor/huma/v2", "github.com/go-chi/chi/v5"},
	"service/sites":       {"net/http", "github.com/danielgtaylor/huma/v2", "github.com/go-chi/chi/v5"},
	"service/backups":     {"net/http", "github.com/danielgtaylor/huma/v2", "github.com/go-chi/chi/v5"},
	"service/stores":      {"net/http", "github.com/danielgtaylor/huma/v2", "github.com/go-chi/chi/v5"},
	"service/stock":       {"net/http", "github.com/danielgtaylor/huma/v2", "github.com/go-chi/chi/v5"},
	"service":             {"github.com/danielgtaylor/huma/v2", "github.com/go-chi/chi/v5", "database/sql"},
}

type pkg struct {
	ImportPath string
	Imports    []string
	Deps       []string
}

func packages(t *testing.T) []pkg {
	t.Helper()
	// `go test` remembers results by the files that a test has opened itself, and
	// does not see what `go list` reads.
	require.NoError(t, filepath.WalkDir(".", func(path string, e fs.DirEntry, err error) error {
		if err == nil && e.IsDir() && (e.Name() == "node_modules" || e.Name() == ".git") {
			return fs.SkipDir
		}
		if err == nil && strings.HasSuffix(path, ".go") {
			_, err = os.ReadFile(path)
		}
		return err
	}))
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports,Deps", "./...").Output()
	require.NoError(t, err)
	var all []pkg
	for d := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p pkg
		if err := d.Decode(&p); errors.Is(err, io.EOF) {
			return all
		} else {
			require.NoError(t, err)
		}
		all = append(all, p)
	}
}

// room finds the longest listed room that a package lies in.
func room[V any](list map[string]V, importPath string) string {
	for name := strings.TrimPrefix(importPath, "jugate/"); name != ""; {
		if _, listed := list[name]; listed {
			return name
		}
		cut := strings.LastIndex(name, "/")
		if cut < 0 {
			break
		}
		name = name[:cut]
	}
	return ""
}

func TestImportsRunDownward(t *testing.T) {
	all := packages(t)
	require.Greater(t, len(all), 15)
	seen := map[string]bool{}
	for _, p := range all {
		if p.ImportPath == "jugate" {
			continue
		}
		here := room(rooms, p.ImportPath)
		if !assert.NotEmpty(t, here, "%s lies in no room of the house", p.ImportPath) {
			continue
		}
		seen[here] = true
		for _, i := range p.Imports {
			if strings.HasPrefix(i, "jugate/") {
				top := room(rooms, i)
				if top == "demo/golddisk" || top == "demo/goldimage" || top == "demo/madeup" {
					top = "demo"
				}
				assert.Contains(t, rooms[here], top, "%s imports %s", p.ImportPath, i)
			}
		}
		for _, f := range strange[here] {
			assert.NotContains(t, p.Imports, f, "%s imports %s", p.ImportPath, f)
		}
		for _, f := range forbidden[room(forbidden, p.ImportPath)] {
			assert.NotContains(t, p.Deps, f, "%s reaches %s", p.ImportPath, f)
		}
	}
	for name := range rooms {
		assert.True(t, seen[name], "the rule speaks of %s, which is not there", name)
	}
}
