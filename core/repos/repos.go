// Package repos creates repositories at hosts, and attaches folders to them.
package repos

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/workstation"
)

// Reasons for which [Add] creates no repository, or [Attach] attaches no folder, for errors.Is.
var (
	ErrRepoName = errors.New(
		"a repository is named by letters, digits, dots, hyphens and underscores, with its group before a slash",
	)
	ErrNoDir      = fault.New("folder-missing", fault.Misused, "not a folder")
	ErrAuthor     = fault.New("repository-author", fault.Refused, "git does not know whom the commit is by")
	ErrPush       = fault.New("repository-push", fault.Refused, "the folder is attached, and pushing did not work")
	ErrOtherRoot  = fault.New("repository-other-root", fault.Refused, "the folder is inside another repository")
	ErrNoRepoHere = fault.New("repository-no-repo-here", fault.Refused, "the host has no such repository yet")
)

// A NewRepo says what to create and what to attach to it.
type NewRepo struct {
	Host    *describe.Description
	Request hostapi.RepoRequest
	From    string // the folder to attach, absolute; empty for none
	Commit  bool   // commit what is in the folder where nothing was committed yet
	HTTPS   bool   // attach by HTTPS in place of SSH
	Git     func(ctx context.Context, folder string, args ...string) error
}

// A MadeRepo says what there is now.
type MadeRepo struct {
	Repo    hostapi.Repo
	Already bool   // it was there before
	Remote  string // of the attached folder; empty where none was attached
	Branch  string // that was pushed; empty where nothing was
	Tracks  bool   // a plain push of that branch goes there from now on
	Made    bool   // the folder was made a repository
}

// CheckName tells whether a text may name a repository.
func CheckName(text string) error {
	parts := strings.Split(text, "/")
	for _, part := range parts {
		if part == "" || strings.Trim(part,
			"abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789._-") != "" ||
			strings.HasPrefix(part, "-") || strings.Trim(part, ".") == "" {
			return ErrRepoName
		}
	}
	return nil
}

// Add lets a host create a repository, and attaches a folder to it. What exists already is
// recognised, so it can be run again after it was cut short.
func Add(ctx context.Context, p site.Site, batch *workstation.Batch, client *hostapi.Client,
	n NewRepo) (*MadeRepo, error) {
	if n.From != "" {
		if err := attachable(ctx, p, n.From, n.Commit); err != nil {
			return nil, err
		}
	}
	made := &MadeRepo{Repo: hostapi.Repo{Path: n.Request.Path}}
	step := workstation.HostStep{Host: n.Host.Name, Act: hosts.ActRepo, Data: map[string]string{"repo": n.Request.Path}}
	err := batch.Act(ctx, fmt.Sprintf("Create the repository %s on %s.", n.Request.Path, n.Host.Name), step,
		func() (map[string]string, error) {
			repo, err := client.AddRepo(ctx, n.Request)
			if err == nil {
				made.Repo = repo
			}
			if made.Repo.Visibility == "" && err == nil { // it does not say, and was sent it
				made.Repo.Visibility = map[bool]string{true: "private", false: "public"}[n.Request.Private]
			}
			return nil, err
		})
	var refusal *hostapi.Refusal
	switch {
	case errors.Is(err, hostapi.ErrAlready):
		made.Already, err = true, nil
		if n.Host.Can("show-repo") {
			made.Repo, err = client.Repo(ctx, n.Request.Path)
		}
	case errors.As(err, &refusal) && refusal.Refused() && n.Host.Can("show-repo"): // perhaps because it is there
		if repo, shown := client.Repo(ctx, n.Request.Path); shown == nil {
			made.Already, made.Repo, err = true, repo, nil
		}
	}
	if err != nil || n.From == "" {
		return made, err
	}
	return made, Attach(ctx, p, batch, n, made)
}

// Find asks a host now and then over SSH until it has a repository, which a person creates
// on its page, and attaches a folder to it.
func Find(ctx context.Context, p site.Site, batch *workstation.Batch, n NewRepo,
	patience time.Duration) (*MadeRepo, error) {
	made := &MadeRepo{Repo: hostapi.Repo{Path: n.Request.Path}}
	url := cloneURL(p, n, made.Repo)
	if !batch.Dry {
		err := p.TryUntil(ctx, patience, ErrNoRepoHere, func(ctx context.Context) (yet, never error) {
			_, err := gitlink.Run(ctx, p.Station, "ls-remote", "--quiet", "--", url)
			return err, ctx.Err()
		})
		if err != nil {
			return made, err
		}
	}
	if n.From == "" {
		return made, nil
	}
	if err := attachable(ctx, p, n.From, n.Commit); err != nil {
		return nil, err
	}
	return made, Attach(ctx, p, batch, n, made)
}

// attachable makes sure that a folder can be attached, before anything is created for it.
func attachable(ctx context.Context, p site.Site, folder string, commit bool) error {
	info, err := os.Stat(folder)
	if err != nil || !info.IsDir() {
		return fmt.Errorf("%s: %w", folder, ErrNoDir)
	}
	inside := in(p, folder)
	if _, err := gitlink.Run(ctx, inside, "rev-parse", "--git-dir"); err == nil {
		out, _ := gitlink.Run(ctx, inside, "rev-parse", "--show-toplevel") // nothing inside git's own folders
		if top := strings.TrimSpace(string(out)); !sameFolder(top, folder) {
			return fmt.Errorf("%s: %w (%s)", folder, ErrOtherRoot, top)
		}
	}
	if commit {
		if words := gitlink.AuthorProblem(ctx, inside); words != "" {
			return ErrAuthor
		}
	}
	return nil
}

func sameFolder(a, b string) bool {
	infoA, errA := os.Stat(a)
	infoB, errB := os.Stat(b)
	return errA == nil && errB == nil && os.SameFile(infoA, infoB)
}

// in is the station as it is in another folder.
func in(p site.Site, folder string) *workstation.Station {
	inside := *p.Station
	inside.Folder, inside.Gone = folder, false
	return &inside
}

// cloneURL is the address by which a folder is attached: as the host's interface tells it, if that is
// one at this very host, else as its description says.
func cloneURL(p site.Site, n NewRepo, repo hostapi.Repo) string {
	https := n.HTTPS || !n.Host.HasSSH()
	switch {
	case https && n.Host.IsClone(repo.HTTPS, "https"):
		return repo.HTTPS
	case https:
		return n.Host.CloneHTTPS(repo.Path + ".git")
	case n.Host.ForAccount == "" && n.Host.IsClone(repo.SSH, "ssh"):
		return repo.SSH
	}
	return address.Address{Scheme: "ssh", User: n.Host.SSH.User, Host: n.Host.HostName(),
		Path: repo.Path + ".git"}.String()
}

// Attach makes a folder a repository where it is none, gives it the remote, and pushes what is
// committed.
func Attach(ctx context.Context, p site.Site, batch *workstation.Batch, n NewRepo, made *MadeRepo) error {
	inside, url := in(p, n.From), cloneURL(p, n, made.Repo)
	if _, err := address.Parse(url); err != nil { // the host may have told it
		return fmt.Errorf("%w: its clone URL cannot be read", hostapi.ErrAnswer)
	}
	if batch.Dry {
		return batch.Act(ctx, fmt.Sprintf("Attach %s to %s.", p.Station.Tilde(n.From), url),
			workstation.HostStep{}, nil)
	}
	if _, err := os.Stat(filepath.Join(n.From, ".git")); errors.Is(err, os.ErrNotExist) {
		if err := gitlink.Init(ctx, p.Station, n.From, branchFor(ctx, p, inside, made), n.Git); err != nil {
			return err
		}
		made.Made = true
	}
	if err := commitFirst(ctx, inside, n); err != nil {
		return err
	}
	out, err := gitlink.Run(ctx, inside, "symbolic-ref", "--short", "HEAD")
	branch := strings.TrimSpace(string(out))
	if _, none := gitlink.Run(ctx, inside, "rev-parse", "--verify", "--quiet", "HEAD"); err != nil || none != nil {
		branch = "" // nothing is committed, or no branch is checked out
	}
	if err := addRemote(ctx, p, batch, inside, n, made, branch, url); err != nil || branch == "" {
		return err
	}
	if err := n.Git(ctx, n.From, "push", "--quiet", made.Remote, branch); err != nil {
		return errors.Join(ErrPush, err)
	}
	made.Branch = branch
	return nil
}

// branchFor names the first branch of a folder: as the host has it, else as the person told git,
// else as most hosts have it.
func branchFor(ctx context.Context, p site.Site, inside *workstation.Station, made *MadeRepo) string {
	if made.Repo.Branch != "" {
		return made.Repo.Branch
	}
	if config, err := gitlink.ReadConfig(ctx, inside); err == nil {
		if entry, found := config.Last("init.defaultbranch"); found && entry.Value != "" {
			return entry.Value
		}
	}
	return "main"
}

// addRemote gives a folder the remote: "origin", or where that leads elsewhere one of the
// host's name. A branch that goes nowhere yet goes there from then on.
func addRemote(ctx context.Context, p site.Site, batch *workstation.Batch, inside *workstation.Station, n NewRepo,
	made *MadeRepo, branch, url string) error {
	config, err := gitlink.ReadConfig(ctx, inside)
	if err != nil {
		return err
	}
	var assignments []gitlink.Assignment
	if made.Remote = remoteFor(config, n.Host.Name, url); !slices.Contains(config.Remotes(), made.Remote) {
		assignments = append(assignments, gitlink.Assignment{Key: "remote." + made.Remote + ".url",
			Values: []string{url}},
			gitlink.Assignment{Key: "remote." + made.Remote + ".fetch",
				Values: []string{"+refs/heads/*:refs/remotes/" + made.Remote + "/*"}})
	}
	if _, tracks := config.Last("branch." + branch + ".remote"); branch != "" && !tracks {
		made.Tracks = true
		assignments = append(assignments, gitlink.Assignment{Key: "branch." + branch + ".remote",
			Values: []string{made.Remote}},
			gitlink.Assignment{Key: "branch." + branch + ".merge", Values: []string{"refs/heads/" + branch}})
	}
	path, err := gitlink.LocalConfigFile(ctx, inside)
	if err != nil || len(assignments) == 0 {
		return err
	}
	edit := gitlink.EditOf{Path: path, Words: fmt.Sprintf("Attach %s to %s.",
		p.Station.Tilde(n.From), url), Mode: 0o644}
	_, err = gitlink.Change(ctx, batch, inside, edit, func([]gitlink.Entry) ([]gitlink.Assignment,
		error) {
		return assignments, nil
	})
	return err
}

// remoteFor names the remote that leads to a URL: one that does already, or a new one.
func remoteFor(config *gitlink.Config, host, url string) string {
	names := config.Remotes()
	for _, name := range names {
		if entry, _, found := config.RemoteURL(name, false); found && entry.Value == url {
			return name
		}
	}
	name := "origin"
	for i := 1; slices.Contains(names, name); i++ {
		if name = strings.ReplaceAll(host, "@", "-"); i > 1 {
			name += fmt.Sprintf("-%d", i)
		}
	}
	return name
}

// commitFirst commits what is in a folder, where that is wanted and nothing is committed yet.
func commitFirst(ctx context.Context, inside *workstation.Station, n NewRepo) error {
	if _, err := gitlink.Run(ctx, inside, "rev-parse", "--verify", "--quiet", "HEAD"); err == nil || !n.Commit {
		return nil
	}
	if err := n.Git(ctx, n.From, "add", "--all"); err != nil {
		return err
	}
	if gitlink.Uncommitted(ctx, inside) {
		return n.Git(ctx, n.From, "commit", "--quiet", "--message", "Begin")
	}
	return nil
}
