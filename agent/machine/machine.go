// Package machine is the boot environment from within: what the agent does
// where it is the first process of a workstation that was booted over the network
// or from media.
//
//	if machine.First() {
//		machine.Run()
//	}
//
// It mounts what the kernel offers, loads the modules that the devices ask for,
// brings up every network card, says on screen what is wrong with the network if
// something is, and works as an agent until the machine is restarted or switched
// off.
package machine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"jugate/agent"
	"jugate/api"
	"jugate/apiclient"
	"jugate/core/environment"
	"jugate/core/hwaddr"
	"jugate/core/netboot"
)

// First tells whether this process is the first one of the machine.
func First() bool { return os.Getpid() == 1 }

// Run never returns: without its first process the kernel stops.
func Run() {
	ctx := context.Background()
	err := run(ctx)
	if errors.Is(err, agent.ErrLeft) {
		time.Sleep(time.Hour) // the kernel takes the machine down
	}
	t := openTerminal(true)
	t.show(agent.Status{Text: fmt.Sprintf("this workstation cannot work: %v; it restarts in five minutes", err)})
	time.Sleep(5 * time.Minute)
	unix.Sync()
	unix.Reboot(unix.LINUX_REBOOT_CMD_RESTART)
}

// settle is how long after the last new device the network cards count as
// complete: those on USB come late.
const settle = 2 * time.Second

func run(ctx context.Context) error {
	if err := mountAll(); err != nil {
		return err
	}
	commandLine, err := os.ReadFile("/proc/cmdline")
	if err != nil {
		return err
	}
	set, err := readSettings("/", string(commandLine))
	screen := openTerminal(set.Serial)
	slog.SetDefault(slog.New(slog.NewTextHandler(kernelLog{}, nil)))
	screen.show(agent.Status{Text: "starting"})
	if err != nil {
		return err
	}
	loaded, err := openModules()
	if err != nil {
		return fmt.Errorf("the modules of the build do not belong to its kernel: %w", err)
	}
	bell := make(chan struct{}, 1)
	heard, err := listenEvents()
	if err != nil {
		return fmt.Errorf("hear of devices: %w", err)
	}
	go heard.follow(ctx, loaded, bell)
	if err := loaded.coldplug(); err != nil {
		return err
	}
	if _, err := os.Stat("/sys/firmware/efi"); err == nil {
		if err := errors.Join(loaded.load("efivarfs"), unix.Mount("efivarfs", "/sys/firmware/efi/efivars", "efivarfs", 0, "")); err != nil {
			slog.Warn("the firmware's variables cannot be used", "error", err)
		}
	}
	complete := make(chan struct{}) // meanwhile, the card that the loader came by can be worked with
	go func() { defer close(complete); settled(bell) }()
	if !hasCard(set.Card) {
		<-complete
	}
	p := &person{screen: screen, modules: loaded}
	if p.inventory, err = (agent.Hardware{}).Inventory(); err != nil {
		return err
	}
	if screen.tty != nil {
		go p.listen(ctx, screen.tty)
	}
	var on card
	var network []string
	if set.Outpost != nil && set.Outpost.Alone {
		go reach(ctx, set, p)
	} else if on, network, err = connect(ctx, screen, set, loaded, p); err != nil {
		return err
	}
	<-complete
	var machine agent.Machine = agent.Hardware{Interface: on.name}
	if set.Outpost != nil {
		if err := openData(ctx, loaded, set.Outpost.Name); err != nil {
			return err
		}
		if machine, set.Service, err = openStation(ctx, set, on, p.inventory.Memory, screen.show); err != nil {
			return err
		}
	}
	client, certificate, err := dial(set)
	if err != nil {
		return err
	}
	inventory, err := machine.Inventory()
	if err != nil {
		return err
	}
	if on.name == "" && len(inventory.Cards) > 0 {
		on.address, _ = hwaddr.Parse(inventory.Cards[0].Address)
	}
	screen.change(func(v *view) {
		v.address = on.address.String()
		v.model = strings.TrimSpace(inventory.Maker + " " + inventory.Model)
		v.service, v.network = set.Service, nil // it works: it is on a page of its own
		if set.Outpost != nil {
			v.outpost = set.Outpost.Name
		}
	})
	wish, signIn := parseWish(set.Wish)
	options := agent.Options{Show: screen.show, Log: slog.Default(), Ticket: cmp.Or(set.Ticket, set.Key), Boot: bootID(), Wish: wish, Certificate: certificate}
	if screen.tty != nil {
		options.Ask, options.Keyboard = p.question, p.layoutSet
	}
	a := agent.New(client, machine, options)
	p.connected(a, inventory, network)
	if screen.tty != nil && signIn {
		p.press(ctx, 's')
	}
	if set.Shell {
		go shells("/dev/tty2")
	}
	return a.Run(ctx)
}

// parseWish reads what was chosen in the boot menu: to sign in, an image, an order or a boot entry.
func parseWish(text string) (wish *api.Wish, signIn bool) {
	kind, image, _ := strings.Cut(text, ":")
	switch kind {
	case "receive":
		return &api.Wish{Kind: kind, Image: image}, false
	case "order", "entry":
		return &api.Wish{Kind: kind, Name: image}, false
	}
	return nil, text == netboot.WishSignIn
}

// shells has a shell on a terminal, again and again.
func shells(terminal string) {
	for {
		tty, err := os.OpenFile(terminal, os.O_RDWR, 0)
		if err != nil {
			slog.Warn("there is no terminal for a shell", "error", err)
			return
		}
		cmd := exec.Command("/bin/sh", "-i")
		cmd.Stdin, cmd.Stdout, cmd.Stderr = tty, tty, tty
		cmd.Env = []string{"HOME=/", "TERM=linux", "PATH=/bin:/sbin"}
		cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
		err = cmd.Run()
		tty.Close()
		if err != nil {
			slog.Warn("the shell has ended", "error", err)
			time.Sleep(time.Second)
		}
	}
}

// bootID is the kernel's number for this boot.
func bootID() string {
	text, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	return strings.TrimSpace(string(text))
}

// settled waits until no device has come for a while.
func settled(bell <-chan struct{}) {
	for {
		select {
		case <-bell:
		case <-time.After(settle):
			return
		}
	}
}

// connect brings the machine onto the network, and tries until it succeeds. It returns the
// card to work with, which is the one that the loader came by or else the first that has
// an address, and a line of text for each card.
func connect(ctx context.Context, screen *terminal, set Settings, loaded *modules, p *person) (card, []string, error) {
	for {
		p.undisturbed()
		screen.show(agent.Status{Text: "looking for the network"})
		cards, err := findCards()
		if err != nil {
			return card{}, nil, err
		}
		if fixed := p.typedNetwork(); fixed != nil {
			p.tried(fixed, typed(ctx, cards, fixed, set.Service))
		} else {
			looking, stop := context.WithCancel(ctx)
			p.interrupts(stop)
			cards = up(looking, cards, set.Card, set.Network, bringUp)
			stop()
			for _, c := range cards {
				if c.renew != nil {
					go c.renew(ctx)
				}
			}
		}
		lines := explain(cards, findSilent("/sys"))
		screen.change(func(v *view) { v.network = lines })
		p.explained(lines)
		for _, l := range lines {
			screen.log("network: " + l)
		}
		good := slices.DeleteFunc(slices.Clone(cards), func(c card) bool { return c.state != hasAddress })
		slices.SortStableFunc(good, func(a, b card) int {
			return cmp.Compare(btoi(b.address == set.Card), btoi(a.address == set.Card))
		})
		if len(good) > 0 {
			return good[0], lines, nil
		}
		if len(findSilent("/sys")) > 0 { // whoever stands here may have brought the driver
			for _, l := range loaded.fromSticks() {
				screen.log("driver: " + l)
			}
		}
		screen.show(agent.Status{Text: "no network card has an address; trying again"})
		waiting, stop := context.WithTimeout(ctx, 5*time.Second)
		p.interrupts(stop)
		<-waiting.Done()
		stop()
		if ctx.Err() != nil {
			return card{}, nil, ctx.Err()
		}
	}
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// dial makes the client for the service, and returns the certificate of the build. If the build has a certificate, no other is
// trusted. Its dates are not checked, as clocks of workstations are often wrong.
func dial(set Settings) (c *apiclient.Client, certificate []byte, err error) {
	certificate, err = os.ReadFile(filepath.Join("/", environment.CertificateFile))
	if err != nil && !os.IsNotExist(err) {
		return nil, nil, err
	}
	if c, err = apiclient.ForAgent(set.Service, certificate); err != nil {
		return nil, nil, fmt.Errorf("the service in the boot script, or %s: %w", environment.CertificateFile, err)
	}
	return c, certificate, nil
}

// kernelLog writes log lines to the kernel's log, where they are found afterwards.
type kernelLog struct{}

func (kernelLog) Write(b []byte) (int, error) {
	return len(b), os.WriteFile("/dev/kmsg", append([]byte("<6>jugate: "), b...), 0)
}
