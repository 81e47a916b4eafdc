package acceptance

import (
	"crypto/ed25519"
	"encoding/pem"
	"fmt"
	"math"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
	sshknown "golang.org/x/crypto/ssh/knownhosts"
)

// A growing command, and what makes its work n times as much.
type growing struct {
	what   string
	n      int // ten times as much is done as well
	before func(p *person, n int)
	args   []string
	input  func(n int) string
	once   bool // it does its work the first time alone
}

var growings = []growing{
	{"check a refused port, n blocks in ssh's settings", 2000, hostBlocks,
		[]string{"check", "ssh://git@127.0.0.1:9/buoys/x.git"}, nil, false},
	{"look hosts, n blocks in ssh's settings", 500, hostBlocks, []string{"look", "hosts"}, nil, false},
	{"look hosts, n known hosts", 2000,
		knownLines(func(i int) string { return fmt.Sprintf("h%d.tidewater.example", i) }),
		[]string{"look", "hosts"}, nil, false},
	{"look hosts, n hashed known hosts", 2000, hashedHosts, []string{"look", "hosts"}, nil, false},
	{"check a refused port, n hashed known hosts", 2000, hashedHosts,
		[]string{"check", "ssh://git@127.0.0.1:9/buoys/x.git"}, nil, false},
	{"explain n lines", 50, func(*person, int) {}, []string{"explain"}, logLines, false},
	{"changes, n of them", 200, records, []string{"changes"}, nil, false},
	{"look, n changes", 200, records, []string{"look"}, nil, false},
	{"key list, n keys", 100, manyKeys, []string{"key", "list"}, nil, false},
	{"look, n keys", 100, manyKeys, []string{"look"}, nil, false},
	{"chest adopt, n stored secrets", 60, storedSecrets, []string{"chest", "adopt"}, nil, true},
	{"remote clean, n remotes", 60, secretRemotes, []string{"remote", "clean"}, nil, true},
}

// TestGrowth shows that what a command costs grows with the work, and not with its square. It counts the
// time of the processor, of which ten times the work may take a good deal more than ten times before the
// test fails: that leaves room for a machine that is busy. make growth is strict, and prints figures.
func TestGrowth(t *testing.T) { // not beside other tests
	// what takes less is a matter of chance on a busy machine
	most, least, file := 1.6, 20*time.Millisecond, os.Getenv("UNICRUX_GROWTH")
	if file != "" {
		most, least = 1.2, time.Millisecond
	}
	var report strings.Builder
	for _, g := range growings {
		t.Run(g.what, func(t *testing.T) {
			nothing, once, tenfold := g.cost(t, 0), g.cost(t, g.n), g.cost(t, 10*g.n)
			exponent := math.Log10(float64(tenfold-nothing) / float64(max(once-nothing, least)))
			if tenfold-nothing < 20*time.Millisecond { // too little to be told from chance
				exponent = 0
			}
			fmt.Fprintf(&report, "%-50s %6d %8v %8v  exponent %.2f\n", g.what, g.n, once.Round(time.Millisecond),
				tenfold.Round(time.Millisecond), exponent)
			if exponent > most {
				t.Errorf("without any %v, with %d %v, with %d %v: the exponent is %.2f", nothing, g.n, once, 10*g.n,
					tenfold, exponent)
			}
		})
	}
	if file != "" {
		if err := os.WriteFile(file, []byte(report.String()), 0o600); err != nil {
			t.Fatal(err)
		}
	}
}

// cost is the least time of the processor that one of five runs takes.
func (g growing) cost(t *testing.T, n int) time.Duration {
	t.Helper()
	runs := 5
	if g.once {
		runs = 1
	}
	p := newPerson(t)
	g.before(p, n)
	least := time.Hour
	for range runs {
		cmd := exec.Command(program, g.args...)
		cmd.Dir, cmd.Env = p.folder, p.environ()
		if g.input != nil {
			cmd.Stdin = strings.NewReader(g.input(n) +
				"fatal: Authentication failed for 'https://forge.tidewater.example/x.git'\n")
		}
		out, err := cmd.CombinedOutput()
		if cmd.ProcessState == nil || cmd.ProcessState.ExitCode() > 1 {
			t.Fatalf("%v: %s", err, out)
		}
		least = min(least, cmd.ProcessState.UserTime()+cmd.ProcessState.SystemTime())
	}
	return least
}

// lines writes a line for each number.
func lines(n int, line func(i int) string) string {
	var b strings.Builder
	for i := range n {
		b.WriteString(line(i))
	}
	return b.String()
}

func hostBlocks(p *person, n int) {
	p.write(fmt.Sprintf("UserKnownHostsFile %s\n", p.path(".ssh", "known_hosts"))+
		lines(n, func(i int) string {
			return fmt.Sprintf("Host h%d\n  HostName h%d.tidewater.example\n  User git\n\n", i, i)
		}), ".ssh", "config")
}

func knownLines(name func(i int) string) func(p *person, n int) {
	return func(p *person, n int) {
		hostBlocks(p, 3)
		p.must("key", "new", "some", "--no-passphrase")
		key := strings.Join(strings.Fields(p.must("key", "show", "some", "--line").out)[:2], " ")
		p.write(lines(n, func(i int) string { return name(i) + " " + key + "\n" }), ".ssh", "known_hosts")
	}
}

// hashedHosts are n names in known hosts, hashed.
func hashedHosts(p *person, n int) {
	knownLines(func(i int) string { return sshknown.HashHostname(fmt.Sprintf("h%d.tidewater.example", i)) })(p, n)
}

// manyKeys are n key pairs.
func manyKeys(p *person, n int) {
	for i := range n {
		public, private, err := ed25519.GenerateKey(nil)
		if err != nil {
			p.t.Fatal(err)
		}
		block, err := ssh.MarshalPrivateKey(private, "")
		if err != nil {
			p.t.Fatal(err)
		}
		key, err := ssh.NewPublicKey(public)
		if err != nil {
			p.t.Fatal(err)
		}
		name := fmt.Sprintf("key%d", i)
		p.write(string(pem.EncodeToMemory(block)), ".ssh", name)
		p.write(string(ssh.MarshalAuthorizedKey(key)), ".ssh", name+".pub")
	}
}

// storedSecrets are in the file of git's store helper, one for each of n hosts. The chest is open.
func storedSecrets(p *person, n int) {
	p.withChest().must("chest", "passphrase", "--new-passphrase-from", p.path("chest-words"))
	p.openChest()
	p.mustGit("config", "--global", "credential.helper", "store")
	p.write(lines(n, func(i int) string { return fmt.Sprintf("https://ines:tide_%d@h%d.tidewater.example\n", i, i) })+
		"# the end\n", ".git-credentials")
}

// secretRemotes are in the URLs of n remotes of one repository. The chest is open.
func secretRemotes(p *person, n int) {
	p.withChest().must("chest", "passphrase", "--new-passphrase-from", p.path("chest-words"))
	p.openChest()
	p.mustGit("init", "--quiet", "work")
	p.folder = p.path("work")
	text, err := os.ReadFile(p.path("work", ".git", "config"))
	if err != nil {
		p.t.Fatal(err)
	}
	p.write(string(text)+lines(n, func(i int) string {
		return fmt.Sprintf(
			"[remote \"r%d\"]\n\turl = https://ines:tide_%d@h%d.tidewater.example/buoys/x.git\n",
			i,
			i,
			i%7,
		)
	}), "work", ".git", "config")
}

func logLines(n int) string {
	return lines(n, func(i int) string {
		return fmt.Sprintf("[%d] building part %d, which has permission to fail\n", i, i*i)
	})
}

func records(p *person, n int) {
	for i := range n {
		p.write(
			fmt.Sprintf(
				`{"version":1,"id":%d,"when":"2026-11-28T10:00:00Z","words":"Settle how ssh reaches h%d.","steps":[{"words":"Settle.","done":true,"host":{"host":"h%d","act":"see-key","data":{"fingerprint":"SHA256:%d"}}}]}`,
				i+1,
				i,
				i,
				i,
			),
			".local",
			"state",
			"unicrux",
			"changes",
			fmt.Sprintf("%06d.json", i+1),
		)
	}
}
