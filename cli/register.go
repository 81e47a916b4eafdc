package cli

import (
	"errors"
	"time"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/expiry"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/registration"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/render"
)

type registerOptions struct {
	secretOptions
	title  string
	until  string
	access hostapi.Access
	keyListOptions
	byHand, copy, open bool
	wait               time.Duration
}

func keyRegister(a *app) *cobra.Command {
	var o registerOptions
	command := &cobra.Command{
		Use:   "register KEY HOST",
		Short: "Tell a host about a key, then sign in to prove it",
		Long: `Registers a public key with a host through the host's API, makes ssh config for that host
use the key, and signs in with it to prove that it works.

The host's API requires a token. It is asked for, used once and not kept. With --by-hand,
and for hosts without an API, the one line to paste is shown, and signing in is tried now
and then until the host accepts the key.

With --signing the host lists it among the keys with which commits are signed. Nobody can sign
in with it for that, so the host is asked whether it lists the key.`,
		RunE: func(_ *cobra.Command, args []string) error { return runRegister(a, &o, args[0], args[1]) },
	}
	flags := command.Flags()
	flags.Var(named(&o.title, "TEXT"), "title", "under which the host lists the key (default: the key's comment)")
	flags.Var(named(&o.until, "WHEN"), "until",
		"when it should expire at the host: a day such as 2027-03-31, or 90d, 12w, 1y from now")
	flags.Var(oneOf(&o.access, hostapi.Read, hostapi.Write), "access",
		"what it may be used for (default: what the host gives by itself)")
	o.addList(command, "for this repository alone, such as buoys/drift-model; settings stay as they are",
		"as a key with which commits are signed: it opens nothing")
	flags.BoolVar(&o.byHand, "by-hand", false, "show the line to be pasted, and wait until the host accepts the key")
	flags.BoolVar(&o.copy, "copy", false, "with --by-hand: also put the line on the clipboard, through the terminal")
	flags.BoolVar(&o.open, "open", false, "with --by-hand: also open the host's web page for keys in a browser")
	lasts(flags, &o.wait, "wait", 10*time.Minute, "with --by-hand: how long to wait; 0 tries once")
	o.addToken(command)
	passwordOptions(a, command)
	flags.Var(named(&o.passphrase, "FILE"), "passphrase-from",
		"read the key's passphrase from FILE, or - for standard input")
	return command
}

// keyListOptions say which of a host's lists of keys is meant.
type keyListOptions struct {
	repo    string
	signing bool
}

func (o *keyListOptions) addList(command *cobra.Command, repo, signing string) {
	command.Flags().Var(named(&o.repo, "NAME"), "repo", repo)
	command.Flags().BoolVar(&o.signing, "signing", false, signing)
}

func (o *keyListOptions) list() hostapi.KeyList {
	return hostapi.KeyList{Repo: o.repo, Signing: o.signing}
}

func (o *keyListOptions) check() error {
	if o.repo != "" && o.signing {
		return usage("--repo and --signing are of different lists: give one of them")
	}
	return nil
}

func runRegister(a *app, o *registerOptions, key, name string) error {
	if err := errors.Join(o.validate(a), o.keyListOptions.check()); err != nil {
		return err
	}
	place, pair, host, err := keyAtHost(a, key, name)
	if err != nil {
		return err
	}
	r := registration.Registration{Pair: pair, Host: host, List: o.list(), Title: registrationTitle(o.title, pair),
		Ask: a.asker(o.passphrase)}
	if err := readTerms(a, o, &r); err != nil {
		return err
	}
	if err := r.Check(); err != nil && !byHand(o, host, err) {
		return err
	}
	if o.byHand && !o.signing || (o.list() == hostapi.KeyList{} && !host.Can("add-key")) {
		return registerByHand(a, o, place, r)
	}
	if host.Operations[r.List.Operation("add")].SignIn != "password" {
		if r.Token, err = tokenFor(a, &o.secretOptions, host, "keys"); err != nil {
			return err
		}
	}
	batch := a.begin("Register a key with "+host.Name+".", host.Name)
	done, err := registration.Register(a.ctx, place, batch, r)
	if err != nil {
		return err
	}
	return a.showChange(batch, render.Registered(a.style(), done, pair.Name(), host.Name),
		render.RegisteredDocument(done, pair.Path, host.Name, number(batch)))
}

// readTerms reads the end and the access that the key shall have.
func readTerms(a *app, o *registerOptions, r *registration.Registration) (err error) {
	r.Access = o.access
	if o.until != "" {
		r.Until, err = expiry.End(o.until, a.station.Now())
	}
	return err
}

// byHand tells that what the interface cannot be told is said on the host's page instead.
func byHand(o *registerOptions, host *describe.Description, err error) bool {
	return (o.byHand || !host.Can("add-key")) && (errors.Is(err, hostapi.ErrNoUntil) ||
		errors.Is(err, hostapi.ErrNoAccess))
}

func registrationTitle(given string, pair *sshkey.Pair) string {
	switch {
	case given != "":
		return given
	case pair.Comment != "":
		return pair.Comment
	}
	return pair.Name()
}

// registerByHand shows what to paste and where, then waits until the host accepts the key.
func registerByHand(a *app, o *registerOptions, place site.Site, r registration.Registration) error {
	if !a.dry {
		pasteLine(a, r, o.copy, o.wait)
		if o.open {
			openPage(a, r.Host.Pages.Keys)
		}
	}
	batch := a.begin("Use a key for "+r.Host.Name+".", r.Host.Name)
	done, err := registration.ByHand(a.ctx, place, batch, r, o.wait)
	if err != nil {
		return err
	}
	return a.showChange(batch, render.Registered(a.style(), done, r.Pair.Name(), r.Host.Name),
		render.RegisteredDocument(done, r.Pair.Path, r.Host.Name, number(batch)))
}
