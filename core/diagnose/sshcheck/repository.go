package sshcheck

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/wire"
)

// explainService names why the host did not open the repository. Where it may be a matter
// of the account, other keys are tried; a host that is overloaded is left in peace.
func (t Travelled) explainService(ctx context.Context, failure *wire.Failure) *finding.Crux {
	refused := t.explainRefusal(failure)
	if refused.Code == causes.RepositoryMissing || refused.Code == causes.ReadOnlyAccount {
		if found := t.otherAccount(ctx); found != nil {
			return found
		}
	}
	return refused
}

// explainRefusal reads the host's words, and what it did open.
func (t Travelled) explainRefusal(failure *wire.Failure) *finding.Crux {
	words := untrusted.Clean(t.Trip.Answer.Message)
	evidence := []finding.Evidence{finding.Saw(seen.AskedFor, untrusted.Clean(t.Address.Path), "")}
	if t.Account != "" {
		evidence = append(evidence, finding.Saw(seen.SignedInAs, t.Account, ""))
	}
	if words != "" {
		evidence = append(evidence, finding.Saw(seen.HostSays, untrusted.Quote(words), ""))
	}
	if t.Trip.Instead.Open {
		evidence = append(evidence, finding.Saw(seen.Reading, "works", ""))
	}
	if t.Trip.Answer.Noise {
		return finding.New(causes.HostFailing, finding.Proved, append(evidence, finding.Saw(seen.AtTheHost,
			"a login script or a forced command prints words before "+string(t.Program())+"'s answer", ""))...)
	}
	if errors.Is(failure, wire.ErrSilent) || errors.Is(failure, wire.ErrNoSession) {
		return finding.New(causes.HostFailing, finding.Likely, evidence...)
	}
	if errors.Is(failure, wire.ErrHungUp) {
		found := finding.New(causes.ConnectionClosed, finding.Likely, evidence...)
		found.Stage = causes.Repository
		return found
	}
	if causes.Says(words, `dubious ownership|safe\.directory`) { // the host's git says so of the host's folder
		return finding.New(causes.HostFailing, finding.Proved,
			append(evidence, finding.Saw(seen.AtTheHost,
				"its git refuses the folder, which belongs to another user than "+
					untrusted.Clean(t.Passage.Client.User), ""))...)
	}
	if t.Host != nil {
		if code, known := causes.Find(t.Host.Meaning(words)); known && causes.StageOf(code) != "" {
			return finding.New(code, finding.Proved, evidence...)
		}
	}
	told := causes.Hear(t.Trip.Answer.Message, causes.SignIn, causes.Permission)
	reading := t.Trip.Instead.Open
	if !told.IsZero() && told != causes.RepositoryMissing && (told != causes.ReadOnlyAccount || !reading) {
		return finding.New(told, finding.Likely, evidence...)
	}
	if reading {
		return finding.New(causes.ReadOnlyAccount, finding.Proved, evidence...)
	}
	if t.Trip.Exists {
		return finding.New(causes.RepositoryNotGit, finding.Proved,
			append(evidence, finding.Saw(seen.AtTheHost, "a file or folder of that name is there", ""))...)
	}
	if !told.IsZero() {
		return finding.New(told, finding.Proved, evidence...)
	}
	evidence = append(evidence, finding.Saw(seen.ExitStatus, fmt.Sprint(t.Trip.Answer.Exit), ""))
	if words == "" || t.Hg != nil { // git's and Mercurial's own programs say what they miss
		return finding.New(causes.HostFailing, finding.Likely, append(evidence, finding.Saw(seen.AtTheHost,
			string(t.Program())+" did not answer: perhaps the account has no shell, or a forced command", ""))...)
	}
	return finding.New(causes.RepositoryMissing, finding.Likely, evidence...)
}

// hgPath is the path that hg sends: without the slash behind the host's name, so that it begins at
// the home there; a second slash makes it begin at the top ("URL PATHS" in hg(1)).
func (s Settled) hgPath() string {
	path := strings.TrimPrefix(s.Address.Path, "/")
	if path == "" {
		return "."
	}
	return path
}

// forHg makes a plan ask for Mercurial.
func (s Settled) forHg(plan wire.Plan) wire.Plan {
	if s.Question.Repo != "" {
		plan.Hg, plan.Path, plan.Exists = s.Hg.There(), s.hgPath(), true
		plan.Writing = s.Question.Purpose == finding.Push
	}
	return plan
}

// permission is what is known of the purpose at a host that opened the repository. To write with hg needs a push, or a
// shell that tells; and a repository of git's at a host that nobody described may be closed to the account by the modes
// of its files, which only a shell or a push tells.
func (t Travelled) permission() finding.Part {
	var part finding.Part
	purpose, writable := t.Question.Purpose, t.Trip.Writable
	untold := finding.NewNote(causes.WritingUntried, t.Address.Host)
	switch {
	case t.Hg == nil:
		part.Open(causes.Permission, 0)
		part.Fact(causes.Permission, string(purpose), "the host answers "+t.Service(), "")
		if purpose != finding.Push || !t.Undescribed() {
			break
		}
		if writable == wire.Yes {
			part.Fact(causes.Permission, "files", "the repository's folders may be written", "a shell at the host")
		} else if writable == wire.Untold {
			part.Note(untold)
		}
	case purpose != finding.Push:
		part.Open(causes.Permission, 0)
		part.Fact(causes.Permission, string(purpose), "Mercurial answers", "")
	case writable == wire.Yes:
		part.Open(causes.Permission, 0)
		part.Fact(causes.Permission, string(purpose), "the repository's folder may be written", "a shell at the host")
	case writable == wire.Untold:
		part.Skip(causes.Permission)
		part.Note(untold)
	}
	return part
}

// readOnlyFiles is the crux where a shell at the host said that the repository may not be written.
func (t Travelled) readOnlyFiles() *finding.Crux {
	if t.Trip.Writable != wire.No {
		return nil
	}
	path := t.Address.Path
	if t.Hg != nil {
		path = t.hgPath()
	}
	return finding.New(causes.ReadOnlyAccount, finding.Proved, finding.Saw(seen.AskedFor, untrusted.Clean(path), ""),
		finding.Saw(seen.TheFolder, "may not be written by "+untrusted.Clean(t.Passage.Client.User),
			"a shell at the host"), finding.Saw(seen.Reading, "works", ""))
}
