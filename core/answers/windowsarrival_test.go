package answers_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/answers"
)

// arrivalPlan is what makes a Windows report its first start.
func arrivalPlan(t *testing.T, a answers.Arrival, root fstest.MapFS) map[string]answers.Change {
	t.Helper()
	root["Windows/System32/config/SYSTEM"] = &fstest.MapFile{}
	plan, err := answers.Windows(root, &answers.Settings{ComputerName: "herb-01", Commands: []string{"echo garden"}}, answers.Fresh{Arrival: &a}, "amd64")
	require.NoError(t, err)
	all := map[string]answers.Change{}
	for _, c := range plan.Changes {
		all[c.Path] = c
	}
	return all
}

func TestAWindowsReportsItsFirstStart(t *testing.T) {
	arrival := answers.Arrival{Service: "https://192.0.2.10:8443", Certificate: "PEM", Token: `to"ken`}
	all := arrivalPlan(t, arrival, fstest.MapFS{"JUGATE/Drivers/x": {}})
	assert.Equal(t, "echo garden\r\n"+
		`schtasks /create /tn "Jugate arrival" /sc onstart /ru SYSTEM /f /tr "powershell.exe -NoProfile -ExecutionPolicy Bypass -File %SystemDrive%\JUGATE\Arrival\arrival.ps1"`+"\r\n"+
		`schtasks /run /tn "Jugate arrival"`+"\r\n", string(all["Windows/Setup/Scripts/SetupComplete.cmd"].Content), "setup's own last commands")
	assert.Equal(t, "PEM", string(all["JUGATE/Arrival/authority.pem"].Content))
	config := all["JUGATE/Arrival/arrival.curl"]
	assert.True(t, config.Secret)
	assert.Contains(t, string(config.Content), `header = "Authorization: Bearer to\"ken"`)
	assert.Contains(t, string(config.Content), `url = "https://192.0.2.10:8443/agent/v1/arrival"`)
	assert.NotContains(t, string(all["JUGATE/Arrival/arrival.ps1"].Content), "to\"ken")

	t.Log("# without TLS the service has no certificate")
	const script, plainConfig = "Windows/Setup/Scripts/SetupComplete.cmd", "Jugate/Arrival/arrival.curl"
	plain := arrivalPlan(t, answers.Arrival{Service: "http://192.0.2.10:8080", Token: "token"}, fstest.MapFS{})
	assert.NotContains(t, plain, "Jugate/Arrival/authority.pem")
	require.Contains(t, plain, plainConfig)
	assert.NotContains(t, string(plain[plainConfig].Content), "cacert")
	assert.Contains(t, string(config.Content), "cacert", "which with TLS there is")

	t.Log("# where the answers are in place, they are not put there once more")
	again := arrivalPlan(t, arrival, fstest.MapFS{"JUGATE/Drivers/x": {}, script: {Data: all[script].Content}})
	assert.NotContains(t, again, script)
}

// The vendor's shell does not run here: a grammar that others have written says whether the
// script is one.
func TestTheScriptOfAnArrivalIsOne(t *testing.T) {
	if _, err := os.Stat(filepath.Join("..", "..", "console", "node_modules", "@vscode", "tree-sitter-wasm")); err != nil {
		t.Skip("the console's tools are not installed: make build")
	}
	script := arrivalPlan(t, answers.Arrival{}, fstest.MapFS{})["Jugate/Arrival/arrival.ps1"].Content
	assert.Equal(t, bytes.Count(script, []byte("\n")), bytes.Count(script, []byte("\r\n")))
	judge := func(script []byte) (string, error) {
		cmd := exec.CommandContext(t.Context(), "node", "--liftoff-only", filepath.Join("testdata", "powershell.mjs"))
		cmd.Stdin = bytes.NewReader(script)
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	out, err := judge(script)
	assert.NoError(t, err, out)
	_, err = judge([]byte(strings.Replace(string(script), "} catch {", "} catch ((", 1)))
	assert.Error(t, err, "and it does notice")
}
