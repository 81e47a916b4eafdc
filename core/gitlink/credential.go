package gitlink

import (
	"bytes"
	"context"
	"errors"
	"os/exec"
	"strings"

	"unicrux/core/secret"
	"unicrux/core/workstation"
)

// A Credential is what git's helpers keep for a host (git-credential(1), INPUT/OUTPUT FORMAT).
type Credential struct {
	Protocol, Host, Path, User string
	Password                   secret.Text
}

// ErrNoCredential is returned when none of git's helpers has an answer.
var ErrNoCredential = errors.New("none of git's credential helpers has an answer")

// Approve gives a credential to the helpers that git is told to use, to be kept. git does not
// tell whether any did: see [Fill].
func Approve(ctx context.Context, station *workstation.Station, c Credential) error {
	_, err := credential(ctx, station, "approve", c)
	return err
}

// Fill asks the helpers for the password of a credential. Nobody is prompted.
func Fill(ctx context.Context, station *workstation.Station, c Credential) (secret.Text, error) {
	out, err := credential(ctx, station, "fill", c)
	if err != nil {
		return secret.Text{}, ErrNoCredential
	}
	for line := range bytes.Lines(out) {
		if value, found := bytes.CutPrefix(bytes.TrimRight(line, "\n"), []byte("password=")); found {
			return secret.New(bytes.Clone(value)), nil
		}
	}
	return secret.Text{}, ErrNoCredential
}

// credential runs git credential. What it says goes nowhere: it may hold the secret.
func credential(ctx context.Context, station *workstation.Station, action string, c Credential) ([]byte, error) {
	program, err := exec.LookPath("git")
	if err != nil {
		return nil, ErrNoGit
	}
	var input bytes.Buffer
	for _, field := range []struct{ name, value string }{{"protocol", c.Protocol}, {"host", c.Host}, {"path", c.Path}, {"username", c.User}, {"password", string(c.Password.Reveal())}} {
		if strings.ContainsAny(field.value, "\n\x00") {
			return nil, errors.New(field.name + ": a line end, which git's protocol has no place for")
		}
		if field.value != "" {
			input.WriteString(field.name + "=" + field.value + "\n")
		}
	}
	cmd := exec.CommandContext(ctx, program, "-c", "core.askPass=", "credential", action)
	cmd.Dir, cmd.Stdin = station.Folder, &input
	cmd.Env = append(append([]string{}, station.Environ...), "GIT_TERMINAL_PROMPT=0", "GIT_ASKPASS=", "SSH_ASKPASS=")
	out, err := cmd.Output()
	if err != nil {
		return nil, errors.New("git credential " + action + " failed")
	}
	return out, nil
}
