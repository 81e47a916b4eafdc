package acceptance

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"anchorage.example/unicrux/agreement"
)

// A situation is what a case of the comparison with git is made of: files, settings and a URL.
type situation struct {
	p       *person
	url     string
	config  []string // lines of ssh's settings, before those that lead to the host
	base    []string // those that do
	known   string
	options []string // of git: settings as -c would have them
	environ []string
	files   [][2]string // by path, with what is in them
	twists  []string    // what was done, to be told
}

// A twist changes a situation; words say how.
type twist struct {
	words string
	do    func(s *situation)
}

func (s *situation) String() string {
	return fmt.Sprintf(
		"%s\n%s\nssh's settings:\n%s\ngit's: %q, environment: %q, files: %q",
		s.url,
		strings.Join(s.twists, "; "),
		strings.Join(append(s.config, s.base...), "\n"),
		s.options,
		s.environ,
		s.files,
	)
}

// line puts a line first into ssh's settings, where it wins.
func line(text string) twist {
	return twist{text, func(s *situation) { s.config = append(s.config, text) }}
}

// option sets one of git's.
func option(text string) twist {
	return twist{"git: " + text, func(s *situation) { s.options = append(s.options, text) }}
}

// variable sets a variable of the environment; a later one wins.
func variable(text string) twist {
	return twist{"environment: " + text, func(s *situation) { s.environ = append(s.environ, text) }}
}

func draw(random *rand.Rand, s *situation, twists []twist) {
	for range random.IntN(4) {
		t := twists[random.IntN(len(twists))]
		s.twists = append(s.twists, t.words)
		t.do(s)
	}
}

// tryCases compares check with git over generated situations: the way is open exactly where git gets there.
func tryCases(t *testing.T, class string, rounds int, fresh func() *situation, twists []twist,
	write func(s *situation)) {
	t.Helper()
	tally := agreement.Of(t, class)
	seed := uint64(20261128) // the same cases each time; make fuzz draws others
	if os.Getenv("UNICRUX_ROUNDS") != "" {
		seed = uint64(os.Getpid())
	}
	for i := range agreement.Rounds(rounds) {
		if only := os.Getenv("UNICRUX_CASE"); only != "" && only != strconv.Itoa(i) { // to look at one of them again
			continue
		}
		random := rand.New(rand.NewPCG(seed, uint64(i)))
		s := fresh()
		draw(random, s, twists)
		write(s)
		real := s.p.listRemote(s.url)
		write(s) // git makes its helpers forget what was refused
		c := s.p.check("--timeout", "30s", s.url)
		if c.Crux != nil && strings.Contains(strings.Join(c.Crux.Evidence, " "), "its command was not run") {
			write(s)
			c = s.p.check("--timeout", "30s", "--run-commands", s.url)
		}
		if c.Crux != nil && real.exit == 0 { // the list of refs may come where nothing else does
			write(s)
			real = s.p.lists("clone", "--bare", "--quiet", s.url, filepath.Join(t.TempDir(), "clone"))
		}
		tally.Case(
			c.Open == (real.exit == 0),
			"case %d of %d: %s\ngit: %s\ncheck: open %v, %+v",
			i,
			seed,
			s,
			real,
			c.Open,
			c.Crux,
		)
	}
}

// listRemote lets git list the refs of a URL.
func (p *person) listRemote(url string) result { return p.lists("ls-remote", url) }

// lists lets git ask a host, and ends it with its ssh where they wait for ever.
func (p *person) lists(args ...string) result {
	p.t.Helper()
	cmd := exec.Command("timeout", append([]string{"-k", "1", "40", "git"}, args...)...)
	cmd.Dir, cmd.Env, cmd.WaitDelay = p.folder, p.environ(), time.Second
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	_ = cmd.Run() // how it ended is in its state
	return result{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
}

// variables is the environment of a situation: git's settings go by it too (GIT_CONFIG_COUNT in git-config(1)).
func (s *situation) variables() []string {
	list := append([]string{}, s.environ...)
	for i, text := range s.options {
		key, value, _ := strings.Cut(text, "=")
		list = append(
			list,
			fmt.Sprintf("GIT_CONFIG_KEY_%d=%s", i, key),
			fmt.Sprintf("GIT_CONFIG_VALUE_%d=%s", i, value),
		)
	}
	return append(list, fmt.Sprintf("GIT_CONFIG_COUNT=%d", len(s.options)))
}
