package acceptance

import (
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
)

func TestWrongUse(t *testing.T) {
	t.Parallel()
	p := withHost(t)
	p.must("key", "new", "here", "--no-passphrase")
	for _, row := range []struct {
		args string
		exit int
		says string
	}{
		{"chekc", 2, "unicrux has no command “chekc”. Did you mean unicrux check?"},
		{"key forge", 2, "has no command “forge”"},
		{"key new a b", 2, "accepts only NAME, and got 2"},
		{"key new ../a", 2, "a key name may contain letters"},
		{"key new -x", 2, "unknown shorthand flag"},
		{"key new a.pub", 2, "must not end in .pub"},
		{"key new here --no-passphrase", 1, "exists already"},
		{"key new there", 4, "--passphrase-from FILE"},
		{"key new there --type dsa --no-passphrase", 2, "--type accepts ed25519, ecdsa or rsa, not"},
		{"key new there --type rsa --size 2048 --no-passphrase", 2, "3072 to 8192"},
		{"key new there --type ecdsa --size 512 --no-passphrase", 2, "256, 384 or 521"},
		{"key save here --format pem --out x", 2, "--format accepts"},
		{"key save here --format sec1 --out x --no-passphrase", 2, "not for keys of this type"},
		{"key save here --format openssh --out .ssh/here --no-passphrase", 1, "exists already"},
		{"key new there --no-passphrase --passphrase-from x", 2, "contradict each other"},
		{"key new there --passphrase-from nowhere", 3, "nowhere"},
		{"key new there --no-passphrase --host nohost", 1, "no host of that name"},
		{"key show none", 1, "no such key"},
		{"key show her", 1, "Did you mean here?"},
		{"host show fogre", 1, "Did you mean forge?"},
		{"host set forge prot=22", 2, "Did you mean port?"},
		{"log", 2, "Did you mean unicrux changes?"},
		{"key passphrase here.pub", 2, "public key"},
		{"key register here forge", 4, "--token-from"},
		{"key register here forge --token-from - --passphrase-from -", 2, "only one of"},
		{"key register here nohost", 1, "no host of that name"},
		{"key load here", 1, "no agent"},
		{"host add nowhere.toml", 3, "nowhere.toml"},
		{"host show nohost", 1, "no host of that name"},
		{"host trust nohost:port", 2, "a port is a number"},
		{"check a b c", 2, "and got 3 arguments"},
		{"check --for fetch forge", 2, "clone or push"},
		{"check ./.ssh", 2, "a folder on this computer"},
		{"check --timeout soon", 2, "--timeout accepts a time such as 45s, 10m or 8h"},
		{"check --by ftp forge", 2, "--by accepts ssh or https"},
		{"chest move", 2, "--to accepts sealed, desktop or memory"},
		{"token new forge --for all", 2, "--for accepts clone, push, packages, keys or repos"},
		{"practice serve --port x", 2, "--port accepts a whole number"},
	} {
		r := p.unicrux(strings.Fields(row.args)...)
		if r.exit != row.exit || !strings.Contains(r.err, row.says) || r.out != "" {
			t.Errorf("unicrux %s: want exit %d and %q: %s", row.args, row.exit, row.says, r)
		}
		if strings.Contains(r.err, "goroutine") || strings.Contains(r.err, "%!") {
			t.Errorf("unicrux %s: %s", row.args, r)
		}
		r = p.unicrux(append(strings.Fields(row.args), "--json")...)
		var document struct {
			Schema, Code, Message, Advice string
			Exit                          int
		}
		if err := json.Unmarshal([]byte(r.out), &document); err != nil || document.Schema != "unicrux.error/1" ||
			document.Exit != row.exit || document.Code == "" || r.err != "" {
			t.Errorf("unicrux %s --json: %v: %s", row.args, err, r)
		}
	}
}

// TestHelp: a group without a command shows its page, on a terminal and as a document; topics have pages as well.
func TestHelp(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	for _, args := range [][]string{{}, {"key"}, {"host", "account"}, {"help"}, {"help", "key", "new"},
		{"key", "new", "--help"},
		{"help", "exit-codes"}, {"help", "json"}} {
		if r := p.must(args...); !strings.HasPrefix(r.out, "\n  ") || strings.Contains(r.out, "Flags:") {
			t.Errorf("%s: %s", args, r)
		}
		var document struct {
			Schema, Use, About string
			Groups             []struct{ Head string }
		}
		r := p.must(append(args, "--json")...)
		if err := json.Unmarshal([]byte(r.out), &document); err != nil || document.Schema != "unicrux.help/1" ||
			document.About == "" || document.Groups == nil {
			t.Errorf("%s --json: %v: %s", args, err, r)
		}
	}
	for _, args := range [][]string{{"help", "nosuch"}, {"help", "key", "nosuch"}} {
		if r := p.unicrux(args...); r.exit != 2 || r.out != "" {
			t.Errorf("%s: %s", args, r)
		}
	}
}

// TestBadDescriptions names the line or the place of what is wrong, and changes nothing.
func TestBadDescriptions(t *testing.T) {
	t.Parallel()
	p := withHost(t)
	good, err := os.ReadFile(p.host.DescriptionFile())
	if err != nil {
		t.Fatal(err)
	}
	before := p.everything()
	for _, row := range []struct{ old, new, says string }{
		{"unicrux = 1", "unicrux = 2", "version 2 of the language"},
		{`name = "forge"`, `name = "../forge"`, "name: a short word"},
		{`user = "git"`, `usr = "git"`, "line 8: ssh.usr: a word that the language does not know"},
		{`host = "forge.tidewater.example"`, `host = "-oProxyCommand=x"`, "ssh.host"},
		{`host = "forge.tidewater.example"`, "host = \"a\\nProxyCommand x\"", "ssh.host"},
		{"https://", "http://", "interface.url"},
		{"me/keys/{id}", "https://elsewhere.example/{id}", "operations.remove-key.path"},
		{"[operations.who]", "[operations.whom]", "operations.whom"},
		{"= [", "= ]", "line"},
		{"(", "", "ssh.greeting"},
	} {
		text := strings.Replace(string(good), row.old, row.new, 1)
		if row.old == "= [" {
			text = "unicrux = [\n"
		}
		file := t.TempDir() + "/bad.toml"
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if r := p.unicrux("host", "add", file); r.exit != 1 || !strings.Contains(r.err, row.says) {
			t.Errorf("%s: want %q: %s", row.new, row.says, r)
		}
	}
	if after := p.everything(); after != before {
		t.Errorf("something changed:\n%s", after)
	}
}

// TestDryRunChangesNothing shows what every changing command would do.
func TestDryRunChangesNothing(t *testing.T) {
	t.Parallel()
	p := withHost(t)
	p.must("key", "new", "forge_ed25519", "--no-passphrase")
	before := p.everything()
	for _, row := range []struct{ args, says string }{
		{"key new --host forge other", "+    IdentityFile"},
		{"host trust forge", "+[127.0.0.1]:"},
		{"key register forge_ed25519 forge --token-from " + p.host.TokenFile(), "Register forge_ed25519 with forge"},
		{"host add " + p.host.DescriptionFile(), "Nothing would change."},
	} {
		r := p.must(append(strings.Fields(row.args), "--dry-run")...)
		if !strings.Contains(r.out, row.says) {
			t.Errorf("%s --dry-run does not say %q: %s", row.args, row.says, r)
		}
	}
	if after := p.everything(); after != before {
		t.Errorf("before:\n%s\nafter:\n%s", before, after)
	}
}

// TestWhatIsWritten looks at the files: modes, the comment, the one Include line.
func TestWhatIsWritten(t *testing.T) {
	t.Parallel()
	p := withHost(t)
	own := "# mine\nHost *\n\tServerAliveInterval  30\n"
	p.write(own, ".ssh", "config")
	for range 2 {
		p.must("host", "add", p.host.DescriptionFile())
	}
	text := p.read(".ssh", "config")
	if !strings.HasSuffix(text, own) || strings.Count(text, "Include") != 1 || !strings.HasPrefix(text, "# Per-host") {
		t.Errorf("config: %q", text)
	}
	p.must("key", "new", "--host", "forge", "--no-passphrase", "--comment", "the blue laptop")
	for name, mode := range map[string]fs.FileMode{"forge_ed25519": 0o600, "forge_ed25519.pub": 0o644,
		"unicrux.conf": 0o600} {
		info, err := os.Stat(p.path(".ssh", name))
		if err != nil || info.Mode().Perm() != mode {
			t.Errorf("%s: %v, %v; want %v", name, info.Mode(), err, mode)
		}
	}
	line := p.must("key", "show", "forge_ed25519", "--line").out
	if line != p.read(".ssh", "forge_ed25519.pub") || !strings.HasSuffix(line, " the blue laptop\n") ||
		strings.Count(line, "\n") != 1 {
		t.Errorf("the public line is %q", line)
	}
	if r := p.run("", "ssh", "-F", p.path(".ssh", "config"), "-G", "forge.tidewater.example"); !strings.Contains(r.out,
		"identityfile "+p.path(".ssh", "forge_ed25519")) {
		t.Errorf("ssh does not use the key: %s", r)
	}
}

// onTerminal runs a command on a terminal of its own, and types answers when asked.
func (p *person) onTerminal(answers []string, args ...string) result {
	p.t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Env = p.folder, append(p.environ(), "TERM=xterm-256color")
	terminal, err := pty.Start(cmd)
	if err != nil {
		p.t.Fatal(err)
	}
	defer terminal.Close()
	var seen strings.Builder
	buffer := make([]byte, 4096)
	for asked := 0; ; {
		n, err := terminal.Read(buffer)
		seen.Write(buffer[:n])
		if err != nil { // Linux says EIO when the other side is gone
			if !errors.Is(err, io.EOF) && !errors.Is(err, syscall.EIO) {
				p.t.Fatal(err)
			}
			break
		}
		questions := 0
		for _, end := range []string{"): ", "more: ", "Enter removes it."} {
			questions += strings.Count(seen.String(), end)
		}
		if asked < len(answers) && questions > asked {
			if _, err := io.WriteString(terminal, answers[asked]); err != nil {
				p.t.Fatal(err)
			}
			asked++
		}
	}
	_ = cmd.Wait()
	return result{out: seen.String(), exit: cmd.ProcessState.ExitCode()}
}

// A talk is a command on a terminal of its own, and somebody who reads and types.
type talk struct {
	p        *person
	cmd      *exec.Cmd
	terminal *os.File
	text     strings.Builder
	read     int // how much of the text was waited for already
}

func (p *person) talk(args ...string) *talk {
	p.t.Helper()
	t := &talk{p: p, cmd: exec.Command(program, args...)}
	t.cmd.Dir, t.cmd.Env = p.folder, append(p.environ(), "TERM=xterm-256color")
	var err error
	if t.terminal, err = pty.StartWithSize(t.cmd, &pty.Winsize{Rows: 40, Cols: 200}); err != nil {
		p.t.Fatal(err)
	}
	tired := time.AfterFunc(time.Minute, func() { // nobody waits for ever for words that do not come
		_, _ = io.WriteString(t.terminal, "\x03")
		_ = t.cmd.Process.Kill()
	})
	p.t.Cleanup(func() { tired.Stop() })
	return t
}

func (t *talk) seen() string { return t.text.String() }

// more reads on, and returns false where the command has ended.
func (t *talk) more() bool {
	buffer := make([]byte, 4096)
	n, err := t.terminal.Read(buffer)
	t.text.Write(buffer[:n])
	return err == nil
}

// answer waits until some words appear, and types.
func (t *talk) answer(words, typed string) {
	t.p.t.Helper()
	for {
		if at := strings.Index(t.seen()[t.read:], words); at >= 0 {
			t.read += at + len(words)
			break
		}
		if !t.more() {
			t.p.t.Fatalf("the command ended before it said %q:\n%s", words, t.seen())
		}
	}
	if _, err := io.WriteString(t.terminal, typed); err != nil {
		t.p.t.Fatal(err)
	}
}

// end waits for the end of the command.
func (t *talk) end() result {
	for t.more() {
	}
	_ = t.terminal.Close()
	_ = t.cmd.Wait()
	return result{out: t.seen(), exit: t.cmd.ProcessState.ExitCode()}
}

// TestPassphraseOnTheTerminal types it where ssh's own users would.
func TestPassphraseOnTheTerminal(t *testing.T) {
	t.Parallel()
	p := settled(t)
	r := p.onTerminal([]string{"seven tides\n", "seven tides\n"}, "key", "new", "typed")
	if r.exit != 0 || strings.Contains(r.out, "seven tides") || !strings.Contains(r.out, "fingerprint") {
		t.Fatalf("key new: %s", r)
	}
	if r := p.onTerminal([]string{"a\n", "b\n", "c\n", "c\n"}, "key", "new", "corrected"); r.exit != 0 ||
		!p.exists(".ssh", "corrected") {
		t.Errorf("two different ones, and then the same: %s", r)
	}
	if r := p.onTerminal([]string{"a\n", "b\n", "a\n", "b\n", "a\n", "b\n"}, "key", "new", "differs"); r.exit != 1 ||
		p.exists(".ssh", "differs") {
		t.Errorf("two different ones: %s", r)
	}
	if r := p.onTerminal([]string{"\n", "\n", "\n"}, "key", "new", "empty"); r.exit != 1 || p.exists(".ssh", "empty") {
		t.Errorf("an empty one: %s", r)
	}
	if r := p.onTerminal([]string{"\x03"}, "key", "new", "stopped"); r.exit != 5 || p.exists(".ssh", "stopped") {
		t.Errorf("stopped by Ctrl-C: %s", r)
	}
	if r := p.onTerminal(nil, "key", "new", "silent", "--no-input"); r.exit != 4 {
		t.Errorf("--no-input on a terminal: %s", r)
	}
	p.must("key", "register", "typed", "forge", "--token-from", p.host.TokenFile())
	if r := p.onTerminal([]string{"seven tides\n"}, "check", drift); r.exit != 0 ||
		!strings.Contains(r.out, "Open.") || !strings.Contains(r.out, "\x1b[") {
		t.Errorf("check asks for the passphrase: %s", r)
	}
	if r := p.onTerminal(nil, "check", "--plain", lamp, "--for", "push",
		"--no-input"); strings.Contains(r.out, "\x1b[") {
		t.Errorf("--plain has colours: %q", r.out)
	}
}

// TestVersion: other programs ask for it, in each of the usual ways.
func TestVersion(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	line := regexp.MustCompile(`^unicrux [0-9]+\.[0-9]+\.[0-9]+\S*, commit \w+, go\S+, \w+/\w+\n$`)
	for _, args := range [][]string{{"version"}, {"--version"}, {"version", "--plain"}} {
		if r := p.must(args...); !line.MatchString(r.out) || r.err != "" {
			t.Errorf("%v: %s", args, r)
		}
	}
	var document struct{ Schema, Version, Go, Platform string }
	if r := p.must("version", "--json"); json.Unmarshal([]byte(r.out), &document) != nil ||
		document.Schema != "unicrux.version/1" || !strings.Contains(p.must("version").out, document.Version) {
		t.Errorf("%s", r)
	}
	if r := p.unicrux("version", "tide"); r.exit != 2 {
		t.Errorf("%s", r)
	}
}
