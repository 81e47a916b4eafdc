package acceptance

import (
	"os/exec"
	"strings"
	"syscall"
	"testing"
)

// inPlace makes git start ssh through us, as "host set" says it.
func (p *person) inPlace() {
	p.t.Helper()
	p.must("host", "set", "forge", "in-place=on")
	command := strings.TrimSpace(p.mustGit("config", "core.sshCommand").out)
	p.without = append(p.without, "GIT_SSH_COMMAND")
	p.mustGit("config", "--global", "core.sshCommand", command+" -F "+p.path(".ssh", "config")+" -o BatchMode=yes")
}

// TestReadyInPlace sets it with the way, and undo takes it back.
func TestReadyInPlace(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.must("ready", "forge", "--in-place")
	if set := p.mustGit("config", "core.sshCommand").out; !strings.Contains(set, "for-git ssh") {
		t.Errorf("core.sshCommand is %q", set)
	}
	p.must("undo")
	if r := p.git("config", "core.sshCommand"); r.exit == 0 {
		t.Errorf("after undo: %s", r)
	}
}

func TestInPlace(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.inPlace()
	p.mustGit("clone", "--quiet", drift)
	p.commit("drift-model", "one.txt")
	p.mustGit("-C", "drift-model", "push", "--quiet")
	if c := p.check(drift); !c.Open {
		t.Errorf("check behind it: %+v", c.Crux)
	}
	for _, s := range []struct {
		name, url, code string
		push            bool
		want            []string
	}{
		{"a refusal of the host's is its own", minutes, "", false, nil},
		{"no key that the host knows", drift, "The host does not know any of the offered keys", true,
			[]string{"unicrux key register"}},
	} {
		if s.code != "" {
			p.must("key", "withdraw", "forge_ed25519", "forge", "--token-from", p.host.TokenFile())
		}
		failed := p.git("ls-remote", s.url)
		if failed.exit != 128 || !strings.Contains(failed.err, "Could not read from remote repository") {
			t.Errorf("%s: %s", s.name, failed)
		}
		if s.code == "" {
			if strings.Contains(failed.err, "crux") {
				t.Errorf("%s: %s", s.name, failed)
			}
			continue
		}
		denied, crux := strings.Index(failed.err, "Permission denied (publickey)"),
			strings.Index(failed.err, "crux  "+s.code)
		if denied < 0 || crux < denied {
			t.Errorf("%s: %s", s.name, failed)
		}
		for _, want := range s.want {
			if !strings.Contains(failed.err, want) {
				t.Errorf("%s: no %q: %s", s.name, want, failed)
			}
		}
	}
}

// TestInPlaceIsSSH compares what comes back with what ssh itself gives back.
func TestInPlaceIsSSH(t *testing.T) {
	t.Parallel()
	p := settled(t)
	for _, args := range [][]string{
		{"-V"}, {"-G", "forge.tidewater.example"}, {"-Z"}, {},
		{"-F", p.path(".ssh", "config"), "-o", "BatchMode=yes", "git@forge.tidewater.example",
			"git-upload-pack 'nowhere'"},
		{"-F", p.path(".ssh", "config"), "-o", "BatchMode=yes", "git@forge.tidewater.example", "nonsense"},
	} {
		plain, ours := p.run("", "ssh", args...), p.run("", program, append([]string{"for-git", "ssh"}, args...)...)
		if plain != ours {
			t.Errorf("%v: ssh gives\n%s\nand ours\n%s", args, plain, ours)
		}
	}
	// A signal that ends ssh ends ours.
	cmd := exec.Command(program, "for-git", "ssh", "-o", "ProxyCommand=sh -c 'kill -KILL $PPID'", "x.example", "true")
	cmd.Env = p.environ()
	_ = cmd.Run()
	if status, ok := cmd.ProcessState.Sys().(syscall.WaitStatus); !ok ||
		(!status.Signaled() && status.ExitStatus() != 255) {
		t.Errorf("ended with %v", cmd.ProcessState)
	}
}

// TestInPlaceSetting is one setting, taken back by undo, and refused where git has its own ssh.
func TestInPlaceSetting(t *testing.T) {
	t.Parallel()
	p := settled(t)
	before := p.everything()
	p.must("host", "set", "forge", "in-place=on")
	if got := p.mustGit("config", "core.sshCommand").out; !strings.HasSuffix(strings.TrimSpace(got), "for-git ssh") {
		t.Errorf("git starts %s", got)
	}
	p.must("undo")
	if p.everything() != before {
		t.Error("undo leaves something behind")
	}
	p.mustGit("config", "--global", "core.sshCommand", "ssh -4")
	if r := p.unicrux("host", "set", "forge", "in-place=on"); r.exit == 0 ||
		!strings.Contains(r.err, "git is already configured to start another ssh") {
		t.Errorf("over the person's own: %s", r)
	}
}
