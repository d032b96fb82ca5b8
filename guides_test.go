package jugate_test

import (
	"bufio"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a reader pastes from the README and from the first guide works, in that order, and
// answers as it says there.
func TestTheGuidesCanBeFollowed(t *testing.T) {
	bin := t.TempDir()
	out, err := exec.Command("go", "build", "-o", filepath.Join(bin, "bin")+"/", "./cmd/jugate").CombinedOutput()
	require.NoError(t, err, "%s", out)
	for _, guide := range []string{"README.md", "docs/getting-started.md", "docs/interface.md"} {
		t.Run(guide, func(t *testing.T) {
			steps := stepsOf(t, guide)
			require.NotEmpty(t, steps)
			s := openShell(t, bin)
			for _, step := range steps {
				s.do(step)
			}
		})
	}
}

// step is a command with what it answers.
type step struct {
	command string
	answers []string
}

// stepsOf are the commands of a page's blocks of the kind "console".
func stepsOf(t *testing.T, name string) (steps []step) {
	t.Helper()
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	for _, block := range regexp.MustCompile("(?s)```console\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
		for line := range strings.Lines(block[1]) {
			line = strings.TrimRight(line, "\n")
			if command, is := strings.CutPrefix(line, "$ "); is {
				steps = append(steps, step{command: command})
			} else if strings.TrimSpace(line) != "" {
				last := &steps[len(steps)-1]
				last.answers = append(last.answers, line)
			}
		}
	}
	return steps
}

// shell is a shell that commands are pasted into.
type shell struct {
	t     *testing.T
	in    io.Writer
	lines chan string
	n     int
}

func openShell(t *testing.T, bin string) *shell {
	t.Helper()
	cmd := exec.Command("bash")
	cmd.Dir = t.TempDir()
	cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+t.TempDir(), "JUGATE_LISTEN=127.0.0.1:0", "JUGATE_MULTICAST_GROUPS=233.252.0.0/24", "OLDPWD="+bin,
		"PATH="+filepath.Join(bin, "bin")+":/usr/sbin:/sbin:"+os.Getenv("PATH"))
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	r, w, err := os.Pipe()
	require.NoError(t, err)
	cmd.Stdout, cmd.Stderr = w, w
	require.NoError(t, cmd.Start())
	w.Close()
	s := &shell{t: t, in: in, lines: make(chan string, 1000)}
	go func() {
		defer close(s.lines)
		all := bufio.NewScanner(r)
		for all.Scan() {
			s.lines <- all.Text()
		}
	}()
	t.Cleanup(func() {
		syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM)
		for range s.lines { // until all that it started have ended
		}
		cmd.Wait()
		r.Close()
	})
	return s
}

// do pastes a command and waits until it has answered, and has ended unless it stays in the
// background.
func (s *shell) do(next step) {
	s.t.Helper()
	s.n++
	mark := fmt.Sprintf("-- step %d ended with ", s.n)
	fmt.Fprintf(s.in, "%s\necho '%s'$?\n", next.command, mark)
	var said []string
	answers := next.answers
	ended := false
	for late := time.After(5 * time.Minute); !ended || len(answers) > 0; {
		select {
		case line, more := <-s.lines:
			require.True(s.t, more, "the shell has ended")
			if code, is := strings.CutPrefix(line, mark); is {
				require.Equal(s.t, "0", code, "$ %s\n%s", next.command, strings.Join(said, "\n"))
				ended = true
			}
			said = append(said, line)
			if len(answers) > 0 && fits(answers[0], line) {
				answers = answers[1:]
			}
			for len(answers) > 0 && strings.TrimSpace(answers[0]) == "…" {
				answers = answers[1:]
			}
			if ended && len(answers) > 0 && !strings.HasSuffix(next.command, "&") {
				require.Fail(s.t, "it does not answer that", "$ %s\nwanted: %s\nsaid:\n%s", next.command, answers[0], strings.Join(said, "\n"))
			}
		case <-late:
			require.Fail(s.t, "it does not come", "$ %s\nwanted: %v\nsaid:\n%s", next.command, answers, strings.Join(said, "\n"))
		}
	}
}

// fits tells whether a line is what a guide says, where … stands for anything and spaces for
// any number of them.
func fits(want, line string) bool {
	var parts []string
	for part := range strings.SplitSeq(want, "…") {
		parts = append(parts, strings.Join(strings.Fields(part), " "))
	}
	rest := strings.Join(strings.Fields(line), " ")
	for i, part := range parts {
		at := strings.Index(rest, part)
		if at < 0 || i == 0 && at > 0 {
			return false
		}
		rest = rest[at+len(part):]
	}
	return parts[len(parts)-1] == "" || rest == ""
}

// What the guide to security says is tried is tried.
func TestEveryTestThatTheSecurityGuideNamesIsThere(t *testing.T) {
	guide, err := os.ReadFile("docs/security.md")
	require.NoError(t, err)
	there := map[string]bool{}
	require.NoError(t, filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git") {
			return filepath.SkipDir
		}
		if err != nil || !strings.HasSuffix(path, "_test.go") {
			return err
		}
		text, err := os.ReadFile(path)
		for _, found := range regexp.MustCompile(`(?m)^func (Test\w+)\(`).FindAllSubmatch(text, -1) {
			there[string(found[1])] = true
		}
		return err
	}))
	named := regexp.MustCompile(`\bTest[A-Z]\w+`).FindAllString(string(guide), -1)
	require.Greater(t, len(named), 15)
	for _, name := range named {
		assert.True(t, there[name], name)
	}
}
