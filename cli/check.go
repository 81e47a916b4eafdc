package cli

import (
	"errors"
	"strings"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/diagnose"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/ready"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/sshway"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/render"
)

type checkOptions struct {
	secretOptions
	purpose     finding.Purpose
	program     finding.Program
	account, by string
	mend, run   bool
}

func checkCommand(a *app) *cobra.Command {
	var o checkOptions
	command := &cobra.Command{
		Use:   "check [URL|REMOTE|HOST [REPOSITORY]]",
		Short: "Check the way to a repository without changing anything, and name what stops it",
		Long: `Checks the way to a repository stage by stage, as git and ssh would follow it, and names the
one cause that stops it, with evidence and with what mends it. Nothing is changed, here
or on the host, unless --mend asks for it.

Without an argument it asks about the remote that a plain push would use. In a Mercurial
repository it follows the way of hg.`,
		RunE: func(_ *cobra.Command, args []string) error { return runCheck(a, &o, args) },
	}
	command.Flags().Var(oneOf(&o.purpose, finding.Clone, finding.Push), "for",
		"what you want to do (default: clone for a URL, push for a remote)")
	command.Flags().Var(named(&o.account, "ACCOUNT"), "as", "the account that is needed")
	command.Flags().Var(oneOf(&o.by, "ssh", "https"), "by",
		"the transport to check, for the same repository or host (default: as git would)")
	command.Flags().BoolVar(&o.mend, "mend", false, "apply the mends that need nobody else, then check again")
	command.Flags().Var(oneOf(&o.program, finding.Git, finding.Mercurial), "program",
		"the client to check for (default: according to the folder and the URL)")
	command.Flags().BoolVar(&o.run, "run-commands", false,
		"run the commands on which ssh's settings depend (Match exec, KnownHostsCommand), as ssh would")
	o.addFlags(command)
	chestOption(command, &o.chest)
	return command
}

func runCheck(a *app, o *checkOptions, args []string) error {
	if len(args) > 0 && args[0] == "" {
		return usage("the clone URL is empty")
	}
	place, err := a.place()
	if err != nil {
		return err
	}
	argument, err := asked(place, args, o.by)
	if err != nil {
		return err
	}
	request := requestOf(a, o.purpose, o.account, argument, a.asker(o.passphrase))
	if err := o.validate(a); err != nil {
		return err
	}
	request.RunCommands, request.Program = o.run, o.program
	if o.by != "" {
		if argument == "" {
			return usage("--by needs a clone URL or a host")
		}
		if err := chooseTransport(a, place, o.by, &request); err != nil {
			return err
		}
	}
	if o.mend {
		return runMend(a, place, request, &o.secretOptions)
	}
	way, err := diagnose.Check(a.ctx, a.station, place.Registry, request)
	var local *finding.LocalError
	if errors.As(err, &local) {
		return checkFolder(a, local)
	}
	if err != nil {
		return err
	}
	if err := a.show(render.Way(a.style(), way), render.WayDocument(way)); err != nil {
		return err
	}
	if !way.IsOpen() {
		return &told{exitCrux}
	}
	return nil
}

// asked is what words ask about: a clone URL, a remote or a host as it is, or the clone URL of a repository at a host.
func asked(place site.Site, args []string, by string) (string, error) {
	switch len(args) {
	case 0:
		return "", nil
	case 1:
		return args[0], nil
	}
	d, err := place.Registry.Find(args[0])
	if err != nil {
		return "", err
	}
	url := d.Clone(args[1], by)
	if _, err := address.Parse(url); err != nil || strings.Contains(args[1], ":") {
		return "", usage("%s is no repository: its path at the host is needed, such as buoys/tide-tables",
			untrusted.Quote(untrusted.Clean(args[1])))
	}
	return url, nil
}

// mender is who can be asked while a way is mended: for secrets, and who her commits are by.
func mender(a *app, o *secretOptions) ready.Person {
	p := ready.Person{Secrets: a.secrets(o)}
	if a.mayAsk() {
		p.Author = func() (string, string, error) { return knownAuthor(a) }
	}
	return p
}

// checkFolder lets git itself look at a repository that is a folder here: nothing is on the way to it.
func checkFolder(a *app, local *finding.LocalError) error {
	if _, err := gitlink.Run(a.ctx, a.station, "ls-remote", "--quiet", "--", local.Path); err != nil {
		return local
	}
	words := untrusted.Clean(local.Path) + " is a folder on this computer, and git can read it. Nobody has to sign in."
	return sayDoneAs(a, words)
}

// request makes the question of check and ready.
func requestOf(a *app, purpose finding.Purpose, account, argument string, ask sshway.Asker) finding.Request {
	return finding.Request{Argument: argument, Purpose: purpose, Account: account, Timeout: a.timeout, Ask: ask}
}

// runMend is check --mend: automatic mends, each told as it is done, then the way as it is.
func runMend(a *app, place site.Site, request finding.Request, o *secretOptions) error {
	if a.dry {
		way, err := diagnose.Check(a.ctx, a.station, place.Registry, request)
		if err != nil {
			return err
		}
		return readyDry(a, place, way, ready.Person{}, "")
	}
	unlock, err := waitAlone(a, place.Registry, request.Argument)
	if err != nil {
		return err
	}
	defer unlock()
	s := a.style()
	gap := ""
	opening, err := ready.Open(a.ctx, place, request, mender(a, o),
		func(step ready.Step) { gap = "\n"; a.say(render.ReadyStep(s, step)) })
	if err != nil {
		return err
	}
	if err := a.show(gap+render.Way(s, opening.Way)+render.Stopped(s, opening.Way),
		render.WayDocument(opening.Way)); err != nil {
		return err
	}
	if !opening.Way.IsOpen() {
		return &told{exitCrux}
	}
	return nil
}
