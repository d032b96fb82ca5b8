package machine

import (
	"context"
	"io"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/agent"
	"jugate/api"
	"jugate/core/answers"
	"jugate/core/hwaddr"
	"jugate/core/kmod"
	"jugate/demo/madeup"
)

func TestTheNetworkIsExplained(t *testing.T) {
	a := hwaddr.MustParse("00:00:5e:00:53:11")
	at := netip.MustParsePrefix
	for want, c := range map[string]card{
		"no link; is the cable in":                            {state: noLink},
		"the link is up, but no server on this network gave":  {state: noAddress},
		"gave an address (a reason)":                          {state: noAddress, note: "a reason"},
		"169.254.7.7, which the card chose itself: nobody on": {state: linkLocal, ip: at("169.254.7.7/16")},
		"192.0.2.70, the fixed address of these media":        {state: hasAddress, ip: at("192.0.2.70/24"), fixed: true},
		"00:00:5e:00:53:11 (eth0, e1000): 192.0.2.101":        {state: hasAddress, ip: at("192.0.2.101/24")},
	} {
		c.name, c.address, c.driver = "eth0", a, "e1000"
		assert.Contains(t, explain([]card{c}, nil)[0], want)
	}
	assert.Contains(t, explain(nil, nil)[0], "no network card was found at all")
	assert.Contains(t, explain(nil, []device{{"PCI 0000:00:03.0", "8086:15fc"}})[0], "PCI 0000:00:03.0 8086:15fc: a network card without a driver in this build")
	assert.True(t, isLinkLocal(netip.MustParseAddr("169.254.1.1")))
}

// A second socket without a cable is found in most machines.
func TestOtherCardsAreNotWaitedFor(t *testing.T) {
	first, second, third := hwaddr.MustParse("00:00:5e:00:53:11"), hwaddr.MustParse("00:00:5e:00:53:12"), hwaddr.MustParse("00:00:5e:00:53:13")
	bring := func(ctx context.Context, c card) card {
		wait, then := linkWait, noLink
		switch c.address {
		case second:
			wait, then = 3*time.Second, hasAddress
		case third:
			c.state = noAddress // another network, on which nobody answers
			wait, then = time.Second+othersGet, hasAddress
		}
		select {
		case <-time.After(wait):
			c.state = then
		case <-ctx.Done():
		}
		return c
	}
	for name, c := range map[string]struct {
		came hwaddr.Address
		want []state
		took time.Duration
	}{
		"the card that the loader came by": {second, []state{noLink, hasAddress, noAddress}, 3 * time.Second},
		"nobody knows which":               {hwaddr.Address{}, []state{noLink, hasAddress, hasAddress}, 3*time.Second + othersGet},
		"that card is not there":           {hwaddr.MustParse("00:00:5e:00:53:99"), []state{noLink, hasAddress, hasAddress}, 3*time.Second + othersGet},
		"it has no address":                {first, []state{noLink, hasAddress, hasAddress}, linkWait},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				began := time.Now()
				cards := up(t.Context(), []card{{name: "eth0", address: first}, {name: "eth1", address: second}, {name: "eth2", address: third}}, c.came, nil, bring)
				for i, want := range c.want {
					assert.Equal(t, want, cards[i].state, "card %d", i)
				}
				assert.Equal(t, c.took, time.Since(began))
				if cards[2].state == noAddress {
					assert.Contains(t, explain(cards, nil)[2], "gave an address (so far; another card has one)")
				}
			})
		})
	}
}

func TestCardsWithoutADriverAreFound(t *testing.T) {
	sys := t.TempDir()
	for name, content := range map[string]string{
		"bus/pci/devices/0000:00:03.0/class": "0x020000\n", "bus/pci/devices/0000:00:03.0/vendor": "0x8086\n", "bus/pci/devices/0000:00:03.0/device": "0x15fc\n",
		"bus/pci/devices/0000:00:04.0/class": "0x020000\n", "bus/pci/devices/0000:00:04.0/driver/x": "", // driven
		"bus/pci/devices/0000:00:05.0/class":      "0x028000\n", // radio
		"bus/pci/devices/0000:00:06.0/class":      "0x030000\n", // a screen
		"bus/usb/devices/1-2:1.0/bInterfaceClass": "02\n", "bus/usb/devices/1-2:1.0/bInterfaceSubClass": "06\n",
		"bus/usb/devices/1-2/idVendor": "0bda\n", "bus/usb/devices/1-2/idProduct": "8153\n",
	} {
		path := filepath.Join(sys, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(content), 0o644))
	}
	assert.Equal(t, []device{{"PCI 0000:00:03.0", "8086:15fc"}, {"USB 1-2", "0bda:8153"}}, findSilent(sys))
}

func TestSettingsComeFromTheBuildAndTheBootScript(t *testing.T) {
	root := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(root, "etc/jugate"), 0o755))
	file := filepath.Join(root, "etc/jugate/settings.json")
	require.NoError(t, os.WriteFile(file, []byte(`{"service":"https://192.0.2.9:7460","key":"k","network":{"address":"192.0.2.70/24"},"shell":true}`), 0o600))
	s, err := readSettings(root, "quiet console=tty0")
	require.NoError(t, err)
	assert.Equal(t, "https://192.0.2.9:7460", s.Service)
	assert.Equal(t, "192.0.2.70/24", s.Network.Address)
	assert.True(t, s.Shell)
	assert.False(t, s.Serial)
	s, err = readSettings(root, "jugate.service=https://192.0.2.1:7460 jugate.ticket=7f3a jugate.card=00:00:5e:00:53:11 jugate.wish=receive:garden-desk console=ttyS0,115200")
	require.NoError(t, err)
	assert.Equal(t, []string{"https://192.0.2.1:7460", "7f3a", "00:00:5e:00:53:11"}, []string{s.Service, s.Ticket, s.Card.String()})
	assert.True(t, s.Serial)
	wish, signIn := parseWish(s.Wish)
	assert.Equal(t, &api.Wish{Kind: "receive", Image: "garden-desk"}, wish)
	assert.False(t, signIn)
	_, signIn = parseWish("sign-in")
	assert.True(t, signIn)
	_, err = readSettings(t.TempDir(), "quiet")
	assert.ErrorContains(t, err, "where the service is")
	require.NoError(t, os.WriteFile(file, []byte("{"), 0o600))
	_, err = readSettings(root, "")
	assert.Error(t, err)
}

func TestDevicesAreHeardOf(t *testing.T) {
	modalias, added := event([]byte("add@/devices/pci0/0000:00:03.0\x00ACTION=add\x00MODALIAS=pci:v00001AF4d00001000\x00SEQNUM=7\x00"))
	assert.Equal(t, "pci:v00001AF4d00001000", modalias)
	assert.True(t, added)
	modalias, added = event([]byte("remove@/devices/x\x00MODALIAS=pci:v1\x00"))
	assert.Empty(t, modalias)
	assert.False(t, added)
	_, added = event(nil)
	assert.False(t, added)
}

func text(lines []line) string {
	var b strings.Builder
	for _, l := range lines {
		b.WriteString(l.text + "\n")
	}
	return b.String()
}

func TestTheScreenFitsAndSaysWhatMatters(t *testing.T) {
	v := view{name: "herb-01", address: "00:00:5e:00:53:11", model: "Alder Works A310", service: "https://192.0.2.1:7460", keys: "S sign in",
		status: agent.Status{Text: "receiving garden-desk@3", Done: 412_000_000, Total: 735_000_000}, rate: 38e6, left: 9 * time.Second,
		network: []string{strings.Repeat("a long sentence ", 20)}}
	for _, size := range [][2]int{{80, 25}, {50, 18}, {40, 12}, {20, 5}, {160, 50}} {
		lines := v.lines(size[0], size[1])
		assert.LessOrEqual(t, len(lines), size[1])
		for _, l := range lines {
			assert.LessOrEqual(t, utf8.RuneCountInString(l.text), max(size[0], 20+margin), "%q", l.text)
		}
	}
	shown := text(v.lines(80, 25))
	for _, want := range []string{"herb-01", "Receiving garden-desk@3", "56 %", "412 MB of 735 MB", "38 MB/s", "9s left", "S sign in", "████"} {
		assert.Contains(t, shown, want)
	}
	v.page = page{title: "Sign in", lines: []string{"Type the code"}, ask: "code:", input: "K7Q2"}
	shown = text(v.lines(80, 25))
	assert.Contains(t, shown, "code: K7Q2_")
	assert.NotContains(t, shown, "Receiving", "the page stands in its place")
	v.page = page{title: "The disk could not be captured: the second disk is full, and 12 GB more would have to go onto it"}
	assert.Contains(t, strings.Join(strings.Fields(text(v.lines(50, 18))), " "), v.page.title, "an error is not cut off")
	v.name = ""
	assert.Contains(t, text(v.lines(80, 25)), "newcomer")
}

func TestKeysOpenPages(t *testing.T) {
	p := &person{screen: &terminal{}, agent: agent.New(nil, nil, agent.Options{}), inventory: api.Inventory{Maker: "Alder Works", Model: "A310", Firmware: "UEFI", SecureBoot: true,
		Disks: []api.Disk{{Model: "Plate", Serial: "P-1", Size: 500e9, Health: "3 sectors wait to be replaced"}}}}
	enter := func(keys string) page {
		p.listen(context.Background(), strings.NewReader(keys))
		return p.screen.view.page
	}
	assert.Contains(t, strings.Join(enter("h").lines, "\n"), "500 GB Plate, serial number P-1, health: 3 sectors wait")
	assert.Contains(t, strings.Join(enter("H").lines, "\n"), "Secure Boot on")
	connected := p.agent
	p.agent = nil
	assert.Contains(t, enter("s").title, "Nobody can sign in here yet", "where no network is")
	p.connected(connected, p.inventory, nil)
	assert.Empty(t, enter("h ").title, "another key goes back")
	assert.Empty(t, enter("r").title, "not before signing in")
	p.signedIn, p.images = true, []string{"garden-desk"}
	assert.Equal(t, "1  garden-desk", enter("r").lines[2])
	p.typing = nil
	assert.Contains(t, enter("r9\r").title, `There is no image "9" in the list`)
	p.bench = true
	g := enter("r1\r")
	assert.Equal(t, "For which job?", g.title, "nobody has admitted the machine")
	for _, size := range [][2]int{{40, 15}, {80, 25}} {
		assert.Contains(t, strings.Join(strings.Fields(text((&view{page: g}).lines(size[0], size[1]))), " "), "Enter alone for neither", "all of it is on the screen")
	}
	p.typing, p.bench = nil, false
	g = enter("cgardex\x7fn")
	assert.Equal(t, "garden", g.input, "a letter was taken back")
}

func TestTheKeyboardIsThatOfTheAnswersOrOfWhoeverStandsHere(t *testing.T) {
	p := &person{screen: &terminal{}, agent: agent.New(nil, nil, agent.Options{})}
	enter := func(keys string) string {
		p.listen(t.Context(), strings.NewReader(keys))
		return strings.Join(p.screen.view.page.lines, "\n")
	}
	assert.Contains(t, enter("k"), "those of the keyboard us", "the kernel begins so")
	p.typing = nil
	p.layoutSet("ru") // in which no name can be typed
	assert.Contains(t, enter("s"), "Keys are those of the keyboard us.")
	p.typing = nil
	p.layoutSet("de(nodeadkeys)")
	assert.Contains(t, enter("s"), "Keys are those of the keyboard de(nodeadkeys).")
	p.typing = nil
	shown := enter("kgarten\r")
	assert.Contains(t, shown, "This came: garten\nThat is not the name of a keyboard, such as gb, ")
	assert.Contains(t, shown, "de(nodeadkeys)")
	assert.Contains(t, enter("fr\r"), "those of the keyboard fr", "the page stays, to try it")
	p.layoutSet("de")
	assert.Contains(t, enter("\r"), "those of the keyboard fr", "what was chosen here goes before")
	assert.Empty(t, enter("\x1b"))

	for _, g := range []page{p.screen.view.page, {title: "Keyboard", lines: []string{shown}, ask: "try it:"}} {
		v := view{page: g, keys: p.keys()}
		for _, size := range [][2]int{{40, 15}, {80, 25}, {80, 33}} { // 640, 1280 and 1280 points wide with the console's large letters
			for _, l := range v.lines(size[0], size[1]) {
				assert.LessOrEqual(t, utf8.RuneCountInString(l.text), size[0])
			}
		}
	}
	for n, signedIn := range []bool{false, true, false} {
		if p.signedIn, p.typing = signedIn, nil; n == 2 {
			p.agent = nil // as long as no card has an address
		}
		v := view{keys: p.keys()}
		for _, columns := range []int{40, 50, 64, 80} { // 640, 800, 1024 and 1280 points
			var foot strings.Builder
			for _, l := range v.lines(columns, 18) {
				if l.style == banner {
					foot.WriteString(l.text)
				}
			}
			for _, key := range []string{"H hardware", "D drivers", "K keyboard"} {
				assert.Contains(t, foot.String(), key, "%d columns", columns)
			}
		}
	}
}

// A question of the agent stays until it is answered, also while somebody tries other keys.
func TestAQuestionIsAnsweredAtTheScreen(t *testing.T) {
	p := &person{screen: &terminal{}, agent: agent.New(nil, nil, agent.Options{})}
	in, keys := io.Pipe()
	defer keys.Close()
	go p.listen(t.Context(), in)
	put := make(chan string)
	go func() {
		for _, wrong := range []string{"", "it was empty"} {
			text, err := p.question(t.Context(), answers.Question{Key: "description", Ask: "Where does it stand?", Default: "2.14"}, wrong)
			assert.NoError(t, err)
			put <- text
		}
	}()
	asked := func(want string) {
		require.Eventually(t, func() bool {
			p.mu.Lock()
			defer p.mu.Unlock()
			return p.must && strings.Contains(strings.Join(p.screen.view.page.lines, "\n"), want)
		}, 5*time.Minute, time.Millisecond)
	}
	asked("Enter alone takes: 2.14")
	io.WriteString(keys, "h\x1b")
	io.WriteString(keys, "Glashä\x7faus 3\r")
	assert.Equal(t, "Glashaus 3", <-put)
	asked("This was not taken: it was empty")
	io.WriteString(keys, "\r")
	assert.Empty(t, <-put)

	t.Log("# an errand that ends takes its question away")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := p.question(ctx, answers.Question{Key: "description", Ask: "Where?"}, "")
	assert.ErrorIs(t, err, context.Canceled)
	p.mu.Lock()
	defer p.mu.Unlock()
	assert.Nil(t, p.typing)
}

// A stick with a driver's modules: those that fit a device and this kernel, each after
// what it needs.
func TestModulesFromAStick(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, madeup.WriteModules(dir))
	m := &modules{folder: "/lib/modules/" + madeup.Kernel, index: kmod.NewIndex(nil, nil), loaded: map[string]error{}}
	all, err := m.choose(os.DirFS(dir), []api.Device{{ID: madeup.CorvidDisk}, {ID: "nonsense"}})
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, "corvid_lib", all[0].info.Name)
	assert.Equal(t, "corvid_raid", all[1].info.Name)
	assert.Equal(t, map[string][]byte{"corvid/raid.bin": []byte("made-up firmware\n")}, all[1].firmware)

	all, err = m.choose(os.DirFS(dir), []api.Device{{ID: madeup.AlderNetwork}})
	require.NoError(t, err)
	assert.Empty(t, all, "nothing there drives it")
	m.folder = "/lib/modules/6.2.0"
	all, err = m.choose(os.DirFS(dir), []api.Device{{ID: madeup.CorvidDisk}})
	require.NoError(t, err)
	assert.Empty(t, all, "they are for another kernel")

	assert.Equal(t, []api.Device{{ID: "b"}}, untaken([]api.Device{{ID: "a", Driver: "ahci"}, {ID: "b"}}))
	assert.Len(t, report(nil, []device{{"PCI 0000:00:03.0", "8086:10d3"}}), 2)
}
