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
	assert.Equal(t, "echo garden\r\n", string(p.Changes[len(p.Changes)-1].Content))
	assert.Equal(t, []string{"Windows cannot take the password_hash of guest; set its password"}, p.Remarks)

	t.Log("# again, on what came of it, nothing changes but the hidden password's place")
	again, err := answers.Windows(windows(map[string]string{p.Changes[0].Path: string(p.Changes[0].Content), "WINDOWS/Setup/Scripts/SetupComplete.cmd": "echo garden\r\n"}), windowsSettings(), answers.Fresh{}, "amd64")
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
		"longer than the 15 characters":       {answers.Settings{ComputerName: "herbarium-scanning-01"}, windows(nil)},
		"no name for the time zone":           {answers.Settings{TimeZone: "Antarctica/Troll2"}, windows(nil)},
		"the answer file that is there":       {answers.Settings{}, windows(map[string]string{"WINDOWS/Panther/unattend.xml": "<unattend><settings>"})},
		"no Windows system on this volume":    {answers.Settings{}, fstest.MapFS{"etc/passwd": {}}},
		"the answer file that is there has n": {answers.Settings{}, windows(map[string]string{"WINDOWS/Panther/unattend.xml": "<other/>"})},
	} {
		_, err := answers.Windows(c.root, &c.s, answers.Fresh{}, "amd64")
		assert.ErrorContains(t, err, says)
	}
	root := windows(map[string]string{"WINDOWS/Setup/State/State.ini": "ImageState=IMAGE_STATE_COMPLETE"})
	p, err := answers.Windows(root, &answers.Settings{Proxy: "http://192.0.2.8", Keyboard: "xx"}, answers.Fresh{}, "amd64")
	require.NoError(t, err)
	text := strings.Join(p.Remarks, "; ")
	for _, says := range []string{"was not generalised", "proxy is for Linux", "no layout for the keyboard xx", "asks for one"} {
		assert.Contains(t, text, says)
	}
	_, err = answers.For(fstest.MapFS{"home/x": {}}, &answers.Settings{}, fresh(), "")
	assert.ErrorIs(t, err, answers.ErrNoSystem)
}
