package answers_test

import (
	"encoding/base64"
	"regexp"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/beevik/etree"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/answers"
)

// schema has the elements that setup knows below a component of a pass, as the vendor's
// reference for answer files has them, with the form of their values.
var schema = map[string]string{
	"specialize Microsoft-Windows-Shell-Setup ComputerName":                                               `^[A-Za-z0-9-]{1,15}$`,
	"specialize Microsoft-Windows-Shell-Setup TimeZone":                                                   ` (Time|Zone|UTC)|^UTC`,
	"specialize Microsoft-Windows-Shell-Setup RegisteredOwner":                                            `^.{1,256}$`,
	"specialize Microsoft-Windows-Shell-Setup RegisteredOrganization":                                     `^.{1,256}$`,
	"specialize Microsoft-Windows-Shell-Setup ProductKey":                                                 `^([A-Z0-9]{5}-){4}[A-Z0-9]{5}$`,
	"specialize Microsoft-Windows-Deployment RunSynchronous/RunSynchronousCommand/Order":                  `^[0-9]+$`,
	"specialize Microsoft-Windows-Deployment RunSynchronous/RunSynchronousCommand/Path":                   `^.{1,259}$`,
	"specialize Microsoft-Windows-Deployment RunSynchronous/RunSynchronousCommand/Description":            `^.{1,256}$`,
	"specialize Microsoft-Windows-UnattendedJoin OfflineIdentification/Provisioning/AccountData":          `^[A-Za-z0-9+/]+=*$`,
	"specialize Microsoft-Windows-TCPIP Interfaces/Interface/Identifier":                                  `^([0-9A-F]{2}-){5}[0-9A-F]{2}$`,
	"specialize Microsoft-Windows-TCPIP Interfaces/Interface/Ipv4Settings/DhcpEnabled":                    `^(true|false)$`,
	"specialize Microsoft-Windows-TCPIP Interfaces/Interface/Ipv6Settings/DhcpEnabled":                    `^(true|false)$`,
	"specialize Microsoft-Windows-TCPIP Interfaces/Interface/UnicastIpAddresses/IpAddress":                `^[0-9a-f.:]+/[0-9]+$`,
	"specialize Microsoft-Windows-TCPIP Interfaces/Interface/Routes/Route/Identifier":                     `^[0-9]+$`,
	"specialize Microsoft-Windows-TCPIP Interfaces/Interface/Routes/Route/NextHopAddress":                 `^[0-9a-f.:]+$`,
	"specialize Microsoft-Windows-TCPIP Interfaces/Interface/Routes/Route/Prefix":                         `^[0-9a-f.:]+/[0-9]+$`,
	"specialize Microsoft-Windows-DNS-Client Interfaces/Interface/Identifier":                             `^([0-9A-F]{2}-){5}[0-9A-F]{2}$`,
	"specialize Microsoft-Windows-DNS-Client Interfaces/Interface/DNSDomain":                              `^[a-z.]+$`,
	"specialize Microsoft-Windows-DNS-Client Interfaces/Interface/DNSServerSearchOrder/IpAddress":         `^[0-9a-f.:]+$`,
	"specialize Microsoft-Windows-TerminalServices-LocalSessionManager fDenyTSConnections":                `^(true|false)$`,
	"specialize Networking-MPSSVC-Svc FirewallGroups/FirewallGroup/Active":                                `^(true|false)$`,
	"specialize Networking-MPSSVC-Svc FirewallGroups/FirewallGroup/Group":                                 `^.{1,256}$`,
	"specialize Networking-MPSSVC-Svc FirewallGroups/FirewallGroup/Profile":                               `^(all|domain|private|public)$`,
	"oobeSystem Microsoft-Windows-Shell-Setup OOBE/NetworkLocation":                                       `^(Home|Work|Other)$`,
	"oobeSystem Microsoft-Windows-International-Core InputLocale":                                         `^[0-9a-f]{4}:[0-9a-f]{8}$`,
	"oobeSystem Microsoft-Windows-International-Core SystemLocale":                                        `^[a-z]{2,3}(-[A-Z]{2})?$`,
	"oobeSystem Microsoft-Windows-International-Core UILanguage":                                          `^[a-z]{2,3}(-[A-Z]{2})?$`,
	"oobeSystem Microsoft-Windows-International-Core UserLocale":                                          `^[a-z]{2,3}(-[A-Z]{2})?$`,
	"oobeSystem Microsoft-Windows-Shell-Setup TimeZone":                                                   ` Time$|^UTC`,
	"oobeSystem Microsoft-Windows-Shell-Setup OOBE/HideEULAPage":                                          `^(true|false)$`,
	"oobeSystem Microsoft-Windows-Shell-Setup OOBE/HideOEMRegistrationScreen":                             `^(true|false)$`,
	"oobeSystem Microsoft-Windows-Shell-Setup OOBE/HideOnlineAccountScreens":                              `^(true|false)$`,
	"oobeSystem Microsoft-Windows-Shell-Setup OOBE/HideWirelessSetupInOOBE":                               `^(true|false)$`,
	"oobeSystem Microsoft-Windows-Shell-Setup OOBE/ProtectYourPC":                                         `^[123]$`,
	"oobeSystem Microsoft-Windows-Shell-Setup UserAccounts/LocalAccounts/LocalAccount/Name":               `^[^"/\\\[\]:;|=,+*?<>@]{1,20}$`,
	"oobeSystem Microsoft-Windows-Shell-Setup UserAccounts/LocalAccounts/LocalAccount/DisplayName":        `^.{1,256}$`,
	"oobeSystem Microsoft-Windows-Shell-Setup UserAccounts/LocalAccounts/LocalAccount/Group":              `^(Administrators|Users)$`,
	"oobeSystem Microsoft-Windows-Shell-Setup UserAccounts/LocalAccounts/LocalAccount/Password/Value":     `^[A-Za-z0-9+/]+=*$`,
	"oobeSystem Microsoft-Windows-Shell-Setup UserAccounts/LocalAccounts/LocalAccount/Password/PlainText": `^(true|false)$`,
}

// held holds every element of an answer file against the schema, and returns their values.
func held(t *testing.T, text []byte) map[string][]string {
	t.Helper()
	doc := etree.NewDocument()
	require.NoError(t, doc.ReadFromBytes(text))
	found := map[string][]string{}
	var walk func(e *etree.Element, at string)
	walk = func(e *etree.Element, at string) {
		if children := e.ChildElements(); len(children) > 0 {
			for _, c := range children {
				walk(c, strings.TrimPrefix(at+"/"+c.Tag, "/"))
			}
			return
		}
		component := e
		for component.Tag != "component" {
			component = component.Parent()
		}
		key := component.Parent().SelectAttrValue("pass", "") + " " + component.SelectAttrValue("name", "") + " " + at
		form, known := schema[key]
		require.True(t, known, "setup does not know %s", key)
		assert.Regexp(t, regexp.MustCompile(form), e.Text(), key)
		found[key] = append(found[key], e.Text())
	}
	for _, component := range doc.FindElements("//component") {
		for _, c := range component.ChildElements() {
			walk(c, c.Tag)
		}
	}
	return found
}

func windows(more map[string]string) fstest.MapFS {
	f := fstest.MapFS{"WINDOWS/system32/config/SYSTEM": {}, "WINDOWS/Setup/State/State.ini": {Data: []byte("[State]\r\nImageState=IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE\r\n")}}
	for name, text := range more {
		f[name] = &fstest.MapFile{Data: []byte(text)}
	}
	return f
}

func windowsSettings() *answers.Settings {
	return &answers.Settings{ComputerName: "herb-01", TimeZone: "Europe/Vienna", Locale: "de_AT.UTF-8", Keyboard: "at", Owner: "Fennholt Botanic Garden", Organisation: "Fennholt", ProductKey: "AAAAA-BBBBB-CCCCC-DDDDD-EEEEE",
		Accounts: []answers.Account{{Name: "scan", FullName: "Scanning desk", Password: "sundial", Administrator: true}, {Name: "guest", PasswordHash: hash}}, Commands: []string{"echo garden"}}
}

func TestAnAnswerFileForWindows(t *testing.T) {
	p, err := answers.Windows(windows(nil), windowsSettings(), answers.Fresh{}, "amd64")
	require.NoError(t, err)
	require.Equal(t, "WINDOWS/Panther/unattend.xml", p.Changes[0].Path)
	assert.True(t, p.Changes[0].Secret)
	found := held(t, p.Changes[0].Content)
	for key, want := range map[string]string{
		"specialize Microsoft-Windows-Shell-Setup ComputerName": "herb-01", "oobeSystem Microsoft-Windows-Shell-Setup TimeZone": "W. Europe Standard Time", "oobeSystem Microsoft-Windows-International-Core UserLocale": "de-AT",
		"oobeSystem Microsoft-Windows-International-Core InputLocale": "0407:00000407", "oobeSystem Microsoft-Windows-Shell-Setup UserAccounts/LocalAccounts/LocalAccount/Group": "Administrators",
	} {
		assert.Equal(t, []string{want}, found[key])
	}
	hidden, err := base64.StdEncoding.DecodeString(found["oobeSystem Microsoft-Windows-Shell-Setup UserAccounts/LocalAccounts/LocalAccount/Password/Value"][0])
	require.NoError(t, err)
	assert.Equal(t, wide("sundialPassword"), string(hidden))
	assert.Equal(t, "WINDOWS/Setup/Scripts/SetupComplete.cmd", p.Changes[len(p.Changes)-1].Path)
	assert.Equal(t, "echo garden\r\ndel /f /q \"%SystemDrive%\\"+strings.ReplaceAll(p.Changes[0].Path, "/", `\`)+"\"\r\n", string(p.Changes[len(p.Changes)-1].Content))
	assert.Equal(t, []string{"Windows cannot take the password_hash of guest; set its password"}, p.Remarks)

	t.Log("# again, on what came of it, nothing changes but the hidden password's place")
	again, err := answers.Windows(windows(map[string]string{p.Changes[0].Path: string(p.Changes[0].Content), "WINDOWS/Setup/Scripts/SetupComplete.cmd": string(p.Changes[len(p.Changes)-1].Content)}), windowsSettings(), answers.Fresh{}, "amd64")
	require.NoError(t, err)
	for _, c := range again.Changes {
		assert.Equal(t, found, held(t, c.Content))
	}
}

func TestWhatTheEngineerWroteStays(t *testing.T) {
	existing, err := answers.RegisterInAnswerFile([]byte(`<?xml version="1.0"?><unattend xmlns="urn:schemas-microsoft-com:unattend"><settings pass="oobeSystem">
		<component name="Microsoft-Windows-Shell-Setup" processorArchitecture="amd64"><OOBE><ProtectYourPC>1</ProtectYourPC></OOBE><TimeZone>UTC</TimeZone>
		<UserAccounts><LocalAccounts><LocalAccount><Name>Scan</Name><Group>Users</Group></LocalAccount><LocalAccount><Name>holm</Name><Group>Users</Group></LocalAccount></LocalAccounts></UserAccounts></component></settings></unattend>`), "amd64")
	require.NoError(t, err)
	p, err := answers.Windows(windows(map[string]string{"windows/PANTHER/unattend/Unattend.xml": string(existing)}), windowsSettings(), answers.Fresh{}, "amd64")
	require.NoError(t, err)
	require.Equal(t, "WINDOWS/Panther/unattend.xml", p.Changes[0].Path, "another folder's case is another folder here")
	p, err = answers.Windows(windows(map[string]string{"WINDOWS/PANTHER/unattend/Unattend.xml": string(existing)}), windowsSettings(), answers.Fresh{}, "amd64")
	require.NoError(t, err)
	require.Equal(t, "WINDOWS/PANTHER/unattend/Unattend.xml", p.Changes[0].Path)
	found := held(t, p.Changes[0].Content)
	assert.Equal(t, []string{"1"}, found["oobeSystem Microsoft-Windows-Shell-Setup OOBE/ProtectYourPC"])
	assert.Equal(t, []string{"W. Europe Standard Time"}, found["oobeSystem Microsoft-Windows-Shell-Setup TimeZone"], "an answer overrides it")
	assert.Equal(t, []string{"holm", "scan"}, found["oobeSystem Microsoft-Windows-Shell-Setup UserAccounts/LocalAccounts/LocalAccount/Name"], "an account of the same name is replaced")
	assert.Len(t, found["specialize Microsoft-Windows-Deployment RunSynchronous/RunSynchronousCommand/Path"], 1, "drivers' entries stay")
}

func TestAWindowsForADesk(t *testing.T) {
	on := true
	s := &answers.Settings{ComputerName: "herb-01", Description: `2.14, "the window" 100%`, Proxy: "http://192.0.2.8:3128", RemoteAccess: &on, NetProfile: "private", SkipPages: []string{"licence", "account"},
		Network:  []answers.Connection{{Addresses: []string{"192.0.2.31/24", "2001:db8::31/64"}, Gateway: "192.0.2.1", NameServers: []string{"192.0.2.53"}, Search: []string{"fennholt.example"}}, {HardwareAddress: "00:00:5e:00:53:12"}},
		Files:    []answers.File{{Path: "/Scans/README.txt", Content: "scans"}},
		Programs: []answers.Program{{Name: "Scanning desk", Command: `"C:\Program Files\Scanner\scanner.exe" /desk`}}}
	p, err := answers.Windows(windows(map[string]string{"WINDOWS/Panther/unattend.xml": ""}), s, fresh(), "amd64")
	require.NoError(t, err)
	written := map[string]string{}
	for _, c := range p.Changes {
		if c.Do == answers.Write {
			written[c.Path] = string(c.Content)
		}
	}
	found := held(t, []byte(written["WINDOWS/Panther/unattend.xml"]))
	for key, want := range map[string][]string{
		"specialize Microsoft-Windows-TCPIP Interfaces/Interface/Identifier":                          {"00-00-5E-00-53-11", "00-00-5E-00-53-12"},
		"specialize Microsoft-Windows-TCPIP Interfaces/Interface/Ipv4Settings/DhcpEnabled":            {"false", "true"},
		"specialize Microsoft-Windows-TCPIP Interfaces/Interface/UnicastIpAddresses/IpAddress":        {"192.0.2.31/24", "2001:db8::31/64"},
		"specialize Microsoft-Windows-TCPIP Interfaces/Interface/Routes/Route/Prefix":                 {"0.0.0.0/0"},
		"specialize Microsoft-Windows-DNS-Client Interfaces/Interface/DNSServerSearchOrder/IpAddress": {"192.0.2.53"},
		"specialize Microsoft-Windows-TerminalServices-LocalSessionManager fDenyTSConnections":        {"false"},
		"oobeSystem Microsoft-Windows-Shell-Setup OOBE/NetworkLocation":                               {"Work"},
		"oobeSystem Microsoft-Windows-Shell-Setup OOBE/HideEULAPage":                                  {"true"},
		"oobeSystem Microsoft-Windows-Shell-Setup OOBE/HideWirelessSetupInOOBE":                       nil,
	} {
		assert.Equal(t, want, found[key], key)
	}
	assert.Equal(t, "scans", written["Scans/README.txt"])
	assert.Equal(t, "@start \"Scanning desk\" \"C:\\Program Files\\Scanner\\scanner.exe\" /desk\r\n", written["ProgramData/Microsoft/Windows/Start Menu/Programs/StartUp/jugate-scanning-desk.cmd"])
	assert.Equal(t, "net config server /srvcomment:\"2.14, 'the window' 100\"\r\nnetsh winhttp set proxy \"192.0.2.8:3128\"\r\n", written["WINDOWS/Setup/Scripts/SetupComplete.cmd"])

	t.Log("# again, on what came of it, each is there once")
	again, err := answers.Windows(windows(written), s, fresh(), "amd64")
	require.NoError(t, err)
	for _, c := range again.Changes {
		if strings.HasSuffix(c.Path, ".xml") {
			assert.Equal(t, found, held(t, c.Content))
		}
	}
}

func TestAWindowsJoinsWithoutAnybodysPassword(t *testing.T) {
	existing := `<unattend xmlns="urn:schemas-microsoft-com:unattend"><settings pass="specialize"><component name="Microsoft-Windows-UnattendedJoin" processorArchitecture="amd64">
		<Identification><Credentials><Domain>fennholt</Domain><Username>Administrator</Username><Password>in-clear</Password></Credentials><JoinDomain>fennholt</JoinDomain></Identification></component></settings></unattend>`
	f := fresh()
	f.Joined = &answers.Joined{Domain: "fennholt.example", Host: "herb-01.fennholt.example", Blob: "ARAIAA=="}
	p, err := answers.Windows(windows(map[string]string{"WINDOWS/Panther/unattend.xml": existing}), windowsSettings(), f, "amd64")
	require.NoError(t, err)
	assert.True(t, p.Changes[0].Secret)
	assert.NotContains(t, string(p.Changes[0].Content), "in-clear")
	assert.Equal(t, []string{"ARAIAA=="}, held(t, p.Changes[0].Content)["specialize Microsoft-Windows-UnattendedJoin OfflineIdentification/Provisioning/AccountData"])
}

func TestWhatWindowsCannotBeTold(t *testing.T) {
	for says, c := range map[string]struct {
		s    answers.Settings
		root fstest.MapFS
	}{
		"longer than the 15 characters":                             {answers.Settings{ComputerName: "herbarium-scanning-01"}, windows(nil)},
		"no name for the time zone":                                 {answers.Settings{TimeZone: "Antarctica/Troll2"}, windows(nil)},
		"/WINDOWS/Panther/unattend.xml: it is not well-formed XML":  {answers.Settings{}, windows(map[string]string{"WINDOWS/Panther/unattend.xml": "<unattend><settings>"})},
		"there is no Windows on this vol":                           {answers.Settings{}, fstest.MapFS{"etc/passwd": {}}},
		"/WINDOWS/Panther/unattend.xml: it has no element unattend": {answers.Settings{}, windows(map[string]string{"WINDOWS/Panther/unattend.xml": "<other/>"})},
	} {
		_, err := answers.Windows(c.root, &c.s, answers.Fresh{}, "amd64")
		assert.ErrorContains(t, err, says)
	}
	root := windows(map[string]string{"WINDOWS/Setup/State/State.ini": "[State]\r\nImageState=IMAGE_STATE_COMPLETE\r\n"})
	p, err := answers.Windows(root, &answers.Settings{Packages: []string{"scanner"}, Keyboard: "xx"}, answers.Fresh{}, "amd64")
	require.NoError(t, err)
	text := strings.Join(p.Remarks, "; ")
	for _, says := range []string{"was not generalised", "packages is for Linux systems", "no layout for the keyboard xx", "asks for one"} {
		assert.Contains(t, text, says)
	}
	_, err = answers.For(fstest.MapFS{"home/x": {}}, &answers.Settings{}, fresh(), "")
	assert.ErrorIs(t, err, answers.ErrNoSystem)
}
