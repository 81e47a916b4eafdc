package cli

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/ready"
	"anchorage.example/unicrux/core/registration"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/tokens"
	"anchorage.example/unicrux/core/trust"
	"anchorage.example/unicrux/render"
)

// byHandOptions are for what a host that nobody described is told on its web page.
type byHandOptions struct {
	trustOptions
	name string
	wait time.Duration
	copy bool
	open bool

	waits bool // --wait was given
}

func (o *byHandOptions) addFlags(command *cobra.Command) {
	o.trustOptions.addFlags(command, "fingerprint-from")
	flags := command.Flags()
	flags.Var(named(&o.name, "NAME"), "name", "what to call a host that nobody has described")
	lasts(flags, &o.wait, "wait", 10*time.Minute,
		"how long to wait until the host accepts a key that you register on its web page")
	flags.BoolVar(&o.open, "open", false, "also open the host's web page for keys in a browser")
	flags.BoolVar(
		&o.copy,
		"copy",
		false,
		"also put the line that is to be pasted on the clipboard, through the terminal",
	)
}

// person is who can be asked, and what the options say in her place.
func (a *app) person(o *secretOptions, by *byHandOptions) ready.Person {
	p := ready.Person{Secrets: a.secrets(o), Learn: func() string { return by.name }}
	if by.given() || a.mayAsk() {
		p.Vouch = func(ctx context.Context, seen *trust.Seen) (*trust.Voucher, error) {
			return vouch(ctx, a, &by.trustOptions, seen)
		}
	}
	if by.waits || a.mayAsk() {
		p.Paste = func(r registration.Registration) (time.Duration, error) {
			pasteLine(a, r, by.copy, by.wait)
			if by.open {
				openPage(a, r.Host.Pages.Keys)
			}
			return by.wait, nil
		}
	}
	if a.mayAsk() {
		p.VouchCA = func(host string, c *x509.Certificate) error { return vouchCA(a, host, c) }
		p.Browser = func(ctx context.Context, host *describe.Description, purposes []string) (tokens.NewToken, error) {
			return inBrowser(ctx, a, host, purposes, false)
		}
		p.Account = func(host *describe.Description) (string, error) { return askAccount(a, host) }
		p.Author = func() (string, string, error) { return knownAuthor(a) }
		p.Again = func(why string) bool {
			if len(o.tokens) > 0 { // it would be the same once more
				return false
			}
			a.progress(capitalWords(why) + ". Once more:")
			return true
		}
	}
	return p
}

// acceptOffered asks a host that nobody has described, once, whether it hands out a description of itself, and the
// person whether to keep it. It returns the registry as it is then.
func acceptOffered(a *app, place site.Site, way *finding.Way) (site.Site, bool, error) {
	if a.dry || !a.mayAsk() && !a.yes {
		return place, false, nil
	}
	source, offered := ready.Offered(a.ctx, place, way)
	if !offered {
		return place, false, nil
	}
	a.progress(
		source.Description.HostName() + " hands out a description of itself. With it, Unicrux can register keys and get tokens there by itself.",
	)
	a.progressText(render.Source(a.errStyle(), source))
	if !a.yes {
		answer, err := a.askText("Keep this description? yes or [no]:")
		if err != nil || !strings.EqualFold(answer, "yes") && !strings.EqualFold(answer, "y") {
			return place, false, err
		}
	}
	batch := a.begin("Describe "+source.Description.Name+".", source.Description.Name)
	err := hosts.Add(batch, a.station, source)
	if err == nil {
		place.Registry, err = hosts.Open(a.station)
	}
	return place, err == nil, err
}

func askAccount(a *app, host *describe.Description) (string, error) {
	account, err := a.askText("User name at " + host.HTTPSAt() + " (--as):")
	if err == nil && account == "" {
		err = usage("the user name is empty: nothing was kept")
	}
	return account, err
}

// pasteLine shows the line of a key that is to be pasted on a host's web page.
func pasteLine(a *app, r registration.Registration, copy bool, wait time.Duration) {
	line := sshkey.Line(r.Pair.Public, r.Pair.Comment)
	a.tell("\n" + render.ByHand(a.errStyle(), r, line))
	if copy {
		words := "The line is on the clipboard, if this terminal allows it."
		if toClipboard(a, line) != nil {
			words = "There is no terminal to copy through: copy the line yourself."
		}
		a.progress(words)
	}
	if wait > 0 {
		a.progress("Waiting until " + r.Host.Name +
			" accepts the key. Ctrl-C ends the waiting: what is done stays, and the same command goes on here.")
	}
}

// trying says why a host does not accept a key yet, where that is more than that it was not told.
func trying(a *app) func(error, time.Duration) {
	said := ""
	return func(yet error, next time.Duration) {
		words := ""
		if errors.Is(yet, site.ErrCalm) {
			words = fmt.Sprintf("%s. The next try is in %s.", capitalWords(site.ErrCalm.Error()), next)
		}
		if words != "" && words != said {
			a.progress(words)
		}
		said = words
	}
}
