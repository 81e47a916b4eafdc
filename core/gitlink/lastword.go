package gitlink

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net/url"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strings"
)

// A ListError is what git said where it could not list the refs of a URL: in English, and with whatever the other end
// said.
type ListError struct{ Said string }

func (e *ListError) Error() string { return "git ls-remote: " + e.Said }

// answersOnce is a credential helper that passes on what waits for it, once (gitcredentials(7)).
const answersOnce = `!f() { test "$1" = get && cat <&3; }; f`

// ListRemote lets git itself ask for the refs of a URL, as "git ls-remote" does, and returns nil where it gets them.
// It signs in over HTTPS with sent alone, and at the URL's host and port alone, wherever that one sends git on to or
// whichever proxy is on the way: helpers are neither asked nor told, and nobody is asked for anything. An error is a
// *[ListError], [ErrNoGit], or why git could not be started.
func (c *Config) ListRemote(ctx context.Context, at string, sent Credential) error {
	program, err := exec.LookPath("git")
	if err != nil {
		return ErrNoGit
	}
	args := []string{"-c", "core.askPass=", "-c", "credential.helper="}
	if !sent.Password.Empty() {
		base, err := url.Parse(at)
		if err != nil {
			return err
		}
		args = append(args, "-c", "credential."+base.Scheme+"://"+base.Host+".helper="+answersOnce)
	}
	cmd := exec.CommandContext(ctx, program, append(args, "ls-remote", "--quiet", "--", at, "HEAD")...)
	withoutTerminal(cmd)
	cmd.Dir = c.station.Dir()
	cmd.Env = append(slices.DeleteFunc(slices.Clone(c.Asked().Environ), traces), "LC_ALL=C", "GIT_TERMINAL_PROMPT=0",
		"GIT_ASKPASS=", "SSH_ASKPASS=", "SSH_ASKPASS_REQUIRE=never")
	var said bytes.Buffer
	cmd.Stderr = &said
	if !sent.Password.Empty() {
		end, err := passOn(cmd, sent)
		if err != nil {
			return err
		}
		defer end()
	}
	err = cmd.Run()
	var exit *exec.ExitError
	switch {
	case errors.As(err, &exit) && ctx.Err() == nil:
		return &ListError{strings.TrimSpace(said.String())}
	case ctx.Err() != nil:
		return ctx.Err()
	}
	return err
}

// traces reports whether a line of the environment makes git tell what it does, in which secrets may be
// (GIT_TRACE* and GIT_CURL_VERBOSE in git(1)).
func traces(line string) bool {
	return strings.HasPrefix(line, "GIT_TRACE") || strings.HasPrefix(line, "GIT_CURL_VERBOSE=")
}

// ErrNoPipe is returned where this system hands no pipe on to a program.
var ErrNoPipe = errors.New("a secret cannot be handed to git's helper here")

// passOn lets a command read a credential from its third file descriptor. Neither its arguments nor its environment,
// which others may see, hold the secret.
func passOn(cmd *exec.Cmd, sent Credential) (end func(), err error) {
	if runtime.GOOS == "windows" {
		return nil, ErrNoPipe
	}
	read, write, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	_, err = io.WriteString(write, "username="+sent.User+"\npassword="+string(sent.Password.Reveal())+"\n")
	if closed := write.Close(); err == nil {
		err = closed
	}
	cmd.ExtraFiles = []*os.File{read}
	return func() { _ = read.Close() }, err
}
