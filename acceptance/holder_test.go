package acceptance

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"anchorage.example/unicrux/agreement"
	"anchorage.example/unicrux/fixture/desktop"
)

// held is the document of "holder show --json".
type held struct {
	Schema, Socket string
	Runs           bool
	PID            int
	Keys           []struct {
		Comment, Fingerprint string
		Until                time.Time
	}
}

func (p *person) holder() held {
	p.t.Helper()
	var h held
	r := p.must("holder", "show", "--json")
	if err := json.Unmarshal([]byte(r.out), &h); err != nil || h.Schema != "unicrux.holder/1" {
		p.t.Fatalf("holder show: %v: %s", err, r)
	}
	return h
}

// lockedAway is a person whose only key for the host is locked by "seven tides".
func lockedAway(t testing.TB) *person {
	t.Helper()
	p := withHost(t)
	p.write("seven tides\n", "passphrase")
	p.must("key", "new", "--host", "forge", "--passphrase-from", p.path("passphrase"))
	p.must("host", "trust", "forge")
	p.must("key", "register", "forge_ed25519", "forge", "--token-from", p.host.TokenFile(), "--passphrase-from",
		p.path("passphrase"))
	return p
}

// TestHolderForTheDay unlocks a key once; the real client signs in until it is forgotten.
func TestHolderForTheDay(t *testing.T) {
	t.Parallel()
	p := lockedAway(t)
	p.wants(drift, "key-locked")
	r := p.must("key", "load", "forge_ed25519", "--for", "9h", "--passphrase-from", p.path("passphrase"))
	if !strings.Contains(r.out, "The holder keeps forge_ed25519 unlocked until ") {
		t.Errorf("%s", r)
	}
	p.wants(drift, "")
	h := p.holder()
	if !h.Runs || len(h.Keys) != 1 || h.Keys[0].Comment != p.path(".ssh", "forge_ed25519") ||
		h.Keys[0].Fingerprint != p.fingerprint("forge_ed25519") ||
		time.Until(h.Keys[0].Until) < 8*time.Hour {
		t.Errorf("it holds %+v", h)
	}
	if r := p.must("holder", "show"); !strings.Contains(r.out, "in 9 hours") ||
		!strings.Contains(r.out, "~/.ssh/forge_ed25519") {
		t.Errorf("%s", r)
	}
	if r := p.must("look", "agent"); !strings.Contains(r.out, "holder") {
		t.Errorf("%s", r)
	}
	p.must("key", "unload", "forge_ed25519")
	eventually(t, "the end of a holder that holds nothing", func() bool { return !exists(h.Socket) })
	p.wants(drift, "key-locked")
	if r := p.must("key", "unload", "forge_ed25519"); !strings.Contains(r.out, "No agent held") {
		t.Errorf("the second time: %s", r)
	}
	p.must("holder", "stop") // one was started by the real client, in vain
	if r := p.must("holder", "stop"); !strings.Contains(r.out, "No holder runs") {
		t.Errorf("%s", r)
	}
}

func exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}

// TestHolderKilled leaves a stale socket behind, which must stand in nobody's way.
func TestHolderKilled(t *testing.T) {
	t.Parallel()
	p := lockedAway(t)
	load := []string{"key", "load", "forge_ed25519", "--passphrase-from", p.path("passphrase")}
	p.must(load...)
	h := p.holder()
	if err := syscall.Kill(h.PID, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	eventually(t, "its end", func() bool { return !p.holder().Runs })
	if !exists(h.Socket) {
		t.Fatal("no stale socket to try with")
	}
	p.wants(drift, "key-locked") // and not agent-unreachable: it starts by itself
	p.must(load...)
	p.wants(drift, "")
	if err := syscall.Kill(p.holder().PID, syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	eventually(t, "an orderly end", func() bool { return !exists(h.Socket) })
}

// TestHolderStartsBySSH lets the real client ask for the passphrase, by a program as desktops
// have it: once, because ssh starts the holder and hands the key over.
func TestHolderStartsBySSH(t *testing.T) {
	t.Parallel()
	p := lockedAway(t)
	p.must("holder", "stop") // whatever the proof of the registration started
	p.write("#!/bin/sh\necho asked >> "+p.path("asked")+"\necho seven tides\n", "ask")
	if err := os.Chmod(p.path("ask"), 0o700); err != nil {
		t.Fatal(err)
	}
	p.extra = append(p.extra, "SSH_ASKPASS="+p.path("ask"), "SSH_ASKPASS_REQUIRE=force",
		"GIT_SSH_COMMAND=ssh -F "+p.path(".ssh", "config"))
	for range 3 {
		p.mustGit("ls-remote", drift)
	}
	if asked := strings.Count(p.read("asked"), "asked"); asked != 1 {
		t.Errorf("asked %d times", asked)
	}
	if h := p.holder(); len(h.Keys) != 1 || time.Until(h.Keys[0].Until) > 8*time.Hour+time.Minute {
		t.Errorf("it holds %+v", h)
	}
	p.wants(drift, "")
}

// TestHolderOnTime lets a lifetime run out.
func TestHolderOnTime(t *testing.T) {
	t.Parallel()
	p := lockedAway(t)
	p.must("key", "load", "forge_ed25519", "--for", "1s", "--passphrase-from", p.path("passphrase"))
	socket := p.holder().Socket
	eventually(t, "the end of the key's time", func() bool { return !exists(socket) })
	p.wants(drift, "key-locked")
}

// TestHolderStartedOften is started by many at once.
func TestHolderStartedOften(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	var group sync.WaitGroup
	for range 12 {
		group.Go(func() {
			if r := p.unicrux("holder", "start"); r.exit != 0 {
				t.Errorf("%s", r)
			}
		})
	}
	group.Wait()
	h := p.holder()
	if err := syscall.Kill(h.PID, 0); !h.Runs || err != nil {
		t.Errorf("the holder %+v does not live: %v", h, err)
	}
	p.must("holder", "stop")
	if exists(h.Socket) {
		t.Error("something still serves the socket")
	}
}

// TestHolderServesItsOwnUser is asked by somebody else, for whom every door on the way was
// left open.
func TestHolderServesItsOwnUser(t *testing.T) {
	t.Parallel()
	p := lockedAway(t)
	p.must("key", "load", "forge_ed25519", "--passphrase-from", p.path("passphrase"))
	socket := p.holder().Socket
	if os.Geteuid() != 0 {
		t.Log("only root can be two users, so the socket is asked by its owner alone")
		return
	}
	for dir := filepath.Dir(socket); dir != filepath.Clean(os.TempDir()); dir = filepath.Dir(dir) {
		if err := os.Chmod(dir, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chmod(socket, 0o666); err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile(program)
	if err != nil {
		t.Fatal(err)
	}
	if err := agreement.WriteProgram(p.path("unicrux"), text, 0o755); err != nil {
		t.Fatal(err)
	}
	ask := func(user string) string {
		cmd := exec.Command(need(t, "setpriv"), "--reuid="+user, "--clear-groups", p.path("unicrux"), "look", "agent")
		cmd.Dir, cmd.Env = "/", []string{"PATH=" + os.Getenv("PATH"), "HOME=/nowhere", "SSH_AUTH_SOCK=" + socket}
		out, _ := cmd.CombinedOutput() // what it says is enough
		return string(out)
	}
	if out := ask("0"); !strings.Contains(out, "forge_ed25519") {
		t.Errorf("its own user is answered: %s", out)
	}
	if out := ask("65534"); strings.Contains(out, "forge_ed25519") || !strings.Contains(out, "not answer") {
		t.Errorf("another user is answered: %s", out)
	}
}

// TestTwoAgents has a real ssh agent, which the person's own settings name: it gets the key,
// and the holder is not started.
func TestTwoAgents(t *testing.T) {
	t.Parallel()
	p := lockedAway(t)
	p.must("holder", "stop")
	p.agent()
	p.extra = p.extra[:len(p.extra)-1] // named by settings alone
	p.write("IdentityAgent "+p.path("agent.sock")+"\n"+p.read(".ssh", "config"), ".ssh", "config")
	r := p.must("key", "load", "forge_ed25519", "--passphrase-from", p.path("passphrase"), "--json")
	if !strings.Contains(r.out, p.path("agent.sock")) || strings.Contains(r.out, "run/agent") {
		t.Errorf("%s", r)
	}
	p.wants(drift, "")
	if p.holder().Runs {
		t.Error("a holder was started all the same")
	}
	if r := p.must("look", "agent"); !strings.Contains(r.out, "~/agent.sock") ||
		!strings.Contains(r.out, "forge_ed25519") {
		t.Errorf("%s", r)
	}
	p.must("key", "unload", "forge_ed25519")
	p.wants(drift, "key-locked")
}

// TestHoldIsUndone gives every byte of the settings back.
func TestHoldIsUndone(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.write("seven tides\n", "passphrase")
	p.must("key", "passphrase", "forge_ed25519", "--new-passphrase-from", p.path("passphrase"))
	before := p.read(".ssh", "unicrux.conf")
	p.must("key", "load", "forge_ed25519", "--passphrase-from", p.path("passphrase"))
	p.wants(drift, "")
	during := p.read(".ssh", "unicrux.conf")
	if during == before || !strings.Contains(during, "Match originalhost forge.tidewater.example exec") {
		t.Errorf("%s", during)
	}
	p.must("key", "load", "forge_ed25519", "--passphrase-from", p.path("passphrase"))
	if p.read(".ssh", "unicrux.conf") != during {
		t.Errorf("the second time: %s", p.read(".ssh", "unicrux.conf"))
	}
	p.must("undo")
	if p.read(".ssh", "unicrux.conf") != before {
		t.Errorf("after undo: %s", p.read(".ssh", "unicrux.conf"))
	}
	p.must("holder", "stop")
	p.wants(drift, "key-locked")
}

// TestDesktopKeepsThePassphrase lets a real secret service keep it: nobody is asked any more,
// not even in the morning.
func TestDesktopKeepsThePassphrase(t *testing.T) {
	t.Parallel()
	p := lockedAway(t)
	need(t, "gnome-keyring-daemon")
	script := "set -e\n" + desktop.Start + `
"$U" key load forge_ed25519 --keep-passphrase --passphrase-from "$HOME/passphrase"
"$U" holder stop
git ls-remote "$URL" >/dev/null && echo "in the morning: open"
"$U" check "$URL" | tail -n 1
"$U" holder stop
"$U" undo
git ls-remote "$URL" >/dev/null 2>&1 || echo "after undo: locked"
"$U" key load forge_ed25519 --no-input || echo "asks again: $?"
"$U" key load forge_ed25519 --keep-passphrase --passphrase-from "$HOME/passphrase" --quiet
printf 'nine tides' >"$HOME/nine"
"$U" key passphrase forge_ed25519 --passphrase-from "$HOME/passphrase" --new-passphrase-from "$HOME/nine" --quiet
"$U" holder stop --quiet
"$U" key load forge_ed25519 --no-input && echo "by the new one"
"$U" key unload forge_ed25519 --forget-passphrase
`
	p.extra = append(p.extra, "U="+program, "URL="+drift)
	r := p.run("", need(t, "dbus-run-session"), "--", "sh", "-c", script)
	for _, want := range []string{"The desktop keeps its", "in the morning: open", "Open. You can",
		"after undo: locked", "asks again: 4", "by the new one",
		"The desktop no longer keeps its passphrase."} {
		if !strings.Contains(r.out, want) {
			t.Errorf("no %q: %s", want, r)
		}
	}
}
