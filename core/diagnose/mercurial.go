package diagnose

import (
	"context"
	"errors"
	"os/exec"
	"strings"

	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/wire"
)

// A Program is what goes the way.
type Program string

// The programs whose way can be checked.
const (
	Git       Program = "git"
	Mercurial Program = "hg"
)

// byHg tells whether the question is about Mercurial: where nobody says so, by the repository that
// the folder is in, and else by the login of the URL.
func (c *checker) byHg() bool {
	if c.request.Program != "" {
		return c.request.Program == Mercurial
	}
	login, _, found := strings.Cut(strings.TrimPrefix(c.request.Argument, "ssh://"), "@")
	return gitlink.MercurialRoot(c.station.Folder) != "" || found && login == "hg"
}

// prepareHg reads what Mercurial has settled. git's settings do not hold then.
func (c *checker) prepareHg() (*Crux, error) {
	if _, err := exec.LookPath("hg"); err != nil {
		return crux("program-missing", Proved, Evidence{"missing", "hg", ""}), nil
	}
	var refused *gitlink.ConfigError
	hg, err := gitlink.ReadMercurial(c.station)
	if errors.As(err, &refused) {
		return crux("git-config-broken", Proved, Evidence{"hg says", untrusted.Clean(refused.Words), ""}), nil
	}
	if err != nil {
		return nil, err
	}
	c.hg, c.config = hg, gitlink.NoConfig(c.station)
	return nil, nil
}

// program is the name of what goes the way.
func (c *checker) program() string {
	if c.hg != nil {
		return string(Mercurial)
	}
	return string(Git)
}

// ssh is the ssh program that is started.
func (c *checker) ssh() gitlink.SSHCommand {
	if c.hg != nil {
		return c.hg.SSH()
	}
	return c.config.SSH()
}

// hgMends are mends in hg's terms, where those of the catalogue are in git's.
var hgMends = map[Code]string{
	"secret-missing":     "Write a group for HOST under [auth] in your .hgrc, with prefix, username and password; a token stands in the place of the password.",
	"token-unknown":      "Get a new token for HOST, and put it in the place of the password at that line.",
	"remote-missing":     "Name a path that is there, or add this one under [paths] in .hg/hgrc.",
	"ssh-command-broken": "Correct ui.ssh in hg's settings, or take it out: then hg uses ssh.",
	"url-malformed":      "Copy the clone URL again. hg takes ssh://USER@NAME/PATH and https://NAME/PATH.",
}

// otherThere is the label of what is there for another program than the one that asked.
const otherThere = "there is"

// otherThan is the program that does not go this way.
func (c *checker) otherThan() Program {
	if c.hg != nil {
		return Git
	}
	return Mercurial
}

// hgRemote finds the URL of one of the repository's paths, of the one that a plain push would use
// without a name.
func (c *checker) hgRemote(name string) (string, *Crux, error) {
	purpose := c.purpose(Push)
	c.way.Question = Question{Remote: name, Purpose: purpose, Transport: "ssh"}
	if c.hg.Root == "" {
		return "", crux("repository-none", Proved, Evidence{"folder", c.station.Tilde(c.station.Folder), ""}), nil
	}
	entry, used, found := c.hg.Path(name, purpose == Push)
	if !found {
		var there []string
		for _, path := range c.hg.Paths() {
			there = append(there, path.Name)
		}
		if name == "" {
			name = "default"
		}
		return "", c.noSuchRemote(name, there), nil
	}
	c.way.Question.Remote = used
	c.way.fact(Address, "path", used, c.station.Tilde(entry.Origin))
	c.given = entry.Value
	return entry.Value, nil, nil
}

// hgPath is the path that hg sends: without the slash behind the host's name, so that it begins at
// the home there; a second slash makes it begin at the top ("URL PATHS" in hg(1)).
func (c *checker) hgPath() string {
	path := strings.TrimPrefix(c.address.Path, "/")
	if path == "" {
		return "."
	}
	return path
}

// planHg makes a plan ask for Mercurial.
func (c *checker) planHg(plan *wire.Plan) {
	if c.way.Question.Repo != "" {
		plan.Hg, plan.Path, plan.Exists = c.hg.There(), c.hgPath(), true
		plan.Writing = c.way.Question.Purpose == Push
	}
}

// hgPermission says what is known of writing: that needs a push, or a shell that tells.
func (c *checker) hgPermission(writable wire.Ternary) {
	switch {
	case c.way.Question.Purpose != Push:
		c.way.open(Permission, 0)
		c.way.fact(Permission, string(c.way.Question.Purpose), "Mercurial answers", "")
	case writable == wire.Yes:
		c.way.open(Permission, 0)
		c.way.fact(Permission, string(Push), "the repository's folder may be written", "a shell at the host")
	case writable == wire.Untold:
		c.way.stage(Permission).State = Skipped
		c.note("writing-untried")
	}
}

// tellWriting says what is known of writing to a repository of git's at a host that nobody described: its files
// may be closed to the account, which only a shell or a push tells.
func (c *checker) tellWriting(writable wire.Ternary) {
	switch writable {
	case wire.Yes:
		c.way.fact(Permission, "files", "the repository's folders may be written", "a shell at the host")
	case wire.Untold:
		c.note("writing-untried")
	}
}

// readOnlyFiles is the crux where a shell at the host said that the repository may not be written.
func (c *checker) readOnlyFiles(trip *wire.Trip) *Crux {
	if trip.Writable != wire.No {
		return nil
	}
	path := c.address.Path
	if c.hg != nil {
		path = c.hgPath()
	}
	return crux("read-only-account", Proved, Evidence{"asked for", untrusted.Clean(path), ""},
		Evidence{"the folder", "may not be written by " + untrusted.Clean(c.passage.Client.User), "a shell at the host"}, Evidence{"reading", "works", ""})
}

// otherProgram tells what else answers where no repository of the program's own does: somebody who
// takes git for Mercurial, or the other way round, has the right URL.
func (c *checker) otherProgram(ctx context.Context) string {
	plan := c.webPlan(ctx)
	plan.Hg, plan.Instead, plan.Service = !plan.Hg, "", "git-upload-pack"
	plan.Credential = nil
	if !c.sent.Password.Empty() {
		plan.Credential = func(int) (string, origin.Bound, error) { return c.sendHere() }
	}
	trip, err := wire.GoWeb(ctx, plan)
	if err != nil || !trip.Answer.Open {
		return ""
	}
	if plan.Hg {
		return "a repository of Mercurial's: hg clone takes this URL"
	}
	return "a repository of git's: git clone takes this URL"
}
