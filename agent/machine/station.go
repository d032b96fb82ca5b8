package machine

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"jugate/agent"
	"jugate/api"
	"jugate/apiclient"
	"jugate/core/environment"
)

// Media can be an outpost: this machine runs its program then, beside the agent, which calls it in place of the service. Its data
// folder is a volume of the media.

const (
	dataFolder = "/run/jugate/outpost"
	slabFolder = "/run/jugate/slabs" // where slabs are kept in memory
	// outpostPort is where the outpost answers.
	outpostPort = 7460
	// dataWait is how long the volume of media may take to appear: sticks are slow.
	dataWait = time.Minute
)

// station is a machine that is an outpost.
type station struct {
	agent.Hardware
	set    *environment.Outpost
	client *apiclient.Client // of the outpost
	show   func(agent.Status)
	stop   context.CancelFunc // ends the outpost
	ended  chan struct{}      // closed when it has
}

// openData mounts the volume for data of the media that are the outpost of a name.
func openData(ctx context.Context, loaded *modules, name string) error {
	for _, module := range []string{"vfat", "nls_cp437", "nls_ascii", "nls_utf8"} {
		if err := loaded.load(module); err != nil { // it may be in the kernel
			slog.Info("a module for the volume of the media is not there", "module", module, "error", err)
		}
	}
	if err := os.MkdirAll(dataFolder, 0o700); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, dataWait)
	defer cancel()
	var last error
	for {
		for _, device := range dataVolumes("/sys") {
			err := mountData(device, name)
			if err == nil {
				return writable(dataFolder)
			}
			last = fmt.Errorf("the volume for data of the media (%s): %w", device, err)
		}
		select {
		case <-time.After(500 * time.Millisecond):
		case <-ctx.Done():
			return errors.Join(last, fmt.Errorf("the volume %s of these media is not there; they are an outpost when they are on a stick or disk, and not on a disc that is only read", environment.DataVolume))
		}
	}
}

// mountData mounts a partition, if it is the data folder of the outpost of a name: there may be other media in this machine.
func mountData(device, name string) error {
	if err := unix.Mount(filepath.Join("/dev", device), dataFolder, "vfat", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC|unix.MS_NOATIME, "umask=0077,quiet"); err != nil {
		return err
	}
	var is api.OutpostIs
	text, err := os.ReadFile(filepath.Join(dataFolder, "outpost.json"))
	if err == nil {
		err = json.Unmarshal(text, &is)
	}
	if err == nil && is.Name != name {
		err = fmt.Errorf("it is of the outpost %s", is.Name)
	}
	if err != nil {
		return errors.Join(err, unix.Unmount(dataFolder, 0))
	}
	return nil
}

// dataVolumes are the partitions that have the name of such a volume, below /sys.
func dataVolumes(sys string) (devices []string) {
	all, _ := filepath.Glob(filepath.Join(sys, "class/block/*/uevent"))
	for _, file := range all {
		text, _ := os.ReadFile(file)
		for l := range strings.Lines(string(text)) {
			if strings.TrimSpace(l) == "PARTNAME="+environment.DataVolume {
				devices = append(devices, filepath.Base(filepath.Dir(file)))
			}
		}
	}
	return devices
}

// writable tells whether receipts can be kept.
func writable(folder string) error {
	f, err := os.CreateTemp(folder, "try")
	if err != nil {
		return fmt.Errorf("these media cannot be written, and receipts would be lost: %w", err)
	}
	return errors.Join(f.Close(), os.Remove(f.Name()))
}

// memoryShare is which part of the machine's memory slabs may have.
const memoryShare = 4

// openStation starts the outpost of the media, on the card that works; it answers nobody but this machine if it is alone. The
// machine has so much memory, in bytes.
func openStation(ctx context.Context, set Settings, on card, memory int64, show func(agent.Status)) (*station, string, error) {
	s := &station{Hardware: agent.Hardware{Interface: on.name}, set: set.Outpost, show: show, ended: make(chan struct{})}
	at := netip.AddrPortFrom(on.ip.Addr(), outpostPort)
	if s.set.Alone {
		s.Interface = "lo"
		at = netip.AddrPortFrom(netip.AddrFrom4([4]byte{127, 0, 0, 1}), outpostPort)
	}
	service := "https://" + at.String()
	if err := loopback(); err != nil {
		return nil, "", err
	}
	certificate, err := os.ReadFile(filepath.Join("/", environment.CertificateFile))
	if err != nil {
		return nil, "", err
	}
	if s.client, err = apiclient.ForAgent(service, certificate); err != nil {
		return nil, "", err
	}
	args := []string{"--data", dataFolder, "--listen", at.String()}
	if s.set.InMemory {
		args = append(args, "--slabs", slabFolder, "--keep", strconv.FormatInt(memory/memoryShare, 10))
	}
	if s.set.Netboot != "" {
		args = append(args, "--netboot", on.name+"="+s.set.Netboot)
	}
	for _, p := range s.set.Pools {
		args = append(args, "--pool", p)
	}
	ctx, s.stop = context.WithCancel(ctx)
	go s.keep(ctx, args)
	return s, service, nil
}

// loopback brings up the interface that reaches this machine alone.
func loopback() error {
	link, err := netlink.LinkByName("lo")
	if err != nil {
		return err
	}
	return netlink.LinkSetUp(link)
}

const (
	// startAgain is how long after its end the outpost is started again, and closeWithin how long it may take to close.
	startAgain  = 5 * time.Second
	closeWithin = 20 * time.Second
	// failuresAtMost is how often it may not say whether it is through, a second apart, before nobody waits for it any more.
	failuresAtMost = 60
)

// keep runs the outpost until ctx ends.
func (s *station) keep(ctx context.Context, args []string) {
	defer close(s.ended)
	for ctx.Err() == nil {
		err := s.run(ctx, args)
		if ctx.Err() != nil {
			return
		}
		slog.Error("the outpost of these media has ended", "error", err)
		s.show(agent.Status{Text: fmt.Sprintf("the outpost of these media has ended, and is started again: %v", err)})
		select {
		case <-time.After(startAgain):
		case <-ctx.Done():
		}
	}
}

// run runs the outpost's program once. Its last words are its error.
func (s *station) run(ctx context.Context, args []string) error {
	cmd := exec.CommandContext(ctx, "/"+environment.OutpostProgram, args...)
	cmd.Env = []string{"HOME=/", "PATH=/bin:/sbin"}
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	cmd.WaitDelay = closeWithin
	out, err := cmd.StderrPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	last := ""
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		last = lines.Text()
		kernelLog{}.Write([]byte(last + "\n"))
	}
	if err := cmd.Wait(); err != nil {
		return fmt.Errorf("%w: %s", err, last)
	}
	return errors.New("it was not asked to")
}

// Leave waits until the outpost is through with those that it serves, ends it, and then the machine.
func (s *station) Leave(how string) error {
	for wait, failed := false, 0; ; wait = true {
		n, err := s.busy()
		if err != nil { // it may be starting again, and has the receipt to keep
			failed++
		}
		if err == nil && n == 0 || failed > failuresAtMost {
			break
		}
		if wait && err == nil {
			s.show(agent.Status{Text: fmt.Sprintf("done; this machine is the outpost of others, and leaves when their deliveries are through (%d under way)", n)})
		}
		time.Sleep(time.Second)
	}
	s.stop()
	<-s.ended
	if err := unix.Unmount(dataFolder, 0); err != nil {
		slog.Warn("the volume of the media cannot be unmounted", "error", err)
	}
	return s.Hardware.Leave(how)
}

// busy is how many deliveries the outpost has under way.
func (s *station) busy() (int, error) {
	ctx, cancel := context.WithTimeout(context.Background(), closeWithin)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.client.Server()+"/healthz", nil)
	if err != nil {
		return 0, err
	}
	resp, err := s.client.HTTP().Do(req)
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	var health api.Health
	err = json.NewDecoder(io.LimitReader(resp.Body, 1<<16)).Decode(&health)
	return health.Busy, err
}

// reach brings the machine onto a network, if there is one: the outpost hands receipts in over it. Nobody waits for that.
func reach(ctx context.Context, set Settings, p *person) {
	for ctx.Err() == nil {
		cards, err := findCards()
		if err != nil {
			slog.Warn("the network cards cannot be listed", "error", err)
		}
		cards = up(ctx, cards, set.Card, set.Network, bringUp)
		p.explained(explain(cards, findSilent("/sys")))
		for _, c := range cards {
			if c.renew != nil {
				go c.renew(ctx)
			}
			if c.state == hasAddress {
				return
			}
		}
		select {
		case <-time.After(startAgain):
		case <-ctx.Done():
		}
	}
}
