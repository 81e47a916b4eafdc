// Package acceptance tests the built program as people meet it: in a home of its own,
// with the real git and ssh, against the practice host and real servers.
package acceptance

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"anchorage.example/unicrux/agreement"
	_ "anchorage.example/unicrux/atonce" // the built program is made of both: a change there must run these tests anew
	_ "anchorage.example/unicrux/cli"
	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/demo"
	"anchorage.example/unicrux/fixture/contract"
	"anchorage.example/unicrux/render/document"
	"anchorage.example/unicrux/standin"
)

// program is the built Unicrux.
var program string

func TestMain(m *testing.M) {
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "unicrux-acceptance-")
		if err != nil {
			panic(err)
		}
		defer os.RemoveAll(dir)
		program = filepath.Join(dir, "unicrux")
		// A passphrase takes a second to try, on purpose, and is tried hundreds of times here.
		if err := buildWith("easypassphrase", program); err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		before := ownKnownHosts()
		status := m.Run()
		if after := ownKnownHosts(); after != before {
			fmt.Fprintf(os.Stderr, "a test changed the known hosts of whoever runs it:\n%s\n", after)
			status = 1
		}
		if file := os.Getenv("UNICRUX_SCENES"); file != "" {
			if err := showGallery(file); err != nil {
				panic(err)
			}
		}
		return status
	}())
}

// buildWith builds Unicrux with build tags, which may be none.
func buildWith(tags, path string) error {
	build := exec.Command("go", "build", "-tags", tags, "-o", path, "anchorage.example/unicrux")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

// shipped is the program as people have it.
var shipped = sync.OnceValues(func() (string, error) {
	path := filepath.Join(filepath.Dir(program), "shipped")
	return path, buildWith("", path)
})

// ownKnownHosts is what is stored in the real home, which ssh looks into whatever $HOME says.
func ownKnownHosts() string {
	who, err := user.Current()
	if err != nil {
		panic(err)
	}
	text, err := os.ReadFile(filepath.Join(who.HomeDir, ".ssh", "known_hosts"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		panic(err)
	}
	return string(text)
}

// loginUser is who runs the tests: a real sshd lets in nobody else.
func loginUser(t testing.TB) *user.User {
	t.Helper()
	who, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	return who
}

// need looks for a program that a test cannot do without. In CI it must be there.
func need(t testing.TB, name string) string {
	t.Helper()
	for _, candidate := range []string{name, "/usr/sbin/" + name, "/usr/local/sbin/" + name} {
		if path, err := exec.LookPath(candidate); err == nil {
			return path
		}
	}
	if os.Getenv("CI") != "" {
		t.Fatalf("%s is not installed, and CI must have it", name)
	}
	t.Skipf("%s is not installed", name)
	return ""
}

// A person has a home and nothing in it.
type person struct {
	t       testing.TB
	home    string
	folder  string // current folder
	host    *standin.Host
	extra   []string // environment
	without []string // names of variables that are not set

	host127 *person // whose home a server of ours has, at a host that nobody has described

	took       time.Duration // by the last check
	stopServer func()        // of the sshd that was started last
}

func newPerson(t testing.TB) *person {
	t.Helper()
	home := t.TempDir()
	p := &person{t: t, home: home, folder: home}
	t.Cleanup(func() {
		if p.exists(".local", "state", "unicrux", "run") {
			p.unicrux("holder", "stop")
		}
	})
	return p
}

// beside is a person and a running practice host, which nobody has described yet.
func beside(t testing.TB, name string) *person {
	t.Helper()
	p := newPerson(t)
	host, err := demo.Serve(name, standin.Options{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := host.Close(); err != nil {
			t.Error(err)
		}
	})
	p.host = host
	return p
}

// at is a person beside a practice host that is described already.
func at(t testing.TB, name string) *person {
	t.Helper()
	p := beside(t, name)
	p.must("host", "add", p.host.DescriptionFile())
	return p
}

// withHost is a person beside a running practice host that is described already.
func withHost(t testing.TB) *person { return at(t, "forge") }

// settled is a person for whom everything is ready: key, trust, registration.
func settled(t testing.TB) *person {
	t.Helper()
	p := withHost(t)
	p.must("key", "new", "--host", "forge", "--no-passphrase")
	p.must("host", "trust", "forge")
	p.must("key", "register", "forge_ed25519", "forge", "--token-from", p.host.TokenFile())
	return p
}

func (p *person) path(parts ...string) string {
	return filepath.Join(append([]string{p.home}, parts...)...)
}

func (p *person) environ() []string {
	return slices.DeleteFunc(append([]string{"PATH=" + os.Getenv("PATH"), "HOME=" + p.home, "LC_ALL=C",
		"GIT_CONFIG_NOSYSTEM=1", "GIT_TERMINAL_PROMPT=0", "UNICRUX_MACHINE=" + p.path(".machine"),
		"GIT_SSH_COMMAND=ssh -F " + p.path(".ssh", "config") + " -o BatchMode=yes",
		"GIT_AUTHOR_NAME=Ines Marlow", "GIT_AUTHOR_EMAIL=ines.marlow@tidewater.example",
		"GIT_COMMITTER_NAME=Ines Marlow", "GIT_COMMITTER_EMAIL=ines.marlow@tidewater.example"}, p.extra...),
		func(entry string) bool {
			name, _, _ := strings.Cut(entry, "=")
			return slices.Contains(p.without, name)
		})
}

// changes is the record as it is told.
func (p *person) changes() []document.Change {
	p.t.Helper()
	var record document.Changes
	r := p.must("changes", "--json")
	if err := json.Unmarshal([]byte(r.out), &record); err != nil {
		p.t.Fatalf("changes: %v: %s", err, r)
	}
	return record.Changes
}

// A result is what a command left behind.
type result struct {
	out, err string
	exit     int
}

func (r result) String() string {
	return fmt.Sprintf("exit %d\n--- stdout\n%s--- stderr\n%s", r.exit, r.out, r.err)
}

func (p *person) run(input, name string, args ...string) result {
	p.t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Dir, cmd.Env, cmd.Stdin = p.folder, p.environ(), strings.NewReader(input)
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		p.t.Fatalf("%s %s: %v", name, args, err)
	}
	r := result{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
	if name == program && slices.Contains(args, "--json") {
		if err := contract.Broken(out.Bytes()); err != nil {
			p.t.Errorf("unicrux %s breaks the contract: %v\n%s", strings.Join(args, " "), err, r)
		}
	}
	return r
}

func (p *person) unicrux(args ...string) result {
	p.t.Helper()
	return p.run("", program, args...)
}

// must runs a command of ours that has to succeed.
func (p *person) must(args ...string) result {
	p.t.Helper()
	r := p.unicrux(args...)
	if r.exit != 0 {
		p.t.Fatalf("unicrux %s: %s", strings.Join(args, " "), r)
	}
	return r
}

func (p *person) git(args ...string) result {
	p.t.Helper()
	return p.run("", "git", args...)
}

func (p *person) mustGit(args ...string) result {
	p.t.Helper()
	r := p.git(args...)
	if r.exit != 0 {
		p.t.Fatalf("git %s: %s", strings.Join(args, " "), r)
	}
	return r
}

// readIfThere is [person.read] of a file that need not be there.
func (p *person) readIfThere(parts ...string) string {
	p.t.Helper()
	if !p.exists(parts...) {
		return ""
	}
	return p.read(parts...)
}

func (p *person) read(parts ...string) string {
	p.t.Helper()
	text, err := os.ReadFile(p.path(parts...))
	if err != nil {
		p.t.Fatal(err)
	}
	return string(text)
}

func (p *person) write(text string, parts ...string) {
	p.t.Helper()
	path := p.path(parts...)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		p.t.Fatal(err)
	}
	if err := agreement.WriteProgram(path, []byte(text), 0o600); err != nil { // it may be a script
		p.t.Fatal(err)
	}
}

// edit replaces text in a file of the home; it must be there.
func (p *person) edit(old, new string, parts ...string) {
	p.t.Helper()
	before := p.read(parts...)
	if !strings.Contains(before, old) {
		p.t.Fatalf("%s has no %q:\n%s", filepath.Join(parts...), old, before)
	}
	p.write(strings.Replace(before, old, new, 1), parts...)
}

// A checked is the document of "check --json", in the shape that the contract promises.
type checked struct {
	Schema   string
	Question struct {
		URL, Transport, Purpose string
		Remote                  *string
	}
	Open    bool
	Account *string
	Crux    *struct {
		Code, Stage, Summary, Certainty string
		Evidence                        []string
		Seen                            []struct{ Name, Value, Origin string }
	}
	Stages []struct {
		Name, State  string
		Milliseconds *float64
		Facts        []struct{ Name, Value, Origin string }
	}
	Notes []struct{ Code, Summary string }
	Mends []struct {
		Summary   string
		Command   []string
		By        string
		Automatic *bool
	}
}

func (p *person) check(args ...string) checked {
	p.t.Helper()
	start := time.Now()
	r := p.unicrux(append([]string{"check", "--json"}, args...)...)
	p.took = time.Since(start)
	var c checked
	decoder := json.NewDecoder(strings.NewReader(r.out))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&c); err != nil || decoder.More() || c.Schema != "unicrux.check/1" {
		p.t.Fatalf("check %s: not one document of the contract (%v): %s", strings.Join(args, " "), err, r)
	}
	if want := map[bool]int{true: 0, false: 1}[c.Open]; r.exit != want || (c.Crux == nil) != c.Open {
		p.t.Fatalf("check %s: open is %v: %s", strings.Join(args, " "), c.Open, r)
	}
	return c
}

// stageOf is the stage of a code; empty for one that is not in the catalogue.
func stageOf(code string) causes.StageName {
	found, _ := causes.Find(code)
	return causes.StageOf(found)
}

// freePort is a port on which nothing listens.
func freePort(t testing.TB) int {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	return listener.Addr().(*net.TCPAddr).Port
}

// eventually waits for something that another process does.
func eventually(t testing.TB, what string, happened func() bool) {
	t.Helper()
	for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); <-time.After(2 * time.Millisecond) {
		if happened() {
			return
		}
	}
	t.Fatalf("in vain waited for %s", what)
}
