package localcheck

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/workstation"
)

// Locate passes the stage of the address: where does a question lead? An error means that it could not be asked; it
// wraps [finding.ErrTransport], [finding.ErrNoWeb], [finding.ErrLocal] or what reading the settings returned.
func Locate(ctx context.Context, station *workstation.Station, registry *hosts.Registry,
	request finding.Request) (Result, error) {
	start := time.Now()
	r := Result{}
	r.Scene = Scene{Station: station, Registry: registry, Request: request}
	r.Question = finding.Question{Purpose: request.PurposeOr(finding.Clone), Transport: "ssh"} // until more is known
	if strings.HasPrefix(request.Argument, "http") {
		r.Question.Transport = "https"
	}
	var err error
	if r.Scene, r.Crux, err = r.readSettings(ctx); r.Crux != nil || err != nil {
		return r, err
	}
	if r.Crux = r.unknownVersion(); r.Crux != nil {
		return r, nil
	}
	r, text, err := r.target(ctx)
	if r.Crux != nil || err != nil {
		return r, err
	}
	if text == "" { // a host alone
		r.Part.Open(causes.Address, time.Since(start))
		return r, nil
	}
	return r.read(ctx, text, start)
}

// target turns the request's argument into the text of a URL, rewritten as git would. The text is empty when the
// question is about a host alone; then the address is settled.
func (r Result) target(ctx context.Context) (Result, string, error) {
	argument := r.Request.Argument
	if r.Request.ByHTTPS {
		host, err := r.Registry.Find(argument)
		if err != nil {
			return r, "", err
		}
		r, err = r.aboutWeb(host)
		return r, "", err
	}
	if strings.Contains(argument, ":") {
		r, text := r.rewrite(argument, false)
		return r, text, nil
	}
	if argument == "" || r.hasRemote(argument) {
		return r.remote(ctx, argument)
	}
	if d, err := r.Registry.Find(argument); err == nil {
		if !d.HasSSH() {
			r, err = r.aboutWeb(d)
			return r, "", err
		}
		return r.aboutHost(d.SSH.Host), "", nil
	}
	if strings.Contains(argument, ".") && !strings.ContainsAny(argument, "/@") && argument != "." && argument != ".." {
		return r.aboutHost(argument), "", nil
	}
	user, host, found := strings.Cut(argument, "@")
	if found && user != "" && allow.RemoteUser(user) && allow.Host(host) {
		r = r.aboutHost(host)
		r.Address.User = user
		r.Question.URL = r.Address.String()
		return r, "", nil
	}
	if strings.ContainsAny(argument, "/@.") {
		return r, argument, nil
	}
	return r.remote(ctx, argument)
}

// aboutHost asks about a host over SSH, without any repository.
func (r Result) aboutHost(host string) Result {
	r.Address = address.Address{Scheme: "ssh", Host: host}
	r.Host = r.Registry.ForHost(host)
	r.Located = r.forAccount()
	r.Question = finding.Question{URL: r.Address.String(), Host: r.HostName(), Transport: "ssh",
		Purpose: r.Request.PurposeOr(finding.Clone)}
	return r
}

// aboutWeb asks about a host over HTTPS, without any repository.
func (r Result) aboutWeb(host *describe.Description) (Result, error) {
	base, err := url.Parse(host.HTTPS.URL)
	if err != nil || base.Host == "" {
		return r, fmt.Errorf("%s: %w", host.Name, finding.ErrNoWeb)
	}
	r.Base, r.Host, r.Alone = base, host, true
	r.Address = address.Address{Scheme: base.Scheme, Host: base.Hostname()}
	r.Located = r.forAccount()
	if r.Request.Account != "" {
		r.WebUser = host.GitUser(r.Request.Account)
	}
	r.Question = finding.Question{URL: base.String(), Host: host.Name, Transport: "https",
		Purpose: r.Request.PurposeOr(finding.Clone)}
	r.Part.Skip(causes.Repository, causes.Permission)
	return r, nil
}

// read makes one address of the text.
func (r Result) read(ctx context.Context, text string, start time.Time) (Result, error) {
	if wrong := strangeCharacters(text); wrong != nil {
		r.Question.Transport = transportOf(text)
		return r.broke(wrong), nil
	}
	parsed, err := address.Parse(text)
	var syntax *address.SyntaxError
	switch {
	case errors.Is(err, address.ErrLocal) && r.isFolder(text):
		return r, &finding.LocalError{Path: text}
	case errors.As(err, &syntax):
		return r.broke(
			finding.New(causes.URLMalformed, finding.Proved, finding.Saw(seen.Wrong, syntax.Reason.Error(), ""),
				finding.Saw(seen.Where, fmt.Sprintf("character %d", syntax.Offset+1), "")),
		), nil
	case err == nil && r.Hg != nil && parsed.Short:
		return r.broke(finding.New(
			causes.URLMalformed,
			finding.Proved,
			finding.Saw(
				seen.Wrong,
				"hg reads this as a folder: it has no short form, and wants ssh://USER@HOST/PATH",
				"",
			),
		)), nil
	case err != nil:
		return r, err
	}
	r.Address, r.Host = parsed, r.Registry.ForHost(parsed.Host)
	if r.Host != nil && parsed.Scheme == "ssh" {
		r.Host = r.Host.AtPort(cmp.Or(int(parsed.Port), 22))
	}
	r.Located = r.forAccount()
	remote := r.Question.Remote
	r.Question = finding.Question{URL: parsed.String(), Remote: remote, Host: r.HostName(), Repo: parsed.Repository(),
		Transport: parsed.Scheme, Purpose: r.Request.PurposeOr(finding.Clone)}
	if forbidden := r.forbidden(parsed.Scheme); forbidden != nil {
		return r.broke(forbidden), nil
	}
	if parsed.Scheme != "ssh" {
		return r.otherTransport(ctx, text, start)
	}
	if remote != "" {
		r.Question.Purpose = r.Request.PurposeOr(finding.Push)
	}
	r.Part.Fact(causes.Address, "host", parsed.Host, "")
	r.Part.Fact(causes.Address, "path", untrusted.Clean(parsed.Path), "")
	r.Part.Open(causes.Address, time.Since(start))
	return r, nil
}

// otherTransport goes on with an address that is not SSH's.
func (r Result) otherTransport(ctx context.Context, text string, start time.Time) (Result, error) {
	a := r.Address
	r.Question.Repo = pageRepository(a.Path)
	switch {
	case !r.Undescribed() && a.Scheme != "git" && isPage(a, text):
		return r.broke(finding.New(causes.URLIsAPage, finding.Likely,
			finding.Saw(seen.Page, untrusted.Clean(a.String()), ""))), nil
	case a.Scheme == "git":
		if found := r.unprotected(ctx); found != nil {
			return r.broke(found), nil
		}
		r.Part.Note(finding.NewNote(causes.WayUnprotected, a.Host))
		for _, stage := range causes.Stages {
			r.Part.Open(stage, 0)
		}
		r.Done = true
		return r, nil
	case a.Scheme != "https" && a.Scheme != "http":
		return r, fmt.Errorf("%s: %w", a.Scheme, finding.ErrTransport)
	}
	return r.locateWeb(text, start)
}

// locateWeb settles the address of a way over HTTPS.
func (r Result) locateWeb(text string, start time.Time) (Result, error) {
	base, err := url.Parse(text)
	if err != nil { // its words could hold a secret
		return r, address.ErrCharacter
	}
	if at := base.User; at != nil {
		r.WebUser = at.Username()
		if word, set := at.Password(); set {
			r.WebSecret = secret.New([]byte(word))
			r.Part.Note(finding.NewNote(causes.URLSecret, r.Address.Host))
		}
	}
	base.User = nil
	if base.Scheme == "http" {
		r.Part.Note(finding.NewNote(causes.WayUnprotected, r.Address.Host))
	}
	r.Base = base
	r.Host = r.Registry.ForWeb(base.Host)
	r.Question.Host, r.Question.Repo = r.HostName(), r.Address.Repository()
	if r.Question.Remote != "" {
		r.Question.Purpose = r.Request.PurposeOr(finding.Push)
	}
	r.Part.Fact(causes.Address, "host", base.Host, "")
	r.Part.Fact(causes.Address, "path", untrusted.Clean(base.Path), "")
	r.Part.Open(causes.Address, time.Since(start))
	return r, nil
}

// rewrite is what git makes of a URL by its insteadOf rules.
func (r Result) rewrite(text string, own bool) (Result, string) {
	push := r.Request.PurposeOr(finding.Clone) == finding.Push || r.Question.Remote != "" &&
		r.Question.Purpose == finding.Push
	if r.Given = text; r.Request.AsIs {
		return r, text
	}
	result, rule := address.Rewrite(text, r.Config.Rules(), push, own)
	if r.Rule = rule; rule != nil {
		r.Part.Fact(causes.Address, "rewritten", rule.Prefix+" becomes "+rule.Base, r.Station.Tilde(rule.Origin))
	}
	return r, result
}

// remote finds the URL of a remote, of the one that a plain push would use without a name.
func (r Result) remote(ctx context.Context, name string) (Result, string, error) {
	if r.Hg != nil {
		return r.hgRemote(name)
	}
	purpose := r.Request.PurposeOr(finding.Push)
	r.Question = finding.Question{Remote: name, Purpose: purpose, Transport: "ssh"}
	if !r.Config.InRepository() {
		return r.broke(r.noRepository(ctx)), "", nil
	}
	if name == "" {
		var err error
		if name, err = r.Config.DefaultRemote(ctx); err != nil {
			return r, "", err
		}
		r.Question.Remote = name
	}
	entry, own, found := r.Config.RemoteURL(name, purpose == finding.Push)
	if found {
		r.Part.Fact(causes.Address, "remote", name, r.Station.Tilde(entry.Origin))
		r, text := r.rewrite(entry.Value, own)
		return r, text, nil
	}
	if strings.Contains(name, ":") { // branch.<name>.remote may be a URL itself
		r, text := r.rewrite(name, false)
		return r, text, nil
	}
	if url, file := gitlink.RemoteFile(ctx, r.Station, name); url != "" {
		r.Part.Fact(causes.Address, "remote", name, r.Station.Tilde(file))
		r, text := r.rewrite(url, false)
		return r, text, nil
	}
	return r.broke(noSuchRemote(name, r.Config.Remotes())), "", nil
}

// noRepository says why git finds no repository in the folder.
func (r Result) noRepository(ctx context.Context) *finding.Crux {
	folder := finding.Saw(seen.Folder, r.Station.Tilde(r.Station.Folder), "")
	words := gitlink.RepositoryProblem(ctx, r.Station)
	read := causes.Explain(words)
	if len(read.Causes) == 0 || read.Causes[0].Code == causes.RepositoryNone {
		return finding.New(causes.RepositoryNone, finding.Proved, folder)
	}
	first, _, _ := strings.Cut(strings.TrimPrefix(words, "fatal: "), "\n\n")
	first, _, _ = strings.Cut(first, "\nTo add an exception")
	found := finding.New(
		read.Causes[0].Code,
		finding.Proved,
		finding.Saw(seen.GitSays, untrusted.Quote(untrusted.Clean(first)), ""),
	)
	if found.Code == causes.RepositoryOwner {
		return found.With(finding.Saw(seen.YouAre, r.Station.User, ""))
	}
	found.Stage = causes.Address
	return found.With(folder)
}

// hgRemote finds the URL of one of the repository's paths, of the one that a plain push would use without a name.
func (r Result) hgRemote(name string) (Result, string, error) {
	purpose := r.Request.PurposeOr(finding.Push)
	r.Question = finding.Question{Remote: name, Purpose: purpose, Transport: "ssh"}
	if r.Hg.Root == "" {
		return r.broke(finding.New(causes.RepositoryNone, finding.Proved,
			finding.Saw(seen.Folder, r.Station.Tilde(r.Station.Folder), ""))), "", nil
	}
	entry, used, found := r.Hg.Path(name, purpose == finding.Push)
	if !found && r.Hg.Untrusted != "" {
		return r.broke(finding.New(
			causes.RepositoryOwner,
			finding.Proved,
			finding.Saw(
				seen.NotRead,
				r.Station.Tilde(r.Hg.Untrusted),
				"it belongs to another user, whom hg does not trust",
			),
			finding.Saw(seen.YouAre, r.Station.User, ""),
		)), "", nil
	}
	if !found {
		var there []string
		for _, path := range r.Hg.Paths() {
			there = append(there, path.Name)
		}
		if name == "" {
			name = "default"
		}
		return r.broke(noSuchRemote(name, there)), "", nil
	}
	r.Question.Remote = used
	r.Part.Fact(causes.Address, "path", used, r.Station.Tilde(entry.Origin))
	r.Given = entry.Value
	return r, entry.Value, nil
}

func (r Result) hasRemote(name string) bool {
	if r.Hg != nil {
		_, _, found := r.Hg.Path(name, false)
		return found
	}
	_, _, found := r.Config.RemoteURL(name, false)
	return found
}

func noSuchRemote(name string, others []string) *finding.Crux {
	there := strings.Join(others, ", ")
	if there == "" {
		there = "none"
	}
	return finding.New(causes.RemoteMissing, finding.Proved, finding.Saw(seen.AskedFor, name, ""),
		finding.Saw(seen.ThereAre, untrusted.Clean(there), ""))
}
