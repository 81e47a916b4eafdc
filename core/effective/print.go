package effective

import (
	"bytes"
	"context"
	"io"
	"os/exec"
	"strings"
	"unicrux/core/workstation"
)

// A line is one that the client prints: a keyword and a value.
type line struct{ name, value string }

// A printer is the installed client, which prints what it makes of the settings that it is
// fed, for one host. They come through a pipe: nothing is written anywhere.
type printer struct {
	cmd   *exec.Cmd
	input io.WriteCloser
	out   bytes.Buffer
	err   error // why there is none
}

// startPrinter starts the client, which waits for settings.
func startPrinter(ctx context.Context, host string) *printer {
	p := &printer{cmd: exec.CommandContext(ctx, "ssh", "-G", "-F", "/dev/stdin", "--", host)}
	p.cmd.Stdout = &p.out
	if p.input, p.err = p.cmd.StdinPipe(); p.err == nil {
		p.err = p.cmd.Start()
	}
	return p
}

// feed gives the client its settings.
func (p *printer) feed(text []byte) {
	if p.err == nil {
		_, _ = p.input.Write(text) // a client that stopped says so by its exit status
		_ = p.input.Close()
	}
}

// lines waits for what the client prints.
func (p *printer) lines() ([]line, error) {
	if p == nil {
		return nil, nil
	}
	if p.err != nil {
		return nil, p.err
	}
	cmd := p.cmd
	p.cmd = nil
	if err := cmd.Wait(); err != nil {
		return nil, err
	}
	var lines []line
	for text := range strings.Lines(p.out.String()) {
		name, value, _ := strings.Cut(strings.TrimRight(text, "\r\n"), " ")
		lines = append(lines, line{strings.ToLower(name), value})
	}
	return lines, nil
}

// stop ends a client that nobody waits for.
func (p *printer) stop() {
	if p.err == nil && p.cmd != nil {
		_ = p.cmd.Process.Kill()
		_ = p.cmd.Wait()
	}
}

// runs runs a command as the client does for "Match exec": by the person's shell, without
// any input, for its exit status alone.
func runs(ctx context.Context, station *workstation.Station, command string) bool {
	shell := station.Getenv("SHELL")
	if shell == "" {
		shell = "/bin/sh"
	}
	cmd := exec.CommandContext(ctx, shell, "-c", command)
	cmd.Env = station.Environ
	return cmd.Run() == nil
}
