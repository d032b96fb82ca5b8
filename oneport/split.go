package oneport

import (
	"errors"
	"log/slog"
	"net"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

const (
	handshake = 22
	// acceptAgain is how long a listener that cannot accept waits: there are too many open files.
	acceptAgain = 100 * time.Millisecond
)

// onePort hands out the connections of one listener as those of two.
type onePort struct {
	net.Listener
	log           *slog.Logger
	secure, plain chan net.Conn
	over          chan struct{}
	end           func()

	mu      sync.Mutex
	waiting map[net.Conn]bool // that have said nothing yet; nil after the end
}

// split returns what a listener accepts as two listeners. Closing either closes all.
func split(l net.Listener, log *slog.Logger) (secure, plain net.Listener) {
	p := &onePort{Listener: l, log: log, secure: make(chan net.Conn), plain: make(chan net.Conn), over: make(chan struct{}), waiting: map[net.Conn]bool{}}
	p.end = sync.OnceFunc(func() {
		close(p.over)
		p.mu.Lock()
		defer p.mu.Unlock()
		for c := range p.waiting {
			c.Close()
		}
		p.waiting = nil
	})
	go p.accept()
	return half{p, p.secure}, half{p, p.plain}
}

func (p *onePort) accept() {
	defer p.end()
	for {
		c, err := p.Listener.Accept()
		switch {
		case errors.Is(err, net.ErrClosed):
			return
		case err != nil:
			p.log.Warn("no connection can be accepted", "error", err)
			select {
			case <-time.After(acceptAgain):
			case <-p.over:
				return
			}
		default:
			go p.hand(c)
		}
	}
}

// hand waits for the first byte of a connection, and gives it to those who serve what begins so.
func (p *onePort) hand(c net.Conn) {
	p.mu.Lock()
	closed := p.waiting == nil
	if !closed {
		p.waiting[c] = true
	}
	p.mu.Unlock()
	if closed {
		c.Close()
		return
	}
	c.SetReadDeadline(time.Now().Add(standStill))
	first, err := peek(c)
	p.mu.Lock()
	delete(p.waiting, c)
	p.mu.Unlock()
	if err != nil {
		c.Close()
		return
	}
	c.SetReadDeadline(time.Time{})
	to := p.plain
	if first == handshake {
		to = p.secure
	}
	select {
	case to <- c:
	case <-p.over:
		c.Close()
	}
}

var errNothingSaid = errors.New("the connection was closed before anything was said")

// peek waits for the first byte of a connection, and leaves it there.
func peek(c net.Conn) (byte, error) {
	socket, is := c.(*net.TCPConn)
	if !is {
		return 0, errors.ErrUnsupported
	}
	raw, err := socket.SyscallConn()
	if err != nil {
		return 0, err
	}
	var first [1]byte
	n, failed := 0, error(nil)
	err = raw.Read(func(fd uintptr) bool {
		n, _, failed = unix.Recvfrom(int(fd), first[:], unix.MSG_PEEK)
		return !errors.Is(failed, unix.EAGAIN) && !errors.Is(failed, unix.EINTR)
	})
	if err = errors.Join(err, failed); err == nil && n == 0 {
		err = errNothingSaid
	}
	return first[0], err
}

// half is one of the two.
type half struct {
	*onePort
	conns chan net.Conn
}

// Accept is net.Listener's.
func (h half) Accept() (net.Conn, error) {
	select {
	case c := <-h.conns:
		return c, nil
	case <-h.over:
		return nil, net.ErrClosed
	}
}

// Close is net.Listener's.
func (h half) Close() error {
	defer h.end()
	if err := h.Listener.Close(); !errors.Is(err, net.ErrClosed) {
		return err
	}
	return nil
}
