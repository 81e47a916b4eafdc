package gitlink

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"io"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/workstation"
)

// A Credential is what git's helpers keep for a host (git-credential(1), INPUT/OUTPUT FORMAT).
type Credential struct {
	Protocol, Host, Path, User string
	Password                   secret.Text
}

// ErrNoCredential is returned when none of git's helpers has an answer.
var ErrNoCredential = errors.New("none of git's credential helpers has an answer")

// Fill asks the helpers for the password of a credential. Nobody is prompted.
func Fill(ctx context.Context, station *workstation.Station, c Credential) (secret.Text, error) {
	filled, err := FillBoth(ctx, station, c)
	return filled.Password, err
}

// FillBoth asks the helpers for a user name and a password. Nobody is prompted, and nothing is
// stored.
func FillBoth(ctx context.Context, station *workstation.Station, c Credential) (Credential, error) {
	if !c.Password.Empty() { // git asks nobody then
		return c, nil
	}
	out, err := credential(ctx, station, "fill", c)
	if err != nil {
		return Credential{}, ErrNoCredential
	}
	return filled(c, out)
}

// filled is a credential with what git says of it.
func filled(c Credential, out []byte) (Credential, error) {
	for line := range bytes.Lines(out) {
		name, value, _ := bytes.Cut(bytes.TrimSuffix(line, []byte("\n")), []byte("="))
		switch string(name) {
		case "username":
			c.User = string(value)
		case "password":
			c.Password = secret.New(bytes.Clone(value))
		}
	}
	if c.Password.Empty() {
		return Credential{}, ErrNoCredential
	}
	return c, nil
}

// credential runs git credential, which asks nobody but its helpers.
func credential(ctx context.Context, station *workstation.Station, action string, c Credential) ([]byte, error) {
	silent := *station
	silent.Environ = append(slices.Clone(station.Environ), "GIT_ASKPASS=", "SSH_ASKPASS=")
	return runCredential(ctx, &silent, action, c, func(*exec.Cmd) {}, "-c", "core.askPass=")
}

// runCredential runs git credential. What it says goes nowhere: it may hold the secret.
func runCredential(ctx context.Context, station *workstation.Station, action string, c Credential,
	prepare func(*exec.Cmd), options ...string) ([]byte, error) {
	program, err := exec.LookPath("git")
	if err != nil {
		return nil, ErrNoGit
	}
	var input bytes.Buffer
	for _, field := range []struct{ name, value string }{{"protocol", c.Protocol}, {"host", c.Host}, {"path", c.Path},
		{"username", c.User}, {"password", string(c.Password.Reveal())}} {
		if strings.ContainsAny(field.value, "\n\x00") {
			return nil, errors.New(field.name + ": a line end, which git's protocol has no place for")
		}
		if field.value != "" {
			input.WriteString(field.name + "=" + field.value + "\n")
		}
	}
	cmd := exec.CommandContext(ctx, program, append(options, "credential", action)...)
	cmd.Dir, cmd.Stdin = station.Dir(), &input
	cmd.Env = append(slices.Clone(station.Environ), "GIT_TERMINAL_PROMPT=0")
	prepare(cmd)
	out, err := cmd.Output()
	if err != nil {
		return nil, errors.New("git credential " + action + " failed")
	}
	return out, nil
}

// Limits for what git may say to a helper: git itself takes lines of at most 64 KiB.
const (
	maxLine  = 64 << 10
	maxLines = 200
)

// ErrProtocol is returned for what is not git's credential protocol.
var ErrProtocol = fault.New("git-protocol", fault.Misused, "not what git says to a credential helper")

// An Asked credential is what git tells a helper (git-credential(1), INPUT/OUTPUT FORMAT).
type Asked struct {
	Credential
	HasUser, HasPassword bool // it was said, though it may be empty
	Capabilities         []string
}

// ReadCredential reads what git tells a helper. Anything that has no place in it is an error,
// and what is not known is passed over, as git's documentation asks of helpers.
func ReadCredential(r io.Reader) (Asked, error) {
	var asked Asked
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 0, 4096), maxLine)
	lines.Split(untilLineEnd)
	for n := 0; lines.Scan(); n++ {
		line := lines.Bytes()
		if len(line) == 0 {
			break
		}
		name, value, found := bytes.Cut(line, []byte("="))
		if !found || n > maxLines || bytes.ContainsFunc(name, unicode.IsControl) || bytes.ContainsAny(value, "\x00\r") {
			return Asked{}, ErrProtocol
		}
		if string(name) != "password" && bytes.ContainsFunc(value, unicode.IsControl) {
			return Asked{}, ErrProtocol
		}
		switch string(name) {
		case "protocol":
			asked.Protocol = string(value)
		case "host":
			asked.Host = allow.LowerHost(string(value))
		case "path":
			asked.Path = string(value)
		case "username":
			asked.User, asked.HasUser = string(value), true
		case "password":
			asked.Password, asked.HasPassword = secret.New(bytes.Clone(value)), true
		case "capability[]":
			asked.Capabilities = append(asked.Capabilities, string(value))
		}
	}
	if lines.Err() != nil {
		return Asked{}, ErrProtocol
	}
	return asked, nil
}

// untilLineEnd cuts lines at "\n" alone: a "\r" before it is a part of the line.
func untilLineEnd(data []byte, atEOF bool) (advance int, token []byte, err error) {
	if i := bytes.IndexByte(data, '\n'); i >= 0 {
		return i + 1, data[:i], nil
	}
	if atEOF && len(data) > 0 {
		return len(data), data, nil
	}
	return 0, nil, nil
}

// Answer is what a helper tells git. An end is told to those versions of git that know it; the
// others pass it over.
func Answer(c Credential, until time.Time) []byte {
	var b bytes.Buffer
	b.WriteString("username=" + c.User + "\npassword=")
	b.Write(c.Password.Reveal())
	b.WriteString("\n")
	if !until.IsZero() {
		b.WriteString("password_expiry_utc=" + strconv.FormatInt(until.Unix(), 10) + "\n")
	}
	return b.Bytes()
}
