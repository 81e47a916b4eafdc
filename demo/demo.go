// Package demo is the journey that shows what Unicrux is for: from an empty home to a
// pushed commit, on a practice host, through the built program and the real git and ssh.
package demo

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"anchorage.example/unicrux/standin"
)

// repo is the repository of the journey, and readOnly one that may only be read.
const (
	repo     = "buoys/drift-model"
	readOnly = "harbour/lamp-firmware"
)

// A Journey is one run of the demo, in a throwaway home.
type Journey struct {
	Host *standin.Host
	Home string

	folder  string // everything of this run, the home included
	program string
	environ []string
}

// A Step is one command of the journey.
type Step struct {
	Say  string   // what it is about, before it is run
	Line []string // the command
	Want int      // the exit code when all is well; -1 for any but 0
	// Before prepares what a person would do by hand; nil for nothing.
	Before func() error
}

// Start starts the practice host and makes the home. program is the built Unicrux.
func Start(program string, environ []string) (*Journey, error) {
	folder, err := os.MkdirTemp("", "unicrux-demo-")
	if err != nil {
		return nil, err
	}
	j := &Journey{folder: folder, Home: filepath.Join(folder, "home"), program: program}
	if err := errors.Join(os.Mkdir(j.Home, 0o700), os.Mkdir(filepath.Join(folder, "host"), 0o700)); err != nil {
		return nil, errors.Join(err, os.RemoveAll(folder))
	}
	if j.Host, err = Serve("forge", standin.Options{Folder: filepath.Join(folder, "host")}); err != nil {
		return nil, errors.Join(err, os.RemoveAll(folder))
	}
	if err := j.settle(); err != nil {
		return nil, errors.Join(err, j.Close())
	}
	j.environ = j.environment(environ)
	return j, nil
}

// Close ends the practice host and removes everything.
func (j *Journey) Close() error { return errors.Join(j.Host.Close(), os.RemoveAll(j.folder)) }

// foreign are the variables that would let the person's own settings into the throwaway home.
var foreign = []string{"HOME", "GIT_", "SSH_", "XDG_", "UNICRUX_", "CURL_CA_BUNDLE", "SSL_CERT_"}

// environment is that of somebody who has just been given this workstation. The ssh client
// takes "~" from the password database and not from HOME, so git is told to start it with
// the settings of the throwaway home; BatchMode, because most programs that use git cannot ask.
func (j *Journey) environment(environ []string) []string {
	var result []string
	for _, entry := range environ {
		keep := true
		for _, name := range foreign {
			keep = keep && !strings.HasPrefix(entry, name)
		}
		if keep {
			result = append(result, entry)
		}
	}
	return append(result, "HOME="+j.Home, "GIT_SSH_COMMAND="+j.SSHCommand(), "GIT_CONFIG_NOSYSTEM=1")
}

// SSHCommand is what git is told to start as its ssh.
func (j *Journey) SSHCommand() string {
	return "ssh -F '" + filepath.ToSlash(filepath.Join(j.Home, ".ssh", "config")) + "' -o BatchMode=yes"
}

// CloneURL is the address that the journey begins with.
func (j *Journey) CloneURL() string { return j.Host.CloneHTTPS(repo) }

// settle makes the throwaway home one of the made-up world's network: there name servers know the host, and the system
// trusts who signed its certificate. Nothing of it is about a key, a token or a description.
func (j *Journey) settle() error {
	authority := filepath.Join(j.folder, "tidewater-ca.pem")
	at := fmt.Sprintf("%s:%d", j.Host.Hostname(), j.Host.WebPort())
	text := fmt.Sprintf("[http \"https://%s/\"]\n\tcurloptResolve = %s:127.0.0.1\n\tsslCAInfo = %s\n", at, at,
		filepath.ToSlash(authority))
	return errors.Join(os.WriteFile(authority, j.Host.Authority(), 0o600),
		os.WriteFile(filepath.Join(j.Home, ".gitconfig"), []byte(text), 0o600))
}

// Steps lists the journey.
func (j *Journey) Steps() []Step {
	url := j.CloneURL()
	folder := filepath.Join(j.Home, "drift-model")
	return []Step{
		{Say: "A clone URL from a page, as everybody tries it first. Nothing else is here: no key, no token, no settings.",
			Line: []string{"git", "-c", "core.askPass=true", "clone", url}, Want: -1},
		{Say: "What is the cause? This changes nothing.", Line: []string{"unicrux", "check", url}, Want: 1},
		{Say: "One command from the URL to a working clone. (It says --yes to the description that the host hands out of itself, and takes no passphrase, because nobody sits here to type; the token was made on the host's page.)",
			Line: []string{"unicrux", "ready", url, "--by", "ssh", "--for", "push", "--yes", "--no-passphrase",
				"--token-from", j.Host.TokenFile()}},
		{Say: "A correction, committed and pushed.",
			Before: func() error { return correct(filepath.Join(folder, "drift.csv")) },
			Line: []string{"git", "-C", "drift-model", "-c", "user.name=Ines Marlow", "-c",
				"user.email=ines.marlow@tidewater.example",
				"commit", "--quiet", "--all", "--message", "Correct the third hour"}},
		{Line: []string{"git", "-C", "drift-model", "push", "--quiet"}},
		{Say: "Last, a repository that this account may read and not write. No new key would help here.",
			Line: []string{"unicrux", "check", "--for", "push", j.Host.CloneURL(readOnly)}, Want: 1},
		{Say: "Everything that was changed is recorded, and can be taken back.", Line: []string{"unicrux", "changes"}},
	}
}

func correct(path string) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	return os.WriteFile(path, append(text, "3,1302,-355\n"...), 0o644)
}

// Run runs one step in the throwaway home and returns its exit code.
func (j *Journey) Run(ctx context.Context, step Step, out, errOut *os.File) (exit int, err error) {
	if step.Before != nil {
		if err := step.Before(); err != nil {
			return 0, err
		}
	}
	program := step.Line[0]
	if program == "unicrux" {
		program = j.program
	}
	cmd := exec.CommandContext(ctx, program, step.Line[1:]...)
	cmd.Dir, cmd.Env, cmd.Stdout, cmd.Stderr = j.Home, j.environ, out, errOut
	err = cmd.Run()
	var status *exec.ExitError
	if errors.As(err, &status) {
		return status.ExitCode(), ctx.Err()
	}
	return 0, err
}

// Worked tells whether an exit code is the one that a step wants.
func (s Step) Worked(exit int) bool { return exit == s.Want || (s.Want < 0 && exit != 0) }

// A View is what the host itself says about the pushed branch.
type View struct {
	Branch, Commit, Subject, Author string
	Here                            string // the newest commit in the clone
}

// Same reports whether the host has the commit that was made here.
func (v View) Same() bool { return v.Commit != "" && v.Commit == v.Here }

// HostView asks the host, and the clone, for the newest commit of the main branch.
func (j *Journey) HostView(ctx context.Context) (View, error) {
	branches, err := j.Host.Branches(repo)
	if err != nil {
		return View{}, err
	}
	cmd := exec.CommandContext(ctx, "git", "-C", filepath.Join(j.Home, "drift-model"), "rev-parse", "HEAD")
	cmd.Env = j.environ
	here, err := cmd.Output()
	if err != nil {
		return View{}, fmt.Errorf("asking the clone for its newest commit: %w", err)
	}
	for _, branch := range branches {
		if branch.Name == "main" {
			return View{Branch: branch.Name, Commit: branch.Commit, Subject: branch.Subject, Author: branch.Author,
				Here: strings.TrimSpace(string(here))}, nil
		}
	}
	return View{}, errors.New("the host has no branch main")
}
