package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/repos"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/workstation"
	"anchorage.example/unicrux/render"
)

func repoCommand(a *app) *cobra.Command {
	command := &cobra.Command{Use: "repo", Short: "Repositories on a host: list, new"}
	command.AddCommand(repoList(a), repoNew(a))
	return command
}

func repoList(a *app) *cobra.Command {
	var o secretOptions
	var search string
	command := &cobra.Command{
		Use:   "list HOST",
		Short: "The repositories that your account may see on a host",
		Long: `Lists the repositories that your account may see, as the host's API lists them, page
after page as they come. --search keeps those whose path has TEXT in it.`,
		RunE: func(_ *cobra.Command, args []string) error { return listRepos(a, &o, args[0], search) },
	}
	command.Flags().Var(named(&search, "TEXT"), "search", "only those whose path has this text in it")
	o.addToken(command)
	return command
}

// pagesLimit is how many times the time for one step on the network a list of many pages may take.
const pagesLimit = 12

func listRepos(a *app, o *secretOptions, name, search string) error {
	client, err := clientFor(a, o, name, "list-repos")
	if err != nil {
		return err
	}
	s, written := a.style(), 0
	var list []hostapi.Repo
	ctx, cancel := context.WithTimeout(a.ctx, pagesLimit*a.timeout)
	defer cancel()
	err = client.Repos(ctx, search, func(repo hostapi.Repo) bool {
		if !strings.Contains(strings.ToLower(repo.Path), strings.ToLower(search)) {
			return true // the host may not have been told what is looked for
		}
		if a.json {
			list = append(list, repo)
			return true
		}
		written++
		return a.print(render.Repo(s, repo)) == nil
	})
	if err != nil && errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return &problem{
			message: fmt.Sprintf(
				"%s had not sent all of its list after %v; %d repositories are known so far",
				client.Description.Name,
				pagesLimit*a.timeout,
				max(written, len(list)),
			),
			advice: "Look for a part of the path with --search TEXT, or allow more time with --timeout.",
			exit:   exitCrux,
		}
	}
	if err != nil {
		return err
	}
	if a.json {
		return a.show("", render.ReposDocument(list, client.Description.Name))
	}
	a.progress(render.RepoCount(s, written, client.Description.Name, search))
	return nil
}

// client speaks to the API of a host for an operation; with a token, unless anybody may
// ask.
func clientFor(a *app, o *secretOptions, name, operation string) (*hostapi.Client, error) {
	place, err := a.place()
	if err != nil {
		return nil, err
	}
	host, err := place.Registry.Find(name)
	if err != nil {
		return nil, err
	}
	if !host.Can(operation) {
		return nil, byHandProblem(host, operation)
	}
	token := origin.Bound{}
	if !host.Operations[operation].Open {
		if token, err = tokenFor(a, o, host, "repos"); err != nil {
			return nil, err
		}
	}
	return place.Client(host, token), nil
}

// byHandProblem says that the description does not say how, and which page serves instead.
func byHandProblem(host *describe.Description, operation string) error {
	page := map[string]string{"list-repos": host.Pages.Repositories, "add-repo": host.Pages.Repositories,
		"issue-token": host.Pages.Tokens,
		"list-tokens": host.Pages.Tokens, "add-key": host.Pages.Keys}[operation]
	p := &problem{message: fmt.Sprintf("the description of %s does not say how to %s", host.Name,
		describe.Operations[operation].Does),
		advice: "Do it on the host's web page.", exit: exitCrux}
	if page != "" {
		p.advice = "Do it on the web page " + page
	}
	return p
}

type repoOptions struct {
	secretOptions
	attach, branch, about, by string
	public, commit            bool
	wait                      time.Duration
}

func repoNew(a *app) *cobra.Command {
	var o repoOptions
	command := &cobra.Command{
		Use:   "new HOST NAME",
		Short: "Create a repository on a host; with --attach, attach a folder and push it",
		Long: `Creates a repository through the host's API: private, unless --public says otherwise. NAME may have
a group before a slash. With --attach, that folder becomes a git repository where it is none, gets the remote, and is
pushed; --commit first commits what is in it where nothing was committed yet. What exists
already is recognised: run it again after it was cut short.

At a host without an API you create it on the web page: the host is asked over SSH now and then
until the repository is there.`,
		RunE: func(_ *cobra.Command, args []string) error { return newRepo(a, &o, args[0], args[1]) },
	}
	flags := command.Flags()
	flags.Var(named(&o.attach, "DIR"), "attach", "attach this folder, and push it")
	flags.BoolVar(&o.public, "public", false, "let everybody read it (default: only those who are let in)")
	flags.BoolVar(&o.commit, "commit", false,
		"with --attach: commit what is in the folder, where nothing was committed yet")
	flags.Var(named(&o.branch, "NAME"), "branch", "its usual branch (default: the host's habit)")
	flags.Var(named(&o.about, "TEXT"), "about", "one line about it")
	o.by = "ssh"
	flags.Var(oneOf(&o.by, "ssh", "https"), "by", "with --attach: the way by which it is attached")
	lasts(flags, &o.wait, "wait", 10*time.Minute, "for a host without an API: how long to wait; 0 asks once")
	o.addToken(command)
	return command
}

func newRepo(a *app, o *repoOptions, hostName, name string) error {
	name = strings.TrimSuffix(strings.Trim(name, "/"), ".git")
	if err := repos.CheckName(name); err != nil {
		return usage("%s", err)
	}
	if o.commit && o.attach == "" {
		return usage("--commit needs --attach")
	}
	place, err := a.place()
	if err != nil {
		return err
	}
	host, err := place.Registry.Find(hostName)
	if err != nil {
		return err
	}
	n := repos.NewRepo{Host: host, Request: hostapi.RepoRequest{Path: name,
		Private: !o.public, Branch: o.branch, About: o.about},
		Commit: o.commit, HTTPS: o.by == "https",
		Git: func(ctx context.Context, folder string, args ...string) error { return runGit(ctx, a, folder, args...) }}
	if o.attach != "" {
		if n.From, err = a.station.InFolder(o.attach); err != nil {
			return err
		}
	}
	if o.commit && n.From != "" {
		if err := nameAuthor(a, place, n.From); err != nil {
			return err
		}
	}
	batch := a.begin("Create the repository "+name+" on "+host.Name+".", host.Name)
	made, err := makeRepo(a, o, place, batch, n)
	if err != nil {
		return err
	}
	return a.showChange(batch, render.MadeRepo(a.style(), made, host.Name, a.station.Tilde(n.From)),
		render.MadeRepoDocument(made, host.Name, number(batch)))
}

func makeRepo(a *app, o *repoOptions, place site.Site, batch *workstation.Batch,
	n repos.NewRepo) (*repos.MadeRepo, error) {
	if !n.Host.Can("add-repo") {
		where := "on the host's page"
		if page := n.Host.Pages.Repositories; page != "" {
			where = "on " + page
		}
		a.progress("Create " + n.Request.Path + " " + where + ", empty. Waiting until " + n.Host.Name + " has it.")
		return repos.Find(a.ctx, place, batch, n, o.wait)
	}
	token, err := tokenFor(a, &o.secretOptions, n.Host, "repos")
	if err != nil {
		return nil, err
	}
	return repos.Add(a.ctx, place, batch, place.Client(n.Host, token), n)
}

// runGit runs git for the person, who reads what it says.
func runGit(ctx context.Context, a *app, folder string, args ...string) error {
	cmd := gitlink.Attached{Folder: folder, Environ: a.station.Environ, Out: a.Err, Err: a.Err}
	if a.mayAsk() {
		a.echo() // git asks for what may be seen as well
		cmd.In = a.In
	}
	return cmd.Run(ctx, args...)
}
