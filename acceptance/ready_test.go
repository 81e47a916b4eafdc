package acceptance

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
)

// readyArgs is the one command from nothing to a clone.
func (p *person) readyArgs(more ...string) []string {
	return append([]string{"ready", drift, "--no-passphrase", "--token-from", p.host.TokenFile()}, more...)
}

func TestReadyFromNothing(t *testing.T) {
	t.Parallel()
	p := withHost(t)
	r := p.must(p.readyArgs("--for", "push")...)
	for _, words := range []string{"What I am going to do:", "Make a key for forge.", "Clone into ~/drift-model.",
		"Open. You can push", "Cloned into ~/drift-model."} {
		if !strings.Contains(r.out, words) {
			t.Errorf("it does not say %q: %s", words, r)
		}
	}
	if strings.Index(r.out, "Clone into") > strings.Index(r.out, "Made the key") {
		t.Errorf("the plan does not come first: %s", r)
	}
	p.folder = p.path("drift-model")
	p.write("changed\n", "drift-model", "drift.csv")
	p.mustGit("commit", "--quiet", "--all", "--message", "Try")
	p.mustGit("push", "--quiet")

	p.folder = p.home
	before := p.everything()
	if r := p.must(p.readyArgs()...); !strings.Contains(r.out, "Open.") || !strings.Contains(r.out, "there already") ||
		p.everything() != before {
		t.Errorf("the second time: %s", r)
	}
	if r := p.must("ready", "https://forge.tidewater.example/buoys/tide-tables.git", "--by", "ssh",
		"--into", "by-ssh"); !p.exists("by-ssh", "README.md") {
		t.Errorf("an https clone URL: %s", r)
	}
	if r := p.must("ready", lamp, "--into", "elsewhere"); !p.exists("elsewhere", "README.md") {
		t.Errorf("--into: %s", r)
	}
	if r := p.unicrux("ready", lamp, "--into", "drift-model"); r.exit != 1 ||
		!strings.Contains(r.err, "not a clone of this repository") {
		t.Errorf("a folder in the way: %s", r)
	}
	if r := p.unicrux("ready", lamp, "--for", "push", "--into", "third"); r.exit != 1 || p.exists("third") ||
		!strings.Contains(r.out, "To send to the owner or administrator:") {
		t.Errorf("where somebody else is needed: %s", r)
	}
	var document struct {
		Schema string
		Open   bool
		Cloned bool
		Check  struct{ Schema string }
	}
	r = p.must("ready", "git@forge.tidewater.example:buoys/tide-tables.git", "--json")
	if err := json.Unmarshal([]byte(r.out), &document); err != nil || document.Schema != "unicrux.ready/1" ||
		!document.Open || !document.Cloned || document.Check.Schema != "unicrux.check/1" {
		t.Errorf("as a document: %v: %s", err, r)
	}
}

func TestReadyForAHostAlone(t *testing.T) {
	t.Parallel()
	p := withHost(t)
	r := p.must("ready", "forge", "--no-passphrase", "--token-from", p.host.TokenFile())
	if !strings.Contains(r.out, "You can sign in at forge as ines.marlow.") {
		t.Errorf("%s", r)
	}
	if c := p.check("forge"); !c.Open || c.Stages[5].State != "skipped" || c.Stages[6].State != "skipped" {
		t.Errorf("check of a host: %+v", c)
	}
}

func TestReadyDryRun(t *testing.T) {
	t.Parallel()
	p := withHost(t)
	before := p.everything()
	r := p.must(p.readyArgs("--dry-run")...)
	if !strings.Contains(r.out, "+    IdentityFile") || !strings.Contains(r.out, "+[127.0.0.1]:") ||
		p.everything() != before || len(p.changes()) != 1 {
		t.Errorf("%s", r)
	}
}

// TestReadyAsksOnce answers one question, the passphrase, on a terminal.
func TestReadyAsksOnce(t *testing.T) {
	t.Parallel()
	p := withHost(t)
	p.agent()
	r := p.onTerminal([]string{"seven tides\n", "seven tides\n"}, "ready", drift, "--token-from", p.host.TokenFile())
	if r.exit != 0 || strings.Count(r.out, "): ") != 1 || !strings.Contains(r.out, "The holder keeps it") ||
		!p.exists("drift-model", "drift.csv") {
		t.Errorf("%s", r)
	}
}

// TestReadyHolds clones with a locked key, whose passphrase is asked once, and which is held
// from then on.
func TestReadyHolds(t *testing.T) {
	t.Parallel()
	p := withHost(t)
	p.extra = append(p.extra, "TMPDIR="+p.path("tmp"))
	if err := os.Mkdir(p.path("tmp"), 0o700); err != nil {
		t.Fatal(err)
	}
	p.write("seven tides\n", "passphrase")
	r := p.must("ready", drift, "--passphrase-from", p.path("passphrase"), "--token-from", p.host.TokenFile())
	if !p.exists("drift-model", "drift.csv") || !strings.Contains(r.out, "The holder keeps it") {
		t.Errorf("%s", r)
	}
	if left, err := os.ReadDir(p.path("tmp")); err != nil || len(left) > 0 {
		t.Errorf("left behind: %v, %v", left, err)
	}
	p.wants(drift, "")
	p.must("holder", "stop")
	p.wants(drift, "key-locked")

	p.remove(".ssh", "unicrux.conf") // as if the key had been settled by hand
	p.must("host", "add", p.host.DescriptionFile())
	p.must("host", "set", "forge", "key=forge_ed25519")
	if r := p.must("check", drift, "--passphrase-from", p.path("passphrase")); !strings.Contains(r.out,
		"git will ask for its passphrase") {
		t.Errorf("%s", r)
	}
	if r := p.must("ready", drift, "--into", "again", "--passphrase-from",
		p.path("passphrase")); !strings.Contains(r.out, "The holder keeps forge_ed25519 unlocked") {
		t.Errorf("%s", r)
	}
	p.wants(drift, "")
}

func TestReadyForAnotherAccount(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.labKey()
	if c := p.check("--as", "lab", "forge"); c.Open || c.Crux.Code != "key-other-account" {
		t.Fatalf("the crux is %+v", c.Crux)
	}
	r := p.must("ready", drift, "--as", "lab")
	if !strings.Contains(r.out, "as lab.") {
		t.Errorf("%s", r)
	}
}

// TestTwoReadyAtOnce end with one key and one registration.
func TestTwoReadyAtOnce(t *testing.T) {
	t.Parallel()
	p := withHost(t)
	var group sync.WaitGroup
	results := make([]result, 2)
	for i := range results {
		group.Go(func() { results[i] = p.unicrux(p.readyArgs()...) })
	}
	group.Wait()
	for _, r := range results {
		if r.exit != 0 || !strings.Contains(r.out, "Open.") {
			t.Errorf("%s", r)
		}
	}
	keys, err := filepath.Glob(p.path(".ssh", "*.pub"))
	if err != nil || len(keys) != 1 {
		t.Errorf("keys %v, %v", keys, err)
	}
}

// TestKilledAtRandom kills 100 times ready and 100 times undo at any instant: each file is whole then, the next
// run says what it tidied up, and finishes.
func TestKilledAtRandom(t *testing.T) {
	t.Parallel()
	const workers, rounds = 2, 25
	host := withHost(t).host
	var told sync.Map
	t.Run("workers", func(t *testing.T) {
		for worker := range workers {
			t.Run(fmt.Sprint(worker), func(t *testing.T) {
				t.Parallel()
				random := rand.New(rand.NewPCG(uint64(worker), 11))
				for round := range rounds {
					p := newPerson(t)
					p.host = host
					p.must("host", "add", host.DescriptionFile())
					p.killDuring(random, 350*time.Millisecond, p.readyArgs()...)
					p.whole()
					r := p.must(p.readyArgs()...)
					if strings.Contains(r.err, "cut short") {
						told.Store(fmt.Sprint(worker, round), true)
					}
					if !p.exists("drift-model", "drift.csv") {
						t.Fatalf("the further run did not finish: %s", r)
					}
					p.killDuring(random, 60*time.Millisecond, "undo", "--token-from", host.TokenFile())
					p.whole()
					for len(p.standing()) > 0 {
						p.must("undo", "--token-from", host.TokenFile())
					}
					if p.exists(".ssh") || p.exists(".config", "unicrux", "hosts") {
						t.Fatalf("after the undo of everything something is left:\n%s", p.everything())
					}
				}
			})
		}
	})
	count := 0
	told.Range(func(any, any) bool { count++; return true })
	t.Logf("%d of %d runs told that an earlier one was cut short in the middle of a step", count, workers*rounds)
}

// killDuring starts a command of ours and kills it and its children at a random moment.
func (p *person) killDuring(random *rand.Rand, within time.Duration, args ...string) {
	p.t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Env = p.folder, p.environ()
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := cmd.Start(); err != nil {
		p.t.Fatal(err)
	}
	time.AfterFunc(time.Duration(random.Int64N(int64(within))),
		func() { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) })
	_ = cmd.Wait()
}

// whole makes sure that no file of the home is half of what it should be.
func (p *person) whole() {
	p.t.Helper()
	records, err := filepath.Glob(p.statePath("changes", "*.json"))
	if err != nil {
		p.t.Fatal(err)
	}
	for _, path := range records {
		text, err := os.ReadFile(path)
		if err != nil || !json.Valid(text) {
			p.t.Errorf("%s: %v: %q", path, err, text)
		}
	}
	for _, name := range []string{"config", "unicrux.conf", "known_hosts", "forge_ed25519.pub"} {
		text, err := os.ReadFile(p.path(".ssh", name))
		if err == nil && (len(text) == 0 || text[len(text)-1] != '\n') {
			p.t.Errorf("%s is cut: %q", name, text)
		}
	}
	if text, err := os.ReadFile(p.path(".ssh", "forge_ed25519")); err == nil {
		var locked *ssh.PassphraseMissingError
		if _, err := ssh.ParsePrivateKey(text); err != nil && !errors.As(err, &locked) {
			p.t.Errorf("the key is cut: %v", err)
		}
	}
	if p.exists(".ssh", "config") {
		if r := p.run("", "ssh", "-G", "-F", p.path(".ssh", "config"), "forge.tidewater.example"); r.exit != 0 {
			p.t.Errorf("ssh refuses its configuration: %s", r)
		}
	}
}

// standing lists the changes that were not taken back.
func (p *person) standing() []int {
	p.t.Helper()
	var numbers []int
	for _, change := range p.changes() {
		if change.Undone == nil {
			numbers = append(numbers, change.Change)
		}
	}
	return numbers
}

func TestUndoRefusesAnEditedFile(t *testing.T) {
	t.Parallel()
	p := settled(t)
	whole := p.read(".ssh", "known_hosts")
	p.write(strings.Replace(whole, "ssh-ed25519", "ecdsa-sha2-nistp256", 1), ".ssh", "known_hosts")
	before := p.everything()
	r := p.unicrux("undo", "3")
	if r.exit != 1 || !strings.Contains(r.err, "+[127.0.0.1]:") || !strings.Contains(r.err, "was edited since") ||
		p.everything() != before {
		t.Errorf("%s", r)
	}
	p.write("# mine\n"+whole+"# mine too\n", ".ssh", "known_hosts") // our lines are there: they are taken out
	p.must("undo", "3")
	if now := p.read(".ssh", "known_hosts"); now != "# mine\n# mine too\n" {
		t.Errorf("without our lines: %q", now)
	}
	r = p.unicrux("undo", "1")
	if r.exit != 1 || !strings.Contains(r.err, "unicrux undo 2") {
		t.Errorf("edited by a later change: %s", r)
	}
	if r := p.unicrux("undo", "99"); r.exit != 1 || !strings.Contains(r.err, "no such change") {
		t.Errorf("%s", r)
	}
	if r := p.unicrux("undo", "first"); r.exit != 1 || !strings.Contains(r.err, "no host of that name") {
		t.Errorf("%s", r)
	}
}

func TestRegisterByHand(t *testing.T) {
	t.Parallel()
	p := withHost(t)
	p.must("key", "new", "--host", "forge", "--no-passphrase")
	p.must("host", "trust", "forge")
	if r := p.unicrux("key", "register", "forge_ed25519", "forge", "--by-hand", "--wait", "0s"); r.exit != 1 ||
		!strings.Contains(r.err, p.read(".ssh", "forge_ed25519.pub")) {
		t.Errorf("before anybody pasted it: %s", r)
	}
	cmd := exec.Command(program, "key", "register", "forge_ed25519", "forge", "--by-hand", "--copy")
	cmd.Env = p.environ()
	var out strings.Builder
	cmd.Stdout = &out
	errOut, err := cmd.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	var shown strings.Builder
	buffer := make([]byte, 4096)
	for !strings.Contains(shown.String(), "Waiting") {
		n, err := errOut.Read(buffer)
		if err != nil {
			t.Fatalf("%v: %s", err, shown.String())
		}
		shown.Write(buffer[:n])
	}
	if strings.Contains(shown.String(), "\x1b]52;c;") ||
		!strings.Contains(shown.String(), "no terminal to copy through") {
		t.Errorf("the clipboard's words go where no terminal is: %q", shown.String())
	}
	for line := range strings.Lines(shown.String()) { // the line is there as it is, on a line of its own
		if public, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line)); err == nil {
			if _, err := p.host.Register("ines.marlow", "pasted", public); err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := cmd.Wait(); err != nil || !strings.Contains(out.String(), "the host greets you as ines.marlow") {
		t.Errorf("%v: %s", err, out.String())
	}
}

func TestHostSetAndDrop(t *testing.T) {
	t.Parallel()
	p := withHost(t)
	p.must("key", "new", "mine", "--no-passphrase")
	start := p.everything()
	for range 2 {
		p.must("host", "set", "forge", "key=mine", "port=2222", "user=other", "address=127.0.0.2")
	}
	r := p.run("", "ssh", "-G", "-F", p.path(".ssh", "config"), "forge.tidewater.example")
	for _, line := range []string{"port 2222", "user other", "hostname 127.0.0.2",
		"identityfile " + p.path(".ssh", "mine")} {
		if !strings.Contains(r.out, line+"\n") {
			t.Errorf("ssh does not say %q: %s", line, r.out)
		}
	}
	if n := len(p.changes()); n != 3 {
		t.Errorf("%d changes, want 3: the second time changes nothing", n)
	}
	p.must("undo")
	if p.everything() != start {
		t.Error("the undo does not bring everything back")
	}
	if r := p.must("host", "set", "jump", "port=2022"); !strings.Contains(r.out, "not described here") ||
		!strings.Contains(p.read(".ssh", "unicrux.conf"), "Host jump\n    Port 2022\n") {
		t.Errorf("a host that is not described: %s", r)
	}
	p.must("undo")
	for _, bad := range []string{"port=x", "port=70000", "key=nowhere", "user=a\nProxyCommand x",
		"address=-oProxyCommand", "colour=red", "key"} {
		if r := p.unicrux("host", "set", "forge", bad); r.exit != 2 || p.everything() != start {
			t.Errorf("%q: %s", bad, r)
		}
	}
	for range 2 {
		p.must("host", "drop", "forge.tidewater.example")
	}
	if strings.Contains(p.readIfThere(".ssh", "unicrux.conf"), "Host forge") ||
		p.exists(".config", "unicrux", "hosts", "forge.toml") {
		t.Error("the host is still known")
	}
	p.must("undo")
	if p.everything() != start {
		t.Error("the undo does not bring the host back")
	}
}
