package sshcheck

import (
	"context"
	"errors"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/redact"
	"anchorage.example/unicrux/core/untrusted"
)

// bySomethingElse reports whether git starts another program than ssh, one that cannot be asked what it would do.
func (s Settled) bySomethingElse() bool { return !s.Passage.Command.Clear && s.Hg == nil }

// letGitTry lets git itself go the way where it starts another program than ssh: nobody else can tell whether it is
// open. It returns the crux that git's words name, or nil where git gets there.
func (s Settled) letGitTry(ctx context.Context) *finding.Crux {
	command := s.Passage.Command
	starts := finding.Saw(seen.Starts, untrusted.Clean(redact.Text(command.Text+command.Name())),
		s.Station.Tilde(command.Origin))
	if s.Question.Repo != "" {
		ctx, cancel := context.WithTimeout(ctx, s.Request.For())
		defer cancel()
		err := s.Config.ListRemote(ctx, s.Address.String(), gitlink.Credential{})
		var refused *gitlink.ListError
		if err == nil {
			return nil
		}
		if errors.As(err, &refused) {
			if found := finding.Read(refused.Said, starts); found != nil {
				return found
			}
		}
	}
	return finding.New(causes.SSHProgramUnknown, finding.Proved, starts,
		finding.Saw(seen.AskedWithOptions, "it does not say, as ssh does, which settings it goes by", ""))
}

// gitPassed are the stages of a way that git itself went.
func (s Settled) gitPassed() finding.Part {
	var part finding.Part
	for _, stage := range []causes.StageName{causes.Reach, causes.Trust, causes.SignIn, causes.Repository} {
		part.Open(stage, 0)
	}
	part.Fact(causes.Repository, "tried by", "git itself, with the program that it starts", "")
	if s.Question.Purpose == finding.Push {
		part.Skip(causes.Permission)
		part.Note(finding.NewNote(causes.WritingUntried, s.Address.Host))
		return part
	}
	part.Open(causes.Permission, 0)
	return part
}
