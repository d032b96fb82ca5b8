package supervised

import (
	"context"
	"io"
	"log/slog"
	"sync"

	"github.com/coreos/go-systemd/v22/journal"
)

// Logger logs as text to where errors go. If that is the manager's journal, lines begin with how bad it is (sd-daemon(3)), and have
// no time, which the journal has.
func Logger(errors io.Writer) *slog.Logger {
	if is, err := journal.StderrIsJournalStream(); err != nil || !is {
		return slog.New(slog.NewTextHandler(errors, nil))
	}
	return slog.New(forJournal(errors))
}

// journalHandler begins lines with the priority of their level.
type journalHandler struct {
	slog.Handler
	to *prefixed
}

// prefixed writes a prefix before each line.
type prefixed struct {
	io.Writer
	mu     sync.Mutex // held for one line
	prefix string
}

func (p *prefixed) Write(line []byte) (int, error) {
	n, err := p.Writer.Write(append([]byte(p.prefix), line...))
	return max(n-len(p.prefix), 0), err
}

func forJournal(to io.Writer) slog.Handler {
	p := &prefixed{Writer: to}
	return &journalHandler{slog.NewTextHandler(p, &slog.HandlerOptions{ReplaceAttr: func(groups []string, a slog.Attr) slog.Attr {
		if len(groups) == 0 && (a.Key == slog.TimeKey || a.Key == slog.LevelKey) {
			return slog.Attr{}
		}
		return a
	}}), p}
}

func (h *journalHandler) Handle(ctx context.Context, r slog.Record) error {
	h.to.mu.Lock()
	defer h.to.mu.Unlock()
	switch {
	case r.Level >= slog.LevelError:
		h.to.prefix = "<3>"
	case r.Level >= slog.LevelWarn:
		h.to.prefix = "<4>"
	default:
		h.to.prefix = "<6>"
	}
	return h.Handler.Handle(ctx, r)
}

func (h *journalHandler) WithAttrs(attrs []slog.Attr) slog.Handler {
	return &journalHandler{h.Handler.WithAttrs(attrs), h.to}
}

func (h *journalHandler) WithGroup(name string) slog.Handler {
	return &journalHandler{h.Handler.WithGroup(name), h.to}
}
