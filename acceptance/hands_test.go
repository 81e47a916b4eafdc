package acceptance

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"strings"

	"golang.org/x/crypto/ssh"
)

func (p *person) remove(parts ...string) {
	p.t.Helper()
	if err := os.Remove(p.path(parts...)); err != nil {
		p.t.Fatal(err)
	}
}

func (p *person) rename(from, to string) {
	p.t.Helper()
	if err := os.Rename(p.path(".ssh", from), p.path(".ssh", to)); err != nil {
		p.t.Fatal(err)
	}
}

func (p *person) chmod(mode os.FileMode, parts ...string) {
	p.t.Helper()
	if err := os.Chmod(p.path(parts...), mode); err != nil {
		p.t.Fatal(err)
	}
}

// useKey makes the settings name another key file.
func (p *person) useKey(old, new string) {
	p.t.Helper()
	p.edit("IdentityFile "+p.path(".ssh", old)+"\n", "IdentityFile "+p.path(".ssh", new)+"\n", ".ssh", "unicrux.conf")
}

// labKey makes a key that opens the laboratory's account.
func (p *person) labKey() {
	p.t.Helper()
	p.must("key", "new", "lab", "--no-passphrase")
	public, _, _, _, err := ssh.ParseAuthorizedKey([]byte(p.must("key", "show", "lab", "--line").out))
	if err != nil {
		p.t.Fatal(err)
	}
	if _, err := p.host.Register("lab", "the laboratory's", public); err != nil {
		p.t.Fatal(err)
	}
}

// listen lets talk answer connections, and returns the port.
func (p *person) listen(talk func(net.Conn)) int {
	p.t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		p.t.Fatal(err)
	}
	p.t.Cleanup(func() { _ = listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				talk(conn)
				_ = conn.Close()
			}()
		}
	}()
	return listener.Addr().(*net.TCPAddr).Port
}

// usePort makes the settings lead to another port.
func (p *person) usePort(port int) {
	p.t.Helper()
	lines := strings.Split(p.read(".ssh", "unicrux.conf"), "\n")
	for i, line := range lines {
		if strings.HasPrefix(strings.TrimSpace(line), "Port ") {
			lines[i] = fmt.Sprintf("    Port %d", port)
		}
	}
	p.write(strings.Join(lines, "\n"), ".ssh", "unicrux.conf")
}

// staleHostKey stores another key for the host than the one it has.
func (p *person) staleHostKey() {
	p.t.Helper()
	p.must("key", "new", "stale", "--no-passphrase")
	fields := strings.Fields(p.must("key", "show", "stale", "--line").out)
	p.write(fmt.Sprintf("[127.0.0.1]:%d %s %s\n", p.host.SSHPort(), fields[0], fields[1]), ".ssh", "known_hosts")
}

// agent starts a real ssh agent that this person's ssh asks.
func (p *person) agent() {
	p.t.Helper()
	socket := p.path("agent.sock")
	cmd := exec.Command(need(p.t, "ssh-agent"), "-D", "-a", socket)
	cmd.Env = p.environ()
	if err := cmd.Start(); err != nil {
		p.t.Fatal(err)
	}
	p.t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	eventually(p.t, "the agent", func() bool {
		_, err := os.Stat(socket)
		return err == nil
	})
	p.extra = append(p.extra, "SSH_AUTH_SOCK="+socket)
}

// read2 reads a file anywhere.
func (p *person) read2(path string) string {
	p.t.Helper()
	text, err := os.ReadFile(path)
	if err != nil {
		p.t.Fatal(err)
	}
	return string(text)
}
