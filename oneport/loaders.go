package oneport

import (
	"context"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"
)

// A boot loader counts its ports from the same number at each start, and leaves its
// connections as they are when the kernel takes over. To this side they stay open, and
// the next start's first connection, from the same port, is taken for a part of the old
// one: the loader gets no script. So connections of loaders are reset here once they
// have all their bytes, which leaves nothing behind on either side. A loader that closes its
// side has what it wanted, too: while its window is closed, a close that waits until the rest
// has arrived takes minutes.

// loaderConn notes whether a connection is a loader's.
type loaderConn struct {
	conn net.Conn
	is   atomic.Bool
}

type loaderKey struct{}

// loaders are the connections of boot loaders.
type loaders struct{ all sync.Map } // net.Conn to *loaderConn

// context is http.Server.ConnContext.
func (l *loaders) context(ctx context.Context, c net.Conn) context.Context {
	mark := &loaderConn{conn: c}
	l.all.Store(c, mark)
	return context.WithValue(ctx, loaderKey{}, mark)
}

// markLoader notes that a request came from a loader, whose connection is reset if it closes its side before done.
func markLoader(r *http.Request) (done func()) {
	mark, known := r.Context().Value(loaderKey{}).(*loaderConn)
	if !known || !strings.HasPrefix(r.UserAgent(), "GRUB") {
		return func() {}
	}
	mark.is.Store(true)
	stop := context.AfterFunc(r.Context(), func() { // before done, it is the other side that has ended it
		if tcp, plain := mark.conn.(*net.TCPConn); plain {
			reset(tcp)
		}
	})
	return func() { stop() }
}

// state is http.Server.ConnState.
func (l *loaders) state(c net.Conn, s http.ConnState) {
	switch s {
	case http.StateClosed, http.StateHijacked:
		l.all.Delete(c)
	case http.StateIdle:
		mark, known := l.all.Load(c)
		if tcp, plain := c.(*net.TCPConn); plain && known && mark.(*loaderConn).is.Load() {
			tcp.SetLinger(0) // whoever closes it now resets it
			go resetWhenSent(tcp)
		}
	}
}

const (
	// sentWithin is how long a loader may take for what is still on its way to it.
	sentWithin = 30 * time.Second
	sentLook   = 20 * time.Millisecond
)

// resetWhenSent resets a connection when the other side has acknowledged everything.
func resetWhenSent(c *net.TCPConn) {
	for end := time.Now().Add(sentWithin); unacknowledged(c) && time.Now().Before(end); {
		time.Sleep(sentLook)
	}
	reset(c)
}

func reset(c *net.TCPConn) {
	c.SetLinger(0) // closing is a reset then
	c.Close()
}

func unacknowledged(c *net.TCPConn) bool {
	raw, err := c.SyscallConn()
	if err != nil {
		return false
	}
	left := 0
	err = raw.Control(func(fd uintptr) { left, _ = unix.IoctlGetInt(int(fd), unix.SIOCOUTQ) })
	return err == nil && left > 0
}
