package localcheck

import (
	"context"
	"errors"
	"net/url"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/workstation"
)

// A Scene is a question, and the workstation on which it is asked.
type Scene struct {
	Station  *workstation.Station
	Registry *hosts.Registry
	Request  finding.Request
	Config   *gitlink.Config    // git's; empty where hg goes the way
	Hg       *gitlink.Mercurial // nil where git goes the way
}

// Located is where a question leads.
type Located struct {
	Scene
	Question finding.Question
	Address  address.Address
	Host     *describe.Description // nil when the host is not described
	Given    string                // the URL before rewriting
	Rule     *address.Rule         // that rewrote it; nil for none
	Done     bool                  // the way is open, and nothing of it is left to be looked at

	// For a way over HTTPS.
	Base      *url.URL // of the repository; nil for a way over SSH
	Alone     bool     // the host is asked about, and no repository: Base is where they would be
	WebUser   string   // that is in the URL
	WebSecret secret.Text
}

// A Result is what [Locate] found: where the question leads as far as it could be followed, and the crux that stopped
// it.
type Result struct {
	Located
	Part finding.Part
	Crux *finding.Crux // nil where it leads somewhere
}

func (r Result) broke(crux *finding.Crux) Result {
	r.Crux = crux
	return r
}

// ByHg reports whether the question is about Mercurial: where nobody says so, by the repository that the folder is in,
// and else by the login of the URL.
func (s Scene) byHg() bool {
	if s.Request.Program != "" {
		return s.Request.Program == finding.Mercurial
	}
	login, _, found := strings.Cut(strings.TrimPrefix(s.Request.Argument, "ssh://"), "@")
	return gitlink.MercurialRoot(s.Station.Folder) != "" || found && login == "hg"
}

// Program is what goes the way.
func (s Scene) Program() finding.Program {
	if s.Hg != nil {
		return finding.Mercurial
	}
	return finding.Git
}

// OtherProgram is the one that does not.
func (s Scene) OtherProgram() finding.Program {
	if s.Hg != nil {
		return finding.Git
	}
	return finding.Mercurial
}

// SSH is the ssh program that is started.
func (s Scene) SSH() gitlink.SSHCommand {
	if s.Hg != nil {
		return s.Hg.SSH()
	}
	return s.Config.SSH()
}

// Origin says where a setting of ssh's is, as people write paths.
func (s Scene) Origin(origin sshconfig.Origin) string { return s.Station.Tilde(origin.String()) }

// Service is the program at the host that git would ask for.
func (l Located) Service() string {
	if l.Question.Purpose == finding.Push {
		return "git-receive-pack"
	}
	return "git-upload-pack"
}

// HostName is the host as people call it.
func (l Located) HostName() string {
	if l.Host != nil {
		return l.Host.Name
	}
	return l.Address.Host
}

// Undescribed reports whether nobody has described the host: nothing is known of it but where it is.
func (l Located) Undescribed() bool { return l.Host == nil || l.Host.IsLearned() }

// ForAccount is the same question, about the account that the host's alias stands for where nobody named one.
func (l Located) forAccount() Located {
	if l.Host != nil && l.Host.ForAccount != "" && l.Request.Account == "" {
		l.Request.Account = l.Host.ForAccount
	}
	return l
}

// Heads are the branches at the host, by name.
type Heads map[string]string

// readSettings reads what the program that goes the way has settled.
func (s Scene) readSettings(ctx context.Context) (Scene, *finding.Crux, error) {
	if s.byHg() {
		return s.readHg()
	}
	var refused *gitlink.ConfigError
	config, err := gitlink.ReadConfig(ctx, s.Station)
	if s.Config = config; err == nil && s.isForClone() {
		s.Config, err = gitlink.ReadConfigFor(ctx, s.Station, s.newClone())
	}
	switch {
	case errors.Is(err, gitlink.ErrNoGit):
		return s, finding.New(causes.ProgramMissing, finding.Proved, finding.Saw(seen.Missing, "git", "")), nil
	case errors.As(err, &refused):
		return s, finding.New(causes.GitConfigBroken, finding.Proved,
			finding.Saw(seen.GitSays, untrusted.Clean(refused.Message), "")), nil
	}
	return s, nil, err
}

// readHg reads what Mercurial has settled. git's settings do not hold then.
func (s Scene) readHg() (Scene, *finding.Crux, error) {
	if _, err := exec.LookPath("hg"); err != nil {
		return s, finding.New(causes.ProgramMissing, finding.Proved, finding.Saw(seen.Missing, "hg", "")), nil
	}
	var refused *gitlink.ConfigError
	hg, err := gitlink.ReadMercurial(s.Station)
	if errors.As(err, &refused) {
		return s, finding.New(causes.GitConfigBroken, finding.Proved,
			finding.Saw(seen.HgSays, untrusted.Clean(refused.Message), "")), nil
	}
	if err != nil {
		return s, nil, err
	}
	s.Hg, s.Config = hg, gitlink.NoConfig(s.Station)
	return s, nil, nil
}

// isForClone reports whether the question is about a clone that there is not yet, for which other settings may hold
// than here: the URL is no remote's.
func (s Scene) isForClone() bool {
	url := s.Request.Argument
	if !strings.Contains(url, ":") || s.Station.Gone || !s.Config.DependsOnFolder() {
		return false
	}
	return !slices.ContainsFunc(s.Config.Remotes(), func(name string) bool {
		pushed, own := s.Config.PushURLs(name)
		fetched := s.Config.All("remote." + name + ".url")
		return s.leadsTo(url, fetched, false, false) || s.leadsTo(url, pushed, true, own)
	})
}

// leadsTo reports whether one of a remote's URLs is a URL, as it is written there or as git rewrites it.
func (s Scene) leadsTo(url string, entries []gitlink.Entry, push, own bool) bool {
	return slices.ContainsFunc(entries, func(e gitlink.Entry) bool {
		rewritten, _ := address.Rewrite(e.Value, s.Config.Rules(), push, own)
		return e.Value == url || rewritten == url
	})
}

// newClone is the clone that the question is about.
func (s Scene) newClone() gitlink.NewClone {
	clone := gitlink.NewClone{URL: s.Request.Argument, Folder: s.Request.Into}
	if clone.Folder == "" {
		clone.Folder = filepath.Join(s.Station.Folder, gitlink.GuessFolder(clone.URL))
	}
	return clone
}
