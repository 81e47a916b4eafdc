package sshcheck

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/lazyregexp"
	"anchorage.example/unicrux/core/redact"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/untrusted"
)

// A dryRun is what the ssh client itself says that it would do (-G in ssh(1)). It connects to nobody
// then.
type dryRun struct {
	settled map[string]string // by keyword
	output  string            // all of that
	said    string            // all that it wrote, where it failed
	failed  bool
	missing bool // it is not there, or cannot be run
	stuck   bool // it did not end in time
}

// startDryRun asks the ssh client while we go on: it knows its own settings best. It is not asked
// where that would run a command of the settings (Match exec in ssh_config(5)), nor a second time.
func (s Settled) startDryRun(ctx context.Context) func() dryRun {
	command := s.Passage.Command
	runs := slices.ContainsFunc(s.Passage.Settings.Unknown,
		func(u sshconfig.Value) bool { return slices.Contains(u.Args, "exec") })
	if command.Clear && (s.Request.Second || runs) { // git itself asks only programs that it does not know
		return func() dryRun { return dryRun{} }
	}
	done := make(chan dryRun, 1)
	go func() { done <- s.goDry(ctx, command) }()
	return func() dryRun {
		answer := <-done
		done <- answer
		return answer
	}
}

func (s Settled) goDry(ctx context.Context, command gitlink.SSHCommand) dryRun {
	if strings.TrimSpace(command.Program) == "" {
		return dryRun{failed: true, missing: true}
	}
	ctx, cancel := context.WithTimeout(ctx, min(s.Request.For(), finding.Patience))
	defer cancel()
	args, options := []string{"-G"}, s.Request.Options
	if command.Text == "" { // what stands in it is not there for the shell to read
		line := command.Query(s.Address, s.Station).Command
		if options = append(line.Options, options...); line.Config != "" {
			args = append(args, "-F", line.Config)
		}
	}
	for _, option := range options {
		args = append(args, "-o", option.Keyword+" "+strings.Join(option.Args, " "))
	}
	host := s.Address.Host
	if command.Text != "" && s.Hg == nil { // as git names them
		if s.Address.Port != 0 {
			args = append(args, "-p", strconv.Itoa(int(s.Address.Port)))
		}
		if s.Address.User != "" {
			host = s.Address.User + "@" + host
		}
	}
	args = append(args, host)
	run := exec.CommandContext(ctx, command.Program, args...)
	if command.Text != "" {
		run = exec.CommandContext(ctx, "sh", append([]string{"-c", command.Text + ` "$@"`, command.Text}, args...)...)
	}
	run.Dir, run.Env, run.WaitDelay = s.Station.Dir(), s.Station.Environ, time.Second
	words, err := run.CombinedOutput()
	var exit *exec.ExitError
	if err == nil || (!errors.As(err, &exit) && ctx.Err() == nil && !errors.Is(err, os.ErrPermission)) {
		return dryRun{settled: keywords(string(words)), output: string(words)}
	}
	return dryRun{failed: true, said: untrusted.Clean(redact.Text(string(words))), stuck: ctx.Err() != nil,
		missing: exit != nil && (exit.ExitCode() == 126 || exit.ExitCode() == 127)}
}

func keywords(text string) map[string]string {
	settled := map[string]string{}
	for line := range strings.Lines(text) {
		keyword, value, _ := strings.Cut(strings.TrimSpace(line), " ")
		settled[keyword] = value
	}
	return settled
}

// complains is how the ssh client names a line that it does not take.
var complains = lazyregexp.Late(`(?i)^(\S.*?) line (\d+): +(.*?)( \S+: terminating.*)?$`)

// refusedByClient names the line for which the ssh client itself stops, where we did not see it.
func (s Settled) refusedByClient() *finding.Crux {
	answer := s.client()
	if !answer.failed || !causes.Says(answer.said, `\bline \d+: |bad configuration option`) {
		return nil
	}
	if parts := complains().FindStringSubmatch(answer.said); parts != nil {
		return finding.New(causes.SSHConfigBroken, finding.Proved,
			finding.Saw(seen.Where, s.Station.Tilde(parts[1])+":"+parts[2], ""),
			finding.Saw(seen.SSHSays, untrusted.Quote(parts[3]), ""))
	}
	return finding.New(causes.SSHConfigBroken, finding.Proved,
		finding.Saw(seen.SSHSays, untrusted.Quote(answer.said), ""))
}

// brokenCommand tells of an ssh program that settings name and that does not do what git needs
// (ssh.variant in git-config(1)).
func (s Settled) brokenCommand() *finding.Crux {
	command := s.Passage.Command
	if command.Origin == "" {
		return nil
	}
	answer := s.client()
	if causes.Says(answer.said, "cannot fork into background") { // without a command, which git has
		return nil
	}
	// it takes other options than ssh does
	if !answer.failed || answer.stuck || (!answer.missing && !command.Clear &&
		(answer.said == "" || causes.Says(answer.said, "option|usage|-G"))) {
		return nil
	}
	if refused := s.refusedByClient(); refused != nil {
		return refused
	}
	certainty := finding.Likely
	if answer.missing || command.Clear {
		certainty = finding.Proved
	}
	starts := untrusted.Clean(redact.Text(command.Text + command.Name()))
	if starts == "" {
		starts = "nothing: the setting is there, and empty"
	}
	evidence := []finding.Evidence{finding.Saw(seen.Starts, starts, s.Station.Tilde(command.Origin))}
	if answer.said != "" {
		evidence = append(evidence, finding.Saw(seen.ItSays, untrusted.Quote(answer.said), ""))
	}
	return finding.New(causes.SSHCommandBroken, certainty, evidence...)
}

// unlisted tells that the ssh client does not run for a user without a name.
func (s Settled) unlisted() *finding.Crux {
	if !s.Station.Unlisted {
		return nil
	}
	evidence := []finding.Evidence{finding.Saw(seen.User, "number "+strconv.Itoa(s.Station.UID),
		"not in the password database")}
	switch answer := s.client(); {
	case answer.failed && causes.Says(answer.said, "no user exists"):
		return finding.New(causes.UserUnlisted, finding.Proved,
			append(evidence, finding.Saw(seen.SSHSays, untrusted.Quote(answer.said), ""))...)
	case answer.failed || answer.settled != nil: // another reason, or another program than ssh, which does not mind
		return nil
	}
	return finding.New(causes.UserUnlisted, finding.Likely, evidence...)
}

// limits are the ciphers, MACs and key exchanges that settings let the client speak: its own lists, where any of them
// was changed.
func (s Settled) limits() (ciphers, macs, exchanges []string) {
	changed := func(keyword string) []string {
		if _, _, set := s.Passage.Settings.First(keyword); !set {
			return nil
		}
		return strings.Split(s.client().settled[keyword], ",")
	}
	return changed("ciphers"), changed("macs"), changed("kexalgorithms")
}

// fromClient is the command line on which a program that is not ssh, asked as ssh is, says that it would put ssh.
func fromClient(output string, command gitlink.SSHCommand) (line sshconfig.CommandLine, told bool) {
	return sshconfig.FromClient(output, untrusted.Clean(command.Text+command.Name())+" -G")
}

// programs makes sure that git could start its ssh.
func (s Settled) programs() *finding.Crux {
	command := s.SSH()
	program := command.Program
	if filepath.IsAbs(command.Through) {
		if _, err := os.Stat(command.Through); err != nil {
			program = command.Through
		}
	}
	if !command.Clear && strings.ContainsAny(program, " \t") { // a line for the shell that we do not take apart
		return nil
	}
	if _, err := exec.LookPath(program); err != nil {
		if command.Origin != "" && program != "ssh" {
			if strings.TrimSpace(program) == "" {
				return finding.New(causes.SSHCommandBroken, finding.Proved,
					finding.Saw(seen.Starts, "nothing: the setting is there, and empty",
						s.Station.Tilde(command.Origin)))
			}
			return finding.New(causes.SSHCommandBroken, finding.Proved,
				finding.Saw(seen.Starts, untrusted.Clean(program), s.Station.Tilde(command.Origin)),
				finding.Saw(seen.Program, "is not there, or cannot be run", ""))
		}
		return finding.New(
			causes.ProgramMissing,
			finding.Proved,
			finding.Saw(seen.Missing, untrusted.Clean(program), ""),
		)
	}
	return nil
}

// refusedSettings names the file or line for which the ssh client would stop.
func (s Settled) refusedSettings() *finding.Crux {
	if len(s.Passage.Settings.Problems) == 0 {
		return nil
	}
	problem := s.Passage.Settings.Problems[0]
	if errors.Is(problem.Err, sshconfig.ErrExposed) {
		return finding.New(causes.SSHConfigExposed, finding.Proved,
			finding.Saw(seen.File, s.Station.Tilde(problem.Origin.File), ""),
			finding.Saw(seen.Why, problem.Err.Error(), ""))
	}
	if errors.Is(problem.Err, fs.ErrNotExist) {
		return finding.New(causes.FileMissing, finding.Proved,
			finding.Saw(seen.File, s.Station.Tilde(problem.Origin.File), "named by -F"),
			finding.Saw(seen.Starts, untrusted.Clean(redact.Text(s.Passage.Command.Text)),
				s.Station.Tilde(s.Passage.Command.Origin)))
	}
	evidence := []finding.Evidence{finding.Saw(seen.Where, s.Origin(problem.Origin), "")}
	if problem.Keyword != "" {
		evidence = append(evidence, finding.Saw(seen.Keyword, untrusted.Clean(problem.Keyword), ""))
	}
	return finding.New(causes.SSHConfigBroken, finding.Proved,
		append(evidence, finding.Saw(seen.Why, problem.Err.Error(), ""))...)
}
