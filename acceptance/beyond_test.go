package acceptance

import (
	"encoding/json"
	"os"
	"slices"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/render/document"
)

// A reading is the document of explain.
type reading struct{ document.Explain }

// explain is what the program says of a text, or of what its arguments name.
func (p *person) explain(text string, args ...string) reading {
	p.t.Helper()
	r := p.run(text, program, append([]string{"explain", "--json"}, args...)...)
	var read reading
	decoder := json.NewDecoder(strings.NewReader(r.out))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&read); err != nil || read.Schema != "unicrux.explain/1" || r.exit != 0 {
		p.t.Fatalf("explain: %v: %s", err, r)
	}
	return read
}

func (r reading) codes() []string {
	var list []string
	for _, c := range r.Causes {
		list = append(list, c.Code)
	}
	return list
}

// untold are codes of which the client's own words say nothing: what it does say is another's
// sign, or nobody's.
var untold = []string{"key-elsewhere", "ssh-config-shadowed", "ssh-config-unmatched", "url-rewritten", "helper-stale",
	"key-pair-mismatch", "other-user",
	"agent-unreachable", "token-misplaced", "header-overrides", "key-other-account", "ssh-port-blocked",
	"url-is-a-page", "url-transport-refused", "key-in-device", "url-secret",
	"url-alias-unknown", "clock-wrong", "sign-in-other-way", "jump-failed", "not-ssh", "asking-failed",
	"ssh-setting-hinders", "url-port-in-short-form", "ssh-config-broken", "token-ended", "token-purpose-missing",
	"second-step-needed"}

// explains holds what explain says of a client's own words against the code that is the cause: it
// names it, and when it says that the words are enough, it names it first.
func (p *person) explains(failed result, code string) {
	p.t.Helper()
	read := p.explain(failed.out + failed.err)
	codes := read.codes()
	if read.Conclusive && codes[0] != code && !slices.Contains(untold, code) {
		p.t.Errorf("explain is sure of %v, and it is %s: %s", codes, code, failed)
	}
	if !slices.Contains(codes, code) && !slices.Contains(untold, code) {
		p.t.Errorf("explain names %v, and it is %s: %s", codes, code, failed)
	}
}

// A beyondScene is a failure that has nothing to do with signing in: git's own words tell it.
type beyondScene struct {
	code    string
	arrange func(p *person)
	args    []string
	checked bool // a check of the plain push names it too
}

var beyondScenes = []beyondScene{
	{code: "branch-unborn", checked: true, args: []string{"push"}, arrange: func(p *person) {
		p.mustGit("init", "--quiet", "--initial-branch", "main", p.path("drift-model", "new"))
		p.folder = p.path("drift-model", "new")
		p.mustGit("remote", "add", "origin", drift)
		p.mustGit("config", "push.default", "current")
	}},
	{code: "branch-detached", checked: true, args: []string{"push"},
		arrange: func(p *person) { p.mustGit("checkout", "--quiet", "--detach") }},
	{code: "branch-untracked", checked: true, args: []string{"push"},
		arrange: func(p *person) { p.mustGit("switch", "--quiet", "--create", "trial") }},
	{code: "branch-unknown", args: []string{"push", "origin", "nowhere"}},
	{code: "branch-unknown", args: []string{"fetch", "origin", "nowhere"}},
	{code: "branch-unknown", args: []string{"clone", "--branch", "nowhere", drift, "other"}},
	{code: "history-diverged", checked: true, args: []string{"push"}, arrange: func(p *person) {
		p.mustGit("clone", "--quiet", drift, "second")
		p.commitIn("second", "theirs.txt")
		p.mustGit("-C", "second", "push", "--quiet")
		p.commitIn(".", "mine.txt")
	}},
	{code: "history-diverged", args: []string{"pull", "--no-rebase"}, arrange: func(p *person) {
		p.mustGit("clone", "--quiet", drift, "second")
		p.write("theirs\n", "drift-model", "second", "same.txt")
		p.mustGit("-C", "second", "add", "same.txt")
		p.mustGit("-C", "second", "commit", "--quiet", "--message", "theirs")
		p.mustGit("-C", "second", "push", "--quiet")
		p.write("mine\n", "drift-model", "same.txt")
		p.mustGit("add", "same.txt")
		p.mustGit("commit", "--quiet", "--message", "mine")
	}},
	{code: "changes-in-the-way", args: []string{"checkout", "HEAD~1"}, arrange: func(p *person) {
		p.commitIn(".", "one.txt")
		p.write("other\n", "drift-model", "one.txt")
	}},
	{code: "signing-failed", args: []string{"-c", "gpg.program=false",
		"commit", "--gpg-sign", "--allow-empty", "--message", "x"}},
	{code: "signing-failed", args: []string{"-c", "gpg.format=ssh",
		"commit", "--gpg-sign", "--allow-empty", "--message", "x"}},
	{code: "hook-here", args: []string{"commit", "--allow-empty", "--message", "x"}, arrange: func(p *person) {
		p.write("#!/nowhere/at-all\n", "drift-model", ".git", "hooks", "pre-commit")
		p.chmod(0o755, "drift-model", ".git", "hooks", "pre-commit")
	}},
	{code: "hook-there", args: []string{"push", "there", "HEAD:refs/heads/x"}, arrange: func(p *person) {
		p.bare("#!/bin/sh\necho Not on a Monday. >&2\nexit 1\n")
	}},
	{code: "branch-protected", args: []string{"push", "there", "HEAD:refs/heads/x"}, arrange: func(p *person) {
		p.bare("#!/bin/sh\necho 'You are not allowed to push to the protected branch x.' >&2\nexit 1\n")
	}},
	{code: "host-rule", args: []string{"push", "there", "HEAD:refs/heads/x"}, arrange: func(p *person) {
		p.bare("#!/bin/sh\necho 'The file tides.bin is larger than the limit of 100 MB.' >&2\nexit 1\n")
	}},
	{code: "host-rule", args: []string{"push", "there", "HEAD:main"}, arrange: func(p *person) {
		p.mustGit("clone", "--quiet", ".", p.path("there"))
		p.mustGit("remote", "add", "there", p.path("there"))
		p.commitIn(".", "one.txt")
	}},
	{code: "branch-clash", args: []string{"branch", "main/more"}},
	{code: "disk-full", args: []string{"fetch"}, arrange: func(p *person) {
		p.write("#!/bin/sh\necho 'error: unable to write file: No space left on device' >&2\nexit 128\n", "full-ssh")
		p.chmod(0o755, "full-ssh")
		p.extra = append(p.extra, "GIT_SSH_COMMAND="+p.path("full-ssh"))
	}},
	{code: "memory-short", args: []string{"push", "there", "HEAD:refs/heads/x"}, arrange: func(p *person) {
		p.bare("#!/bin/sh\necho 'fatal: Out of memory, malloc failed (tried to allocate 524288000 bytes)' >&2\nexit 1\n")
	}},
	{code: "lock-left", args: []string{"add", "drift.csv"}, arrange: func(p *person) {
		p.write("", "drift-model", ".git", "index.lock")
		p.write("x", "drift-model", "drift.csv")
	}},
	{code: "files-owner", args: []string{"-C", "/sys", "clone", drift}},
	{code: "folder-in-the-way", args: []string{"clone", drift, "."}},
	{code: "repository-damaged", args: []string{"log"}, arrange: func(p *person) {
		p.commitIn(".", "one.txt")
		name := strings.TrimSpace(p.mustGit("rev-parse", "HEAD").out)
		p.chmod(0o600, "drift-model", ".git", "objects", name[:2], name[2:])
		p.write("", "drift-model", ".git", "objects", name[:2], name[2:])
	}},
	{code: "program-old", args: []string{"status"}, arrange: func(p *person) {
		p.mustGit("config", "core.repositoryFormatVersion", "7")
	}},
	{code: "file-refused", args: []string{"checkout", "long"}, arrange: func(p *person) {
		blob := strings.TrimSpace(p.run("x", "git", "hash-object", "-w", "--stdin").out)
		tree := strings.TrimSpace(p.run("100644 blob "+blob+"\t"+strings.Repeat("long", 100)+"\n", "git", "mktree").out)
		commit := strings.TrimSpace(p.mustGit("commit-tree", tree, "-m", "long").out)
		p.mustGit("branch", "long", commit)
	}},
	{code: "commit-missing", args: []string{"fetch", "origin", strings.Repeat("1a", 20)}},
}

// TestNothingToPush tells of the difference between the branch here and the one at the host, where
// nothing here would be lost, and stops nobody for it.
func TestNothingToPush(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.mustGit("clone", "--quiet", drift)
	p.mustGit("clone", "--quiet", drift, "second")
	p.commitIn("second", "theirs.txt")
	p.mustGit("-C", "second", "push", "--quiet")
	p.folder = p.path("drift-model")
	p.noted("", "branch-behind", "key-no-passphrase")
	p.mustGit("pull", "--quiet")
	p.mustGit("switch", "--quiet", "--create", "trial")
	p.mustGit("config", "push.default", "current")
	p.noted("", "branch-unknown", "key-no-passphrase")
	p.mustGit("push", "--quiet")
	p.noted("", "key-no-passphrase")
}

// TestHookThatCannotStart is found before a push, for which git would wait for ever.
func TestHookThatCannotStart(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.mustGit("clone", "--quiet", drift)
	p.folder = p.path("drift-model")
	p.write("#!/nowhere/at-all\n", "drift-model", ".git", "hooks", "pre-push")
	p.chmod(0o755, "drift-model", ".git", "hooks", "pre-push")
	c := p.check()
	if c.Open || c.Crux.Code != "hook-here" {
		t.Errorf("the crux is %+v", c.Crux)
	}
	p.performed("hook-here", c).mended = others
	p.write("#!/bin/sh\nexit 0\n", "drift-model", ".git", "hooks", "pre-push")
	if c := p.check(); !c.Open {
		t.Errorf("with a hook that can start the crux is %+v", c.Crux)
	}
}

// TestBeyond lets the real git fail, and explain name the cause from git's words alone.
func TestBeyond(t *testing.T) {
	for _, s := range beyondScenes {
		t.Run(s.code, func(t *testing.T) {
			t.Parallel()
			p := settled(t)
			p.mustGit("clone", "--quiet", drift)
			p.folder = p.path("drift-model")
			if s.arrange != nil {
				s.arrange(p)
			}
			failed := p.git(s.args...)
			if failed.exit == 0 {
				t.Fatalf("git does not fail: %s", failed)
			}
			read := p.explain(failed.out + failed.err)
			if len(read.Causes) == 0 || read.Causes[0].Code != s.code {
				t.Fatalf("explain names %v, want %s: %s", read.codes(), s.code, failed)
			}
			if stageOf(s.code) == causes.Beyond &&
				!strings.Contains(strings.Join(strings.Fields(p.run(failed.out+failed.err, program, "explain").out),
					" "), "not a matter of signing in") {
				t.Error("it is not said that it is no matter of signing in")
			}
			if !s.checked {
				return
			}
			c := p.check()
			p.performed(s.code, c)
			if c.Open || c.Crux.Code != s.code {
				t.Errorf("check finds %+v, want %s", c.Crux, s.code)
			}
		})
	}
}

// commitIn commits a new file in a folder of the current one.
func (p *person) commitIn(folder, name string) {
	p.t.Helper()
	if err := os.WriteFile(p.folder+"/"+folder+"/"+name, []byte(name), 0o600); err != nil {
		p.t.Fatal(err)
	}
	p.mustGit("-C", folder, "add", name)
	p.mustGit("-C", folder, "commit", "--quiet", "--message", name)
}

// bare makes a remote "there" with a hook that is asked about every push.
func (p *person) bare(hook string) {
	p.t.Helper()
	p.mustGit("init", "--quiet", "--bare", p.path("there.git"))
	p.write(hook, "there.git", "hooks", "pre-receive")
	p.chmod(0o755, "there.git", "hooks", "pre-receive")
	p.mustGit("remote", "add", "there", p.path("there.git"))
	p.commitIn(".", "pushed.txt")
}
