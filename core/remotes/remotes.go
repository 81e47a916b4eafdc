// Package remotes tells where the repository of a folder is cloned from and pushed to: its
// git remotes, its submodules, and the paths of a Mercurial repository.
package remotes

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/workstation"
)

// Reasons for which [List] lists no remotes, or [Use] and what cleans a URL change none, for errors.Is.
var (
	ErrNoRepository = fault.New("remote-no-repository", fault.Refused, "not inside a repository of git or Mercurial")
	ErrNoRemote     = fault.New("remote-no-remote", fault.Refused, "this repository has no such remote")
	ErrNoSecret     = fault.New("remote-no-secret", fault.Refused, "the URLs contain no secret")
	ErrSameAlready  = fault.New("remote-same-already", fault.Refused, "it is reached so already")
	ErrNotKnown     = fault.New("remote-not-known", fault.Refused, "the host is not described here, so its other address is not known")
)

// A Kind says what a remote is.
type Kind string

// The kinds.
const (
	Git       Kind = "git"
	Submodule Kind = "submodule"
	Mercurial Kind = "mercurial"
)

// A Remote is one address of a repository.
type Remote struct {
	Name   string
	Kind   Kind
	Push   bool   // only for pushing
	URL    string // as it stands in the settings, a secret hidden
	Used   string // after rewriting, when that is another one; a secret hidden
	Secret bool   // one stands in the URL
	Origin string // file:line

	Transport string // ssh, https, http, git, or file; empty when it cannot be read
	Host      string // as people call it
	Account   string // where settings say which one; empty when they do not
}

// List tells the remotes of the repository that the folder is in.
func List(ctx context.Context, station *workstation.Station, registry *hosts.Registry) ([]Remote, error) {
	config, err := gitlink.ReadConfig(ctx, station)
	if err != nil && !errors.Is(err, gitlink.ErrNoGit) {
		return nil, err
	}
	var list []Remote
	inGit := err == nil && config.InRepository()
	if inGit {
		list = gitRemotes(config, registry)
	}
	hg, err := hgPaths(station, registry)
	if err != nil {
		return nil, err
	}
	if !inGit && hg == nil {
		return nil, ErrNoRepository
	}
	return append(list, hg...), nil
}

func gitRemotes(config *gitlink.Config, registry *hosts.Registry) []Remote {
	var list []Remote
	rules := config.Rules()
	add := func(r Remote, entry gitlink.Entry, push, own bool) {
		used, _ := address.Rewrite(entry.Value, rules, push, own)
		r.Origin = entry.Origin
		if n := entry.Line(); n > 0 {
			r.Origin = fmt.Sprintf("%s:%d", entry.Origin, n)
		}
		r.describe(entry.Value, used, registry)
		list = append(list, r)
	}
	for _, name := range config.Remotes() {
		urls, pushURLs := config.All("remote."+name+".url"), config.All("remote."+name+".pushurl")
		for _, entry := range urls {
			add(Remote{Name: name, Kind: Git}, entry, false, false)
			if rewritten, _ := address.Rewrite(entry.Value, rules, true, false); len(pushURLs) == 0 &&
				rewritten != rewrite(entry.Value, rules) {
				add(Remote{Name: name, Kind: Git, Push: true}, entry, true, false)
			}
		}
		for _, entry := range pushURLs {
			add(Remote{Name: name, Kind: Git, Push: true}, entry, true, true)
		}
	}
	for _, entry := range config.Submodules() {
		name := strings.TrimSuffix(strings.TrimPrefix(entry.Key, "submodule."), ".url")
		add(Remote{Name: name, Kind: Submodule}, entry, false, false)
	}
	return list
}

func rewrite(text string, rules []address.Rule) string {
	used, _ := address.Rewrite(text, rules, false, false)
	return used
}

// describe reads the URL that is used.
func (r *Remote) describe(text, used string, registry *hosts.Registry) {
	shown, secret := address.HideSecret(text)
	usedShown, usedSecret := address.HideSecret(used)
	r.URL, r.Secret = shown, secret || usedSecret
	if used != text {
		r.Used = usedShown
	}
	a, err := address.Parse(used)
	switch {
	case errors.Is(err, address.ErrLocal):
		r.Transport = "file"
	case err == nil:
		r.Transport, r.Host = a.Scheme, a.Host
		if d := registry.ForHost(a.Host); d != nil {
			r.Host, r.Account = d.Name, d.ForAccount
		}
	}
}

// hgPaths tells the addresses of a Mercurial repository.
func hgPaths(station *workstation.Station, registry *hosts.Registry) ([]Remote, error) {
	if gitlink.MercurialRoot(station.Folder) == "" {
		return nil, nil
	}
	hg, err := gitlink.ReadMercurial(station)
	if err != nil {
		return nil, err
	}
	list := []Remote{} // it is a repository, even without any
	for _, path := range hg.Paths() {
		for _, entry := range []gitlink.Entry{path.URL, path.Push} {
			if entry.Value == "" {
				continue
			}
			r := Remote{Name: path.Name, Kind: Mercurial, Push: entry == path.Push, Origin: entry.Origin}
			r.describe(entry.Value, entry.Value, registry)
			list = append(list, r)
		}
	}
	return list, nil
}

// ErrSecretIn is returned for a URL in which a secret is: turned into another, that would be lost.
var ErrSecretIn = fault.New("remote-secret-in", fault.Refused, "its URL contains a secret, which would be lost")

// Use makes a remote be reached by ssh or by https. Every URL of it is turned, those for
// pushing alone as well. The error is [ErrSecretIn] where a secret is in one.
func Use(ctx context.Context, batch *workstation.Batch, station *workstation.Station, registry *hosts.Registry, name,
	by string) ([]string, error) {
	config, err := gitlink.ReadConfig(ctx, station)
	if err != nil {
		return nil, err
	}
	if !config.InRepository() {
		return nil, ErrNoRepository
	}
	if !slices.Contains(config.Remotes(), name) {
		return nil, fmt.Errorf("%s: %w", name, ErrNoRemote)
	}
	path, err := gitlink.LocalConfigFile(ctx, station)
	if err != nil {
		return nil, err
	}
	var urls []string
	edit := gitlink.EditOf{Path: path, Words: fmt.Sprintf("Reach the remote %s by %s.", name, by), Mode: 0o644}
	changed, err := gitlink.Change(ctx, batch, station, edit,
		func(entries []gitlink.Entry) (assignments []gitlink.Assignment, err error) {
			assignments, urls, err = turned(entries, registry, name, by)
			return assignments, err
		})
	if err == nil && !changed {
		err = fmt.Errorf("%s: %w", name, ErrSameAlready)
	}
	return urls, err
}

// turned are the URLs of a remote in the other transport.
func turned(entries []gitlink.Entry, registry *hosts.Registry, name, by string) (assignments []gitlink.Assignment,
	urls []string, err error) {
	for _, variable := range []string{"url", "pushurl"} {
		a := gitlink.Assignment{Key: "remote." + name + "." + variable}
		for _, entry := range entries {
			if entry.Key != a.Key {
				continue
			}
			if _, secret := address.HideSecret(entry.Value); secret {
				return nil, nil, fmt.Errorf("%s: %w", name, ErrSecretIn)
			}
			url, err := turn(entry.Value, registry, by)
			if err != nil {
				return nil, nil, fmt.Errorf("%s: %w", name, err)
			}
			a.Values, urls = append(a.Values, url), append(urls, url)
		}
		assignments = append(assignments, a)
	}
	return assignments, urls, nil
}

// turn writes a URL in the other transport. A port is the other transport's own matter.
func turn(text string, registry *hosts.Registry, by string) (string, error) {
	a, err := address.Parse(text)
	if err != nil {
		return "", err
	}
	d := registry.ForHost(a.Host)
	if a.Scheme == by && (d == nil || !d.Elsewhere(a)) {
		return text, nil
	}
	if d == nil {
		return "", fmt.Errorf("%s: %w", a.Host, ErrNotKnown)
	}
	if by == "https" {
		return d.CloneHTTPS(a.Path), nil
	}
	if !d.HasSSH() {
		return "", fmt.Errorf("%s: %w", d.Name, hosts.ErrNoSSH)
	}
	return d.CloneSSH(a.Path), nil
}
