package localcheck

import (
	"context"
	"fmt"
	"os/exec"
	"strings"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/signing"
	"anchorage.example/unicrux/core/untrusted"
)

// Push looks, where a person may push, for what stops a plain push all the same: no matter of signing in, and said so
// that nobody makes a new key for it. heads are the branches at the host.
func Push(ctx context.Context, l Located, heads Heads) (*finding.Crux, []finding.Note) {
	if l.Question.Purpose != finding.Push || !l.Config.InRepository() || l.Request.Second {
		return nil, nil
	}
	crux, notes := l.author(ctx)
	if crux != nil {
		return crux, nil
	}
	if hook := l.brokenHook(ctx); hook != nil {
		return hook, nil
	}
	notes = append(notes, l.signing()...)
	if l.Request.Argument != "" {
		return nil, notes
	}
	branch := l.Config.Current(ctx)
	if crux, sure := l.untracked(branch); sure {
		return crux, notes
	}
	crux, more := l.diverged(ctx, branch, heads)
	return crux, append(notes, more...)
}

// untracked looks whether git knows where the branch goes by a plain push ("push.default" in git-config(1)); sure where
// nothing else is to be looked at.
func (l Located) untracked(branch gitlink.Branch) (crux *finding.Crux, sure bool) {
	here := finding.Saw(seen.Branch, untrusted.Clean(branch.Name), "")
	mode := "simple"
	if set, found := l.Config.Last("push.default"); found {
		mode = strings.ToLower(set.Value)
	}
	auto, _ := l.Config.Last("push.autosetupremote")
	refspec := l.Config.All("remote." + l.Question.Remote + ".push")
	switch {
	case !branch.Born:
		return finding.New(causes.BranchUnborn, finding.Proved, here), true
	case len(refspec) > 0 || mode == "matching":
		return nil, true
	case branch.Name == "":
		return finding.New(causes.BranchDetached, finding.Proved,
			finding.Saw(seen.CheckedOut, "the commit "+branch.Commit[:min(12, len(branch.Commit))], "")), true
	case mode == "current" || strings.EqualFold(auto.Value, "true"):
	case branch.Upstream == "" && !l.triangular(branch):
		return finding.New(causes.BranchUntracked, finding.Proved, here, finding.Saw(seen.PushDefault, mode, "")), true
	case mode == "simple" && branch.Upstream != "" && branch.Upstream != "refs/heads/"+branch.Name &&
		!l.triangular(branch):
		return finding.New(causes.BranchUntracked, finding.Proved, here,
			finding.Saw(seen.TiedTo, untrusted.Clean(branch.Upstream), "")), true
	}
	return nil, false
}

// triangular reports whether a branch is pushed elsewhere than it is fetched from: then it is pushed
// under its own name (push.default in git-config(1)).
func (l Located) triangular(branch gitlink.Branch) bool {
	from, found := l.Config.Last("branch." + branch.Name + ".remote")
	return found && from.Value != l.Question.Remote || !found && l.Question.Remote != "origin"
}

// author asks git whether it knows whose commits these are. A push goes without, but the commit before it does not: so
// it stops the way only where something is left to commit, and is a note otherwise.
func (l Located) author(ctx context.Context) (*finding.Crux, []finding.Note) {
	words := gitlink.AuthorProblem(ctx, l.Station)
	switch {
	case words == "":
		return nil, nil
	case !gitlink.Uncommitted(ctx, l.Station):
		return nil, []finding.Note{finding.NewNote(causes.AuthorMissing, l.Address.Host)}
	}
	return finding.New(causes.AuthorMissing, finding.Proved,
		finding.Saw(seen.GitSays, untrusted.Quote(untrusted.Clean(words)), ""),
		finding.Saw(seen.Here, "something is not committed yet", "")), nil
}

// signing notes that git would refuse to sign the next commit, and why: what is committed already is pushed all the
// same.
func (l Located) signing() []finding.Note {
	use, signs := signing.Of(l.Config, l.Station)
	if !signs || !use.Commits {
		return nil
	}
	why := use.Refuses(l.Station)
	if why == nil {
		return nil
	}
	return []finding.Note{{Code: causes.SigningFailed,
		Summary: "git would refuse to sign the next commit: " + why.Error() + "."}}
}

// brokenHook finds a hook that git runs before a push and cannot start: git waits for ever then.
func (l Located) brokenHook(ctx context.Context) *finding.Crux {
	path := gitlink.Hook(ctx, l.Station, "pre-push")
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
	return finding.New(causes.HookHere, finding.Proved, finding.Saw(seen.Hook, l.Station.Tilde(path), ""),
		finding.Saw(seen.ItIsFor, untrusted.Clean(words[0])+", which is not there", ""))
}

// diverged looks whether the host's branch holds commits that are not in ours. Where nothing here is
// new to the host, that is a clone that waits for its next pull, and stops nobody.
func (l Located) diverged(ctx context.Context, branch gitlink.Branch, heads Heads) (*finding.Crux, []finding.Note) {
	there, found := heads["refs/heads/"+branch.Name]
	if !found {
		return nil, []finding.Note{finding.NewNote(causes.BranchUnknown, l.Address.Host)}
	}
	if there == branch.Commit {
		return nil, nil
	}
	holds, known := gitlink.Holds(ctx, l.Station, there, branch.Commit)
	if holds {
		return nil, nil
	}
	if gitlink.Known(ctx, l.Station, branch.Commit, l.Question.Remote) {
		return nil, []finding.Note{finding.NewNote(causes.BranchBehind, l.Address.Host)}
	}
	why := "is not stored here"
	if known {
		why = "is not in the history of the branch here"
	}
	return finding.New(causes.HistoryDiverged, finding.Proved,
		finding.Saw(seen.AtTheHost, fmt.Sprintf("%s is at %s, which %s",
			untrusted.Clean(branch.Name), there[:min(12, len(there))], why), "")), nil
}
