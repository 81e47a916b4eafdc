package acceptance

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"os/exec"

	"anchorage.example/unicrux/agreement"
	"anchorage.example/unicrux/demo"
	"anchorage.example/unicrux/render/document"
	"anchorage.example/unicrux/standin"
)

// TestJourney goes from an empty home to a pushed commit, each step by a command.
func TestJourney(t *testing.T) {
	t.Parallel()
	p := settled(t)
	if c := p.check("--for", "push", drift); !c.Open || c.Account == nil || *c.Account != "ines.marlow" {
		t.Fatalf("the way: %+v", c)
	}
	p.mustGit("clone", "--quiet", drift)
	p.folder = p.path("drift-model")
	p.write("changed\n", "drift-model", "drift.csv")
	p.mustGit("commit", "--quiet", "--all", "--message", "Correct the third hour")
	p.mustGit("push", "--quiet")
	here := strings.TrimSpace(p.mustGit("rev-parse", "HEAD").out)
	branches, err := p.host.Branches("buoys/drift-model")
	if err != nil || len(branches) != 1 || branches[0].Commit != here {
		t.Errorf("the host has %+v, %v; here is %s", branches, err, here)
	}
	// In the clone, without an argument: the remote and the purpose of a plain push.
	c := p.check()
	if !c.Open || c.Question.Purpose != "push" || c.Question.Remote == nil || *c.Question.Remote != "origin" ||
		c.Question.URL != "ssh://git@forge.tidewater.example/buoys/drift-model.git" {
		t.Errorf("a plain check asks %+v", c.Question)
	}
	for _, stage := range c.Stages {
		if stage.State != "open" || stage.Milliseconds == nil {
			t.Errorf("stage %+v", stage)
		}
	}
}

// TestCheckChangesNothing compares everything in the home and at the host.
func TestCheckChangesNothing(t *testing.T) {
	t.Parallel()
	p := settled(t)
	before := p.everything()
	for _, args := range [][]string{{drift}, {"--for", "push", drift}, {"--for", "push", lamp}, {minutes}, {"forge"},
		{"--verbose", drift}} {
		p.unicrux(append([]string{"check"}, args...)...)
	}
	if after := p.everything(); after != before {
		t.Errorf("before:\n%s\nafter:\n%s", before, after)
	}
}

// everything lists the files of the home with mode and content, and the host's branches.
func (p *person) everything() string {
	p.t.Helper()
	var b strings.Builder
	err := filepath.WalkDir(p.home, func(path string, entry os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if entry.IsDir() && (path == p.path(".local") || path == p.path("sshd")) { // the record itself, and a host's
			return filepath.SkipDir
		}
		if !entry.Type().IsRegular() {
			return nil
		}
		info, err := entry.Info()
		if err != nil {
			return err
		}
		text, err := os.ReadFile(path)
		b.WriteString(path + " " + info.Mode().String() + "\n" + string(text) + "\n")
		return err
	})
	if err != nil {
		p.t.Fatal(err)
	}
	if p.host == nil {
		return b.String()
	}
	branches, err := p.host.Branches("buoys/drift-model")
	if err != nil {
		p.t.Fatal(err)
	}
	for _, branch := range branches {
		b.WriteString(branch.Name + " " + branch.Commit + "\n")
	}
	return b.String()
}

func TestDemo(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	p.extra = append(p.extra, "TMPDIR="+p.home)
	r := p.unicrux("demo")
	if r.exit != 0 || !strings.Contains(r.out, "All of it worked.") {
		t.Fatalf("demo: %s", r)
	}
	left, err := os.ReadDir(p.home)
	if err != nil || len(left) > 0 {
		t.Errorf("left behind: %v, %v", left, err)
	}
	var document struct {
		Schema string
		Worked bool
		Steps  []struct{ Command []string }
	}
	r = p.unicrux("demo", "--json")
	if err := json.Unmarshal([]byte(r.out), &document); err != nil || document.Schema != "unicrux.demo/1" ||
		!document.Worked || len(document.Steps) < 7 {
		t.Errorf("demo --json: %v: %s", err, r)
	}
}

// TestPracticeServeEndsCleanly stops the practice host as a person does.
func TestPracticeServeEndsCleanly(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	cmd := exec.Command(program, "practice", "serve", "--json")
	cmd.Env = append(p.environ(), "TMPDIR="+p.home)
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	var practice document.Practice
	if err := json.NewDecoder(out).Decode(&practice); err != nil || len(practice.Hosts) != 3 {
		t.Fatalf("%+v, %v", practice, err)
	}
	for _, host := range practice.Hosts {
		p.must("host", "add", string(host.DescriptionPath))
	}
	if err := cmd.Process.Signal(syscall.SIGINT); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); err != nil {
		t.Errorf("stopped: %v", err)
	}
	if _, err := os.Stat(filepath.Dir(filepath.Dir(string(practice.Hosts[0].DescriptionPath)))); !os.IsNotExist(err) {
		t.Errorf("its folder is still there: %v", err)
	}
}

// TestSecretsStayInside looks for tokens, passphrases and private keys in everything that
// is printed and recorded.
func TestSecretsStayInside(t *testing.T) {
	t.Parallel()
	p := withHost(t)
	p.agent()
	const passphrase = "seven tides and a lantern"
	p.write(passphrase, "passphrase")
	token, err := os.ReadFile(p.host.TokenFile())
	if err != nil {
		t.Fatal(err)
	}
	var printed strings.Builder
	for _, args := range [][]string{
		{"key", "new", "--host", "forge", "--passphrase-from", p.path("passphrase"), "--verbose"},
		{"key", "list", "--json"}, {"key", "show", "forge_ed25519", "--json"},
		{"host", "trust", "forge", "--json"},
		{"key", "register", "forge_ed25519", "forge", "--token-from", p.host.TokenFile(), "--passphrase-from",
			p.path("passphrase"), "--dry-run", "--json"},
		{"key", "register", "forge_ed25519", "forge", "--token-from", p.host.TokenFile(), "--passphrase-from",
			p.path("passphrase"), "--verbose"},
		{"key", "register", "forge_ed25519", "forge", "--token-from", p.path("passphrase")},
		{"key", "load", "forge_ed25519", "--passphrase-from", p.path("passphrase"), "--json"},
		{"check", drift, "--json"}, {"check", drift, "--verbose"},
		{"check", "https://ines:" + passphrase + "@forge.tidewater.example/x"},
	} {
		printed.WriteString(p.unicrux(args...).String())
	}
	err = filepath.WalkDir(p.path(".local"), func(path string, entry os.DirEntry, err error) error {
		if err == nil && entry.Type().IsRegular() {
			printed.WriteString(p.read(strings.TrimPrefix(path, p.home)))
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	private := p.read(".ssh", "forge_ed25519")
	for _, secret := range []string{strings.TrimSpace(string(token)), passphrase, private[100:140]} {
		if trace := agreement.Trace(printed.String(), secret); trace != "" {
			t.Errorf("%q of a secret was printed or recorded", trace)
		}
	}
}

// TestHostsAreToldApart keeps two hosts from answering for each other.
func TestHostsAreToldApart(t *testing.T) {
	t.Parallel()
	p := withHost(t)
	other, err := demo.Serve("forge", standin.Options{})
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	text, err := os.ReadFile(other.DescriptionFile())
	if err != nil {
		t.Fatal(err)
	}
	p.write(strings.Replace(string(text), `name = "forge"`, `name = "forge-two"`, 1), "two.toml")
	if r := p.unicrux("host", "add", p.path("two.toml")); r.exit != 1 ||
		!strings.Contains(r.err, "is named by the description forge already") ||
		!strings.Contains(r.err, "unicrux host drop forge") {
		t.Errorf("the same host under two names: %s", r)
	}
	// Added again with other ports, the description takes the place of the first.
	if r := p.unicrux("host", "add", other.DescriptionFile()); r.exit != 4 || !strings.Contains(r.err, "+port = ") ||
		!strings.Contains(r.err, "New: Unicrux may send secrets to https://forge.tidewater.example:") {
		t.Errorf("replaced without asking: %s", r)
	}
	p.must("host", "add", other.DescriptionFile(), "--yes")
	p.must("host", "trust", "forge")
	if known := p.read(".ssh", "known_hosts"); !strings.Contains(known, "[127.0.0.1]:") ||
		strings.Count(known, "\n") != 1 {
		t.Errorf("known hosts: %q", known)
	}
}
