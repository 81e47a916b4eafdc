package hostapi

import (
	"context"
	"errors"

	"anchorage.example/unicrux/core/fault"
)

// A Repo is a repository as the host's interface tells it. What the host does not tell is
// empty.
type Repo struct {
	Path       string // below the host, such as "buoys/drift-model"
	SSH, HTTPS string // clone URLs
	Access     Access // what the account may do
	Visibility string // private or public
	Frozen     bool
	Branch     string // its usual branch
	About      string // uncleaned
}

// A RepoRequest says what repository to create.
type RepoRequest struct {
	Path    string // its name, or with the group that it shall belong to: "buoys/drift-model"
	Private bool
	Branch  string // its usual branch; empty for the host's own habit
	About   string
}

// ErrNoPrivate is returned where the host cannot be told that a repository shall be private.
var ErrNoPrivate = errors.New("the host's API cannot make a repository private")

// ErrNoGroup is returned where the host cannot be told to which group a repository belongs.
var ErrNoGroup = fault.New("api-no-group", fault.Refused, "the host's API accepts no group for a repository")

// Repos lists the repositories that the account may see, as they come, until take returns
// false. A search is left to the host where it can be told; else take gets all.
func (c *Client) Repos(ctx context.Context, search string, take func(Repo) bool) error {
	return c.list(ctx, "list-repos", texts("search", search), func(r result) bool { return take(r.repo()) })
}

// Repo tells about one.
func (c *Client) Repo(ctx context.Context, path string) (Repo, error) {
	found, err := c.do(ctx, "show-repo", values{}.ofRepo(path))
	if err != nil {
		return Repo{}, err
	}
	_, err = found.need("show-repo", "path")
	return found.repo(), err
}

// AddRepo lets the host create a repository.
func (c *Client) AddRepo(ctx context.Context, r RepoRequest) (Repo, error) {
	add := c.Description.Operations["add-repo"]
	with := texts("branch", r.Branch, "about", r.About, "visibility",
		map[bool]string{true: "private", false: "public"}[r.Private]).ofRepo(r.Path)
	switch {
	case r.Private && c.Description.Can("add-repo") && !add.Takes("visibility"):
		return Repo{}, ErrNoPrivate
	case with["owner"].text != "" && c.Description.Can("add-repo") && !add.Takes("owner") && !add.Takes("repo"):
		return Repo{}, ErrNoGroup
	}
	found, err := c.do(ctx, "add-repo", with)
	if err != nil {
		return Repo{}, err
	}
	repo := found.repo()
	if repo.Path == "" {
		repo.Path = r.Path
	}
	return repo, nil
}

func (r result) repo() Repo {
	frozen := r.text("frozen")
	return Repo{Path: r.text("path"), SSH: r.text("ssh"), HTTPS: r.text("https"), Access: asAccess(r.text("access")),
		Visibility: r.text("visibility"),
		Frozen:     frozen == "true" || frozen == "yes" || frozen == "1", Branch: r.text("branch"),
		About: r.text("about")}
}
