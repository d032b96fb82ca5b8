package answers

import (
	_ "embed"
	"fmt"
	"path"
	"strings"

	"jugate/core/fileview"
)

// reportScript tells the service that a Windows has started, with what that system brings.
//
//go:embed arrival.ps1
var reportScript []byte

// arrivalFolder has what reports the first start of a Windows; the report removes it.
const arrivalFolder = "Jugate/Arrival"

// windowsArrival has a Windows report its first start, and returns the commands that setup runs for
// that: a task that the system begins anew if it is restarted in between.
func (f *files) windowsArrival(a *Arrival) []string {
	const why = "its arrival"
	at, _ := fileview.FindFold(f.FS, arrivalFolder)
	f.folder(at, why, 0o755, 0, 0)
	f.write(path.Join(at, "arrival.ps1"), why, 0o644, []byte(strings.ReplaceAll(string(reportScript), "\n", "\r\n")))
	f.write(path.Join(at, "arrival.curl"), why, 0o600, []byte(a.curl())).Secret = true
	if a.Certificate != "" {
		f.write(path.Join(at, "authority.pem"), why, 0o644, []byte(a.Certificate))
	}
	run := `powershell.exe -NoProfile -ExecutionPolicy Bypass -File %SystemDrive%\` + strings.ReplaceAll(at, "/", `\`) + `\arrival.ps1`
	return []string{`schtasks /create /tn "Jugate arrival" /sc onstart /ru SYSTEM /f /tr "` + run + `"`, `schtasks /run /tn "Jugate arrival"`}
}

// curl is the configuration of the program curl, which Windows brings, for one try.
func (a *Arrival) curl() string {
	var b strings.Builder
	line := func(option, value string) {
		fmt.Fprintf(&b, "%s = \"%s\"\r\n", option, strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(value))
	}
	line("url", strings.TrimSuffix(a.Service, "/")+"/agent/v1/arrival")
	if a.Certificate != "" {
		line("cacert", "authority.pem")
	}
	line("header", "Content-Type: application/json")
	line("header", "Authorization: Bearer "+a.Token)
	line("data-binary", "@report.json")
	line("output", "answer.json")
	line("write-out", "%{http_code}")
	line("noproxy", "*")
	line("connect-timeout", "10")
	line("max-time", "30")
	b.WriteString("ssl-no-revoke\r\nsilent\r\n") // the authority tells nobody of certificates that are not good any more
	return b.String()
}
