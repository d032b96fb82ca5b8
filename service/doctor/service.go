package doctor

import (
	"cmp"
	"fmt"
	"net/netip"
	"net/url"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"jugate/api"
	"jugate/core/netboot"
	"jugate/core/roster"
)

// serviceFacts are what is known of a service.
type serviceFacts struct {
	parts              []api.PartState
	links              []api.NetbootLink
	others             map[string]answers // of servers that give addresses, by interface
	offered            *api.Build         // nil if none is
	at                 []string           // URLs
	people, images     int
	unrecorded         []roster.Ref // versions with files that the records do not know
	buffer             int          // bytes that are held for a stream
	files              uint64       // that may be open
	inodes, inodesFree uint64       // of the data folder's disk: how many files it takes, and how many more; both 0 where it has no limit
}

const (
	// bufferWanted is what holds a tenth of a second of a stream at 200 Mbit/s.
	bufferWanted = 2 << 20
	// filesWanted are for 1,000 workstations at work, whose agents each wait on a connection, with consoles beside them.
	filesWanted = 4096
)

// judge judges everything that is known of the service: first its parts, then what no part knows of itself.
func (f *serviceFacts) judge() (all []api.Diagnosis) {
	add := func(looked, state, what, cure string) {
		all = append(all, api.Diagnosis{Looked: looked, State: state, What: what, Cure: cure})
	}
	for _, p := range f.parts {
		add(p.Part, p.State, p.What, p.Cure)
	}
	f.addresses(add)
	f.build(add)
	f.reached(add)
	if f.people == 0 {
		add("people", api.Warning, "nobody can sign in by name", "jugate person add NAME --grant administrator")
	} else {
		add("people", api.Good, fmt.Sprintf("%d may sign in", f.people), "")
	}
	if n := len(f.unrecorded); n > 0 {
		add("images", api.Bad, fmt.Sprintf("the records do not know %s in the data folder, %s among them: they are older, or were begun anew", english.Plural(n, "version", ""), f.unrecorded[0]),
			"jugate image rescan enters them; receipts, people and workstations come back with a backup alone (jugate restore)")
	}
	if f.images == 0 {
		add("images", api.Warning, "no image was captured or imported yet", "prepare a machine, boot it over the network, and jugate capture it; or jugate image import a disk")
	} else {
		add("images", api.Good, fmt.Sprintf("there are %d", f.images), "")
	}
	if f.buffer < bufferWanted {
		add("buffers of streams", api.Warning, fmt.Sprintf("the system holds %s for a stream, so packets are lost at high rates", humanize.IBytes(uint64(max(f.buffer, 0)))),
			"start it by its unit, which has CAP_NET_ADMIN; or sysctl -w net.core.rmem_max=8388608 net.core.wmem_max=4194304")
	} else {
		add("buffers of streams", api.Good, humanize.IBytes(uint64(f.buffer)), "")
	}
	if f.files < filesWanted {
		add("open files", api.Warning, fmt.Sprintf("it may have %d files and connections open, and a thousand workstations at work need more", f.files), "LimitNOFILE=65536 in its unit, or ulimit -n 65536 before it is started")
	} else {
		add("open files", api.Good, fmt.Sprintf("up to %d", f.files), "")
	}
	if f.inodes > 0 && f.inodesFree < f.inodes/20 {
		add("files on the disk", api.Bad, fmt.Sprintf("%d of %d more files can be made; each slab is one", f.inodesFree, f.inodes), "prune versions that nobody needs, or use a file system without such a bound (XFS, Btrfs)")
	}
	return all
}

// addresses judges who gives addresses on each interface.
func (f *serviceFacts) addresses(add func(looked, state, what, cure string)) {
	if len(f.links) == 0 {
		add("network boot", api.Warning, "it is answered on no interface, so workstations boot from media alone", "jugate config set netboot eth1=beside (or whole, where no other server gives addresses)")
	}
	for _, l := range f.links {
		looked := "addresses on " + l.Interface
		heard := f.others[l.Interface]
		servers := heard.from
		switch {
		case l.Mode == string(netboot.Off) || l.State != "serving":
		case heard.err != nil:
			add(looked, api.Warning, "whether another server gives addresses there could not be told: "+heard.err.Error(), "start it by its unit, which has CAP_NET_RAW and CAP_NET_BIND_SERVICE, and see that the interface is up")
		case l.Mode == string(netboot.Whole) && len(servers) > 0:
			add(looked, api.Bad, fmt.Sprintf("%s gives addresses there, too: two machines will get the same one", servers[0]), "switch that server off, or jugate config set netboot "+l.Interface+"=beside")
		case l.Mode == string(netboot.Beside) && len(servers) == 0:
			add(looked, api.Bad, "nobody gives addresses there: workstations show 169.254.x.x or say that no server answers, and do not boot", "start the DHCP server of that network, or jugate config set netboot "+l.Interface+"=whole with a pool")
		case l.Mode == string(netboot.Beside):
			add(looked, api.Good, fmt.Sprintf("%s gives them", servers[0]), "")
		default:
			add(looked, api.Good, "this service alone gives them", "")
		}
	}
}

// build judges the boot environment that is offered. That none is, its part says.
func (f *serviceFacts) build(add func(looked, state, what, cure string)) {
	if f.offered == nil {
		if len(f.links) == 0 {
			add("boot environment", api.Warning, "no build is offered", "jugate environment build --offer")
		}
		return
	}
	looked := fmt.Sprintf("boot environment %d", f.offered.Number)
	for _, p := range f.offered.Problems {
		add(looked, api.Warning, p, "install what it names, and jugate environment build --offer")
	}
	if len(f.offered.Problems) == 0 {
		add(looked, api.Good, "it has all loaders, and firmware for every module", "")
	}
}

// reached judges where the service answers.
func (f *serviceFacts) reached(add func(looked, state, what, cure string)) {
	outside := false
	for _, at := range f.at {
		u, err := url.Parse(at)
		if err != nil {
			continue
		}
		ip, err := netip.ParseAddr(u.Hostname())
		outside = outside || err != nil && u.Hostname() != "localhost" || err == nil && !ip.IsLoopback()
	}
	where := strings.Join(f.at, ", ")
	if outside {
		add("address", api.Good, where, "")
	} else {
		add("address", api.Warning, cmp.Or(where, "it")+" is reached from this machine alone", "jugate setup, or listen in the configuration file")
	}
}
