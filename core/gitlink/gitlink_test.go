package gitlink

import (
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/person"
	"anchorage.example/unicrux/core/workstation"
)

// station is an empty home with a repository in it, and git configured by text.
func station(t *testing.T, text string, environ ...string) *workstation.Station {
	t.Helper()
	home := t.TempDir()
	s := &workstation.Station{Person: person.Person{Home: home, SSHHome: home, User: "ines",
		Environ: append([]string{"HOME=" + home, "PATH=" + os.Getenv("PATH"), "GIT_CONFIG_NOSYSTEM=1"},
			environ...)}, Folder: home}
	cmd := exec.Command("git", "init", "--quiet", "--initial-branch=main", home)
	cmd.Env = s.Environ
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	if err := os.WriteFile(filepath.Join(home, ".gitconfig"), []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return s
}

func config(t *testing.T, s *workstation.Station) *Config {
	t.Helper()
	c, err := ReadConfig(context.Background(), s)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func TestReadConfig(t *testing.T) {
	s := station(t, `
[remote "origin"]
	url = https://forge.tidewater.example/buoys/drift-model
	pushurl = forge:push
[remote "with.dots"]
	url = lantern:x
[url "git@forge.tidewater.example:"]
	insteadOf = https://forge.tidewater.example/
	pushInsteadOf = forge:
[remote]
	pushDefault = with.dots
`)
	c := config(t, s)
	if !c.InRepository() {
		t.Error("the repository was not seen")
	}
	if got := c.Remotes(); len(got) != 2 || got[1] != "with.dots" {
		t.Errorf("remotes %q", got)
	}
	if url, own, found := c.RemoteURL("origin", true); !found || !own || url.Value != "forge:push" {
		t.Errorf("push URL %v, own %v", url, own)
	}
	if _, _, found := c.RemoteURL("upstream", false); found {
		t.Error("a missing remote has a URL")
	}
	if remote, err := c.DefaultRemote(context.Background()); remote != "with.dots" || err != nil {
		t.Errorf("default remote %q, %v", remote, err)
	}
	// What our rules make of a URL is what git itself makes of it.
	url, _ := c.Last("remote.origin.url")
	ours, rule := address.Rewrite(url.Value, c.Rules(), false, false)
	theirs, err := Run(context.Background(), s, "ls-remote", "--get-url", "origin")
	if err != nil || ours+"\n" != string(theirs) || rule.Origin == "" {
		t.Errorf("rewritten to %q by %+v, git says %q, %v", ours, rule, theirs, err)
	}
}

func TestReadConfigOutsideAndBroken(t *testing.T) {
	s := station(t, "")
	s.Folder = t.TempDir()
	if config(t, s).InRepository() {
		t.Error("a plain folder is taken for a repository")
	}
	var refused *ConfigError
	if _, err := ReadConfig(context.Background(), station(t, "[remote\n")); !errors.As(err, &refused) ||
		refused.Message == "" {
		t.Errorf("a broken file: %v", err)
	}
}

func TestSSHCommand(t *testing.T) {
	const configured = "[core]\n\tsshCommand = ssh -i /configured\n"
	for _, row := range []struct {
		name, config string
		environ      []string
		program      string
		options      int
		file         string
		clear        bool
	}{
		{"default", "", nil, "ssh", 0, "", true},
		{"from the configuration", configured, nil, "ssh", 1, "", true},
		{"the environment wins", configured, []string{`GIT_SSH_COMMAND=ssh -F "$HOME x/config" -o Port=22`, "HOME=/h"},
			"ssh", 1, "/h x/config", true},
		{"a program alone", "", []string{"GIT_SSH=/opt/ssh"}, "/opt/ssh", 0, "", true},
		{"assignments before it", "", []string{"GIT_SSH_COMMAND=LANG=C /usr/bin/ssh -v"}, "/usr/bin/ssh", 0, "", true},
		{"another program", "", []string{"GIT_SSH_COMMAND=wrapper -x"}, "wrapper", 0, "", false},
		{"a command inside is not run", "", []string{"GIT_SSH_COMMAND=ssh -i $(touch ran)"}, "ssh -i $(touch ran)",
			0, "", false},
	} {
		s := station(t, row.config)
		c := config(t, s)
		s.Environ = append(s.Environ, row.environ...)
		got := c.SSH()
		if got.Program != row.program || len(got.Line.Options) != row.options || got.Line.Config != row.file ||
			got.Clear != row.clear {
			t.Errorf("%s: %+v", row.name, got)
		}
		if _, err := os.Stat(filepath.Join(s.Folder, "ran")); err == nil {
			t.Errorf("%s: the command was run", row.name)
		}
	}
}

func TestQueryPutsTheURLBehindTheOptions(t *testing.T) {
	s := station(t, "", "GIT_SSH_COMMAND=ssh -p 1")
	a, err := address.Parse("ssh://git@forge:2/x")
	if err != nil {
		t.Fatal(err)
	}
	options := config(t, s).SSH().Query(a, s).Command.Options
	if len(options) != 3 || options[0].Args[0] != "1" || options[1].Args[0] != "2" || options[2].Keyword != "user" {
		t.Errorf("options %+v", options)
	}
}

func FuzzParseList(f *testing.F) {
	f.Add([]byte("local\x00file:.git/config\x00remote.origin.url\ngit@forge:x\x00global\x00file:/h\x00core.bare\x00"))
	f.Add([]byte("local\x00file:"))
	f.Fuzz(func(t *testing.T, out []byte) {
		c := &Config{entries: parseList(out)}
		if len(c.entries) > bytes.Count(out, []byte{0})/3 {
			t.Fatalf("%q holds %d entries", out, len(c.entries))
		}
		for _, name := range c.Remotes() {
			if _, _, found := c.RemoteURL(name, true); !found {
				t.Fatalf("%q: the remote %q has no URL", out, name)
			}
		}
		c.Rules()
	})
}

// FuzzSSHCommand reads what a variable may hold; nothing in it is ever run.
func FuzzSSHCommand(f *testing.F) {
	for _, seed := range []string{"ssh -F 'a b' -oPort=1", "LANG=C ssh $(touch x)", "ssh -i ${HOME}/k \"", "`id`"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		c := &Config{station: &workstation.Station{Person: person.Person{Environ: []string{"HOME=/h"}}}}
		if command := parseSSH(text, "here", c.station.Getenv); command.Clear && !isSSH(command.Program) {
			t.Fatalf("%q: %+v", text, command)
		}
	})
}

func FuzzReadCredential(f *testing.F) {
	f.Add([]byte("protocol=https\nhost=forge.tidewater.example\nusername=ines\npassword=x\n\n"))
	f.Add([]byte("capability[]=authtype\nhost=a\x00b\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		asked, err := ReadCredential(bytes.NewReader(text))
		if err == nil && strings.ContainsAny(asked.Protocol+asked.Host+asked.Path+asked.User+
			string(asked.Password.Reveal()), "\r\n\x00") {
			t.Fatalf("%q is read as %+v", text, asked)
		}
	})
}
