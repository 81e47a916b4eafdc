package gitlink

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"anchorage.example/unicrux/agreement"
	"anchorage.example/unicrux/core/person"
	"anchorage.example/unicrux/core/workstation"
)

// conditions of includes; HOME is the home, as it is written there.
var conditions = []string{
	"gitdir:~/tide/", "gitdir:~/tide", "gitdir:~/tide/**", "gitdir:~/tide/*", "gitdir:~/tide/*/.git", "gitdir:~/TIDE/",
	"gitdir/i:~/TIDE/", "gitdir:~/", "gitdir:~/link/",
	"gitdir:tide/", "gitdir:./tide/", "gitdir:./", "gitdir:./t[i]de/", "gitdir:/", "gitdir:**/tide/**",
	"gitdir:**/.git", "gitdir:HOME/tide/", "gitdir:HOME/t?de/**/.git", "gitdir:HOME/t*", "gitdir:HOME/**/.git",
	"gitdir:x.git", "gitdir:x/.git", "gitdir:~/[a-z]ide/", "gitdir:~/[!t]ide/", "gitdir:~/[[:alpha:]]ide/",
	"gitdir:~/t\\\\ide/", "gitdir:~/ti**/", "gitdir:~/***/", "gitdir:~/[t", "gitdir:~/tide/deep/**/",
	"hasconfig:remote.*.url:ssh://**", "hasconfig:remote.*.url:ssh://git@forge.example/**",
	"hasconfig:remote.*.url:ssh://*/x.git", "hasconfig:remote.*.url:**", "hasconfig:remote.*.url:*.git",
	"onbranch:main", "onbranch:ma*", "onbranch:master", "onbranch:m/", "unknown:x", "gitdir:",
}

// TestCloneSettingsAgree asks git which ssh it starts while it makes a clone, and us which it will.
func TestCloneSettingsAgree(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(16, 4))
	pick := func(list ...string) string { return list[random.IntN(len(list))] }
	met := map[string]int{}
	tally := agreement.Of(t, "git: which ssh it starts for a clone")
	for round := range agreement.Rounds(60) {
		home, err := filepath.EvalSymlinks(t.TempDir())
		if err != nil {
			t.Fatal(err)
		}
		ssh := filepath.Join(home, "ssh")
		put := func(text, path string, mode os.FileMode) {
			t.Helper()
			if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := agreement.WriteProgram(path, []byte(text), mode); err != nil {
				t.Fatal(err)
			}
		}
		put("#!/bin/sh\necho \"$1\" >'"+home+"/met'\nexit 1\n", ssh, 0o755)
		for _, folder := range []string{"tide/deep", "other"} {
			if err := os.MkdirAll(filepath.Join(home, folder), 0o755); err != nil {
				t.Fatal(err)
			}
		}
		if err := os.Symlink("tide", filepath.Join(home, "link")); err != nil {
			t.Fatal(err)
		}
		starts := func(n int) string { return fmt.Sprintf("[core]\n\tsshCommand = '%s' %d\n", ssh, n) }
		text := starts(0) + pick("", "[init]\n\tdefaultBranch = main\n")
		for n := 1; n < 5; n++ {
			condition := strings.ReplaceAll(pick(conditions...), "HOME", home)
			text += fmt.Sprintf("[includeIf \"%s\"]\n\tpath = %s\n", condition,
				pick("", "~/", home+"/")+"inc"+strconv.Itoa(n))
			inner := starts(n)
			if n == 2 {
				inner += "[includeIf \"gitdir:./tide/deep/\"]\n\tpath = inc9\n"
				put(starts(9), filepath.Join(home, "inc9"), 0o644)
			}
			put(inner, filepath.Join(home, "inc"+strconv.Itoa(n)), 0o644)
		}
		put(text, filepath.Join(home, ".gitconfig"), 0o644)
		folder := filepath.Join(home, pick("tide", "tide/deep", "link", "other", "."), pick("x", "x.git", "new"))
		url := pick("ssh://git@forge.example/x.git", "ssh://forge.example/deep/x", "ssh://git@other.example:2222/x.git")
		environ := []string{"HOME=" + home, "PATH=" + os.Getenv("PATH"), "GIT_CONFIG_NOSYSTEM=1",
			"GIT_TERMINAL_PROMPT=0"}
		git := exec.Command("git", "clone", "--quiet", "--", url, folder)
		git.Dir, git.Env = home, environ
		said, err := git.CombinedOutput()
		if err == nil {
			t.Fatalf("a clone of nothing: %s", said)
		}
		theirs, err := os.ReadFile(filepath.Join(home, "met"))
		if err != nil {
			t.Fatalf("round %d: %v: %s\n%s into %s\n%s", round, err, said, url, folder, text)
		}
		s := &workstation.Station{Person: person.Person{Home: home, Environ: environ}, Folder: home}
		c, err := ReadConfigFor(t.Context(), s, NewClone{URL: url, Folder: folder})
		if err != nil {
			t.Fatal(err)
		}
		command, _ := c.Last("core.sshcommand")
		ours := command.Value[strings.LastIndexByte(command.Value, ' ')+1:]
		tally.Case(ours == strings.TrimSpace(string(theirs)), "round %d: %s into %s: git %swe %s\n%s", round, url,
			folder, theirs, ours, text)
		met[string(theirs)]++
	}
	if len(met) < 4 {
		t.Errorf("too few kinds were met: %v", met)
	}
}
