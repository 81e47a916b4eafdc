package acceptance

import (
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/causes"
)

// elsewhere names the tests in which a code's scene is played that the table cannot hold.
var elsewhere = map[string]string{
	"repository-none": "TestOutsideARepository", "program-missing": "TestWithoutSSH",
	"program-moved": "TestMovedProgram",
	"user-unlisted": "TestUnlistedUser", "author-missing": "TestWithoutAnAuthor",
	"other-user": "TestInAnotherHome", "keys-too-many": "TestTooManyKeys",
	"proxy-command-failed": "TestThroughAJumpHost",
	"jump-failed":          "TestThroughAJumpHost", "passphrase-wrong": "TestRealServer",
	"repository-not-git": "TestRealServer",
	"sign-in-other-way":  "TestOtherWaysToSignIn", "second-step-needed": "TestOtherWaysToSignIn",
	"algorithms-differ": "TestOtherWaysToSignIn",
	"key-no-passphrase": "TestNotes", "key-weak": "TestWeakKey", "passphrase-asked": "TestReadyHolds",
	"agent-refused": "TestAgentDeclines", "key-in-device": "TestKeyInADevice", "network-down": "TestWithoutANetwork",
	"key-kind-refused": "TestKindsOfKeys", "key-ended": "TestWordsOfAHost", "branch-unknown": "TestBeyond",
	"branch-protected": "TestBeyond",
	"account-blocked":  "TestWordsOfAHost", "host-limits": "TestWordsOfAHost", "host-failing": "TestWordsOfAHost",
	"certificate-ended": "TestUserCertificates", "certificate-not-yet": "TestUserCertificates",
	"certificate-other-user":        "TestUserCertificates",
	"certificate-authority-unknown": "TestUserCertificates", "host-certificate-ended": "TestHostCertificates",
	"host-certificate-not-yet":    "TestHostCertificates",
	"host-certificate-other-name": "TestHostCertificates", "ssh-program-unknown": "TestSSHPrograms",
	"no-shell":        "TestNoShell",
	"tls-weak":        "TestWeakCertificate",
	"firewall-here":   "TestFirewallHere",
	"token-ends-soon": "TestForesight", "token-elsewhere": "TestTokenFollowsItsHost",
}

func TestEveryCodeHasAScene(t *testing.T) {
	played := map[string]bool{}
	for _, s := range scenes {
		if played[s.code] {
			t.Errorf("%s is played twice", s.code)
		}
		played[s.code] = true
	}
	for _, s := range webScenes {
		played[s.code] = true
	}
	for _, s := range beyondScenes {
		played[s.code] = true
	}
	for _, code := range causes.Codes() {
		_, found := elsewhere[code.String()]
		if !played[code.String()] && !found {
			t.Errorf("%s is in the catalogue and has no scene", code)
		}
	}
}

func TestOutsideARepository(t *testing.T) {
	t.Parallel()
	p := settled(t)
	if r := p.git("push"); r.exit == 0 {
		t.Fatalf("the real client pushes from nowhere: %s", r)
	}
	if c := p.check(); c.Open || c.Crux.Code != "repository-none" {
		t.Errorf("the crux is %+v", c.Crux)
	}
	p.mustGit("clone", "--quiet", drift)
	p.folder = p.path("drift-model")
	p.mustGit("push", "--dry-run")
	if c := p.check(); !c.Open {
		t.Errorf("in the repository the crux is %+v", c.Crux)
	}
}

// TestProgramsThatDoNotFit has git take ssh for another program, and lack one of its own.
func TestProgramsThatDoNotFit(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.extra = append(p.extra, "GIT_SSH_VARIANT=simple")
	p.wants(fmt.Sprintf("ssh://git@forge.tidewater.example:%d/buoys/drift-model.git", p.host.SSHPort()),
		"ssh-command-broken")
	p.wants(drift, "")
	if err := os.Mkdir(p.path("core"), 0o700); err != nil {
		t.Fatal(err)
	}
	p.extra = []string{"GIT_EXEC_PATH=" + p.path("core")}
	p.wants(p.cloneHTTPS("buoys/drift-model"), "program-missing")
}

func TestWithoutSSH(t *testing.T) {
	t.Parallel()
	p := settled(t)
	for _, name := range []string{"git", "sh"} {
		path, err := exec.LookPath(name)
		if err != nil {
			t.Fatal(err)
		}
		if err := os.MkdirAll(p.path("bin"), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.Symlink(path, p.path("bin", name)); err != nil {
			t.Fatal(err)
		}
	}
	p.extra = append(p.extra, "PATH="+p.path("bin"))
	p.wants(drift, "program-missing")
	p.withChest()
	r := p.must("ready", tables, "--token-from", p.host.TokenFile(), "--chest-passphrase-from", p.path("chest-words"))
	if !strings.Contains(r.err, "SSH does not work here (program-missing). Going by HTTPS") ||
		!strings.Contains(r.out, "Cloned into") {
		t.Errorf("without ssh: %s", r)
	}
	p.remove("bin", "git")
	if c := p.check(drift); c.Crux == nil || c.Crux.Code != "program-missing" ||
		!strings.Contains(c.Crux.Evidence[0], "git") {
		t.Errorf("without git the crux is %+v", c.Crux)
	}
	p.extra = nil
	p.wants(drift, "")
}

func TestWithoutAnAuthor(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.mustGit("clone", "--quiet", drift)
	p.folder = p.path("drift-model")
	p.extra = append(p.extra, "GIT_AUTHOR_NAME=", "GIT_COMMITTER_NAME=")
	if c := p.check(); !c.Open || len(c.Notes) != 2 || c.Notes[0].Code != "author-missing" {
		t.Errorf("with nothing to commit: %+v, notes %+v", c.Crux, c.Notes)
	}
	p.write("changed\n", "drift-model", "drift.csv")
	if r := p.git("commit", "--all", "--message", "Try"); r.exit == 0 {
		t.Fatalf("git commits without a name: %s", r)
	}
	if c := p.check(); c.Open || c.Crux.Code != "author-missing" {
		t.Errorf("the crux is %+v", c.Crux)
	}
	if c := p.check("--for", "clone"); !c.Open {
		t.Errorf("a clone needs no name, yet the crux is %+v", c.Crux)
	}
	p.extra = nil
	p.mustGit("commit", "--quiet", "--all", "--message", "Try")
	p.wants(drift, "")
}

// TestInAnotherHome leaves git to start ssh as it does by itself: ssh then reads the home
// folder of the password database, in which nothing is settled.
func TestInAnotherHome(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.without = append(p.without, "GIT_SSH_COMMAND")
	p.wants(drift, "other-user")
	c := p.check(drift)
	if len(c.Mends) != 1 || !*c.Mends[0].Automatic || c.Mends[0].Command[0] != "git" {
		t.Fatalf("mends %+v", c.Mends)
	}
	p.mustGit(c.Mends[0].Command[1:]...)
	p.wants(drift, "")
}

// TestKeyThatNothingPointsTo has the right key in the ssh folder, under a name of its own.
func TestKeyThatNothingPointsTo(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.edit("    IdentityFile "+p.path(".ssh", "forge_ed25519")+"\n    IdentitiesOnly yes\n", "", ".ssh", "unicrux.conf")
	p.wants(drift, "key-elsewhere")
	p.must("check", "--mend", drift)
	p.wants(drift, "")
}

// TestAgentKeyKeptBack has the right key in the agent, and settings that ask for files alone.
func TestAgentKeyKeptBack(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.agent()
	p.must("key", "load", "forge_ed25519")
	p.remove(".ssh", "forge_ed25519")
	p.remove(".ssh", "forge_ed25519.pub")
	p.edit("    IdentityFile "+p.path(".ssh", "forge_ed25519")+"\n", "", ".ssh", "unicrux.conf")
	p.wants(drift, "key-not-offered")
	p.edit("    IdentitiesOnly yes\n", "", ".ssh", "unicrux.conf")
	p.wants(drift, "")
}

func TestOtherWaysToSignIn(t *testing.T) {
	t.Parallel()
	who := loginUser(t)
	for code, option := range map[string]string{
		"sign-in-other-way":  "PubkeyAuthentication no\nPasswordAuthentication yes",
		"second-step-needed": "AuthenticationMethods publickey,password",
		"algorithms-differ":  "KexAlgorithms diffie-hellman-group1-sha1",
	} {
		t.Run(code, func(t *testing.T) {
			t.Parallel()
			p := settled(t)
			port, _ := p.sshd(p.must("key", "show", "forge_ed25519", "--line").out, option)
			p.must("host", "trust", "forge") // the practice host's, so that the file is there
			p.usePort(port)
			if code != "algorithms-differ" {
				p.edit("    UserKnownHostsFile "+p.path(".ssh", "known_hosts"),
					"    UserKnownHostsFile "+p.path("sshd", "known"), ".ssh", "unicrux.conf")
				p.must("host", "trust", "forge.tidewater.example", "--fingerprint", p.fingerprint("sshd_host"))
			}
			p.wants("ssh://"+who.Username+"@forge.tidewater.example/buoys/drift-model", code)
		})
	}
}

// TestKindsOfKeys has a server that takes no signature which an RSA key makes.
func TestKindsOfKeys(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.remove(".ssh", "forge_ed25519")
	p.remove(".ssh", "forge_ed25519.pub")
	p.must("key", "new", "forge_ed25519", "--type", "rsa", "--size", "3072", "--no-passphrase")
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	hostKey, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	config := &ssh.ServerConfig{PublicKeyAuthAlgorithms: []string{ssh.KeyAlgoED25519},
		PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) {
			return nil,
				errors.New("no")
		}}
	config.AddHostKey(hostKey)
	port := p.listen(func(conn net.Conn) { _, _, _, _ = ssh.NewServerConn(conn, config) })
	p.usePort(port)
	p.write(p.read(".ssh", "known_hosts")+fmt.Sprintf("[127.0.0.1]:%d %s", port,
		ssh.MarshalAuthorizedKey(hostKey.PublicKey())), ".ssh", "known_hosts")
	p.wants(drift, "key-kind-refused")
}

func TestNotes(t *testing.T) {
	t.Parallel()
	p := settled(t)
	if c := p.check(drift); len(c.Notes) != 1 || c.Notes[0].Code != "key-no-passphrase" {
		t.Errorf("notes %+v", c.Notes)
	}
	p.write("ForwardAgent yes\n"+p.read(".ssh", "config"), ".ssh", "config")
	line := strings.Fields(p.read(".ssh", "forge_ed25519.pub"))
	p.write(line[0]+" "+line[1]+"\n", ".ssh", "forge_ed25519.pub")
	old := time.Now().AddDate(-6, 0, 0)
	if err := os.Chtimes(p.path(".ssh", "forge_ed25519"), old, old); err != nil {
		t.Fatal(err)
	}
	p.noted(drift, "agent-forwarded", "key-no-passphrase", "key-old", "key-comment-empty")
	p.write(p.read(".ssh", "config")+"\nHost forge.tidewater.example\n    ForwardAgent no\n    Port 2222\n",
		".ssh", "config")
	p.noted(drift, "agent-forwarded", "settings-unused", "key-no-passphrase", "key-old", "key-comment-empty")
	if r := p.must("check", drift); !strings.Contains(strings.Join(strings.Fields(r.out), " "),
		"To see them: unicrux host show forge.tidewater.example --settings") {
		t.Error(r)
	}
}

// noted holds what is noted about an open way: to a URL, or to where this repository is pushed.
func (p *person) noted(url string, codes ...string) {
	p.t.Helper()
	var notes []string
	c := p.check(strings.Fields(url)...)
	for _, note := range c.Notes {
		notes = append(notes, note.Code)
	}
	if !c.Open || !slices.Equal(notes, codes) {
		p.t.Errorf("notes %q, want %q; the crux is %+v", notes, codes, c.Crux)
	}
}

// TestUnpublishedHostKey has a stored host key that the description does not name.
func TestUnpublishedHostKey(t *testing.T) {
	t.Parallel()
	p := at(t, "lantern")
	p.must("key", "new", "--host", "lantern", "--no-passphrase")
	p.must("host", "trust", "lantern")
	if _, err := p.host.Register(p.host.Owner(), "mine", p.publicKeyOf("lantern_ed25519")); err != nil {
		t.Fatal(err)
	}
	url := p.host.CloneURL(p.host.FirstRepository())
	p.noted(url, "key-no-passphrase")
	p.must("key", "new", "other", "--no-passphrase")
	file := []string{".config", "unicrux", "hosts", "lantern.toml"}
	p.write(strings.ReplaceAll(strings.ReplaceAll(p.read(file...), p.host.HostKeyLine(),
		strings.Join(strings.Fields(p.read(".ssh", "other.pub"))[:2], " ")),
		p.host.HostKeyPrint(), p.fingerprint("other")), file...)
	p.noted(url, "host-key-unpublished", "key-no-passphrase")
}

func TestNotesOfTokens(t *testing.T) {
	t.Parallel()
	p := at(t, "forge").withChest()
	url := p.cloneHTTPS("buoys/drift-model")
	p.must("host", "set", "forge", "by=https")
	p.plainToken("ines.marlow", strings.TrimSpace(p.read2(p.host.TokenFile())))
	p.noted(url, "secret-in-plain-file")
	p.write("", ".git-credentials")
	wide := p.host.Issue("ines.marlow", "wide", []string{"repo:read", "repo:write"}, time.Time{})
	if r := p.run(wide, program, "token", "add", "forge", "--for", "clone", "--from", "-", "--chest-passphrase-from",
		p.path("chest-words")); r.exit != 0 {
		t.Fatal(r)
	}
	p.openChest()
	p.noted(url, "token-never-ends", "token-too-wide")
}

// TestUndoAfterEachMend compares the whole home with what it was before the mend.
func TestUndoAfterEachMend(t *testing.T) {
	t.Parallel()
	for _, code := range []string{"key-none", "host-key-unknown", "host-key-changed", "key-not-registered",
		"key-file-exposed",
		"key-pair-mismatch", "key-elsewhere", "key-not-offered", "key-other-account", "port-refused",
		"key-file-public"} {
		t.Run(code, func(t *testing.T) {
			t.Parallel()
			i := slices.IndexFunc(scenes, func(s scene) bool { return s.code == code })
			s := scenes[i]
			p := settled(t)
			if s.url == "" {
				s.url = drift
			}
			s.arrange(p)
			before, last := p.everything(), len(p.changes())
			p.unicrux(append([]string{"check", "--mend", "--no-passphrase", "--token-from", p.host.TokenFile()},
				s.arguments()...)...)
			made := len(p.changes()) - last
			if made < 1 || !p.check(s.arguments()...).Open {
				t.Fatalf("%d changes were made, and the way is not open", made)
			}
			for range made {
				p.must("undo", "--token-from", p.host.TokenFile())
			}
			if after := p.everything(); after != before {
				t.Errorf("before:\n%s\nafter:\n%s", before, after)
			}
			if c := p.check(s.arguments()...); c.Open || c.Crux.Code != code {
				t.Errorf("after the undo the crux is %+v", c.Crux)
			}
		})
	}
}

func (p *person) statePath(parts ...string) string {
	return filepath.Join(append([]string{p.home, ".local", "state", "unicrux"}, parts...)...)
}
