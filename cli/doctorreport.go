package cli

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os/exec"
	"regexp"
	"time"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/durable"
	"jugate/core/version"
)

// secret is what may not be in a report, wherever it turns up: links for people, keys and tokens, all of which are long and
// without sense, and what is called a password.
var secret = regexp.MustCompile(`(?i)(/welcome#)\S+|(whsec_)\S+|((?:password|secret|token|key|join_code|code)"?\s*[:=]\s*)(?:"(?:[^"\\]|\\.)*"|'[^']*'|[^\s",}]+)|\b[0-9a-f]{40,}\b|\b[0-9A-Z]{4}(?:-[0-9A-Z]{4}){4,}\b|\b[A-Za-z0-9_-]{43,}\b|-----BEGIN [A-Z ]*PRIVATE KEY-----[\s\S]*?-----END [A-Z ]*PRIVATE KEY-----`)

// withoutSecrets leaves out what nobody else is to know.
func withoutSecrets(text []byte) []byte {
	return secret.ReplaceAll(text, []byte("${1}${2}${3}(left out)"))
}

// tooMuch bounds each file of a report, in bytes; of a longer one the end counts.
const tooMuch = 4 << 20

// document is a file of a report, and where what is in it comes from.
type document struct {
	name string
	get  func(ctx context.Context) ([]byte, error)
}

// said is a document that a program of this machine prints.
func said(name string, command ...string) document {
	return document{"this-machine/" + name, func(ctx context.Context) ([]byte, error) {
		return exec.CommandContext(ctx, command[0], command[1:]...).CombinedOutput()
	}}
}

// answered is a document that the service answers with.
func answered[T any](name string, ask func(ctx context.Context) (T, error)) document {
	return document{name, func(ctx context.Context) ([]byte, error) {
		v, err := ask(ctx)
		if err != nil {
			return nil, err
		}
		return json.MarshalIndent(v, "", "  ")
	}}
}

// listed is a document with the first of a list of the service.
func listed[T any](name string, limit int, ask func(context.Context, apiclient.List) (api.Page[T], error)) document {
	return answered(name, func(ctx context.Context) (api.Page[T], error) { return ask(ctx, apiclient.List{Limit: limit}) })
}

// documents are what a helper needs: what was found, what the service says of itself, and how this machine is. The client is nil if the
// service was not reached.
func (d *doctor) documents(c *apiclient.Client) []document {
	all := []document{
		answered("found.json", func(context.Context) ([]api.Diagnosis, error) { return d.found, nil }),
		answered("versions.json", func(context.Context) (map[string]string, error) {
			return map[string]string{"jugate": version.Program(), "server": d.app.server, "made": time.Now().UTC().Format(time.RFC3339)}, nil
		}),
		said("system.txt", "cat", "/etc/os-release", "/proc/version", "/proc/meminfo"),
		said("addresses.txt", "ip", "address"),
		said("routes.txt", "ip", "route"),
		said("listening.txt", "ss", "-lntup"),
		said("firewall.txt", "nft", "list", "ruleset"),
		said("disks.txt", "df", "-h"),
		said("unit.txt", "systemctl", "status", "--no-pager", "--full", "jugate.service"),
		said("journal.txt", "journalctl", "--no-pager", "--unit=jugate.service", "--lines=5000"),
		said("jugate.yaml", "cat", configFile),
	}
	if c == nil {
		return all
	}
	return append(all,
		answered("overview.json", c.Overview), answered("settings.json", c.Settings), answered("network-boot.json", c.Netboot), answered("outposts.json", c.Outposts),
		answered("stores.json", c.Stores), answered("records-check.json", c.CheckLog),
		listed("deliveries.json", 50, c.Deliveries), listed("receipts.json", 200, c.Receipts), listed("logbook.json", 500, c.Lines), listed("builds.json", 20, c.Builds))
}

// report writes the documents into an archive. What cannot be had is said in its place.
func (d *doctor) report(ctx context.Context, c *apiclient.Client, path string) error {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	t := tar.NewWriter(z)
	for _, one := range d.documents(c) {
		text, err := one.get(ctx)
		if err != nil {
			text = fmt.Appendf(text, "\nnot to be had: %v\n", err)
		}
		text = withoutSecrets(text)
		text = text[max(0, len(text)-tooMuch):]
		if err := t.WriteHeader(&tar.Header{Name: "jugate-report/" + one.name, Mode: 0o644, Size: int64(len(text)), ModTime: time.Now()}); err != nil {
			return err
		}
		if _, err := t.Write(text); err != nil {
			return err
		}
	}
	if err := errors.Join(t.Close(), z.Close()); err != nil {
		return err
	}
	return durable.Write(path, b.Bytes(), 0o600)
}
