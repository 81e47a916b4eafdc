package acceptance

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// A window is a real terminal, with a shell in it and somebody who types and reads.
type window struct {
	p      *person
	socket string
	read   int // how much of the text was read before what is waited for
}

// window opens one in the person's home.
func (p *person) window() *window {
	p.t.Helper()
	w := &window{p: p, socket: filepath.Join(p.t.TempDir(), "tmux")}
	cmd := exec.Command(need(p.t, "tmux"), "-S", w.socket, "-f", os.DevNull, "new-session", "-d", "-x", "110",
		"-y", "50", "bash", "--norc", "--noprofile")
	cmd.Dir = p.home
	cmd.Env = append(p.environ(), "TERM=xterm-256color", "PS1=typed> ", "LC_ALL=C.UTF-8")
	if out, err := cmd.CombinedOutput(); err != nil {
		p.t.Fatalf("tmux: %v: %s", err, out)
	}
	p.t.Cleanup(func() { w.tmux("kill-server") })
	w.tmux("set-option", "-g", "history-limit", "20000")
	return w
}

func (w *window) tmux(args ...string) string {
	w.p.t.Helper()
	cmd := exec.Command("tmux", append([]string{"-S", w.socket}, args...)...)
	cmd.Env = append(w.p.environ(), "TERM=xterm-256color", "LC_ALL=C.UTF-8")
	out, err := cmd.CombinedOutput()
	if err != nil {
		w.p.t.Fatalf("tmux %s: %v: %s", args, err, out)
	}
	return string(out)
}

// seen is all that was ever on the terminal, long lines in one.
func (w *window) seen() string { return w.tmux("capture-pane", "-p", "-J", "-S", "-") }

// types types a line.
func (w *window) types(line string) {
	w.p.t.Helper()
	w.tmux("send-keys", "-l", "--", line)
	w.tmux("send-keys", "Enter")
}

// sees waits until words appear behind what was seen before.
func (w *window) sees(words string) {
	w.p.t.Helper()
	text := ""
	defer func() {
		if w.p.t.Failed() {
			w.p.t.Log(text)
		}
	}()
	eventually(w.p.t, words+" in\n"+w.seen(), func() bool {
		text = w.seen()
		at := strings.Index(text[min(w.read, len(text)):], words)
		if at >= 0 {
			w.read += at + len(words)
		}
		return at >= 0
	})
}

// stops presses Ctrl-C, and gets the shell back.
func (w *window) stops() {
	w.p.t.Helper()
	w.tmux("send-keys", "C-c")
	w.sees("typed>")
}

// TestNewcomer goes by the README alone, in a real terminal: from git clone to a pushed commit at a host that nobody
// has described, stopped at each question once, and gone on with by the same command.
func TestNewcomer(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	url := p.unknownSSH()
	source, err := filepath.Abs("..")
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"GOCACHE", "GOMODCACHE", "GOFLAGS", "GOPROXY", "GOSUMDB", "GOTOOLCHAIN"} {
		if value, err := exec.Command("go", "env", name).Output(); err == nil {
			p.extra = append(p.extra, name+"="+strings.TrimSpace(string(value)))
		}
	}
	w := p.window()
	w.sees("typed>")
	w.types("git clone --quiet " + source +
		" source && make --silent --directory source build && export PATH=$PWD/source:$PATH && echo bui''lt")
	w.sees("built")
	ready, asked := "unicrux ready "+url, []struct{ words, answer string }{
		{"(--fingerprint):", p.host127.fingerprint("sshd_host")},
		{"Passphrase for the new key (--passphrase-from):", "seven tides"}, {"The same once more:", "seven tides"}}
	w.types(ready)
	for i, question := range asked {
		w.sees(question.words)
		w.stops()
		w.types(ready)
		for _, again := range asked[min(i, 1) : i+1] { // what was answered and kept is not asked again
			w.sees(again.words)
			w.types(again.answer)
		}
	}
	w.sees("Ctrl-C ends the waiting")
	w.types("make tea") // it is not shown, and Ctrl-C takes it away (termios(3), ISIG)
	w.stops()
	w.types(ready)
	w.sees("Ctrl-C ends the waiting")
	p.accepts(p.must("key", "show", "host-127-0-0-1_ed25519", "--line").out)
	w.sees("Cloned into")
	w.types("cd tide-tables && echo 03:10 >> hours && git add hours && git commit --quiet --message hours && git push && echo pu''shed")
	w.sees("pushed")
	log := p.host127.mustGit("-C", p.host127.path("tide-tables.git"), "log", "--format=%s", "main").out
	if !strings.HasPrefix(log, "hours\n") {
		t.Errorf("the host has %q", log)
	}
	if seen := w.seen(); strings.Contains(seen, "seven tides") || strings.Contains(seen, "make tea") {
		t.Errorf("what was typed is shown:\n%s", seen)
	}
}
