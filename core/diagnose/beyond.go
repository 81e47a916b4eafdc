package diagnose

import (
	"context"
	"fmt"
	"os/exec"
	"strings"

	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/signing"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/wire"
)

// beyond looks, where a person may push, for what stops a plain push all the same: no matter of
// signing in, and told so that nobody makes a new key for it.
func (c *checker) beyond(ctx context.Context) *Crux {
	if c.way.Question.Purpose != Push || !c.config.InRepository() || c.request.second {
		return nil
	}
	if author := c.missingAuthor(ctx); author != nil {
		return author
	}
	if hook := c.brokenHook(ctx); hook != nil {
		return hook
	}
	c.noteSigning()
	if c.request.Argument != "" {
		return nil
	}
	branch := c.config.Current(ctx)
	here := Evidence{"branch", untrusted.Clean(branch.Name), ""}
	mode := "simple"
	if set, found := c.config.Last("push.default"); found {
		mode = strings.ToLower(set.Value)
	}
	auto, _ := c.config.Last("push.autosetupremote")
	refspec := c.config.All("remote." + c.way.Question.Remote + ".push")
	switch {
	case !branch.Born:
		return crux("branch-unborn", Proved, here)
	case len(refspec) > 0 || mode == "matching":
		return nil
	case branch.Name == "":
		return crux("branch-detached", Proved, Evidence{"checked out", "the commit " + branch.Commit[:min(12, len(branch.Commit))], ""})
	case mode == "current" || strings.EqualFold(auto.Value, "true"):
	case branch.Upstream == "" && !c.triangular(branch):
		return crux("branch-untracked", Proved, here, Evidence{"push.default", mode, ""})
	case mode == "simple" && branch.Upstream != "" && branch.Upstream != "refs/heads/"+branch.Name && !c.triangular(branch):
		return crux("branch-untracked", Proved, here, Evidence{"tied to", untrusted.Clean(branch.Upstream), ""})
	}
	return c.diverged(ctx, branch)
}

// noteSigning tells that git would refuse to sign the next commit, and why: what is committed already is pushed all
// the same.
func (c *checker) noteSigning() {
	use, signs := signing.Of(c.config, c.station)
	if !signs || !use.Commits {
		return
	}
	if why := use.Refuses(c.station); why != nil {
		c.way.Notes = append(c.way.Notes, Note{Code: "signing-failed", Summary: "git would refuse to sign the next commit: " + why.Error() + "."})
	}
}

// brokenHook finds a hook that git runs before a push and cannot start: git waits for ever then.
func (c *checker) brokenHook(ctx context.Context) *Crux {
	path := gitlink.Hook(ctx, c.station, "pre-push")
	text, err := regular.Read(path, regular.Settings)
	if path == "" || err != nil {
		return nil
	}
	line, _, _ := strings.Cut(string(text[:min(len(text), 256)]), "\n")
	words := strings.Fields(strings.TrimPrefix(line, "#!"))
	if !strings.HasPrefix(line, "#!") || len(words) == 0 {
		return nil
	}
	if _, err := exec.LookPath(words[0]); err == nil {
		return nil
	}
	return crux("hook-here", Proved, Evidence{"hook", c.station.Tilde(path), ""}, Evidence{"it is for", untrusted.Clean(words[0]) + ", which is not there", ""})
}

// triangular tells whether a branch is pushed elsewhere than it is fetched from: then it is pushed
// under its own name (push.default in git-config(1)).
func (c *checker) triangular(branch gitlink.Branch) bool {
	from, found := c.config.Last("branch." + branch.Name + ".remote")
	return found && from.Value != c.way.Question.Remote || !found && c.way.Question.Remote != "origin"
}

// diverged looks whether the host's branch holds commits that are not in ours. Where nothing here is
// new to the host, that is a clone that waits for its next pull, and stops nobody.
func (c *checker) diverged(ctx context.Context, branch gitlink.Branch) *Crux {
	there, found := c.heads()["refs/heads/"+branch.Name]
	if !found {
		c.note("branch-unknown")
		return nil
	}
	if there == branch.Commit {
		return nil
	}
	holds, known := gitlink.Holds(ctx, c.station, there, branch.Commit)
	if holds {
		return nil
	}
	if gitlink.Known(ctx, c.station, branch.Commit, c.way.Question.Remote) {
		c.note("branch-behind")
		return nil
	}
	why := "is not stored here"
	if known {
		why = "is not in the history of the branch here"
	}
	return crux("history-diverged", Proved, Evidence{"at the host", fmt.Sprintf("%s is at %s, which %s", untrusted.Clean(branch.Name), there[:min(12, len(there))], why), ""})
}

func (c *checker) heads() map[string]string {
	if c.way.Trip != nil {
		return c.way.Trip.Answer.Heads
	}
	return c.webHeads
}

// unprotected looks whether the host answers git's own protocol, which proves nobody's identity and
// hides nothing (git-daemon(1)).
func (c *checker) unprotected(ctx context.Context) *Crux {
	a := c.address
	answer, err := wire.GoGit(ctx, a.Host, int(a.Port), a.Path, c.service(), c.timeout())
	scheme := Evidence{"scheme", "git, which proves nobody's identity and hides nothing", ""}
	words := untrusted.Clean(answer.Words)
	switch {
	case err != nil && c.likelyName() != "" && met(err, "") == "name-unknown":
		return crux("name-unknown", Proved, Evidence{"host", a.Host, ""}, Evidence{"looks like", c.likelyName(), ""})
	case err != nil && met(err, "") == "name-unknown" && c.host == nil:
		return crux("name-unknown", Proved, Evidence{"host", a.Host, ""})
	case err != nil:
		return crux("url-transport-refused", Likely, scheme)
	case answer.Open:
		return nil
	case c.service() == "git-receive-pack":
		return crux("url-transport-refused", Proved, scheme, Evidence{"host says", untrusted.Quote(words), ""})
	}
	if code := meaning(words, Address, Permission); code != "" {
		return crux(code, Proved, scheme, Evidence{"host says", untrusted.Quote(words), ""})
	}
	return crux("url-transport-refused", Likely, scheme, Evidence{"host says", untrusted.Quote(words), ""})
}
