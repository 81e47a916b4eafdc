package acceptance

import (
	"bufio"
	"errors"
	"fmt"
	"net"
	"os/exec"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"anchorage.example/unicrux/core/query"
)

// sshAttacks are those of whoever runs a host that a person signs in to, or writes a URL.
var sshAttacks = []attack{
	{"the far side of a forwarded agent reads the chest", func(p *person) (broken []string) {
		p.withForge()
		token := p.token()
		who := loginUser(p.t)
		p.write("seven tides\n", "passphrase")
		p.must("key", "new", "--host", "forge", "--passphrase-from", p.path("passphrase"))
		p.must("key", "load", "forge_ed25519", "--passphrase-from", p.path("passphrase"))
		port, _ := p.sshd(p.must("key", "show", "forge_ed25519", "--line").out, "AllowAgentForwarding yes")
		p.write(p.read(".ssh", "config")+"\nHost 127.0.0.1\n    UserKnownHostsFile "+p.path(".ssh",
			"known_hosts")+"\n", ".ssh", "config")
		p.must("host", "trust", fmt.Sprintf("127.0.0.1:%d", port), "--fingerprint", p.fingerprint("sshd_host"))
		far := exec.Command("ssh", "-F", p.path(".ssh", "config"), "-o", "ForwardAgent=yes", "-o", "BatchMode=yes",
			"-o", "UserKnownHostsFile="+p.path(".ssh", "known_hosts"),
			"-o", "HostName=127.0.0.1", "-p", fmt.Sprint(port), "-l", who.Username, "forge.tidewater.example",
			"echo $SSH_AUTH_SOCK; cat >/dev/null")
		var words strings.Builder
		far.Env, far.Stderr = p.environ(), &words
		stay, err := far.StdinPipe()
		if err != nil {
			p.t.Fatal(err)
		}
		said, err := far.StdoutPipe()
		if err != nil {
			p.t.Fatal(err)
		}
		if err := far.Start(); err != nil {
			p.t.Fatal(err)
		}
		defer far.Wait() // it ends when its input does
		defer stay.Close()
		line, err := bufio.NewReader(said).ReadString('\n')
		there, dialErr := net.Dial("unix", strings.TrimSpace(line))
		if err := errors.Join(err, dialErr); err != nil {
			_ = stay.Close()
			p.t.Fatalf("%q: %v: %v: %s", line, err, far.Wait(), words.String())
		}
		defer there.Close()
		lent := agent.NewClient(there)
		keys, err := lent.List()
		if err != nil || len(keys) != 1 {
			p.t.Fatalf("the agent is not lent, so it proves nothing: %d, %v", len(keys), err)
		}
		if _, err := lent.Sign(keys[0], []byte("x")); err != nil {
			p.t.Errorf("it does not sign any more: %v", err)
		}
		git := query.GitQuestion{Data: p.path(".local", "share", "unicrux"), Action: "get",
			Said: []byte("protocol=https\nhost=" + p.webHost() + "\n\n")}.Text()
		for _, name := range []string{query.ForGit, query.ForGit + "@unicrux", "unseal", "give", "chest-until",
			"open-chest", "forget-all", "holdings@unicrux"} {
			if answer, err := lent.Extension(name, git); err == nil {
				broken = append(broken, fmt.Sprintf("it answers %s: %q", name, answer))
			}
		}
		_, private := p.makePair()
		for what, err := range map[string]error{"forget all": lent.RemoveAll(), "forget a key": lent.Remove(keys[0]),
			"take a key": lent.Add(agent.AddedKey{PrivateKey: private}), "be locked": lent.Lock([]byte("x"))} {
			if err == nil {
				broken = append(broken, "it can be made to "+what)
			}
		}
		if h := p.holder(); len(h.Keys) != 1 {
			broken = append(broken, "the holder has lost its key")
		}
		if r := p.asGit(p.webHost()); !strings.Contains(r.out, token) {
			broken = append(broken, "the chest was closed")
		}
		return broken
	}},
	{"settings lend the holder to every host", func(p *person) (broken []string) {
		p.withForge()
		p.write("seven tides\n", "passphrase")
		p.must("key", "new", "--host", "forge", "--passphrase-from", p.path("passphrase"))
		p.write(p.read(".ssh", "config")+"\nHost *\n    ForwardAgent yes\n", ".ssh", "config")
		if r := p.run("", "ssh", "-F", p.path(".ssh", "config"), "-G",
			"forge.tidewater.example"); !strings.Contains(r.out, "forwardagent no") {
			broken = append(broken, "the holder is lent to the forge")
		}
		if r := p.must("look"); !strings.Contains(r.out, "forwards your agent to every host") {
			broken = append(broken, "look says nothing of it: "+r.out)
		}
		p.must("host", "trust", "forge")
		p.must("key", "register", "forge_ed25519", "forge", "--token-from", p.host.TokenFile(), "--passphrase-from",
			p.path("passphrase"))
		p.must("key", "load", "forge_ed25519", "--passphrase-from", p.path("passphrase"))
		noted := false
		for _, note := range p.check(drift).Notes {
			noted = noted || note.Code == "agent-forwarded-everywhere"
		}
		if !noted {
			broken = append(broken, "check says nothing of it")
		}
		return broken
	}},
	{"the user or host of a URL runs a command", func(p *person) (broken []string) {
		p.write("Host *\n    ProxyCommand echo %r %h %n >/dev/null; exit 1\n", ".ssh", "config")
		for _, user := range []string{"`touch ran`", "$(touch ran)", "a;touch ran", "a|touch ran", "a&touch ran",
			"a>ran", "a'b", "-oProxyCommand=touch ran", "a -oProxyCommand=touch\tran"} {
			for _, url := range []string{"ssh://" + strings.NewReplacer(" ", "%20", "\t", "%09", "`", "%60", ">",
				"%3E").Replace(user) + "@forge.tidewater.example/x.git", user + "@forge.tidewater.example:x.git",
				"ssh://git@" + strings.ReplaceAll(user, " ", "%20") + "/x.git"} {
				for _, command := range [][]string{{"check", url}, {"ready", url, "--yes", "--no-passphrase"},
					{"check", url, "--mend", "--no-passphrase"}} {
					if p.unicrux(command...); p.exists("ran") {
						broken = append(broken, strings.Join(command, " "))
						p.remove("ran")
					}
				}
			}
		}
		return broken
	}},
}

// makePair makes a key that no file has.
func (p *person) makePair() (ssh.PublicKey, any) {
	p.t.Helper()
	if !p.exists(".ssh", "thrown_away") {
		p.must("key", "new", "thrown_away", "--no-passphrase")
	}
	private, err := ssh.ParseRawPrivateKey([]byte(p.read(".ssh", "thrown_away")))
	if err != nil {
		p.t.Fatal(err)
	}
	return p.publicKeyOf("thrown_away"), private
}
