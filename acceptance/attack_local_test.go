package acceptance

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"anchorage.example/unicrux/agreement"
)

// localAttacks are those of other users, of odd files, and of the clock.
var localAttacks = []attack{
	{"links in a home lead root anywhere", func(p *person) (broken []string) {
		if os.Geteuid() != 0 {
			p.t.Log("only root is led anywhere")
			return nil
		}
		victim := filepath.Join(p.t.TempDir(), "victim")
		if err := os.WriteFile(victim, []byte("root's\n"), 0o600); err != nil {
			p.t.Fatal(err)
		}
		state := p.path(".local", "state", "unicrux")
		for _, dir := range []string{state, p.path(".ssh"), p.path(".config", "unicrux"), p.path(".cache")} {
			if err := os.MkdirAll(dir, 0o700); err != nil {
				p.t.Fatal(err)
			}
		}
		for _, link := range []string{filepath.Join(state, "lock"), filepath.Join(state, "underway"),
			p.path(".ssh", "config"), p.path(".ssh", "unicrux.conf"), p.path(".gitconfig")} {
			if err := os.Symlink(victim, link); err != nil {
				p.t.Fatal(err)
			}
		}
		if err := os.Symlink(filepath.Dir(victim), p.path(".cache", "unicrux")); err != nil {
			p.t.Fatal(err)
		}
		p.open()
		_ = filepath.WalkDir(p.home, func(path string, _ os.DirEntry, err error) error {
			return errors.Join(err, os.Lchown(path, 65534, 65534))
		})
		for _, command := range [][]string{{"key", "new", "mine", "--no-passphrase"},
			{"host", "set", "forge.example", "port=22", "by=https"}, {"chest", "open"}, {"look"}, {"undo"}} {
			p.unicrux(command...)
		}
		if p.read2(victim) != "root's\n" {
			broken = append(broken, "a file of root's was written: "+p.read2(victim))
		}
		if entries, _ := os.ReadDir(filepath.Dir(victim)); len(entries) != 1 {
			broken = append(broken, fmt.Sprintf("left behind: %v", entries))
		}
		_ = filepath.WalkDir(p.home, func(path string, _ os.DirEntry, err error) error {
			if info, err := os.Lstat(path); err == nil && info.Sys().(*syscall.Stat_t).Uid == 0 {
				broken = append(broken, path+" is root's now")
			}
			return err
		})
		return broken
	}},
	{"another user's socket is told a secret", func(p *person) (broken []string) {
		if os.Geteuid() != 0 {
			p.t.Log("only root can be two users")
			return nil
		}
		p.withForge()
		token := p.token()
		door, keys := p.path(".local", "state", "unicrux", "run", "door"),
			p.path(".local", "state", "unicrux", "run", "agent")
		p.must("holder", "stop")
		for name, lay := range map[string]func(socket string) error{
			"their socket": func(socket string) error { return os.Lchown(socket, 65534, 65534) },
			"their folder": func(socket string) error { return os.Lchown(filepath.Dir(socket), 65534, 65534) },
			"a folder in which they may write": func(socket string) error {
				return errors.Join(os.Lchown(socket, 0, 0), os.Lchown(filepath.Dir(socket), 0, 0),
					os.Chmod(filepath.Dir(socket), 0o777))
			},
		} {
			heard := make(chan string, 100)
			var listeners []net.Listener
			for _, socket := range []string{door, keys} {
				_ = os.Remove(socket)
				if err := os.MkdirAll(filepath.Dir(socket), 0o700); err != nil {
					p.t.Fatal(err)
				}
				listener, err := net.Listen("unix", socket)
				if err != nil {
					p.t.Fatal(err)
				}
				listeners = append(listeners, listener)
				go func() {
					for {
						conn, err := listener.Accept()
						if err != nil {
							return
						}
						text := make([]byte, 1)
						_ = conn.SetReadDeadline(time.Now().Add(5 * time.Second))
						if n, _ := conn.Read(text); n > 0 {
							heard <- name
						}
						_ = conn.Close()
					}
				}()
				if err := lay(socket); err != nil {
					p.t.Fatal(err)
				}
			}
			p.asGit(p.webHost())
			p.run("protocol=https\nhost="+p.webHost()+"\nusername=ines.marlow\npassword="+token+"\n\n", program,
				"for-git", "credential", "store")
			p.unicrux("holder", "show")
			// which is closed then, and what listens there is this very user's
			if !strings.HasPrefix(name, "a folder") {
				p.unicrux("chest", "open", "--passphrase-from", p.path("chest-words"))
			}
			for _, listener := range listeners {
				_ = listener.Close()
			}
			if err := errors.Join(os.Lchown(filepath.Dir(door), 0, 0),
				os.Chmod(filepath.Dir(door), 0o700)); err != nil {
				p.t.Fatal(err)
			}
			select {
			case name := <-heard:
				broken = append(broken, "a byte was said to "+name)
			default:
			}
		}
		return broken
	}},
	{"files that have no end keep somebody waiting", func(p *person) (broken []string) {
		p.withForge()
		p.token()
		pipe := func(parts ...string) {
			path := p.path(parts...)
			_ = os.Remove(path)
			if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o700), syscall.Mkfifo(path, 0o600)); err != nil {
				p.t.Fatal(err)
			}
		}
		pipe(".hgrc")
		pipe(".netrc")
		pipe(".ssh", "known_hosts")
		pipe(".ssh", "id_rsa")
		pipe("text")
		pipe(".local", "share", "unicrux", "chest", "entries", "pipe.json")
		if err := os.Symlink("/dev/zero", p.path(".ssh", "id_ed25519")); err != nil {
			p.t.Fatal(err)
		}
		for _, command := range [][]string{{"look"}, {"look", "hosts"}, {"key", "list"}, {"key", "find"},
			{"check", drift}, {"check", "--program", "hg", p.cloneHTTPS("x")}, {"chest", "show"}, {"token", "list"},
			{"chest", "adopt", "--dry-run"}, {"explain", "text"}, {"explain", "/dev/zero"}, {"host", "add", "text"},
			{"host", "trust", "forge"}} {
			cmd := exec.Command(program, command...)
			cmd.Dir, cmd.Env = p.folder, p.environ()
			if !endsWithin(cmd, 30*time.Second) {
				broken = append(broken, strings.Join(command, " "))
			}
		}
		return broken
	}},
	{"Ctrl-C does not end it", func(p *person) (broken []string) {
		p.withForge()
		// It computes: a thousand rounds of guessing would be needed to make an RSA pair of that size.
		cmd := exec.Command(program, "key", "new", "large", "--type", "rsa", "--size", "8192", "--no-passphrase")
		cmd.Dir, cmd.Env = p.folder, p.environ()
		if err := cmd.Start(); err != nil {
			p.t.Fatal(err)
		}
		<-time.After(300 * time.Millisecond)
		_ = cmd.Process.Signal(os.Interrupt)
		<-time.After(100 * time.Millisecond)
		_ = cmd.Process.Signal(os.Interrupt)
		done := make(chan error, 1)
		go func() { done <- cmd.Wait() }()
		select {
		case <-done:
			if code := cmd.ProcessState.ExitCode(); code != 5 && code != 0 {
				broken = append(broken, fmt.Sprintf("exit %d", code))
			}
		case <-time.After(5 * time.Second):
			_ = cmd.Process.Kill()
			broken = append(broken, "it goes on")
		}
		return broken
	}},
	{"a closed chest is still in memory", func(p *person) (broken []string) {
		p.withForge()
		token := p.token()
		p.asGit(p.webHost())
		pid := doorPID(p)
		if found, looked := inMemory(pid, token); looked && !found {
			p.t.Log("the token is not found even while the chest is open")
		}
		p.write("seven tides\n", "passphrase")
		p.must("key", "new", "held", "--passphrase-from", p.path("passphrase"))
		p.must("chest", "close")
		eventually(p.t, "the end of the process that had it open", func() bool { return syscall.Kill(pid, 0) != nil })
		if r := p.asGit(p.webHost()); r.leaks(token) {
			broken = append(broken, "it still answers")
		}
		return broken
	}},
	{"another process of this user looks into ours", func(p *person) (broken []string) {
		if os.Geteuid() != 0 {
			p.t.Log("what the kernel lets others see is root's to ask")
			return nil
		}
		p.open()
		if err := os.Chown(p.home, 65534, 65534); err != nil {
			p.t.Fatal(err)
		}
		copied := p.path("unicrux")
		text, err := os.ReadFile(program)
		if err != nil {
			p.t.Fatal(err)
		}
		if err := agreement.WriteProgram(copied, text, 0o755); err != nil {
			p.t.Fatal(err)
		}
		for _, args := range [][]string{{"holder", "start", "--stay", "keys"}, {"holder", "start", "--stay", "chest"},
			{"for-git", "credential", "get"}, {"key", "new", "x", "--passphrase-from", "-"}} {
			cmd := exec.Command(need(p.t, "setpriv"), append([]string{"--reuid=65534", "--clear-groups", copied},
				args...)...)
			cmd.Dir, cmd.Env = "/", p.environ()
			in, err := cmd.StdinPipe()
			if err != nil {
				p.t.Fatal(err)
			}
			if err := cmd.Start(); err != nil {
				p.t.Fatal(err)
			}
			at := fmt.Sprintf("/proc/%d/environ", cmd.Process.Pid)
			private := false
			for deadline := time.Now().Add(10 * time.Second); time.Now().Before(deadline) &&
				!private; <-time.After(2 * time.Millisecond) {
				info, err := os.Stat(at)
				exe, _ := os.Readlink(fmt.Sprintf("/proc/%d/exe", cmd.Process.Pid))
				// dumpable ones are their user's (prctl(2))
				private = err == nil && exe == copied && info.Sys().(*syscall.Stat_t).Uid == 0
			}
			if !private {
				broken = append(broken, strings.Join(args, " ")+" can be looked into")
			}
			_ = in.Close()
			_ = cmd.Process.Kill()
			_ = cmd.Wait()
		}
		return broken
	}},
	{"a repository runs something when it is looked at", func(p *person) (broken []string) {
		p.withForge()
		p.mustGit("init", "--quiet", "work")
		p.folder = p.path("work")
		p.write("#!/bin/sh\ntouch '"+p.path("ran")+"'\n", "work", "run")
		p.chmod(0o755, "work", "run")
		if err := os.MkdirAll(p.path("work", "hooks"), 0o700); err != nil {
			p.t.Fatal(err)
		}
		for _, hook := range []string{"post-index-change", "fsmonitor-watchman", "pre-push", "reference-transaction"} {
			if err := os.Symlink(p.path("work", "run"), p.path("work", "hooks", hook)); err != nil {
				p.t.Fatal(err)
			}
		}
		p.mustGit("add", "run")
		p.mustGit("commit", "--quiet", "--message", "x")
		p.mustGit("remote", "add", "origin", drift)
		p.mustGit("config", "core.fsmonitor", p.path("work", "run"))
		p.mustGit("config", "core.hooksPath", p.path("work", "hooks"))
		p.write("changed\n", "work", "more")
		before, err := os.Stat(p.path("work", ".git", "index"))
		if err != nil {
			p.t.Fatal(err)
		}
		for _, command := range [][]string{{"check"}, {"look"}, {"remote", "list"},
			{"check", "--for", "push", "origin"}} {
			p.unicrux(command...)
		}
		if p.exists("ran") {
			broken = append(broken, "it ran")
		}
		if after, err := os.Stat(p.path("work", ".git", "index")); err != nil ||
			!after.ModTime().Equal(before.ModTime()) {
			broken = append(broken, "the index was written")
		}
		p.folder = p.home
		return broken
	}},
	{"a key takes the place of another file of ssh's", func(p *person) (broken []string) {
		for _, name := range []string{"authorized_keys", "known_hosts", "config", "Config", "authorized_keys2",
			"environment", "rc", "unicrux.conf"} {
			if r := p.unicrux("key", "new", name, "--no-passphrase"); r.exit != 2 || p.exists(".ssh", name) {
				broken = append(broken, name+": "+r.String())
			}
		}
		return broken
	}},
	{"names steer the terminal", func(p *person) (broken []string) {
		p.withForge()
		const evil = "\x1b]52;c;eA==\a\x1b[2J\x1b[8mhidden\x1b[1A\u202e\u009b1A"
		p.mustGit("init", "--quiet", "work")
		p.folder = p.path("work")
		p.write(p.read("work", ".git",
			"config")+"[remote \"a"+evil+"b\"]\n\turl = "+drift+"\n[branch \"main\"]\n\tremote = \"a"+evil+"b\"\n",
			"work", ".git", "config")
		p.write(
			"host"+evil+".example ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIHN0YWxlAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA c"+evil+"\n",
			".ssh",
			"known_hosts",
		)
		p.write("Host x"+evil+"y\n    HostName "+evil+"\n", ".ssh", "config")
		p.write("ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIHN0YWxlAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA c"+evil+"\n",
			".ssh", "odd.pub")
		for _, command := range [][]string{{"look"}, {"look", "hosts"}, {"look", "remotes"}, {"look", "keys"},
			{"remote", "list"}, {"check"}, {"check", "a" + evil + "b"}, {"key", "list"}, {"key", "find"},
			{"host", "show", "forge", "--settings"}, {"explain", evil}, {evil}, {"key", "show", evil},
			{"host", "add", evil}} {
			r := p.onTerminal(nil, command...)
			for _, part := range []string{"\x1b]", "\x1b[2J", "\x1b[8m", "\x1b[1A", "\u202e", "\u009b"} {
				if strings.Contains(r.out+r.err, part) {
					broken = append(broken, fmt.Sprintf("%q: %q", command, part))
				}
			}
		}
		p.folder = p.home
		return broken
	}},
}

// open lets everybody pass to the home of a person.
func (p *person) open() {
	p.t.Helper()
	for dir := p.home; dir != filepath.Clean(os.TempDir()) && dir != "/"; dir = filepath.Dir(dir) {
		if err := os.Chmod(dir, 0o755); err != nil {
			p.t.Fatal(err)
		}
	}
}

// endsWithin runs a command for some time at most.
func endsWithin(cmd *exec.Cmd, limit time.Duration) bool {
	cmd.Stdin = strings.NewReader("")
	if cmd.Start() != nil {
		return false
	}
	timer := time.AfterFunc(limit, func() { _ = cmd.Process.Kill() })
	_ = cmd.Wait()
	return timer.Stop()
}

// doorPID is the process that has the chest open.
func doorPID(p *person) int {
	p.t.Helper()
	var pid int
	if _, err := fmt.Sscan(p.read(".local", "state", "unicrux", "run", "door.lock"), &pid); err != nil {
		p.t.Fatal(err)
	}
	return pid
}

// inMemory looks for a text in the memory of a process, where that may be looked at.
func inMemory(pid int, text string) (found, looked bool) {
	maps, err := os.ReadFile(fmt.Sprintf("/proc/%d/maps", pid))
	if err != nil {
		return false, false
	}
	memory, err := os.Open(fmt.Sprintf("/proc/%d/mem", pid))
	if err != nil {
		return false, false
	}
	defer memory.Close() // opened for reading
	for line := range strings.Lines(string(maps)) {
		var from, to int64
		if _, err := fmt.Sscanf(line, "%x-%x", &from, &to); err != nil || to-from > 1<<28 {
			continue
		}
		part := make([]byte, to-from)
		if n, _ := memory.ReadAt(part, from); strings.Contains(string(part[:n]), text) {
			return true, true
		}
	}
	return false, true
}
