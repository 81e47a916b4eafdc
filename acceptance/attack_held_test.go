package acceptance

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
)

// heldAttacks are those that were held from the beginning, and must be.
var heldAttacks = []attack{
	{"a secret stands on a command line", func(p *person) (broken []string) {
		p.withForge()
		token := p.token()
		stop, seen := make(chan struct{}), make(chan string, 1)
		go func() {
			defer close(seen)
			for {
				select {
				case <-stop:
					return
				default:
				}
				lines, _ := filepath.Glob("/proc/[0-9]*/cmdline")
				for _, file := range lines {
					if text, err := os.ReadFile(file); err == nil && strings.Contains(string(text), token) {
						seen <- strings.ReplaceAll(string(text), "\x00", " ")
						return
					}
				}
			}
		}()
		p.git("ls-remote", p.cloneHTTPS("buoys/drift-model"))
		p.unicrux("check", p.cloneHTTPS("buoys/drift-model"))
		p.unicrux("token", "test", "forge")
		close(stop)
		if line := <-seen; line != "" {
			broken = append(broken, line)
		}
		return broken
	}},
	{"a name is obeyed as an option", func(p *person) (broken []string) {
		for _, name := range []string{"-oProxyCommand=touch ran", "--upload-pack=touch ran", "-F/dev/zero"} {
			for _, command := range [][]string{{"check", "--", name}, {"ready", "--", name},
				{"check", "--", "ssh://" + strings.ReplaceAll(name, " ", "%20") + "/x"}, {"check", "--", name + ":x"},
				{"host", "trust", "--", name}, {"host", "show", "--settings", "--", name}} {
				if r := p.unicrux(command...); p.exists("ran") || r.exit == 0 {
					broken = append(broken, strings.Join(command, " ")+": "+r.String())
				}
			}
		}
		return broken
	}},
	{"settings run a command when they are shown", func(p *person) (broken []string) {
		p.withForge()
		p.write("Match exec \"touch "+p.path("ran")+"\"\n    Port 1\n"+p.read(".ssh", "config"), ".ssh", "config")
		for _, command := range [][]string{{"look"}, {"host", "show", "forge", "--settings"}, {"check", drift},
			{"key", "list"}} {
			if p.unicrux(command...); p.exists("ran") {
				broken = append(broken, strings.Join(command, " "))
				p.remove("ran")
			}
		}
		return broken
	}},
	{"git's helper is asked odd questions", func(p *person) (broken []string) {
		p.withForge()
		token := p.token()
		at := p.webHost()
		name, port, _ := net.SplitHostPort(at)
		for _, text := range []string{"protocol=http\nhost=" + at, "protocol=https\nhost=" + name,
			"protocol=https\nhost=x" + at, "protocol=https\nhost=" + at + ".evil.example",
			"protocol=https\nhost=" + at + "\nhost=evil.example",
			"protocol=https\nhost=evil.example:" + port, "protocol=ssh\nhost=" + at,
			"protocol=https\nhost=" + at + "\r", "protocol=https\nhost=" + at + "\x00",
			"protocol=https\nhost=" + at + "/", "protocol=https\nhost=@" + at,
			"protocol=https\nhost=ines.marlow@" + at, "protocol=HTTPS \nhost=" + at,
			"protocol=https\nhost=" + at + "\nusername=lab", "protocol=https\nhost=" + at + "\nprotocol=http",
			"protocol=https\nhost=" + name + ".:" + port,
			"protocol=https\nhost=" + strings.Replace(at, "e", "\u0435", 1),
			"protocol=https\nhost=" + strings.Replace(at, "i", "\u0130", 1), "protocol=https\nhost=*",
			"protocol=https\nhost=", "protocol=https", "host=" + at, "",
			"protocol=https\nhost=" + at + "#", "protocol=https\nhost=" + at + "?x", "protocol=https\nhost=//" + at,
			"protocol=https\nhost=" + name + ":443", "protocol=https\nhost=" + name + ":0" + port,
			"protocol=ftp\nhost=" + at} {
			if r := p.run(text+"\n\n", program, "for-git", "credential", "get"); r.leaks(token) {
				broken = append(broken, fmt.Sprintf("%q: %s", text, r))
			}
		}
		if r := p.asGit(at); !strings.Contains(r.out, token) {
			broken = append(broken, "git itself is not answered: "+r.String())
		}
		return broken
	}},
	{"files and sockets are open to others", func(p *person) (broken []string) {
		p.withForge()
		p.token()
		p.must("key", "new", "mine", "--no-passphrase")
		for _, dir := range []string{".local", ".config", ".ssh"} {
			_ = filepath.WalkDir(p.path(dir), func(path string, entry os.DirEntry, err error) error {
				info, statErr := os.Lstat(path)
				if err == nil && statErr == nil && !strings.HasSuffix(path, ".pub") && path != p.path(".local") &&
					path != p.path(".config") && info.Mode().Perm()&0o077 != 0 {
					broken = append(broken, fmt.Sprintf("%s: %v", strings.TrimPrefix(path, p.home), info.Mode()))
				}
				return nil
			})
		}
		return broken
	}},
}

func sha256Of(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}
