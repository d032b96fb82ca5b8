package machine

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"github.com/dustin/go-humanize"

	"jugate/agent"
	"jugate/api"
	"jugate/apiclient"
	"jugate/core/answers"
	"jugate/core/capture"
	"jugate/core/environment"
)

// person is whoever stands in front of the workstation. Keys open pages; a page
// stays until it is left.
type person struct {
	away       sync.Mutex // held while a disk is captured onto another; whoever holds mu only tries it
	mu         sync.Mutex // held while a key is taken, and while a question is put up
	screen     *terminal
	agent      *agent.Agent // nil until there is a network
	inventory  api.Inventory
	network    []string
	modules    *modules
	images     []string                  // that may be received, after signing in
	orders     []string                  // that may be run, after signing in
	entries    []api.BootEntryAt         // that may be started, after signing in
	typedFixed *environment.FixedNetwork // that somebody here has typed, until it is tried
	interrupt  context.CancelFunc        // ends the search for a network, so that what was typed is tried
	signedIn   bool
	later      *api.Typed                             // by which they have signed in while the service did not answer; nil if it did
	bench      bool                                   // nobody has admitted this machine
	typing     func(ctx context.Context, text string) // takes the line that is typed; nil when none is
	typed      string
	hidden     bool   // it is a secret
	layout     string // of the keyboard
	chosen     bool   // somebody here has chosen it
	must       bool   // the line that is typed answers a question of the agent, and Esc does not end that
}

// Keys that a terminal sends.
const (
	keyEscape    = 0x1b
	keyEnter     = '\r'
	keyBackspace = 0x7f
)

// maxTyped is how long a line can be, in bytes.
const maxTyped = 200

// keys are the hints at the foot of the screen.
func (p *person) keys() string {
	switch {
	case p.must:
		return "Enter: go on   Esc: begin again"
	case p.typing != nil:
		return "Enter: go on   Esc: back"
	case p.agent == nil:
		return "F fixed address  C capture onto a disk  H hardware  N network  D drivers  K keyboard"
	case p.signedIn && len(p.entries) > 0:
		return "B boot entry  O order  R receive  C capture  I inspect  A admit  H hardware  D drivers  K keyboard"
	case p.signedIn && len(p.orders) > 0:
		return "O order R receive C capture I inspect A admit H hardware D drivers K keyboard"
	case p.signedIn:
		return "R receive  C capture  I inspect  A admit  H hardware  D drivers  K keyboard"
	default:
		return "S sign in   H hardware   N network   D drivers   K keyboard"
	}
}

// listen takes keys until the terminal ends.
func (p *person) listen(ctx context.Context, keys io.Reader) {
	p.mu.Lock()
	if !p.must { // a question may be there already
		p.show(page{})
	}
	p.mu.Unlock()
	buf := make([]byte, 64)
	for {
		n, err := keys.Read(buf)
		if err != nil || ctx.Err() != nil {
			return
		}
		if n > 1 && buf[0] == keyEscape {
			continue // an arrow, or another key with a sequence
		}
		for _, k := range buf[:n] {
			p.press(ctx, k)
		}
	}
}

func (p *person) press(ctx context.Context, k byte) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.typing != nil {
		p.typeKey(ctx, k)
		return
	}
	switch k | 0x20 {
	case 's':
		if p.agent == nil {
			p.say("Nobody can sign in here yet: no network card has an address.")
			return
		}
		p.ask("Sign in", []string{"By your name and password, or by the code that an engineer has made for this room.", p.typedAs()}, "name or code:", p.nameOrCode)
	case 'h':
		p.show(page{title: "Hardware", lines: hardware(p.inventory)})
	case 'f':
		if p.agent == nil {
			p.fixedAddress()
		}
	case 'n':
		p.show(page{title: "Network", lines: p.network})
	case 'd':
		p.drivers(ctx)
	case 'k':
		p.keyboard("")
	case 'r', 'c', 'i', 'a', 'o', 'b':
		switch {
		case p.signedIn:
			p.order(k | 0x20)
		case p.agent == nil && k|0x20 == 'c':
			p.captureAway(ctx)
		}
	default:
		p.show(page{})
	}
}

// question has whoever stands here answer a question of the agent (agent.Options.Ask). It stays on
// the screen until something is typed.
func (p *person) question(ctx context.Context, q answers.Question, wrong string) (string, error) {
	answered := make(chan string, 1)
	lines := []string{q.Ask, ""}
	if q.Default != "" {
		lines = append(lines, "Enter alone takes: "+q.Default, "")
	}
	if wrong != "" {
		lines = append(lines, "This was not taken: "+wrong)
	}
	p.mu.Lock()
	p.must = true
	p.ask("A question, before anything is written", lines, q.Key+":", func(_ context.Context, text string) {
		p.must = false
		p.show(page{})
		answered <- text
	})
	p.mu.Unlock()
	p.screen.log("question: " + q.Ask)
	select {
	case text := <-answered:
		return text, nil
	case <-ctx.Done():
		p.mu.Lock()
		defer p.mu.Unlock()
		p.typing, p.must = nil, false
		p.show(page{})
		return "", ctx.Err()
	}
}

// drivers loads what sticks and the service have for devices that nothing has taken.
func (p *person) drivers(ctx context.Context) {
	p.say("Looking for drivers on sticks, and in the service's library …")
	lines := p.modules.fromSticks()
	if p.agent != nil {
		more, err := p.modules.fromService(ctx, p.agent)
		if lines = append(lines, more...); err != nil {
			lines = append(lines, "the service's library: "+err.Error())
		}
	}
	p.show(page{title: "Drivers", lines: append(report(lines, findSilent("/sys")), "", "Esc: back")})
	for _, l := range lines {
		p.screen.log("driver: " + l)
	}
}

func (p *person) order(k byte) {
	switch k {
	case 'r':
		lines := []string{"All data on this workstation's disk is lost."}
		p.choose("Receive an image", "image", lines, p.images, func(name string) api.Wish { return api.Wish{Kind: "receive", Image: name} })
	case 'o':
		p.choose("Run an order", "order", []string{"For this workstation alone. What it delivers overwrites this disk."}, p.orders, func(name string) api.Wish { return api.Wish{Kind: "order", Name: name} })
	case 'b':
		var titles []string
		for _, e := range p.entries {
			titles = append(titles, e.Title)
		}
		p.pick("Start a boot entry", "boot entry", []string{"The workstation restarts, and starts it in place of its disk.", ""}, titles, func(_ context.Context, i int) {
			p.parameters(p.entries[i], api.Wish{Kind: "entry", Name: p.entries[i].Name, Values: map[string]string{}}, 0)
		})
	case 'c':
		p.ask("Capture this disk", []string{"As the next version of which image?"}, "image:", func(ctx context.Context, text string) {
			p.wish(ctx, api.Wish{Kind: "capture", Image: text})
		})
	case 'a':
		p.ask("Admit this workstation", []string{"Which name does it get?"}, "name:", func(ctx context.Context, text string) {
			p.wish(ctx, api.Wish{Kind: "admit", Name: text})
		})
	case 'i':
		p.say("Looking at the disk …")
		s, err := p.agent.Survey()
		if err != nil {
			p.say("The disk cannot be inspected: %v", err)
			return
		}
		p.show(page{title: "Disk", lines: survey(s)})
	}
}

// choose has one of several names chosen by its number, and orders what that means.
func (p *person) choose(title, what string, lines, names []string, wish func(name string) api.Wish) {
	p.pick(title, what, append(lines, ""), names, func(ctx context.Context, i int) {
		if w := wish(names[i]); p.bench {
			p.job(w)
		} else {
			p.wish(ctx, w)
		}
	})
}

// pick has one of several chosen by its number.
func (p *person) pick(title, what string, lines, names []string, chosen func(ctx context.Context, i int)) {
	for i, name := range names {
		lines = append(lines, fmt.Sprintf("%d  %s", i+1, name))
	}
	p.ask(title, lines, "number:", func(ctx context.Context, text string) {
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 || n > len(names) {
			p.say("There is no %s %q in the list.", what, text)
			return
		}
		chosen(ctx, n-1)
	})
}

// parameters asks for the parameters of a boot entry, one after the other, and then for its start.
func (p *person) parameters(e api.BootEntryAt, w api.Wish, n int) {
	start := func(ctx context.Context) {
		if p.bench {
			p.job(w)
		} else {
			p.wish(ctx, w)
		}
	}
	if n == len(e.Parameters) {
		p.ask(e.Title, []string{"It starts when this workstation has restarted."}, "Enter: start it", func(ctx context.Context, _ string) { start(ctx) })
		return
	}
	one := e.Parameters[n]
	lines := []string{one.Question(), ""}
	if one.Default != "" {
		lines = append(lines, "Enter alone takes: "+one.Default, "")
	}
	p.ask(e.Title, lines, one.Name+":", func(_ context.Context, text string) {
		if text = cmp.Or(text, one.Default); text != "" {
			w.Values[one.Name] = text
		}
		p.parameters(e, w, n+1)
	})
}

// job asks which job something is for, on a machine that nobody has admitted.
func (p *person) job(w api.Wish) {
	lines := []string{"Nobody has admitted this machine, and it stays out of the roster. Its receipt has its hardware address, serial number and model.", "", "Type the number of a job, or whose machine it is; Enter alone for neither."}
	p.ask("For which job?", lines, "job:", func(ctx context.Context, text string) {
		w.Job = text
		p.wish(ctx, w)
	})
}

// ask shows a page that takes a line.
func (p *person) ask(title string, lines []string, prompt string, take func(context.Context, string)) {
	p.typing, p.typed, p.hidden = take, "", false
	p.show(page{title: title, lines: lines, ask: prompt})
}

// askHidden is ask for what is not shown.
func (p *person) askHidden(title string, lines []string, prompt string, take func(context.Context, string)) {
	p.ask(title, lines, prompt, take)
	p.hidden = true
}

func (p *person) typeKey(ctx context.Context, k byte) {
	switch {
	case k == keyEscape && p.must:
		p.typed = ""
	case k == keyEscape:
		p.typing = nil
		p.show(page{})
		return
	case k == keyEnter || k == '\n':
		take, typed := p.typing, strings.TrimSpace(p.typed)
		p.typing, p.typed = nil, ""
		take(ctx, typed)
		return
	case k == keyBackspace || k == '\b':
		_, last := utf8.DecodeLastRuneInString(p.typed)
		p.typed = p.typed[:len(p.typed)-last]
	case k >= ' ' && k != keyBackspace && len(p.typed) < maxTyped: // beyond ASCII, a part of UTF-8
		p.typed += string([]byte{k})
	}
	shown := p.typed
	if p.hidden {
		shown = strings.Repeat("*", utf8.RuneCountInString(shown))
	}
	p.screen.change(func(v *view) { v.page.input = shown })
}

// codeForm is how a code for workstations looks, however it is typed.
var codeForm = regexp.MustCompile(`^[A-Za-z2-9]{4}[- ]?[A-Za-z2-9]{4}$`)

// nameOrCode goes on with what was typed: a code signs in, and a name needs its password. A name that looks like a code is
// tried as one first.
func (p *person) nameOrCode(ctx context.Context, text string) {
	if len(text) > longestName || codeForm.MatchString(text) {
		in, err := p.agent.SignIn(ctx, api.Typed{Code: text})
		if err == nil || len(text) > longestName || strings.ContainsAny(text, "- ") {
			p.come(in, err)
			return
		}
	}
	p.askHidden("Sign in", []string{"The password of " + text + ". It is not shown.", p.typedAs()}, "password:", func(ctx context.Context, password string) {
		p.signIn(ctx, api.Typed{Name: text, Password: password})
	})
}

// longestName is how long a name can be; the key of last resort is longer.
const longestName = 63

// signIn shows the service a name and its password, and asks for the code of a second factor if there is one.
func (p *person) signIn(ctx context.Context, typed api.Typed) {
	in, err := p.agent.SignIn(ctx, typed)
	p.later = nil
	if err == nil && in.Later {
		p.later = &typed
	}
	if apiclient.NeedsCode(err) && typed.Factor == "" {
		p.ask("Sign in", []string{"The code that your second factor shows."}, "code:", func(ctx context.Context, code string) {
			typed.Factor = code
			p.signIn(ctx, typed)
		})
		return
	}
	p.come(in, err)
}

// come shows what came of signing in.
func (p *person) come(in api.SignedIn, err error) {
	if err != nil {
		p.say("%v", err)
		return
	}
	p.signedIn, p.images, p.orders, p.entries, p.bench = true, in.Images, in.Orders, in.Entries, in.Bench
	if in.Later {
		p.say("Signed in, as before: the service does not answer. What you choose is ordered when it does.")
		return
	}
	p.say("Signed in, until the next errand is done. The keys are at the foot of the screen.")
}

func (p *person) wish(ctx context.Context, w api.Wish) {
	if by := p.later; by != nil {
		p.signedIn, p.later = false, nil
		p.show(page{title: "It is ordered when the service answers", lines: []string{"Nobody has to stay. Whoever switches this machine off before leaves it.", "", "Esc: back"}})
		go func() {
			if err := p.agent.WishLater(ctx, *by, w); err != nil {
				p.mu.Lock()
				defer p.mu.Unlock()
				p.say("What was chosen while the service did not answer cannot be had: %v", err)
			}
		}()
		return
	}
	if err := p.agent.Wish(ctx, w); err != nil {
		p.say("%v", err)
		return
	}
	p.signedIn = w.Kind == "admit" // otherwise an errand begins, and with its end everything ends
	p.show(page{})
}

func (p *person) say(format string, args ...any) {
	p.show(page{title: sentence(fmt.Sprintf(format, args...)), lines: []string{"Esc: back"}})
}

func (p *person) show(g page) {
	p.screen.change(func(v *view) { v.page, v.keys = g, p.keys() })
	if g.title != "" {
		p.screen.log("page: " + g.title)
	}
}

// hardware describes a machine.
func hardware(i api.Inventory) []string {
	secure := ""
	if i.SecureBoot {
		secure = ", Secure Boot on"
	}
	lines := []string{
		strings.TrimSpace(i.Maker + " " + i.Model), "serial number " + i.Serial,
		"memory " + humanize.IBytes(uint64(i.Memory)), "started by " + i.Firmware + secure,
	}
	for _, d := range i.Disks {
		line := strings.TrimSpace(fmt.Sprintf("disk %s %s", humanize.Bytes(uint64(d.Size)), d.Model)) + ", serial number " + d.Serial
		if d.Health != "" {
			line += ", health: " + d.Health
		}
		lines = append(lines, line)
	}
	for _, c := range i.Cards {
		lines = append(lines, fmt.Sprintf("network card %s, driver %s", c.Address, c.Model))
	}
	return lines
}

// survey describes a disk.
func survey(s *capture.Survey) (lines []string) {
	for _, a := range s.Areas {
		if a.Partition == 0 {
			continue
		}
		lines = append(lines, fmt.Sprintf("%d  %s  %s  %s, %s in use", a.Partition, a.Kind, a.Label, humanize.IBytes(uint64(a.Size)), humanize.IBytes(uint64(a.UsedBytes))))
	}
	if len(lines) == 0 {
		lines = append(lines, "no partitions")
	}
	for _, f := range s.Findings {
		lines = append(lines, fmt.Sprintf("%s: %s", f.Severity, f))
	}
	return lines
}
