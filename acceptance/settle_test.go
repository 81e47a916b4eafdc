package acceptance

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"testing"
)

// connectProxy is a proxy that takes CONNECT to this computer alone, and counts.
func (p *person) connectProxy(used *int) int {
	return p.listen(func(client net.Conn) {
		request, err := http.ReadRequest(bufio.NewReader(client))
		if err != nil || request.Method != http.MethodConnect {
			return
		}
		*used++
		server, err := net.Dial("tcp", request.Host)
		if err != nil {
			fmt.Fprint(client, "HTTP/1.1 502 Bad Gateway\r\n\r\n")
			return
		}
		fmt.Fprint(client, "HTTP/1.1 200 OK\r\n\r\n")
		splice(client, server)
	})
}

// socksProxy is a proxy of RFC 1928 without sign-in.
func (p *person) socksProxy(used *int) int {
	return p.listen(func(client net.Conn) {
		head := make([]byte, 2)
		if _, err := io.ReadFull(client, head); err != nil {
			return
		}
		_, _ = io.CopyN(io.Discard, client, int64(head[1]))
		_, _ = client.Write([]byte{5, 0})
		request := make([]byte, 5)
		if _, err := io.ReadFull(client, request); err != nil {
			return
		}
		host := ""
		switch request[3] {
		case 1:
			rest := make([]byte, 3)
			_, _ = io.ReadFull(client, rest)
			host = net.IP(append(request[4:5], rest...)).String()
		case 3:
			name := make([]byte, request[4])
			_, _ = io.ReadFull(client, name)
			host = string(name)
		}
		var port uint16
		_ = binary.Read(client, binary.BigEndian, &port)
		*used++
		server, err := net.Dial("tcp", net.JoinHostPort(host, fmt.Sprint(port)))
		if err != nil {
			_, _ = client.Write([]byte{5, 5, 0, 1, 0, 0, 0, 0, 0, 0})
			return
		}
		_, _ = client.Write([]byte{5, 0, 0, 1, 0, 0, 0, 0, 0, 0})
		splice(client, server)
	})
}

func splice(a, b net.Conn) {
	done := make(chan bool, 2)
	for _, pair := range [][2]net.Conn{{a, b}, {b, a}} {
		go func() {
			_, _ = io.Copy(pair[0], pair[1])
			done <- true
		}()
	}
	<-done
	_ = b.Close()
}

// TestThroughAProxy goes through proxies of both kinds, with the real client.
func TestThroughAProxy(t *testing.T) {
	t.Parallel()
	p := settled(t)
	for scheme, start := range map[string]func(*int) int{"http": p.connectProxy, "socks5": p.socksProxy} {
		used := 0
		port := start(&used)
		p.must("host", "set", "forge", fmt.Sprintf("proxy=%s://127.0.0.1:%d", scheme, port))
		p.wants(drift, "")
		if used < 2 { // git's and ours
			t.Errorf("%s: the proxy was used %d times", scheme, used)
		}
		if got := p.mustGit("config", "--get-urlmatch", "http.proxy",
			"https://forge.tidewater.example/x").out; !strings.Contains(got, fmt.Sprint(port)) {
			t.Errorf("%s: git's HTTPS goes through %q", scheme, got)
		}
	}
	p.must("host", "set", "forge", fmt.Sprintf("proxy=http://127.0.0.1:%d", freePort(t)))
	p.wants(drift, "proxy-unreachable")
	p.must("host", "set", "forge", "proxy=")
	p.wants(drift, "")
	if strings.Contains(p.read(".ssh", "unicrux.conf")+p.read(".config", "unicrux", "git.config"), "proxy") {
		t.Error("the proxy was not taken back")
	}
}

// TestSetVia reaches a real sshd through another one.
func TestSetVia(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	who := loginUser(t)
	p.must("key", "new", "mine", "--no-passphrase")
	port, _ := p.sshd(p.must("key", "show", "mine", "--line").out)
	p.mustGit("init", "--quiet", "--bare", p.path("repo.git"))
	p.must("host", "set", "jump.example", "address=127.0.0.1", fmt.Sprintf("port=%d", port),
		"user="+who.Username, "key=mine")
	p.must("host", "set", "far.example", "address=127.0.0.1", fmt.Sprintf("port=%d", port), "user="+who.Username,
		"key=mine", "via=jump.example", "keep-alive=20")
	p.write("UserKnownHostsFile "+p.path(".ssh", "known_hosts")+"\n"+p.read(".ssh", "config"), ".ssh", "config")
	for _, host := range []string{"jump.example", "far.example"} {
		p.must("host", "trust", host, "--fingerprint", p.fingerprint("sshd_host"))
	}
	before := strings.Count(p.read("sshd", "log"), "Accepted publickey")
	p.wants("far.example:"+p.path("repo.git"), "")
	if n := strings.Count(p.read("sshd", "log"), "Accepted publickey") - before; n != 4 {
		t.Errorf("%d sign-ins, of git's ssh and ours at both servers", n)
	}
	r := p.must("host", "show", "far.example", "--settings")
	if !strings.Contains(r.out, "proxyjump") || !strings.Contains(r.out, "serveraliveinterval  20") {
		t.Errorf("%s", r)
	}
}

// TestAuthors gives commits their authors: by the host they go to, and below a folder.
func TestAuthors(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.without = []string{"GIT_AUTHOR_NAME", "GIT_AUTHOR_EMAIL", "GIT_COMMITTER_NAME", "GIT_COMMITTER_EMAIL"}
	p.mustGit("config", "--global", "user.name", "Private")
	p.mustGit("config", "--global", "user.email", "private@nowhere.example")
	own := p.read(".gitconfig")
	author := func(folder string) string {
		p.mustGit("-C", folder, "commit", "--quiet", "--allow-empty", "--message", "x")
		return strings.TrimSpace(p.mustGit("-C", folder, "log", "-1", "--format=%an <%ae>").out)
	}
	p.must("host", "set", "forge", "author-name=Ines Marlow", "author-email=ines.marlow@tidewater.example")
	p.mustGit("clone", "--quiet", drift, "one")
	p.mustGit("init", "--quiet", "other")
	if got := author("one"); got != "Ines Marlow <ines.marlow@tidewater.example>" {
		t.Errorf("in a clone from the host: %s", got)
	}
	if got := author("other"); got != "Private <private@nowhere.example>" {
		t.Errorf("elsewhere: %s", got)
	}
	if err := os.MkdirAll(p.path("buoylab"), 0o700); err != nil {
		t.Fatal(err)
	}
	p.must("host", "set", "forge", "author-name=The Laboratory", "folder=~/buoylab")
	p.mustGit("init", "--quiet", "buoylab/new")
	if got := author("buoylab/new"); got != "The Laboratory <ines.marlow@tidewater.example>" {
		t.Errorf("below the folder: %s", got)
	}
	p.must("host", "set", "forge", "author-name=", "author-email=", "folder=~/buoylab")
	if text := p.read(".config", "unicrux", "git.config"); strings.Contains(text, "buoylab") {
		t.Errorf("an author that was taken back is still included: %s", text)
	}
	p.must("host", "drop", "forge")
	if got := author("one"); got != "Private <private@nowhere.example>" {
		t.Errorf("after the drop: %s", got)
	}
	if text := p.readIfThere(".config", "unicrux", "git.config"); strings.Contains(text, "tidewater") ||
		!strings.HasPrefix(p.read(".gitconfig"), own) {
		t.Errorf("left behind: %s\nand in git's own: %s", text, p.read(".gitconfig"))
	}
}

// TestSetBy clones by another transport than the URL says.
func TestSetBy(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.must("host", "set", "forge", "by=ssh")
	p.mustGit("clone", "--quiet", p.cloneHTTPS("buoys/drift-model"))
	p.must("host", "set", "forge", "by=https")
	if got := p.mustGit("-C", "drift-model", "ls-remote", "--get-url", drift).out; !strings.HasPrefix(got,
		"https://"+p.webHost()+"/") {
		t.Errorf("by https: %s", got)
	}
	before := p.everything()
	if r := p.must("host", "set", "forge", "by=https"); !strings.Contains(r.out, "Settled so already.") ||
		p.everything() != before {
		t.Errorf("the second time: %s", r)
	}
	p.must("host", "set", "forge", "by=")
	p.wants(drift, "")
}

// TestSetRefuses has values that would run something, or that are none.
func TestSetRefuses(t *testing.T) {
	t.Parallel()
	p := settled(t)
	before := p.everything()
	for _, pair := range []string{"via=-oProxyCommand=x", "via=a b", "via=jump\nProxyCommand x", "via=j:0",
		"proxy=http://u:hush@x:1", "proxy=ftp://x:1", "proxy=http://x", "proxy=http://$(x):1",
		"authority=/nowhere", "authority=" + p.path(".ssh", "config"), "by=carrier pigeon", "author-name=a\nb",
		"author-email=<x>", "folder=/nowhere", "keep-alive=-1", "user=a b", "nope=1", "port"} {
		r := p.unicrux("host", "set", "forge", pair)
		if r.exit != 2 || strings.Contains(r.String(), "hush") {
			t.Errorf("%q: %s", pair, r)
		}
	}
	if r := p.unicrux("host", "set", "forge", "via=jump", "proxy=http://x:1"); r.exit != 2 {
		t.Errorf("both ways: %s", r)
	}
	if p.everything() != before {
		t.Error("something was changed")
	}
}

// TestSetOverruled says when a line of the person's own wins.
func TestSetOverruled(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.write("Port 7\n"+p.read(".ssh", "config"), ".ssh", "config")
	r := p.must("host", "set", "forge", "port=443")
	if !strings.Contains(r.out, "~/.ssh/config:1 wins over it: port 7.") {
		t.Errorf("%s", r)
	}
}

// TestThroughRealProxies goes through an HTTP proxy of another make, and through the SOCKS
// proxy that the real ssh client is.
func TestThroughRealProxies(t *testing.T) {
	t.Parallel()
	p := settled(t)
	who := loginUser(t)
	run := func(port int, name string, args ...string) {
		t.Helper()
		cmd := exec.Command(need(t, name), args...)
		cmd.Env = p.environ()
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() {
			_ = cmd.Process.Kill()
			_ = cmd.Wait()
		})
		eventually(t, name, func() bool {
			conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
			if err == nil {
				_ = conn.Close()
			}
			return err == nil
		})
	}
	http := freePort(t)
	p.write(fmt.Sprintf("Port %d\nListen 127.0.0.1\nTimeout 60\nMaxClients 20\nAllow 127.0.0.1\nLogFile \"%s\"\n",
		http, p.path("proxy.log")), "proxy.conf")
	run(http, "tinyproxy", "-d", "-c", p.path("proxy.conf"))

	sshd, hostKey := p.sshd(p.must("key", "show", "forge_ed25519", "--line").out)
	fields := strings.Fields(hostKey)
	p.write(fmt.Sprintf("[127.0.0.1]:%d %s %s\n", sshd, fields[0], fields[1]), "known")
	socks := freePort(t)
	run(socks, "ssh", "-F", "none", "-N", "-D", fmt.Sprintf("127.0.0.1:%d", socks), "-i",
		p.path(".ssh", "forge_ed25519"), "-p", fmt.Sprint(sshd),
		"-o", "UserKnownHostsFile="+p.path("known"), "-o", "BatchMode=yes", who.Username+"@127.0.0.1")

	for _, proxy := range []string{fmt.Sprintf("http://127.0.0.1:%d", http),
		fmt.Sprintf("socks5://127.0.0.1:%d", socks)} {
		p.must("host", "set", "forge", "proxy="+proxy)
		p.wants(drift, "")
	}
	if !strings.Contains(p.read("proxy.log"), fmt.Sprintf("CONNECT 127.0.0.1:%d", p.host.SSHPort())) {
		t.Errorf("the HTTP proxy was not used: %s", p.read("proxy.log"))
	}
}

// TestDropTakesEverything: after the last host is dropped, nothing of ours is left in the person's files.
func TestDropTakesEverything(t *testing.T) {
	t.Parallel()
	p := withHost(t)
	p.must("undo")
	for _, own := range []struct{ ssh, git string }{{"Host mine\n    Port 1\n",
		"[user]\n\tname = Ines Marlow\n"}, {"", ""}} {
		if p.write(own.ssh, ".ssh", "config"); own.ssh == "" {
			p.remove(".ssh", "config")
		}
		if p.write(own.git, ".gitconfig"); own.git == "" {
			p.remove(".gitconfig")
		}
		before := p.everything()
		p.must("host", "add", p.host.DescriptionFile())
		p.must("host", "set", "forge", "keep-alive=30", "by=https", "author-name=Ines",
			"author-email=ines@tidewater.example", "in-place=on")
		p.must("host", "set", "other.example", "port=7")
		settled := p.everything()
		p.must("host", "drop", "forge", "--yes")
		if !strings.Contains(p.read(".ssh", "config"), "Include") {
			t.Error("the settings of another host are not read any longer")
		}
		p.must("host", "drop", "other.example", "--yes")
		if after := p.everything(); after != before {
			t.Errorf("after both were dropped:\n%s", difference(before, after))
		}
		p.must("undo")
		p.must("undo")
		if again := p.everything(); again != settled {
			t.Errorf("after undo:\n%s", difference(settled, again))
		}
		for len(p.standing()) > 0 {
			p.must("undo")
		}
	}
}
