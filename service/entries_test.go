package service_test

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"debug/pe"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/order"
	"jugate/demo/madeup"
	"jugate/service"
)

// bootRoom is a service that machines ask what to boot.
type bootRoom struct {
	*testing.T
	*apiclient.Client
	url, secure, data string
	later             *atomic.Int64 // how much later it is than it is
}

func newBootRoom(t *testing.T) bootRoom {
	later := &atomic.Int64{}
	c, url, secure, data := bootHouse(t, func(c *service.Config) {
		c.Now = func() time.Time { return time.Now().Add(time.Duration(later.Load())) }
	})
	_, err := c.MakeBuild(t.Context(), api.NewBuild{Folders: []string{fakeSystem(t)}, Offer: true})
	require.NoError(t, err)
	return bootRoom{t, c, url, secure, data, later}
}

// admit takes a machine that has called into the roster. It tells nothing of its firmware.
func (r bootRoom) admit(address, name string) {
	r.Helper()
	_, err := r.WithToken("").CheckIn(r.Context(), api.CheckIn{Boot: "boot " + name, AgentVersion: "test", Addresses: []string{address}, Inventory: api.Inventory{Disks: []api.Disk{}, Cards: []api.Card{}}})
	require.NoError(r, err)
	_, err = r.Admit(r.Context(), address, api.Admission{Name: name})
	require.NoError(r, err)
}

func (r bootRoom) script(loader, address string) string {
	r.Helper()
	status, text := fetch(r.T, r.url+"/boot/script/"+loader+"/"+address)
	require.Equal(r, http.StatusOK, status, text)
	return text
}

// load fetches everything that a script names.
func (r bootRoom) load(script string) {
	r.Helper()
	for _, name := range regexp.MustCompile(`boot/files/(entry/\S+)`).FindAllStringSubmatch(script, -1) {
		status, _ := fetch(r.T, r.url+"/boot/files/"+strings.Trim(name[1], ";'"))
		require.Equal(r, http.StatusOK, status, name[1])
	}
}

// from asks for something by TLS, with the service's authority as an installer trusts it, from an address of this machine.
func (r bootRoom) from(address, url string) (int, string) {
	r.Helper()
	pem, err := os.ReadFile(filepath.Join(r.data, "authority.pem"))
	require.NoError(r, err)
	pool := x509.NewCertPool()
	require.True(r, pool.AppendCertsFromPEM(pem))
	d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(address)}}
	client := http.Client{Transport: &http.Transport{DialContext: d.DialContext, TLSClientConfig: &tls.Config{RootCAs: pool}, DisableKeepAlives: true}}
	resp, err := client.Get(url)
	require.NoError(r, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(r, err)
	return resp.StatusCode, string(b)
}

const (
	herb1, herb2 = "00:00:5e:00:53:11", "00:00:5e:00:53:12"
	byHTTP       = "efi/y"
	bySecure     = "efi/n"
	byBIOS       = "pc/y"
)

func TestAnInstallerHasItsOwnAnswerFile(t *testing.T) {
	t.Parallel()
	r := newBootRoom(t)
	ctx := t.Context()
	r.admit(herb1, "herb-01")
	r.admit(herb2, "herb-02")
	e, err := r.AddBootEntry(ctx, "debian-installer", "netboot.tar", "", madeup.Installer())
	require.NoError(t, err)
	assert.Equal(t, 1, e.Shown)
	assert.True(t, e.Destroys)
	assert.Equal(t, "installer of Debian: 12 (bookworm)", e.Versions[0].What)
	_, err = r.SetAnswers(ctx, api.NewAnswers{Of: "herb-01", Values: map[string]any{"accounts": []any{map[string]any{"name": "scan", "password": "a secret word"}}, "time_zone": "Europe/Vienna", "description": "by the window"}})
	require.NoError(t, err)

	t.Log("# a preview has what this machine gets, and no secrets")
	p, err := r.PreviewBootEntry(ctx, "debian-installer", api.BootPreviewOf{Workstation: "herb-01"})
	require.NoError(t, err)
	assert.Contains(t, p.Words, "hostname=herb-01 interface=auto url=https://SERVICE/boot/own/TICKET/preseed.cfg")
	assert.Contains(t, p.AnswerFile, "d-i time/zone string Europe/Vienna")
	assert.Contains(t, p.AnswerFile, "password (set)")
	assert.Equal(t, []string{"the answer file has no place for description"}, p.Remarks)

	t.Log("# it destroys the disk: once, and never always")
	_, err = r.ChooseBootEntry(ctx, api.BootChoice{To: []string{"herb-01"}, When: "always", Entry: "debian-installer"})
	assert.ErrorContains(t, err, "would do so at every start")
	_, err = r.ChooseBootEntry(ctx, api.BootChoice{To: []string{"herb-01"}, When: "once", Entry: "debian-installer", Parameters: map[string]string{"mirror": "mirror init=/bin/sh"}})
	require.NoError(t, err, "the answer file takes it as it is")
	made, err := r.ChooseBootEntry(ctx, api.BootChoice{To: []string{"herb-01"}, When: "once", Entry: "debian-installer", Parameters: map[string]string{"mirror": "mirror.fennholt.example"}})
	require.NoError(t, err)
	assert.Equal(t, []string{"herb-01"}, made.Workstations)
	_, err = r.ChooseBootEntry(ctx, api.BootChoice{To: []string{"herb-01"}, When: "once", Entry: "debian-installer", Parameters: map[string]string{"colour": "green"}})
	assert.ErrorContains(t, err, `no parameter "colour"`)

	t.Log("# the other machine starts from its disk, and with Secure Boot what is not signed is not started")
	assert.NotContains(t, r.script(byHTTP, herb2), "entry/")
	text := r.script(bySecure, herb1)
	assert.NotContains(t, text, "entry/")
	assert.Contains(t, text, "it is not signed, so that machines with Secure Boot cannot start it")

	text = r.script(byHTTP, herb1)
	assert.Contains(t, text, "'hostname=herb-01'")
	assert.Regexp(t, `initrd \(http,\S+\)/boot/files/entry/[0-9a-f]{64}/initrd-1 \S+/entry/authority;`, text)
	own := regexp.MustCompile(`'url=(https://[^']+)'`).FindStringSubmatch(text)[1]
	require.True(t, strings.HasPrefix(own, r.secure+"/boot/own/"), own)
	again := r.script(byHTTP, herb1) // the loader was reset before it had loaded anything
	assert.NotEqual(t, text, again)
	status, _ := r.from("127.0.0.1", own)
	assert.Equal(t, http.StatusForbidden, status, "the ticket of the script before is worth nothing")
	own = regexp.MustCompile(`'url=(https://[^']+)'`).FindStringSubmatch(again)[1]

	t.Log("# who has the ticket first is the only one")
	status, _ = fetch(t, strings.Replace(own, "https", "http", 1))
	assert.NotEqual(t, http.StatusOK, status, "by TLS alone")
	status, file := r.from("127.0.0.1", own)
	require.Equal(t, http.StatusOK, status, file)
	assert.Contains(t, file, "d-i netcfg/get_hostname string herb-01\n")
	assert.Contains(t, file, "mirror.fennholt.example")
	assert.Regexp(t, `user-password-crypted password \$6\$`, file)
	status, body := r.from("127.0.0.2", own)
	assert.Equal(t, http.StatusForbidden, status)
	assert.Contains(t, body, "another machine has used this ticket, 127.0.0.1")
	for _, bad := range []string{strings.Replace(own, "preseed.cfg", "ks.cfg", 1), own[:len(own)-len("X/preseed.cfg")-3] + "/preseed.cfg", r.secure + "/boot/own/" + strings.Repeat("A", 26) + "/ended"} {
		status, _ = r.from("127.0.0.1", bad)
		assert.Contains(t, []int{http.StatusForbidden, http.StatusNotFound}, status, bad)
	}

	t.Log("# once: with what it has loaded the choice is over")
	r.load(again)
	starts, err := r.BootStarts(ctx, apiclient.List{})
	require.NoError(t, err)
	require.Len(t, starts.Items, 1)
	assert.NotNil(t, starts.Items[0].Loaded)
	assert.Equal(t, "127.0.0.1", starts.Items[0].FetchedBy)
	assert.Nil(t, starts.Items[0].Ended)
	status, _ = r.from("127.0.0.2", regexp.MustCompile(`'(https://[^']+/ended)'`).FindStringSubmatch(file)[1])
	assert.Equal(t, http.StatusForbidden, status, "nobody else says that it is done")
	status, _ = r.from("127.0.0.1", regexp.MustCompile(`'(https://[^']+/ended)'`).FindStringSubmatch(file)[1])
	assert.Equal(t, http.StatusOK, status)
	starts, err = r.BootStarts(ctx, apiclient.List{Filter: map[string]string{"workstation": "herb-01"}})
	require.NoError(t, err)
	assert.Equal(t, "told", starts.Items[0].How)
	status, _ = r.from("127.0.0.1", own)
	assert.Equal(t, http.StatusForbidden, status, "and nobody gets its answer file any more")
	assert.NotContains(t, r.script(byHTTP, herb1), "entry/")
}

func TestWhoSeesABootEntry(t *testing.T) {
	t.Parallel()
	r := newBootRoom(t)
	ctx := t.Context()
	r.admit(herb1, "herb-01")
	r.admit(herb2, "herb-02")
	for _, g := range []string{"herbarium", "visitor-kiosks"} {
		_, err := r.AddGroup(ctx, api.NewGroup{Name: g})
		require.NoError(t, err)
	}
	for workstation, group := range map[string]string{"herb-01": "herbarium", "herb-02": "visitor-kiosks"} {
		_, err := r.Include(ctx, group, api.GroupMembers{Workstations: []string{workstation}})
		require.NoError(t, err)
	}
	require.NoError(t, r.SetMenu(ctx, "herbarium", 10))
	require.NoError(t, r.SetMenu(ctx, "visitor-kiosks", 10))
	program := madeup.LinuxKernel(madeup.UEFIProgram(pe.IMAGE_FILE_MACHINE_AMD64), true)
	for _, name := range []string{"memory-test", "firmware-update"} {
		_, err := r.AddBootEntry(ctx, name, name+".efi", "", bytes.NewReader(append(program, name...)))
		require.NoError(t, err)
	}
	assert.NotContains(t, r.script(byHTTP, herb1), "memory-test", "nobody has released it")

	set := api.BootEntrySettings{Title: "Test the 'memory'", Released: []string{"everybody"}, To: []string{"herbarium"}, Position: 5}
	_, err := r.SetBootEntry(ctx, "memory-test", set)
	require.NoError(t, err)
	_, err = r.SetBootEntry(ctx, "firmware-update", api.BootEntrySettings{Released: []string{"everybody"}, Parameters: []api.BootParameter{{Name: "to", Ask: "Which version?"}}, Words: "to={{.parameter.to}}"})
	require.NoError(t, err)
	text := r.script(byHTTP, herb1)
	assert.Contains(t, text, "menuentry 'Test the  memory ' {\nif chainloader (http,")
	assert.Contains(t, text, "jugate.wish=entry:firmware-update", "what has to be said is asked in the boot environment")
	assert.Less(t, strings.Index(text, "firmware-update"), strings.Index(text, "memory"), "the position counts, then the name")
	assert.NotContains(t, r.script(byHTTP, herb2), "Test the")
	assert.Contains(t, r.script(byBIOS, herb1), "/kernel; then\n\tboot", "a BIOS starts the same file by the boot protocol of Linux")
	assert.NotContains(t, r.script(bySecure, herb1), "Test the", "it could not be started")

	t.Log("# a group's default is what its menu starts by itself; what is asked of one goes first")
	_, err = r.ChooseBootEntry(ctx, api.BootChoice{To: []string{"herbarium"}, When: "always", Entry: "memory-test"})
	require.NoError(t, err)
	assert.Contains(t, r.script(byHTTP, herb1), "set default=0\nmenuentry 'memory-test@1' {\nif chainloader")
	_, err = r.ChooseBootEntry(ctx, api.BootChoice{To: []string{"herb-01"}, When: "once", Entry: "firmware-update", Parameters: map[string]string{"to": "1.4"}})
	require.NoError(t, err)
	text = r.script(byHTTP, herb1)
	assert.NotContains(t, text, "menuentry")
	assert.Contains(t, text, "'to=1.4'")
	r.load(text)
	assert.Contains(t, r.script(byHTTP, herb1), "menuentry 'memory-test@1'", "that was once")
	_, err = r.ChooseBootEntry(ctx, api.BootChoice{To: []string{"herbarium"}, When: "never"})
	require.NoError(t, err)
	assert.NotContains(t, r.script(byHTTP, herb1), "menuentry 'memory-test@1'")

	t.Log("# versions: the newest is shown, or the one that is pinned")
	_, err = r.AddBootEntry(ctx, "memory-test", "newer.efi", "", bytes.NewReader(append(program, "newer"...)))
	require.NoError(t, err)
	newer := r.script(byHTTP, herb1)
	set.Pinned = 1
	_, err = r.SetBootEntry(ctx, "memory-test", set)
	require.NoError(t, err)
	assert.NotEqual(t, newer, r.script(byHTTP, herb1))
	set.Hidden = true
	_, err = r.SetBootEntry(ctx, "memory-test", set)
	require.NoError(t, err)
	assert.NotContains(t, r.script(byHTTP, herb1), "Test the")

	t.Log("# loaders and firmware ask for pieces")
	update, err := r.BootEntry(ctx, "firmware-update")
	require.NoError(t, err)
	req, err := http.NewRequest(http.MethodGet, r.url+"/boot/files/entry/"+update.Versions[0].Starts[0].Files[0].Digest+"/kernel", nil)
	require.NoError(t, err)
	req.Header.Set("Range", "bytes=2-3")
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	piece, err := io.ReadAll(resp.Body)
	require.NoError(t, errors.Join(err, resp.Body.Close()))
	assert.Equal(t, http.StatusPartialContent, resp.StatusCode)
	assert.Equal(t, program[2:4], piece)

	t.Log("# what is removed while a machine loads it is not there any more, and the machine is told so")
	set.Hidden = false
	_, err = r.SetBootEntry(ctx, "memory-test", set)
	require.NoError(t, err)
	file := regexp.MustCompile(`boot/files/(entry/[0-9a-f]{64}/program.efi)`).FindStringSubmatch(r.script(byHTTP, herb1))[1]
	require.NoError(t, r.RemoveBootEntry(ctx, "memory-test", 1))
	status, body := fetch(t, r.url+"/boot/files/"+file)
	assert.Equal(t, http.StatusNotFound, status)
	assert.Contains(t, body, "is not there any more; restart the workstation")
	assert.ErrorContains(t, r.RemoveBootEntry(ctx, "memory-test", 2), "is the only one")
	require.NoError(t, r.RemoveBootEntry(ctx, "memory-test", 0))
	require.NoError(t, r.RemoveBootEntry(ctx, "firmware-update", 0))
	left, err := os.ReadDir(filepath.Join(r.data, "bootentries"))
	require.NoError(t, err)
	assert.Empty(t, left, "and its files are gone")
}

func TestBootEntriesThatMakeNoSense(t *testing.T) {
	t.Parallel()
	r := newBootRoom(t)
	ctx := t.Context()
	_, err := r.AddBootEntry(ctx, "text", "text", "", strings.NewReader("hello"))
	assert.ErrorContains(t, err, "nothing here can be started")
	_, err = r.AddBootEntry(ctx, "a name", "x.efi", "", strings.NewReader("hello"))
	assert.ErrorContains(t, err, "cannot be the name of a boot entry")
	_, err = r.AddBootEntry(ctx, "escape", "x.tar", "", madeup.Tar(map[string][]byte{"../../etc/linux": madeup.LinuxKernel(nil, true)}))
	assert.ErrorContains(t, err, "nothing here can be started", "a name that leads out of the archive is left out")
	_, err = r.AddBootEntry(ctx, "cut", "x.deb", "", strings.NewReader("!<arch>\ndebian-binary"))
	assert.ErrorContains(t, err, "x.deb")
	t.Log("# discs: cut off, with names that lead out, with links that go round")
	files := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(files, "EFI/BOOT"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(files, "EFI/BOOT/BOOTX64.EFI"), append(madeup.UEFIProgram(pe.IMAGE_FILE_MACHINE_AMD64), make([]byte, 64<<10)...), 0o644))
	require.NoError(t, os.Symlink("../loop", filepath.Join(files, "loop")))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(files, "vmlinuz")))
	image := filepath.Join(t.TempDir(), "disc.iso")
	out, err := exec.CommandContext(ctx, "genisoimage", "-quiet", "-R", "-o", image, files).CombinedOutput()
	require.NoError(t, err, "%s", out)
	whole, err := os.ReadFile(image)
	require.NoError(t, err)
	disc, err := r.AddBootEntry(ctx, "disc", "disc.iso", "", bytes.NewReader(whole))
	require.NoError(t, err)
	assert.Equal(t, "disc", disc.Versions[0].What)
	assert.Equal(t, int64(len(whole)), disc.Versions[0].Bytes)
	at := bytes.Index(whole, []byte("MZ"))
	for _, length := range []int{17 * 2048, 20 * 2048, at + 100, at + 2000} {
		_, err := r.AddBootEntry(ctx, "cut", "cut.iso", "", bytes.NewReader(whole[:length]))
		assert.Error(t, err, length)
	}
	evil := bytes.ReplaceAll(whole, []byte("BOOTX64.EFI"), []byte("../../A.EFI"))
	_, err = r.AddBootEntry(ctx, "evil", "evil.iso", "", bytes.NewReader(evil))
	assert.Error(t, err)
	left, err := os.ReadDir(filepath.Join(r.data, "scratch"))
	require.NoError(t, err)
	assert.Empty(t, left)

	_, err = r.AddBootEntry(ctx, "installer", "netboot.tar", "", madeup.Installer())
	require.NoError(t, err)
	for why, set := range map[string]api.BootEntrySettings{
		`"hostname" is not an answer`: {Words: "host={{.hostname}}"},
		`no parameter "suite"`:        {AnswerFile: "{{.parameter.suite}}", Reads: "text"},
		"there is no role nobody":     {Released: []string{"nobody"}},
		"has no version 7":            {Pinned: 7},
		"is there twice":              {Parameters: []api.BootParameter{{Name: "a", Ask: "?"}, {Name: "a", Ask: "?"}}},
		"none of its choices":         {Parameters: []api.BootParameter{{Name: "a", Ask: "?", Default: "x", Choices: []string{"y"}}}},
		"needs its template":          {Reads: "text"},
		"there is no":                 {To: []string{"nowhere"}},
		"the condition":               {Where: "model =="},
		"range takes a list that":     {AnswerFile: "{{range 100000000}}x{{end}}", Reads: "text"},
	} {
		_, err := r.SetBootEntry(ctx, "installer", set)
		assert.ErrorContains(t, err, why)
	}
	_, err = r.ChooseBootEntry(ctx, api.BootChoice{To: []string{"nobody"}, When: "once", Entry: "installer"})
	assert.Error(t, err)
	_, err = r.ChooseBootEntry(ctx, api.BootChoice{When: "once", Entry: "installer"})
	assert.Error(t, err)
}

// Fifty machines fetch the same boot entry, each with its own answer file.
func TestFiftyInstallersAtOnce(t *testing.T) {
	t.Parallel()
	r := newBootRoom(t)
	ctx := t.Context()
	_, err := r.AddBootEntry(ctx, "installer", "netboot.tar", "", madeup.Installer())
	require.NoError(t, err)
	const machines = 50
	var names []string
	for n := range machines {
		name := fmt.Sprintf("desk-%02d", n)
		r.admit(fmt.Sprintf("00:00:5e:00:53:%02x", 0x40+n), name)
		names = append(names, name)
	}
	_, err = r.ChooseBootEntry(ctx, api.BootChoice{To: names, When: "once", Entry: "installer"})
	require.NoError(t, err)
	var all errgroup.Group
	for n := range machines {
		all.Go(func() error {
			text := r.script(byHTTP, fmt.Sprintf("00:00:5e:00:53:%02x", 0x40+n))
			_, file := r.from(fmt.Sprintf("127.0.1.%d", n+1), regexp.MustCompile(`'url=(https://[^']+)'`).FindStringSubmatch(text)[1])
			if want := "d-i netcfg/get_hostname string " + names[n] + "\n"; !strings.Contains(file, want) {
				return fmt.Errorf("%s has no line %q", file, want)
			}
			return nil
		})
	}
	require.NoError(t, all.Wait())
	starts, err := r.BootStarts(ctx, apiclient.List{Limit: 100})
	require.NoError(t, err)
	require.Len(t, starts.Items, machines)
	for _, s := range starts.Items {
		assert.NotNil(t, s.Fetched, s.Workstation)
	}
}

// desk is a workstation's agent of which only the calls are there, after a start of its own.
func (r bootRoom) desk(address, boot string) *apiclient.Client {
	r.Helper()
	in, err := r.WithToken("").CheckIn(r.Context(), api.CheckIn{Boot: boot, AgentVersion: "test", Addresses: []string{address}, Inventory: api.Inventory{Firmware: "UEFI", Disks: []api.Disk{}, Cards: []api.Card{}}})
	require.NoError(r, err)
	return r.WithToken("").WithToken(in.Pass)
}

func (r bootRoom) run(id int64) api.OrderRun {
	r.Helper()
	run, err := r.Client.Run(r.Context(), id)
	require.NoError(r, err)
	return run
}

func TestAnOrderStartsABootEntryAndWaitsForItsEnd(t *testing.T) {
	t.Parallel()
	r := newBootRoom(t)
	ctx := t.Context()
	r.admit(herb1, "herb-01")
	_, err := r.AddBootEntry(ctx, "installer", "netboot.tar", "", madeup.Installer())
	require.NoError(t, err)
	_, err = r.AddBootEntry(ctx, "memory-test", "test.efi", "", bytes.NewReader(madeup.UEFIProgram(pe.IMAGE_FILE_MACHINE_AMD64)))
	require.NoError(t, err)
	step := func(name, before string) api.PreparedEntry {
		return api.PreparedEntry{EntryErrand: api.EntryErrand{Entry: name}, Before: before, To: []string{"herb-01"}}
	}
	for says, in := range map[string]api.Order{
		"there is no boot entry nothing":            {Entries: []api.PreparedEntry{step("nothing", "")}},
		"two parts of the order are called":         {Entries: []api.PreparedEntry{step("installer", ""), step("installer", "")}},
		"a part that the order does not have":       {Check: &api.PreparedCheck{NewCheck: api.NewCheck{To: []string{"herb-01"}, CheckOptions: api.CheckOptions{Health: true}}}, Entries: []api.PreparedEntry{step("installer", "wipe")}},
		"say at which workstations this is done":    {Entries: []api.PreparedEntry{{EntryErrand: api.EntryErrand{Entry: "installer"}}}},
		`the boot entry installer has no parameter`: {Entries: []api.PreparedEntry{{EntryErrand: api.EntryErrand{Entry: "installer", Parameters: map[string]string{"colour": "green"}}, To: []string{"herb-01"}}}},
	} {
		in.Name = "odd"
		_, err := r.SaveOrder(ctx, in)
		assert.ErrorContains(t, err, says)
	}
	_, err = r.SaveOrder(ctx, api.Order{Name: "golden", Entries: []api.PreparedEntry{step("memory-test", ""), step("installer", "")}})
	require.NoError(t, err)
	run, err := r.RunOrder(ctx, "golden")
	require.NoError(t, err)
	assert.Equal(t, []order.Work{"entry memory-test", "entry installer"}, []order.Work{run.Parts[0].Work, run.Parts[1].Work})

	t.Log("# an agent restarts for it; what says nothing of its end is over when the machine starts anew")
	agent := r.desk(herb1, "boot herb-01")
	standing, err := agent.Standing(ctx)
	require.NoError(t, err)
	require.NotNil(t, standing.Errand)
	assert.Equal(t, "memory-test", standing.Errand.Entry)
	text := r.script(byHTTP, herb1)
	require.Contains(t, text, "program.efi")
	r.load(text)
	assert.EqualValues(t, "running", r.run(run.ID).Parts[0].State)

	t.Log("# the run goes on before the machine is told what comes next")
	text = r.script(byHTTP, herb1)
	assert.Contains(t, text, "'hostname=herb-01'")
	got := r.run(run.ID)
	assert.EqualValues(t, "done", got.Parts[0].State)
	assert.EqualValues(t, "running", got.Parts[1].State)
	r.load(text)
	_, file := r.from("127.0.0.1", regexp.MustCompile(`'url=(https://[^']+)'`).FindStringSubmatch(text)[1])
	status, _ := r.from("127.0.0.1", regexp.MustCompile(`'(https://[^']+/ended)'`).FindStringSubmatch(file)[1])
	require.Equal(t, http.StatusOK, status)
	require.Eventually(t, func() bool { return r.run(run.ID).State == "done" }, 5*time.Minute, 10*time.Millisecond)

	t.Log("# one that should have said that it was done, and starts anew, has failed")
	_, err = r.SaveOrder(ctx, api.Order{Name: "again", Entries: []api.PreparedEntry{step("installer", "")}})
	require.NoError(t, err)
	run, err = r.RunOrder(ctx, "again")
	require.NoError(t, err)
	r.load(r.script(byHTTP, herb1))
	r.script(byHTTP, herb1)
	require.Eventually(t, func() bool { return r.run(run.ID).State == "failed" }, 5*time.Minute, 10*time.Millisecond)
	assert.Contains(t, r.run(run.ID).Reason, "installer has not said that it was done")

	t.Log("# a machine that never comes by the network restarts once for it, and not again and again")
	run, err = r.RunOrder(ctx, "again")
	require.NoError(t, err)
	for _, boot := range []string{"first", "second"} {
		r.later.Add(int64(time.Minute)) // so that the machine of before is not at work any more
		agent := r.desk(herb1, boot)
		standing, err := agent.Standing(ctx)
		require.NoError(t, err)
		if boot == "first" {
			require.NotNil(t, standing.Errand)
			continue
		}
		assert.Nil(t, standing.Errand)
	}
	require.Eventually(t, func() bool { return r.run(run.ID).State == "failed" }, 5*time.Minute, 10*time.Millisecond)
	assert.Contains(t, r.run(run.ID).Reason, "it does not start from the network")

	t.Log("# and one that cannot start it is taken out with the reason")
	run, err = r.RunOrder(ctx, "golden")
	require.NoError(t, err)
	assert.Contains(t, r.script(byBIOS, herb1), "has no part that a BIOS starts")
	require.Eventually(t, func() bool { return r.run(run.ID).State == "failed" }, 5*time.Minute, 10*time.Millisecond)
}

func TestABootEntryIsStartedAtTheScreen(t *testing.T) {
	t.Parallel()
	r := newBootRoom(t)
	ctx := t.Context()
	r.admit(herb1, "herb-01")
	_, err := r.AddBootEntry(ctx, "memory-test", "test.efi", "", bytes.NewReader(madeup.UEFIProgram(pe.IMAGE_FILE_MACHINE_AMD64)))
	require.NoError(t, err)
	agent := r.desk(herb1, "boot herb-01")
	here, err := agent.EntriesHere(ctx)
	require.NoError(t, err)
	assert.Empty(t, here)
	wish := api.Wish{Kind: "entry", Name: "memory-test", Values: map[string]string{"passes": "1"}}
	assert.ErrorContains(t, agent.Wish(ctx, wish), "was not released for you")
	_, err = r.SetBootEntry(ctx, "memory-test", api.BootEntrySettings{Released: []string{"everybody"}, Parameters: []api.BootParameter{{Name: "passes", Ask: "How often?", Choices: []string{"1", "2"}}}, Words: "passes={{.parameter.passes}}"})
	require.NoError(t, err)
	here, err = agent.EntriesHere(ctx)
	require.NoError(t, err)
	require.Len(t, here, 1)
	assert.Equal(t, "How often? (1, 2)", here[0].Parameters[0].Question())
	assert.ErrorContains(t, agent.Wish(ctx, api.Wish{Kind: "entry", Name: "memory-test", Values: map[string]string{"passes": "7"}}), "can be 1, 2")
	require.NoError(t, agent.Wish(ctx, wish))
	text := r.script(byHTTP, herb1)
	assert.Contains(t, text, "program.efi 'passes=1'")

	t.Log("# somebody has signed in who may deliver: a boot entry that was released for nobody is theirs, too")
	r.load(text)
	r.script(byHTTP, herb1)
	_, err = r.SetBootEntry(ctx, "memory-test", api.BootEntrySettings{})
	require.NoError(t, err)
	code, err := r.MakeCode(ctx, 1)
	require.NoError(t, err)
	in, err := agent.SignIn(ctx, api.Typed{Code: code.Code})
	require.NoError(t, err)
	require.Len(t, in.Entries, 1)
	require.NoError(t, agent.Wish(ctx, api.Wish{Kind: "entry", Name: "memory-test"}))
}
