package sshconfig

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"testing"

	"anchorage.example/unicrux/agreement"
)

// person is who runs the tests; the real client cannot be told to be somebody else.
func person(t testing.TB) Person {
	t.Helper()
	who, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	uid, _ := strconv.Atoi(who.Uid)
	computer, _ := os.Hostname()
	return Person{User: who.Username, UID: uid, Home: who.HomeDir, Computer: computer, Getenv: os.Getenv}
}

func resolveText(t testing.TB, text, host string) *Settings {
	t.Helper()
	path := filepath.Join(t.TempDir(), "config")
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return Resolve(Query{Host: host, Command: CommandLine{Config: path}, Person: person(t)})
}

func TestFirstValueWinsAndIdentitiesAddUp(t *testing.T) {
	s := resolveText(t, `
Host forge.* !forge.old.example
    Port 2222
    IdentityFile ~/.ssh/first
Host *
    Port = 22
    User "git"
    IdentityFile /keys/%h/second # a comment
`, "forge.tidewater.example")
	c := s.Client()
	if c.Port != 2222 || c.User != "git" || c.Origin("port").Line != 3 {
		t.Errorf("port %d at %v, user %q", c.Port, c.Origin("port"), c.User)
	}
	want := []string{filepath.Join(person(t).Home, ".ssh/first"), "/keys/forge.tidewater.example/second"}
	for i, identity := range c.Identities {
		if identity.Path != want[i] {
			t.Errorf("identity %d is %s, want %s", i, identity.Path, want[i])
		}
	}
}

// TestUnused tells what was written for a host and does not hold from what stands behind it by
// design.
// TestNoneIsNoTime: "ConnectTimeout none" says nothing, so that a later line wins.
func TestNoneIsNoTime(t *testing.T) {
	s := resolveText(t, "ConnectTimeout none\nConnectTimeout 7\nProxyJump none\nProxyJump lantern\n", "forge")
	if got, _, _ := s.First("connecttimeout"); got != "7" {
		t.Errorf("ConnectTimeout is %q", got)
	}
	if got, _, _ := s.First("proxyjump"); got != "none" {
		t.Errorf("ProxyJump is %q", got)
	}
}

func TestUnused(t *testing.T) {
	for name, row := range map[string]struct {
		text  string
		lines []int // that are not used
	}{
		"a default behind":        {"Host forge\n Port 22\nHost *\n Port 23\n", nil},
		"a default in front":      {"Port 23\nHost forge\n Port 22\n", []int{3}},
		"a pattern in front":      {"Host f*\n Port 23\nHost forge\n Port 22\n User git\n", []int{4}},
		"the same value":          {"Host f*\n Port 22\nHost forge\n Port 22\n", nil},
		"what adds up":            {"IdentityFile a\nHost forge\n IdentityFile b\n", nil},
		"another host's":          {"Port 23\nHost other\n Port 22\n", nil},
		"one of several names":    {"Port 23\nHost other forge\n Port 22\n", []int{3}},
		"a pattern for the host":  {"Port 23\nHost forg?\n Port 22\n", nil},
		"a Match line in between": {"Port 23\nHost forge\nMatch all\n Port 22\n", nil},
		"its own block again":     {"Host forge\n User a\nHost forge\n User b\n", []int{4}},
	} {
		var lines []int
		for _, value := range resolveText(t, row.text, "forge").Unused() {
			lines = append(lines, value.Origin.Line)
		}
		if !slices.Equal(lines, row.lines) {
			t.Errorf("%s: %v, want %v", name, lines, row.lines)
		}
	}
}

func TestProblemsKeepTheirLine(t *testing.T) {
	for _, row := range []struct {
		text string
		line int
		want error
	}{
		{"Host x\nProt 22\n", 2, ErrKeyword},
		{"Port\n", 1, ErrNoArgument},
		{"User \"git\n", 1, ErrQuote},
		{"Port 22 23\n", 1, ErrTooMany},
		{"Port ssh\n", 1, ErrArgument},
		{"Match weather wet\n", 1, ErrArgument},
		{"\ufeffPort 22\n", 1, ErrMark},
	} {
		s := resolveText(t, row.text, "x")
		if len(s.Problems) != 1 || !errors.Is(s.Problems[0].Err, row.want) || s.Problems[0].Origin.Line != row.line {
			t.Errorf("%q: %+v, want %v in line %d", row.text, s.Problems, row.want, row.line)
		}
	}
	if s := resolveText(t, "IgnoreUnknown Pro*\nProt 22\n", "x"); len(s.Problems) != 0 {
		t.Errorf("an ignored keyword is a problem: %+v", s.Problems)
	}
}

func TestMatchExecIsNotRun(t *testing.T) {
	mark := filepath.Join(t.TempDir(), "ran")
	s := resolveText(t, fmt.Sprintf("Match exec \"touch %s\"\n  Port 77\n", mark), "x")
	if _, err := os.Stat(mark); err == nil {
		t.Error("the command was run")
	}
	if len(s.Unknown) != 1 || s.Client().Port != 22 {
		t.Errorf("unknown %v, port %d", s.Unknown, s.Client().Port)
	}
}

// TestAFolderIsEmpty: the client opens a folder in the place of its settings, and reads nothing from it.
func TestAFolderIsEmpty(t *testing.T) {
	folder := t.TempDir()
	s := Resolve(Query{Host: "x", Command: CommandLine{Config: folder}, Person: person(t)})
	if len(s.Problems) > 0 || s.Client().Port != 22 {
		t.Errorf("%+v, port %d", s.Problems, s.Client().Port)
	}
	if out, err := exec.Command("ssh", "-G", "-F", folder, "x").CombinedOutput(); err != nil ||
		!strings.Contains(string(out), "port 22\n") {
		t.Errorf("the client: %v: %s", err, out)
	}
}

func TestIncludeIntoItselfEnds(t *testing.T) {
	path := filepath.Join(t.TempDir(), "config")
	if err := os.WriteFile(path, []byte("Include "+path+"\nPort 77\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	s := Resolve(Query{Host: "x", Command: CommandLine{Config: path}, Person: person(t)})
	if len(s.Problems) == 0 || !errors.Is(s.Problems[0].Err, ErrDepth) {
		t.Errorf("problems %+v, want ErrDepth", s.Problems)
	}
}

// generator writes configurations in the language's many spellings.
type generator struct {
	*rand.Rand
	dir   string
	count int
	every bool // lines of all keywords
}

func (g *generator) pick(words ...string) string { return words[g.IntN(len(words))] }

func (g *generator) config(depth int) string {
	var b strings.Builder
	for range 1 + g.IntN(9) {
		b.WriteString(g.line(depth))
		b.WriteString(g.pick("\n", "\n", "\n", "\r\n", "\n\n", " \n", "\x00 more\n"))
	}
	return b.String()
}

func (g *generator) line(depth int) string {
	switch g.IntN(12) {
	case 0, 1:
		return g.pick("Host", "host", "HOST", "Host=", " Host ") + " " + g.patterns()
	case 2:
		return "Match " + g.conditions()
	case 3:
		if depth > 2 {
			return "# deep enough"
		}
		g.count++
		path := filepath.Join(g.dir, "part"+strconv.Itoa(g.count))
		if err := os.WriteFile(path, []byte(g.config(depth+1)), 0o600); err != nil {
			panic(err)
		}
		return "Include " + g.pick(path, `"`+path+`"`, filepath.Join(g.dir, "part?"), filepath.Join(g.dir, "none*"))
	case 4:
		return g.pick("", "#", "# Port 1", "\t")
	}
	if g.every {
		return g.option()
	}
	sign := g.pick(" ", "\t", "=", " = ", "  ")
	return g.pick("", "  ", "\t") + g.pick(
		"Port"+sign+g.pick("22", "2222", "8022"),
		"User"+sign+g.pick("git", `"git"`, "'ines marlow'", "lab"),
		"HostName"+sign+g.pick("127.0.0.1", "%h.tidewater.example", "Forge.Example", "a%%b"),
		"IdentityFile"+sign+g.pick("~/.ssh/a", `"~/.ssh/b c"`, "/k/%h-%p-%r-%n-%u", "/k/${USERX}/%L", "none",
			`/k/d\ e`, "~/.ssh/a"),
		"IdentitiesOnly"+sign+g.pick("yes", "no", "true", "false"),
		"HostKeyAlias"+sign+g.pick("forge", "x-y"),
		"StrictHostKeyChecking"+sign+g.pick("yes", "no", "ask", "accept-new", "off"),
		"UserKnownHostsFile"+sign+g.pick("~/.ssh/kh", "/a /b", `"/a b" /c`, "none"),
		"GlobalKnownHostsFile"+sign+g.pick("/g", "/g /h"),
		"ProxyJump"+sign+g.pick("jump", "lab@jump:2222", "none", "one,two"),
		"ProxyCommand"+sign+g.pick("none", "nc %h %p", "ssh -W %h:%p jump"),
		"IdentityAgent"+sign+g.pick("none", "/run/agent", "SSH_AUTH_SOCK", "~/agent.sock"),
		"PubkeyAuthentication"+sign+g.pick("yes", "no"),
		"ServerAliveInterval"+sign+g.pick("30", "60"),
	) + g.pick("", "", "", " # why")
}

func (g *generator) patterns() string {
	words := make([]string, 1+g.IntN(3))
	for i := range words {
		words[i] = g.pick("forge", "*.example", "forge.tidewater.example", "!forge", "f*", "?orge", "*",
			"!*.saltmarsh.example", "lantern", `"forge"`)
	}
	return strings.Join(words, g.pick(" ", "\t", "  "))
}

func (g *generator) conditions() string {
	words := make([]string, 1+g.IntN(2))
	for i := range words {
		words[i] = g.pick("", "!") + g.pick("host", "originalhost") + g.pick(" ", "=") + g.pick("forge",
			"*.example,!forge*", "FORGE", "127.*")
		if g.IntN(3) == 0 {
			words[i] = g.pick("user git", "user root,git", "localuser nobody", "!localuser nobody", "final", "user=lab")
		}
	}
	if g.IntN(8) == 0 {
		return "all"
	}
	return strings.Join(words, " ")
}

// TestAgreesWithTheRealClient compares our resolution with what the installed client
// prints, over generated configurations with a fixed seed.
func TestAgreesWithTheRealClient(t *testing.T) {
	tally := agreement.Of(t, "ssh: its settings")
	for seed := range rounds() {
		dir := t.TempDir()
		g := &generator{Rand: rand.New(rand.NewPCG(uint64(seed), 7)), dir: dir}
		path := filepath.Join(dir, "config")
		text := g.config(0)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		host := g.pick("forge", "forge.tidewater.example", "git.saltmarsh.example", "Forge", "lantern")
		out, err := exec.Command("ssh", "-G", "-F", path, host).Output()
		s := Resolve(Query{Host: host, Command: CommandLine{Config: path}, Person: person(t)})
		tally.Case((err != nil) == (len(s.Problems) > 0), "seed %d, host %s: client refuses: %v, we: %+v\n%s", seed,
			host, err != nil, s.Problems, show(dir))
		if err == nil {
			compare(t, seed, host, dir, printed(string(out)), s.Client())
			compareTold(t, seed, host, dir, string(out), s.Client())
		}
	}
}

// rounds is how many configurations are compared: more of them by make fuzz.
func rounds() int {
	return agreement.Rounds(400)
}

func compare(t *testing.T, seed int, host, dir string, want map[string][]string, c *Client) {
	t.Helper()
	var identities []string
	for _, identity := range c.Identities {
		identities = append(identities, identity.Path)
	}
	p := person(t)
	var wanted []string
	for _, path := range want["identityfile"] {
		// The client prints these before replacing tokens; it names the files that it would try.
		if !strings.EqualFold(path, "none") {
			wanted = append(wanted, path)
		}
	}
	got := map[string]string{
		"hostname": c.HostName, "port": strconv.Itoa(c.Port), "user": c.User,
		"identitiesonly": yesNo(c.OnlyThose), "pubkeyauthentication": yesNo(c.KeySignIn),
	}
	for keyword, value := range got {
		if printed := strings.Join(want[keyword], " "); normal(printed) != normal(value) {
			t.Errorf("seed %d, host %s: %s is %q, the client says %q\n%s", seed, host, keyword, value,
				printed, show(dir))
		}
	}
	if jump := strings.Join(want["proxyjump"], " "); jump != c.ProxyJump {
		t.Errorf("seed %d: proxyjump %q, the client says %q\n%s", seed, c.ProxyJump, jump, show(dir))
	}
	if len(wanted) != len(identities) && !c.Identities[0].Default {
		t.Errorf("seed %d: identities %q, the client says %q\n%s", seed, identities, wanted, show(dir))
	}
	if files := strings.Join(want["userknownhostsfile"], " "); strings.ReplaceAll(files, "~",
		p.Home) != strings.Join(c.KnownHosts, " ") && !strings.EqualFold(files, "none") {
		t.Errorf("seed %d: known hosts %q, the client says %q\n%s", seed, c.KnownHosts, files, show(dir))
	}
	strict := map[string]string{"true": "yes", "false": "no", "ask": "ask",
		"accept-new": "accept-new"}[strings.Join(want["stricthostkeychecking"], "")]
	if strict != c.Strict {
		t.Errorf("seed %d: strict %q, the client says %q\n%s", seed, c.Strict, want["stricthostkeychecking"], show(dir))
	}
}

// compareTold settles the same once more from what the client prints.
func compareTold(t *testing.T, seed int, host, dir, out string, read *Client) {
	t.Helper()
	line, told := FromClient(out, "the client")
	again := Resolve(Query{Host: host, Command: line, Person: person(t)}).Client()
	// a comment behind it makes it a host for the client, and no word can say so
	if strings.EqualFold(read.ProxyJump, "none") {
		read.ProxyJump = ""
	}
	for _, c := range []*Client{read, again} {
		c.origins = nil
		c.KnownHosts = strings.Fields(strings.Join(c.KnownHosts, " ")) // the client prints them without quotes
		for i := range c.Identities {
			c.Identities[i].Origin, c.Identities[i].Default = Origin{}, false
		}
		for i := range c.CertFiles {
			c.CertFiles[i].Origin = Origin{}
		}
	}
	if !told || !reflect.DeepEqual(read, again) {
		t.Errorf("seed %d, host %s: from the files\n%+v\nfrom what the client says\n%+v\n%s%s", seed, host, read,
			again, out, show(dir))
	}
}

func normal(text string) string {
	return map[string]string{"true": "yes", "false": "no"}[text] + strings.TrimSuffix(strings.TrimSuffix(text,
		"true"), "false")
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// printed reads the client's own resolution: a keyword and its value on each line.
func printed(out string) map[string][]string {
	values := map[string][]string{}
	for line := range strings.Lines(out) {
		keyword, value, _ := strings.Cut(strings.TrimSpace(line), " ")
		values[keyword] = append(values[keyword], value)
	}
	return values
}

func show(dir string) string {
	var b strings.Builder
	paths, _ := filepath.Glob(filepath.Join(dir, "*"))
	slices.Sort(paths)
	for _, path := range paths {
		text, _ := os.ReadFile(path)
		fmt.Fprintf(&b, "--- %s\n%s", path, text)
	}
	return b.String()
}
