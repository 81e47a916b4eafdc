package find

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"unicode"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/sshway"
	"anchorage.example/unicrux/core/workstation"
)

// A Risk is something that is not as it should be with a key.
type Risk string

// The risks, the most urgent first.
const (
	Exposed    Risk = "exposed"       // others may read the private half
	Tracked    Risk = "tracked"       // a repository holds the private half
	Mismatched Risk = "mismatched"    // the public file belongs to another key
	Unreadable Risk = "unreadable"    // a private half that ssh does not read
	Weak       Risk = "weak"          // of a kind or size that does not hold any more
	Forbidden  Risk = "forbidden"     // of a kind or size that the policy of the machine forbids
	Unlocked   Risk = "no-passphrase" // whoever copies the file can use it
	InTheOpen  Risk = "in-repository" // inside a repository, and not part of it yet
	Twice      Risk = "twice"         // the same key lies somewhere else as well
	Astray     Risk = "odd-place"     // outside the ssh folder, and no setting points to it
	Idle       Risk = "unused"        // in the ssh folder, and neither a setting nor ssh's habit leads to it
	NoPublic   Risk = "no-public"     // the public half is not beside it
	NoPrivate  Risk = "no-private"    // a public key alone
)

// order ranks the risks.
var order = []Risk{Exposed, Tracked, Mismatched, Unreadable, Weak, Forbidden, Unlocked, InTheOpen, Twice, Astray,
	Idle, NoPublic, NoPrivate}

// ErrNoFolder is returned for what cannot be looked through.
var ErrNoFolder = fault.New("find-no-folder", fault.Failed, "there is no such folder")

// A Found is a key file, or a public half that lies alone.
type Found struct {
	Path       string
	Pair       *sshkey.Pair        // nil for a public key alone, and where Err is not
	Public     ssh.PublicKey       // nil when it is not known
	Err        error               // why ssh does not read the private half
	Repository string              // around it; empty for none
	Mentions   []sshconfig.Mention // settings that point to it
	Twin       string              // the path of the same key that is to be kept
	Risks      []Risk              // the most urgent first
}

// A Result is what a search brought.
type Result struct {
	Keys  []Found // those with the most urgent risks first
	Files int     // looked at, most of them by name
	Cut   bool    // a limit was reached, so there may be more
}

// Find looks for keys in folders and all below them.
func Find(ctx context.Context, station *workstation.Station, dirs []string, progress Progress) (*Result, error) {
	s := search{station: station, seen: map[string]bool{}}
	w := walk{ctx: ctx, progress: progress, visit: s.visit}
	for _, dir := range dirs {
		if info, err := os.Stat(dir); err != nil || !info.IsDir() {
			return nil, fmt.Errorf("%s: %w", station.Tilde(dir), ErrNoFolder)
		}
		dir, err := filepath.EvalSymlinks(dir)
		if err != nil {
			return nil, err
		}
		device, _ := deviceOf(dir)
		if err := w.below(dir, around(dir), device, maxDepth); err != nil {
			return nil, err
		}
	}
	s.judge(ctx)
	return &Result{Keys: s.found, Files: w.files, Cut: w.cut || len(s.found) >= maxKeys}, nil
}

// A search gathers what a walk visits.
type search struct {
	station *workstation.Station
	seen    map[string]bool
	found   []Found
}

// visit takes a file that may be a key.
func (s *search) visit(path, repository string) {
	if s.seen[path] || len(s.found) >= maxKeys || strings.ContainsFunc(path, unicode.IsControl) {
		return // a name that would steer a terminal is no person's
	}
	s.seen[path] = true
	switch what := sniff(path); {
	case what == private:
		pair, err := sshkey.Load(path)
		f := Found{Path: path, Pair: pair, Err: err, Repository: repository}
		if pair != nil {
			f.Public = pair.Public
		}
		s.found = append(s.found, f)
	case what == public && strings.HasSuffix(path, ".pub"):
		if _, err := os.Lstat(strings.TrimSuffix(path, ".pub")); err == nil {
			return // told with its private half
		}
		if text, err := regular.Read(path, sshkey.MaxFileBytes); err == nil {
			if key, _, err := sshkey.ParseLine(text); err == nil {
				s.found = append(s.found, Found{Path: path, Public: key, Repository: repository})
			}
		}
	}
}

// judge tells of each key what is not as it should be, and sorts.
func (s *search) judge(ctx context.Context) {
	mentions := Mentions(s.station)
	for i := range s.found {
		s.found[i].Mentions = mentions[s.found[i].Path]
	}
	s.pair()
	for i := range s.found {
		f := &s.found[i]
		for _, risk := range order {
			if s.holds(ctx, f, risk) {
				f.Risks = append(f.Risks, risk)
			}
		}
	}
	slices.SortStableFunc(s.found,
		func(a, b Found) int { return cmp.Or(cmp.Compare(a.rank(), b.rank()), cmp.Compare(a.Path, b.Path)) })
}

func (f Found) rank() int {
	if len(f.Risks) == 0 {
		return len(order)
	}
	return slices.Index(order, f.Risks[0])
}

// Surveys are the files of the person's settings for ssh: those that ssh reads by itself, and
// where that is another home, ours as well.
func Surveys(station *workstation.Station) []sshconfig.Query {
	list := []sshconfig.Query{{Person: gitlink.PersonOf(station)}}
	if !station.SameHome() {
		list = append(list, sshconfig.Query{Person: gitlink.PersonOf(station),
			Command: sshconfig.CommandLine{Config: filepath.Join(station.SSHDir(), "config")}})
	}
	return list
}

// Mentions finds every line of the person's settings that names a key file, by its path.
// Where ssh reads another home, both files count: git may be told to use ours.
func Mentions(station *workstation.Station) map[string][]sshconfig.Mention {
	found := map[string][]sshconfig.Mention{}
	for _, query := range Surveys(station) {
		for _, mention := range sshconfig.KeyFiles(query) {
			found[mention.Path] = append(found[mention.Path], mention)
		}
	}
	return found
}

// pair finds keys that lie in several files. The one that settings name is kept, else one
// in the ssh folder, else the first.
func (s *search) pair() {
	groups := map[string][]int{}
	for i, f := range s.found {
		if f.Pair != nil && f.Public != nil {
			blob := string(f.Public.Marshal())
			groups[blob] = append(groups[blob], i)
		}
	}
	for _, group := range groups {
		keep := slices.MinFunc(group, func(a, b int) int {
			return cmp.Or(cmp.Compare(s.distance(a), s.distance(b)), cmp.Compare(s.found[a].Path, s.found[b].Path))
		})
		for _, i := range group {
			if i != keep {
				s.found[i].Twin = s.found[keep].Path
			}
		}
	}
}

func (s *search) distance(i int) int {
	switch f := s.found[i]; {
	case len(f.Mentions) > 0:
		return 0
	case s.inSSHFolder(f):
		return 1
	}
	return 2
}

func (s *search) inSSHFolder(f Found) bool { return filepath.Dir(f.Path) == s.station.SSHDir() }

// holds tells whether a risk holds for a key.
func (s *search) holds(ctx context.Context, f *Found, risk Risk) bool {
	switch {
	case risk == Tracked:
		return f.hasPrivate() && f.Repository != "" && tracked(ctx, s.station, f.Repository, f.Path)
	case risk == InTheOpen:
		return f.hasPrivate() && f.Repository != "" && !slices.Contains(f.Risks, Tracked)
	case risk == Unreadable:
		return f.Err != nil
	case risk == NoPrivate:
		return !f.hasPrivate() && f.Twin == ""
	case risk == Weak:
		return f.Public != nil && f.hasPrivate() && sshkey.IsWeak(f.Public)
	case risk == Twice:
		return f.Twin != ""
	}
	return f.Pair != nil && s.holdsForPair(f, risk)
}

func (f *Found) hasPrivate() bool { return f.Pair != nil || f.Err != nil }

func (s *search) holdsForPair(f *Found, risk Risk) bool {
	person := gitlink.PersonOf(s.station)
	person.Home = s.station.Home
	led := len(f.Mentions) > 0 || sshconfig.IsDefaultKey(person, f.Path)
	switch risk {
	case Exposed:
		return sshway.IsExposed(f.Pair.Mode)
	case Mismatched:
		return errors.Is(f.Pair.PublicBad, sshkey.ErrOtherKey)
	case Unlocked:
		return !f.Pair.Locked
	case Astray:
		return !led && !s.inSSHFolder(*f)
	case Idle:
		return !led && s.inSSHFolder(*f)
	case NoPublic:
		return !f.Pair.HasPublic
	}
	return false
}

// tracked tells whether a file is part of a repository. git is asked where its list cannot be read here; what that
// repository's settings would run is not run.
func tracked(ctx context.Context, station *workstation.Station, repository, path string) bool {
	if _, err := os.Stat(filepath.Join(repository, ".git")); err == nil {
		if tracks, known := gitlink.Tracks(repository, path); known {
			return tracks
		}
	}
	_, err := gitlink.Run(ctx, station, "-C", repository, "-c", "core.fsmonitor=false", "ls-files",
		"--error-unmatch", "--", path)
	return err == nil
}

// A likeness is what a file looks like.
type likeness int

const (
	neither likeness = iota
	private
	public
)

// sniff reads the beginning of a file.
func sniff(path string) likeness {
	f, err := regular.Open(path)
	if err != nil {
		return neither
	}
	defer f.Close() // opened for reading
	head := make([]byte, 512)
	n, _ := f.Read(head)
	head = head[:n]
	switch {
	case bytes.Contains(head, []byte("-----BEGIN ")) && bytes.Contains(head, []byte("PRIVATE KEY-----")):
		return private
	case bytes.HasPrefix(head, []byte("ssh-")), bytes.HasPrefix(head, []byte("ecdsa-")),
		bytes.HasPrefix(head, []byte("sk-")):
		return public
	}
	return neither
}
