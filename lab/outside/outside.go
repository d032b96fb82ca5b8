// Package outside runs programs that nobody here wrote, for tests that need them to answer.
package outside

import (
	"bytes"
	"fmt"
	"net"
	"net/http"
	"os/exec"
	"runtime"
)

// Address is one on loopback that nobody has now.
func Address() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	return l.Addr().String(), l.Close()
}

// Program is one that runs.
type Program struct {
	cmd   *exec.Cmd
	ended <-chan struct{}
}

// Run starts a program, and returns when something answers at a URL, whatever it says. One that ends
// before is an error with its words.
func Run(url string, argv ...string) (*Program, error) {
	p := &Program{cmd: exec.Command(argv[0], argv[1:]...)}
	var said bytes.Buffer
	p.cmd.Stdout, p.cmd.Stderr = &said, &said
	if err := p.cmd.Start(); err != nil {
		return nil, err
	}
	ended := make(chan struct{})
	p.ended = ended
	go func() { p.cmd.Wait(); close(ended) }()
	for {
		answer, err := http.Get(url)
		if err == nil {
			return p, answer.Body.Close()
		}
		select {
		case <-ended:
			return nil, fmt.Errorf("%s has ended: %s", argv[0], said.String())
		default:
			runtime.Gosched() // as long as it lives: a slow machine takes longer
		}
	}
}

// Kill ends it at once, if it runs.
func (p *Program) Kill() {
	if p != nil {
		p.cmd.Process.Kill()
		<-p.ended
	}
}
