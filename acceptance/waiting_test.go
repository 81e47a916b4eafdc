package acceptance

import (
	"net"
	"strings"
	"testing"

	"golang.org/x/sys/unix"
)

// echoes reports whether a terminal shows what is typed.
func (t *talk) echoes() bool {
	t.p.t.Helper()
	settings, err := unix.IoctlGetTermios(int(t.terminal.Fd()), unix.TCGETS)
	if err != nil {
		t.p.t.Fatal(err)
	}
	return settings.Lflag&unix.ECHO != 0
}

// silent is a person whose host takes connections and says nothing until it is told to end them.
func silent(t *testing.T) (p *person, end func()) {
	t.Helper()
	p = settled(t)
	ended := make(chan struct{})
	p.usePort(p.listen(func(net.Conn) { <-ended }))
	return p, func() { close(ended) }
}

// TestWaitingIsVisible: on a terminal a command says for whom it waits, at which stage and for how long; the line goes
// again, and what is typed meanwhile is not shown. Elsewhere there is no such line.
func TestWaitingIsVisible(t *testing.T) {
	t.Parallel()
	p, end := silent(t)
	talk := p.talk("check", drift)
	talk.answer("waiting for forge… (reach, 1 s)", "make tea\n")
	if talk.echoes() {
		t.Error("what is typed is shown")
	}
	end()
	for talk.more() { // the terminal is there as long as nobody closes it
	}
	if !talk.echoes() {
		t.Error("the terminal shows no longer what is typed")
	}
	r := talk.end()
	if r.exit != 1 || strings.Contains(r.out, "tea") || !strings.Contains(r.out, "\r\x1b[K") {
		t.Errorf("%q", r.out)
	}
	if after := r.out[strings.LastIndex(r.out, "waiting for"):]; !strings.Contains(after, "\r\x1b[K") {
		t.Errorf("the line stays: %q", after)
	}
	if quiet := p.unicrux("check", drift, "--timeout", "2s"); strings.Contains(quiet.err, "waiting") {
		t.Errorf("in a pipe: %s", quiet)
	}
}

// TestWaitingIsStopped: Ctrl-C ends the waiting, twice at once, and leaves the terminal as it was.
func TestWaitingIsStopped(t *testing.T) {
	t.Parallel()
	p, end := silent(t)
	defer end()
	for _, keys := range []string{"\x03", "\x03\x03"} {
		talk := p.talk("check", drift)
		talk.answer("waiting for", keys)
		for talk.more() {
		}
		if !talk.echoes() {
			t.Errorf("%q: the terminal shows no longer what is typed", keys)
		}
		if r := talk.end(); r.exit != 5 {
			t.Errorf("%q: %s", keys, r)
		}
	}
}
