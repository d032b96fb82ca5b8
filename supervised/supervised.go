// Package supervised is for programs that run under a service manager, such as systemd: it takes the socket that the manager has opened
// (sd_listen_fds(3)), and tells it when the program is ready, that it is alive, and when it ends (sd_notify(3)). Without a manager
// it does nothing.
//
//	listener, err := supervised.Listen("192.0.2.1:7460")
//	…
//	supervised.Ready(log)
//	go supervised.Watch(ctx, log, alive)
package supervised

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"os"
	"time"

	"github.com/coreos/go-systemd/v22/activation"
	"github.com/coreos/go-systemd/v22/daemon"
	"golang.org/x/sys/unix"
)

// Listen listens on the socket that the manager has handed over; on an address if there is none. More than one is an error, as it
// would not be clear which is meant.
func Listen(address string) (net.Listener, error) {
	handed, err := activation.Listeners()
	if err != nil {
		return nil, fmt.Errorf("the socket of the service manager: %w", err)
	}
	switch len(handed) {
	case 0:
		l, err := net.Listen("tcp", address)
		if err != nil {
			return nil, fmt.Errorf("listen on %s: %w", address, err)
		}
		return l, nil
	case 1:
		if handed[0] == nil {
			return nil, fmt.Errorf("the socket of the service manager does not take connections (ListenStream=)")
		}
		return handed[0], nil
	}
	for _, l := range handed {
		if l != nil {
			l.Close()
		}
	}
	return nil, fmt.Errorf("the service manager has handed over %d sockets, and one is taken", len(handed))
}

// Is tells whether a manager runs the program.
func Is() bool { return os.Getenv("NOTIFY_SOCKET") != "" }

// Reloading tells the manager that the program reads its settings again; Ready says that it has.
func Reloading(log *slog.Logger) {
	var now unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_MONOTONIC, &now); err != nil {
		return
	}
	tell(log, fmt.Sprintf("%s\nMONOTONIC_USEC=%d", daemon.SdNotifyReloading, now.Nano()/1000))
}

// Ready tells the manager that the program answers.
func Ready(log *slog.Logger) { tell(log, daemon.SdNotifyReady) }

// Stopping tells the manager that the program ends by itself.
func Stopping(log *slog.Logger) { tell(log, daemon.SdNotifyStopping) }

func tell(log *slog.Logger, state string) {
	if _, err := daemon.SdNotify(false, state); err != nil {
		log.Warn("the service manager was not told", "what", state, "error", err)
	}
}

// Watch tells the manager that the program is alive, twice as often as that wants to hear it, as long as alive says so; until the
// context ends. A manager that hears nothing starts the program again (WatchdogSec=).
func Watch(ctx context.Context, log *slog.Logger, alive func(ctx context.Context) error) {
	every, err := daemon.SdWatchdogEnabled(false)
	if err != nil {
		log.Warn("what the service manager wants to hear cannot be read", "error", err)
	}
	if every <= 0 {
		return
	}
	tick := time.NewTicker(every / 2)
	defer tick.Stop()
	for {
		within, cancel := context.WithTimeout(ctx, every/2)
		if err := alive(within); err == nil {
			tell(log, daemon.SdNotifyWatchdog)
		} else if ctx.Err() == nil {
			log.Error("the service manager is not told that all is well", "error", err)
		}
		cancel()
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}
