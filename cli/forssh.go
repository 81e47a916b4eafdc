package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/diagnose"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/shellwords"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/render"
)

// forGitSSH is for the page of help: [Run] comes to [app.ssh] without reading ssh's options.
func forGitSSH(a *app) *cobra.Command {
	return &cobra.Command{Use: "ssh ARGUMENTS", Short: "Be git's ssh, and say why when the way is closed",
		DisableFlagParsing: true,
		RunE:               func(_ *cobra.Command, args []string) error { return &told{sshForGit(a, args)} }}
}

// sshFailed is with what ssh ends when it did not get through: every other code is that of the
// command at the host ("EXIT STATUS" in ssh(1)).
const sshFailed = 255

// Bounds for naming the crux in place: git and its person wait for it.
const (
	inPlaceStep  = 5 * time.Second
	inPlaceWhole = 15 * time.Second
)

// sshForGit runs ssh for git, unchanged: its input, output and errors are ours, and so are its end and
// its signals. When it did not get through, the crux is told behind its own words.
func sshForGit(a *app, args []string) int {
	exit, err := runSSH(a.ctx, a.Environ, args)
	if err != nil {
		_, _ = fmt.Fprintln(a.Err, "unicrux: ssh cannot be started:", err)
		return sshFailed
	}
	if exit == sshFailed && a.ctx.Err() == nil {
		tellCrux(a, args)
	}
	return exit
}

func runSSH(ctx context.Context, environ, args []string) (int, error) {
	program, err := exec.LookPath("ssh")
	if err != nil {
		return 0, err
	}
	// What the terminal sends for an interrupt, ssh gets as well; what is sent to us alone is
	// handed on.
	run := exec.CommandContext(ctx, program, args...)
	run.Env, run.Stdin, run.Stdout, run.Stderr = environ, os.Stdin, os.Stdout, os.Stderr
	run.Cancel = func() error { return run.Process.Signal(os.Interrupt) }
	var exit *exec.ExitError
	if err = run.Run(); err != nil && !errors.As(err, &exit) && ctx.Err() == nil {
		return 0, err
	}
	if run.ProcessState == nil {
		return sshFailed, nil
	}
	endAlike(run.ProcessState)
	return max(run.ProcessState.ExitCode(), 0), nil
}

// tellCrux goes the way that ssh went, and says in three lines what closes it. Whatever goes wrong here
// is no matter of git's.
func tellCrux(a *app, args []string) {
	question, ok := questionOf(args)
	if !ok {
		return
	}
	var err error
	if a.station, err = a.here(); err != nil {
		return
	}
	registry, err := hosts.Open(a.station)
	if err != nil {
		return
	}
	ctx, cancel := context.WithTimeout(a.ctx, inPlaceWhole)
	defer cancel()
	question.Timeout, question.Ask = inPlaceStep, finding.NobodyAsks
	way, err := diagnose.Check(ctx, a.station, registry, question)
	if err != nil || way.IsOpen() {
		return
	}
	a.tell(render.InPlace(a.errStyle(), way))
}

// questionOf turns the command line that git has written into a question: git puts the repository
// into single quotes, in the command for the host (sq_quote_buf in its sources).
func questionOf(args []string) (finding.Request, bool) {
	call, ok := sshconfig.ParseCall(args, "git's command line")
	if !ok || len(call.Command) == 0 {
		return finding.Request{}, false
	}
	service, path, found := strings.Cut(strings.Join(call.Command, " "), " ")
	path = shellwords.FromGitPath(path)
	request := finding.Request{AsIs: true, Options: call.Options, Program: finding.Git}
	switch {
	case !found:
		return request, false
	case strings.HasSuffix(service, "git-receive-pack"):
		request.Purpose = finding.Push
	case strings.HasSuffix(service, "git-upload-pack"), strings.HasSuffix(service, "git-upload-archive"):
		request.Purpose = finding.Clone
	default:
		return request, false
	}
	at := address.Address{Scheme: "ssh", User: call.User, Host: call.Host, Path: path,
		Short: !strings.HasPrefix(path, "/")}
	request.Argument = at.String()
	return request, true
}
