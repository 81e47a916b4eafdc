package diagnose

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/sshway"
	"anchorage.example/unicrux/core/untrusted"
)

// locate passes the stage of the address: where does the question lead?
func (c *checker) locate(ctx context.Context) (*Crux, error) {
	start := time.Now()
	c.way.Question = Question{Purpose: c.purpose(Clone), Transport: "ssh"} // until more is known
	if strings.HasPrefix(c.request.Argument, "http") {
		c.way.Question.Transport = "https"
	}
	prepare := func() (*Crux, error) { return c.prepareGit(ctx) }
	if c.byHg() {
		prepare = c.prepareHg
	}
	if broken, err := prepare(); broken != nil || err != nil {
		return broken, err
	}
	text, found, err := c.target(ctx)
	if found != nil || err != nil {
		return found, err
	}
	if text == "" { // a host alone
		c.way.open(Address, time.Since(start))
		return nil, nil
	}
	return c.read(ctx, text, start)
}

// prepareGit reads what git has settled.
func (c *checker) prepareGit(ctx context.Context) (*Crux, error) {
	var refused *gitlink.ConfigError
	var err error
	if c.config, err = gitlink.ReadConfig(ctx, c.station); err == nil && c.isForClone() {
		c.config, err = gitlink.ReadConfigFor(ctx, c.station, c.newClone())
	}
	switch {
	case errors.Is(err, gitlink.ErrNoGit):
		return crux("program-missing", Proved, Evidence{"missing", "git", ""}), nil
	case errors.As(err, &refused):
		return crux("git-config-broken", Proved, Evidence{"git says", untrusted.Clean(refused.Words), ""}), nil
	}
	return nil, err
}

// isForClone tells whether the question is about a clone that there is not yet, for which other settings may
// hold than here: the URL is no remote's.
func (c *checker) isForClone() bool {
	url := c.request.Argument
	if !strings.Contains(url, ":") || c.station.Gone || !c.config.DependsOnFolder() {
		return false
	}
	return !slices.ContainsFunc(c.config.Remotes(), func(name string) bool {
		pushed, own := c.config.PushURLs(name)
		fetched := c.config.All("remote." + name + ".url")
		return c.leadsTo(url, fetched, false, false) || c.leadsTo(url, pushed, true, own)
	})
}

// leadsTo tells whether one of a remote's URLs is a URL, as it stands there or as git rewrites it.
func (c *checker) leadsTo(url string, entries []gitlink.Entry, push, own bool) bool {
	return slices.ContainsFunc(entries, func(e gitlink.Entry) bool {
		rewritten, _ := address.Rewrite(e.Value, c.config.Rules(), push, own)
		return e.Value == url || rewritten == url
	})
}

// newClone is the clone that the question is about.
func (c *checker) newClone() gitlink.NewClone {
	clone := gitlink.NewClone{URL: c.request.Argument, Folder: c.request.Into}
	if clone.Folder == "" {
		clone.Folder = filepath.Join(c.station.Folder, gitlink.GuessFolder(clone.URL))
	}
	return clone
}

// target turns the request's argument into the text of a URL, rewritten as git would. The
// text is empty when the question is about a host alone; then the address is settled.
func (c *checker) target(ctx context.Context) (string, *Crux, error) {
	argument := c.request.Argument
	if c.request.ByHTTPS {
		host, err := c.registry.Find(argument)
		if err == nil {
			err = c.askAboutWeb(host)
		}
		return "", nil, err
	}
	if strings.Contains(argument, ":") {
		return c.rewrite(argument, false), nil, nil
	}
	if argument == "" || c.hasRemote(argument) {
		return c.remote(ctx, argument)
	}
	if d, err := c.registry.Find(argument); err == nil {
		if !d.HasSSH() {
			return "", nil, c.askAboutWeb(d)
		}
		c.askAboutHost(d.HostName())
		return "", nil, nil
	}
	if strings.Contains(argument, ".") && !strings.ContainsAny(argument, "/@") && argument != "." && argument != ".." {
		c.askAboutHost(argument)
		return "", nil, nil
	}
	if strings.ContainsAny(argument, "/@.") {
		return argument, nil, nil
	}
	return c.remote(ctx, argument)
}

func (c *checker) hasRemote(name string) bool {
	if c.hg != nil {
		_, _, found := c.hg.Path(name, false)
		return found
	}
	_, _, found := c.config.RemoteURL(name, false)
	return found
}

func (c *checker) askAboutHost(host string) {
	c.address = address.Address{Scheme: "ssh", Host: host}
	c.host = c.registry.ForHost(host)
	c.wantAccount()
	c.way.Question = Question{URL: c.address.String(), Host: c.hostName(), Transport: "ssh", Purpose: c.purpose(Clone)}
}

// wantAccount asks for the account that the host's alias stands for.
func (c *checker) wantAccount() {
	if c.host != nil && c.host.ForAccount != "" && c.request.Account == "" {
		c.request.Account = c.host.ForAccount
	}
}

func (c *checker) purpose(otherwise Purpose) Purpose {
	if c.request.Purpose != "" {
		return c.request.Purpose
	}
	return otherwise
}

func (c *checker) hostName() string {
	if c.host != nil {
		return c.host.Name
	}
	return c.address.Host
}

// remote finds the URL of a remote, of the one that a plain push would use without a name.
func (c *checker) remote(ctx context.Context, name string) (string, *Crux, error) {
	if c.hg != nil {
		return c.hgRemote(name)
	}
	purpose := c.purpose(Push)
	c.way.Question = Question{Remote: name, Purpose: purpose, Transport: "ssh"}
	if !c.config.InRepository() {
		if words := gitlink.OwnerProblem(ctx, c.station); words != "" {
			return "", crux("repository-owner", Proved, Evidence{"git says", untrusted.Quote(untrusted.Clean(words)), ""},
				Evidence{"you are", c.station.User, ""}), nil
		}
		return "", crux("repository-none", Proved, Evidence{"folder", c.station.Tilde(c.station.Folder), ""}), nil
	}
	if name == "" {
		var err error
		if name, err = c.config.DefaultRemote(ctx); err != nil {
			return "", nil, err
		}
		c.way.Question.Remote = name
	}
	entry, own, found := c.config.RemoteURL(name, purpose == Push)
	if !found {
		if strings.Contains(name, ":") { // branch.<name>.remote may be a URL itself
			return c.rewrite(name, false), nil, nil
		}
		if url, file := gitlink.RemoteFile(ctx, c.station, name); url != "" {
			c.way.fact(Address, "remote", name, c.station.Tilde(file))
			return c.rewrite(url, false), nil, nil
		}
		return "", c.noSuchRemote(name, c.config.Remotes()), nil
	}
	c.way.fact(Address, "remote", name, c.station.Tilde(entry.Origin))
	return c.rewrite(entry.Value, own), nil, nil
}

func (c *checker) noSuchRemote(name string, others []string) *Crux {
	there := strings.Join(others, ", ")
	if there == "" {
		there = "none"
	}
	return crux("remote-missing", Proved, Evidence{"asked for", name, ""}, Evidence{"there are", untrusted.Clean(there), ""})
}

func (c *checker) rewrite(text string, own bool) string {
	push := c.purpose(Clone) == Push || (c.way.Question.Remote != "" && c.way.Question.Purpose == Push)
	if c.given = text; c.request.AsIs {
		return text
	}
	result, rule := address.Rewrite(text, c.config.Rules(), push, own)
	if c.rule = rule; rule != nil {
		c.way.fact(Address, "rewritten", rule.Prefix+" becomes "+rule.Base, c.station.Tilde(rule.Origin))
	}
	return result
}

// read makes one address of the text.
func (c *checker) read(ctx context.Context, text string, start time.Time) (*Crux, error) {
	if wrong := c.strangeCharacters(text); wrong != nil {
		return wrong, nil
	}
	parsed, err := address.Parse(text)
	var syntax *address.SyntaxError
	if errors.Is(err, address.ErrLocal) && c.isFolder(text) {
		return nil, &LocalError{Path: text}
	}
	if errors.As(err, &syntax) {
		return crux("url-malformed", Proved,
			Evidence{"wrong", syntax.Reason.Error(), ""},
			Evidence{"where", fmt.Sprintf("character %d", syntax.Offset+1), ""}), nil
	}
	if err == nil && c.hg != nil && parsed.Short {
		return crux("url-malformed", Proved, Evidence{"wrong", "hg takes this for a folder: it has no short form, and wants ssh://USER@HOST/PATH", ""}), nil
	}
	if err != nil {
		return nil, err
	}
	c.address, c.host = parsed, c.registry.ForHost(parsed.Host)
	c.wantAccount()
	if forbidden := c.forbidden(parsed.Scheme); forbidden != nil {
		c.way.Question = Question{URL: parsed.String(), Remote: c.way.Question.Remote, Host: c.hostName(), Repo: parsed.Repository(), Transport: parsed.Scheme, Purpose: c.purpose(Clone)}
		return forbidden, nil
	}
	if parsed.Scheme != "ssh" {
		return c.otherTransport(ctx, text, start)
	}
	c.way.Question = Question{URL: parsed.String(), Remote: c.way.Question.Remote, Host: c.hostName(),
		Repo: parsed.Repository(), Transport: "ssh", Purpose: c.purpose(Clone)}
	if c.way.Question.Remote != "" {
		c.way.Question.Purpose = c.purpose(Push)
	}
	c.way.fact(Address, "host", parsed.Host, "")
	c.way.fact(Address, "path", untrusted.Clean(parsed.Path), "")
	c.way.open(Address, time.Since(start))
	return nil, nil
}

// forbidden names the setting by which git does not use a transport ("protocol.allow" in
// git-config(1), GIT_ALLOW_PROTOCOL in git(1)).
func (c *checker) forbidden(transport string) *Crux {
	if list := c.station.Getenv("GIT_ALLOW_PROTOCOL"); list != "" && c.hg == nil {
		if slices.Contains(strings.Split(list, ":"), transport) {
			return nil
		}
		return crux("transport-forbidden", Proved, Evidence{"setting", "GIT_ALLOW_PROTOCOL=" + untrusted.Clean(list), "environment"})
	}
	for _, key := range []string{"protocol." + transport + ".allow", "protocol.allow"} {
		if entry, found := c.config.Last(key); found {
			if strings.EqualFold(entry.Value, "never") {
				return crux("transport-forbidden", Proved, Evidence{"setting", key + " = " + untrusted.Clean(entry.Value), c.station.Tilde(entry.Origin)})
			}
			return nil
		}
	}
	return nil
}

// isFolder tells whether a URL without a host is a folder here, which git would use.
func (c *checker) isFolder(text string) bool {
	path, url := strings.CutPrefix(text, "file://")
	if slash := strings.IndexByte(path, '/'); url && slash > 0 { // git passes over a host there
		path = path[slash:]
	}
	if !filepath.IsAbs(path) {
		path = filepath.Join(c.station.Folder, path)
	}
	_, err := os.Stat(path)
	return err == nil
}

// otherTransport tells what can be told of an address that is not SSH's.
func (c *checker) otherTransport(ctx context.Context, text string, start time.Time) (*Crux, error) {
	a := c.address
	c.way.Question = Question{URL: a.String(), Remote: c.way.Question.Remote, Host: c.hostName(), Repo: pageRepository(a.Path),
		Transport: a.Scheme, Purpose: c.purpose(Clone)}
	switch {
	case c.host != nil && a.Scheme != "git" && isPage(a, text):
		return crux("url-is-a-page", Likely, Evidence{"page", untrusted.Clean(a.String()), ""}), nil
	case a.Scheme == "git":
		if found := c.unprotected(ctx); found != nil {
			return found, nil
		}
		c.note("way-unprotected")
		c.way.openAll()
		return nil, nil
	}
	if a.Scheme != "https" && a.Scheme != "http" {
		return nil, fmt.Errorf("%s: %w", a.Scheme, ErrTransport)
	}
	return nil, c.locateWeb(text, start)
}

// programs makes sure that git could start its ssh.
func (c *checker) programs() *Crux {
	command := c.ssh()
	program := command.Program
	if !command.Clear && strings.ContainsAny(program, " \t") { // a line for the shell that we do not take apart
		return nil
	}
	if _, err := exec.LookPath(program); err != nil {
		if command.Origin != "" && program != "ssh" {
			if strings.TrimSpace(program) == "" {
				return crux("ssh-command-broken", Proved, Evidence{c.program() + " starts", "nothing: the setting is there, and empty", c.station.Tilde(command.Origin)})
			}
			return crux("ssh-command-broken", Proved, Evidence{c.program() + " starts", untrusted.Clean(program), c.station.Tilde(command.Origin)},
				Evidence{"it", "is not there, or cannot be run", ""})
		}
		return crux("program-missing", Proved, Evidence{"missing", untrusted.Clean(program), ""})
	}
	return nil
}

// refusedSettings names the file or line for which the ssh client would stop.
func (c *checker) refusedSettings(context.Context) *Crux {
	if len(c.passage.Settings.Problems) == 0 {
		return nil
	}
	problem := c.passage.Settings.Problems[0]
	if errors.Is(problem.Err, sshconfig.ErrExposed) {
		return crux("ssh-config-exposed", Proved, Evidence{"file", c.station.Tilde(problem.Origin.File), ""},
			Evidence{"why", problem.Err.Error(), ""})
	}
	evidence := []Evidence{{"where", c.origin(problem.Origin), ""}}
	if problem.Keyword != "" {
		evidence = append(evidence, Evidence{"keyword", untrusted.Clean(problem.Keyword), ""})
	}
	return crux("ssh-config-broken", Proved, append(evidence, Evidence{"why", problem.Err.Error(), ""})...)
}

func (c *checker) settingFacts() {
	client, w := c.passage.Client, c.way
	add := func(name, value, keyword string) {
		w.fact(Settings, name, value, c.origin(client.Origin(keyword)))
	}
	if c.hg != nil {
		w.fact(Settings, "program", "hg", "")
	}
	if c.passage.Command.Origin != "" {
		w.fact(Settings, "ssh program", untrusted.Clean(c.passage.Command.Program), c.station.Tilde(c.passage.Command.Origin))
	}
	add("host name", client.HostName, "hostname")
	add("port", fmt.Sprint(client.Port), "port")
	add("user", untrusted.Clean(client.User), "user")
	if client.ProxyCommand != "" {
		add("through", untrusted.Clean(client.ProxyCommand), "proxycommand")
	}
	if client.ProxyJump != "" {
		add("through", untrusted.Clean(client.ProxyJump), "proxyjump")
	}
	if c.host != nil && c.host.ForAccount != "" {
		w.fact(Settings, "account", c.host.ForAccount+", because of the folder", c.station.Tilde(hosts.OurGitFile(c.station)))
	}
	for _, key := range c.passage.Keys {
		w.fact(Settings, "key", describeKey(key), c.origin(key.Origin))
	}
	for _, unknown := range c.passage.Settings.Unknown {
		w.fact(Settings, "not asked", "Match "+untrusted.Clean(strings.Join(unknown.Args, " ")), c.origin(unknown.Origin))
	}
}

func describeKey(key sshway.Key) string {
	switch {
	case key.Certificate() != nil:
		return "certificate of " + key.Name
	case key.Locked:
		return key.Name + ", locked"
	case key.InAgent:
		return key.Name + ", in the agent"
	}
	return key.Name
}

// origin writes where a setting stands; nothing for the client's default.
func (c *checker) origin(o sshconfig.Origin) string { return c.station.Tilde(o.String()) }
