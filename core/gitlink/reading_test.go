package gitlink

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"anchorage.example/unicrux/agreement"
	"anchorage.example/unicrux/core/person"
	"anchorage.example/unicrux/core/workstation"
)

// A scenery makes folders, files and environments at random, in all ways in which git's configuration is found.
type scenery struct {
	*rand.Rand

	home string // its real path
}

func (s scenery) pick(list ...string) string { return list[s.IntN(len(list))] }

// in is true once in n times.
func (s scenery) in(n int) bool { return s.IntN(n) == 0 }

func (s scenery) put(t *testing.T, text string, path ...string) {
	t.Helper()
	at := filepath.Join(append([]string{s.home}, path...)...)
	if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(at, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// value is one as people and programs write it, or as nobody would.
func (s scenery) value() string {
	return s.pick("tide", "", "true", "\"quoted # text\"", "a b  c", "  spaces \t ", "x ; y", "x#y", `a\tb\nc\\d\"e`,
		"\"a\\\n  b\"", "one \\\ntwo", "one\\\r\ntwo", `"" x`, `a "" b`, "ü → \xff", "!f() { echo; }; f", `"a`,
		`bad \q`,
		"trail\\", "a\rb", "x \"y\"z ", "no\x00thing", "12k", "--", "=", "'")
}

// lines are some variables, with what they include.
func (s scenery) lines() string {
	var b strings.Builder
	if s.in(20) {
		b.WriteString("\ufeff")
	}
	for range s.IntN(5) {
		b.WriteString(s.pick("[core]", "[User]", "[a.B]", "[a \"B c\"]", "[remote \"origin\"]", "[url \"x]\\\"y\"]",
			"[a-1]", "[ \t",
			"[credential \"https://forge.example\"]  # why", "[safe]", "# nothing", "\n; nothing", "[x\"y\"]",
			"[init]"))
		b.WriteString(s.pick("\n", "\n", "\r\n", " ", "\n\t"))
		for range s.IntN(3) {
			name := s.pick("url", "Name", "helper", "x-1", "directory", "defaultBranch", "1x", "a_b", "bareRepository")
			b.WriteString(s.pick("\t", "", "  ") + name + s.pick("=", " = ", " ", "\n=") + s.value() + s.pick("\n",
				"\n", "\r\n", ""))
		}
	}
	return b.String()
}

// sensible leaves out what git refuses: one file of those would hide everything else.
func (s scenery) sensible() string {
	for {
		text := s.lines()
		if _, ok := syntaxOf([]byte(text)); ok || s.in(300) {
			return text
		}
	}
}

func (s scenery) includes() string {
	condition := s.pick(slices.Concat(conditions, []string{"gitdir:~/repo/", "gitdir:repo/.git", "gitdir:./repo/**",
		"gitdir:~/REPO/",
		"gitdir/i:~/REPO/", "gitdir:worktrees/w", "gitdir:**/worktrees/*", "gitdir:bare.git", "gitdir:HOME/link/",
		"onbranch:tide/",
		"onbranch:tide/**", "onbranch:*", "onbranch:**", "hasconfig:remote.*.url:y", "hasconfig:remote.*.url:ti*",
		"gitdir:~root/",
		"gitdir:%(prefix)/x", "onbranch:other", "gitdir:sub/", "gitdir:~"})...)
	head := "[includeIf \"" + strings.ReplaceAll(condition, "HOME", s.home) + "\"]"
	if s.in(3) {
		head = "[include]"
	}
	return head + "\n\tpath = " + s.pick("", "~/", s.home+"/", "./", "%(prefix)/", "../", s.pick("", "", "",
		"~nobody-here/")) +
		s.pick("inc1", "inc2", "inc3", "inc1", "inc2", "missing", "inc1/below", s.pick("inc3", "inc3", "folder")) + "\n"
}

// text is what stands in one file.
func (s scenery) text() string {
	text := s.sensible()
	for range s.IntN(3) {
		text += "\n" + s.includes()
	}
	if s.in(3) {
		text += "\n" + s.sensible()
	}
	return text
}

// repository makes one, with its own settings.
func (s scenery) repository(t *testing.T, at ...string) {
	t.Helper()
	dir := filepath.Join(at...)
	s.put(t, s.pick("ref: refs/heads/main\n", "ref: refs/heads/tide/gauge\n", "ref: refs/heads/master",
		"ref:refs/heads/deep\n",
		strings.Repeat("a1", 20)+"\n", "ref: refs/tags/x\n", "ref: refs/heads/main\n", "nothing\n"), dir, "HEAD")
	s.put(t, "ref: refs/heads/other\n", dir, "refs/heads/deep")
	s.put(t, strings.Repeat("b2", 20)+"\n", dir, "refs/heads/main")
	s.put(t, "", dir, "objects/info/keep")
	if !s.in(10) {
		version := s.pick("", "\trepositoryformatversion = 0\n", "\trepositoryformatversion = 0\n",
			"\trepositoryformatversion = 1\n",
			"\trepositoryFormatVersion = 0\n", "\trepositoryformatversion = 2\n",
			"\trepositoryformatversion = \" 0x1\"\n")
		more := s.pick("", "", "[extensions]\n\tworktreeConfig = true\n", "[extensions]\n\tworktreeConfig\n",
			"[extensions]\n\tnew = 1\n",
			"[extensions]\n\tobjectFormat = sha1\n", "[extensions]\n\tworktreeConfig = no\n",
			s.pick("", "", "", "[extensions]\n\tworktreeConfig = maybe\n"))
		s.put(t, "[core]\n"+version+s.pick("", "\tbare = false\n", "\tbare = true\n")+more+
			"[remote \"origin\"]\n\turl = "+s.pick("ssh://git@forge.example/x.git", "tide", "y")+"\n"+s.text(), dir,
			"config")
	}
	if s.in(2) {
		s.put(t, "[worktree]\n\tmain = 1\n"+s.text(), dir, "config.worktree")
	}
}

// TestReadingAgrees asks git what it has settled, and us.
func TestReadingAgrees(t *testing.T) {
	t.Parallel()
	tally := agreement.Of(t, "git: its configuration, with where it stands")
	met := map[string]int{}
	for round := range agreement.Rounds(800) {
		home, err := filepath.EvalSymlinks(t.TempDir())
		if err != nil {
			t.Fatal(err)
		}
		s := scenery{Rand: rand.New(rand.NewPCG(21, uint64(round))), home: home}
		folder, environ := s.everything(t)
		theirs, kind := gitsOwn(t, home, folder, environ)
		met[kind]++
		station := &workstation.Station{Person: person.Person{Home: home, Environ: environ}, Folder: folder}
		ours, err := ownReading(station)
		text := strings.Join(ours, "\n")
		switch {
		case errors.Is(err, errLeft):
			met["left"]++
			continue
		case err != nil:
			text = "refused"
		}
		tally.Case(text == strings.Join(theirs, "\n"), "round %d in %s with %q (%v)\n--- git\n%s\n--- we\n%s",
			round, folder,
			environ, err, strings.Join(theirs, "\n"), text)
	}
	if len(met) < 6 || met["local"] < agreement.Rounds(800)/6 {
		t.Errorf("too few kinds were met: %v", met)
	}
}

// everything makes a home with all of it, and says where git is asked, and with which environment.
func (s scenery) everything(t *testing.T) (folder string, environ []string) {
	t.Helper()
	for _, name := range []string{"inc1", "inc2", "inc3"} {
		text := s.sensible()
		if s.in(3) {
			text += "\n" + s.includes()
		}
		s.put(t, text, name)
	}
	s.put(t, "", "folder", "nothing")
	s.put(t, s.text(), "system")
	if !s.in(4) {
		s.put(t, s.text(), ".gitconfig")
	}
	if s.in(3) {
		s.put(t, s.text(), ".config", "git", "config")
	}
	s.put(t, s.text(), "global")
	s.put(t, "", "repo", "sub", "deep", "keep")
	s.repository(t, "repo", ".git")
	if s.in(2) {
		s.repository(t, "bare.git")
	}
	s.put(t, "gitdir: "+s.pick(s.home+"/repo/.git/worktrees/w", "../repo/.git/worktrees/w")+s.pick("\n", ""),
		"tree", ".git")
	s.put(t, "ref: refs/heads/other\n", "repo", ".git", "worktrees", "w", "HEAD")
	s.put(t, "../..\n", "repo", ".git", "worktrees", "w", "commondir")
	if s.in(2) {
		s.put(t, "[worktree]\n\tw = 1\n", "repo", ".git", "worktrees", "w", "config.worktree")
	}
	if s.in(10) {
		s.put(t, s.pick("gitdir: nowhere\n", "nothing\n", "gitdir: \n"), "repo", "sub", ".git")
	}
	if err := os.Symlink("repo", filepath.Join(s.home, "link")); err != nil {
		t.Fatal(err)
	}
	return s.asked(t)
}

func (s scenery) asked(t *testing.T) (folder string, environ []string) {
	t.Helper()
	folder = s.pick("repo", "repo", "repo/sub/deep", "link/sub", "link", "tree", "bare.git", "bare.git/refs",
		"repo/.git", ".", "folder")
	if _, err := os.Stat(filepath.Join(s.home, folder)); err != nil {
		folder = "repo"
	}
	folder = filepath.Join(s.home, folder)
	environ = []string{"PATH=" + os.Getenv("PATH"), "GIT_CONFIG_SYSTEM=" + s.home + "/system"}
	if !s.in(10) {
		environ = append(environ, "HOME="+s.home)
	}
	for _, line := range []string{"XDG_CONFIG_HOME=" + s.home + "/.config", "GIT_CONFIG_GLOBAL=" +
		s.pick(s.home+"/global", "", "global"),
		"GIT_CONFIG_NOSYSTEM=" + s.pick("1", "0", "", "yes", "on", "often"), "GIT_DIR=" +
			s.pick(s.home+"/repo/.git", ".git", "nowhere",
				s.home+"/tree/.git", "../bare.git"), "GIT_CEILING_DIRECTORIES=" + s.pick(s.home+"/repo",
			s.home+"/repo/sub", "relative", s.home,
			":"+s.home+"/link", s.home+"/link", s.home+"/repo/"), "PWD=" + folder, "PWD=" + folder + "/.",
		"GIT_COMMON_DIR=" + s.home + "/repo/.git", "GIT_DISCOVERY_ACROSS_FILESYSTEM=1", "GIT_OBJECT_DIRECTORY=" +
			s.home,
		"GIT_CONFIG_PARAMETERS=" + s.pick("'user.name=tide'", "'user.name'='it'\\''s'", "'core.bare' 'a.b'=",
			"user.name=x", "'a'", "",
			"'include.path'='"+s.home+"/inc1'", "'safe.bareRepository=explicit'", "'x.y'= 'A.b.C=d'", "'x.y'=z")} {
		if s.in(12) {
			environ = append(environ, line)
		}
	}
	if s.in(6) {
		environ = append(environ, "GIT_CONFIG_COUNT="+s.pick("1", "1", "1", "1", "2", "x", ""),
			"GIT_CONFIG_KEY_0="+s.pick("user.name",
				"Remote.Origin.URL", "includeIf.gitdir:**.path", "includeIf.gitdir:./.path", "include.path", "bad",
				"a.b_c", "a.B.c"),
			"GIT_CONFIG_VALUE_0="+s.pick("x", "", s.home+"/inc2", "inc2"))
	}
	return folder, environ
}

// gitsOwn is what git lists, one line for each variable, and which is the narrowest scope it met.
func gitsOwn(t *testing.T, home, folder string, environ []string) (lines []string, kind string) {
	t.Helper()
	git := exec.Command("git", "config", "--list", "--null", "--show-scope", "--show-origin")
	git.Dir, git.Env = folder, environ
	out, err := git.Output()
	if err != nil {
		return []string{"refused"}, "refused"
	}
	top := gitsFolder(t, folder, environ)
	for _, entry := range parseList(out) {
		if entry.Origin != commandLine && !filepath.IsAbs(entry.Origin) {
			entry.Origin = filepath.Join(top, entry.Origin)
		}
		lines, kind = append(lines, listed(entry)), entry.Scope
	}
	return lines, kind
}

// gitsFolder is where git goes on, from where it names files.
func gitsFolder(t *testing.T, folder string, environ []string) string {
	t.Helper()
	git := exec.Command("git", "-c", "alias.where=!pwd -P", "where")
	git.Dir, git.Env = folder, append(slices.Clone(environ), "GIT_CONFIG_PARAMETERS=")
	out, err := git.Output()
	if err != nil {
		return folder
	}
	return strings.TrimSpace(string(out))
}

// ownReading is what we read; files are named without what links and dots do to their names.
func ownReading(station *workstation.Station) ([]string, error) {
	where, err := placeOf(station)
	if err != nil {
		return nil, err
	}
	r := &reading{station: station, where: where}
	if err := r.all(); err != nil {
		return nil, err
	}
	var lines []string
	for _, entry := range r.entries {
		lines = append(lines, listed(entry))
	}
	return lines, nil
}

func listed(entry Entry) string {
	if entry.Origin != commandLine {
		entry.Origin = realPath(entry.Origin)
	}
	return fmt.Sprintf("%s %s %s=%q", entry.Scope, entry.Origin, entry.Key, entry.Value)
}
