package address

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"anchorage.example/unicrux/agreement"
)

// TestAgreesWithGit compares what we read in a clone URL with what git starts ssh with, over generated
// URLs. Where we refuse a URL, git may be less strict; what we accept, git must go to as we say.
func TestAgreesWithGit(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	asked, recorder := filepath.Join(dir, "asked"), filepath.Join(dir, "ssh")
	if err := agreement.WriteProgram(recorder,
		[]byte("#!/bin/sh\nfor word; do printf '%s\\n' \"$word\"; done >"+asked+"\nexit 1\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	compared := 0
	tally := agreement.Of(t, "git: URLs of ssh")
	for seed := range agreement.Rounds(1200) {
		r := rand.New(rand.NewPCG(uint64(seed), 16))
		pick := func(words ...string) string { return words[r.IntN(len(words))] }
		user := pick("", "", "git@", "ines.marlow@", "git:word@", "a@b@")
		host := pick("forge.example", "forge.example", "Forge", "127.0.0.1", "::1", "[::1]", "")
		port := pick("", "", ":22", ":2222", ":", ":x", ":0")
		path := pick("a/b.git", "/a/b.git", "~ines/b", "/~ines/b", "a b", "a%20b", "", "/", "x?y=1", "x#y")
		text := pick("ssh://", "ssh://", "git+ssh://", "SSH://", "ssh+git://") + user + host + port + "/" + path
		if r.IntN(2) == 0 {
			text = pick(user+host+":"+path, "["+user+host+port+"]:"+path, user+"["+host+port+"]:"+path,
				user+host+port+":"+path)
		}
		ours, err := Parse(text)
		if err != nil || ours.Scheme != "ssh" {
			continue
		}
		compared++
		_ = os.Remove(asked) // it may not be there
		cmd := exec.Command("git", "-c", "ssh.variant=ssh", "ls-remote", "--", text)
		cmd.Dir, cmd.Env = dir, []string{"PATH=" + os.Getenv("PATH"), "HOME=" + dir, "GIT_CONFIG_NOSYSTEM=1",
			"GIT_SSH=" + recorder, "GIT_CEILING_DIRECTORIES=" + filepath.Dir(dir)}
		said, _ := cmd.CombinedOutput() // it fails in any case
		theirs, err := os.ReadFile(asked)
		if err != nil {
			tally.Case(false, "%q: we read %+v, and git does not start ssh: %s", text, ours, said)
			continue
		}
		words := strings.Split(strings.TrimSuffix(string(theirs), "\n"), "\n")
		port = ""
		for i, word := range words {
			if word == "-p" {
				port = words[i+1]
			}
		}
		want := fmt.Sprintf("%s %s %s", port, words[len(words)-2], words[len(words)-1])
		target := ours.Host
		if ours.User != "" {
			target = ours.User + "@" + target
		}
		port = ""
		if ours.Port != 0 {
			port = fmt.Sprint(ours.Port)
		}
		got := fmt.Sprintf("%s %s git-upload-pack '%s'", port, target, ours.Path)
		tally.Case(got == want, "%q: we read %q, git starts ssh with %q", text, got, want)
	}
	if compared < 100 {
		t.Errorf("only %d URLs were compared", compared)
	}
}
