package cli

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/shellwords"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/trust"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/workstation"
	"anchorage.example/unicrux/render"
)

// trustOptions say what a host's key is compared with, where the host publishes none.
type trustOptions struct {
	fingerprint string
	page        string
}

// addFlags adds them; page is the name of the option with a URL.
func (o *trustOptions) addFlags(command *cobra.Command, page string) {
	command.Flags().Var(named(&o.fingerprint, "FINGERPRINT"), "fingerprint",
		"what the host's key must be, from whoever runs the host: SHA256:…, MD5:… or the whole public line")
	command.Flags().Var(named(&o.page, "URL"), page,
		"look for the fingerprint of the host's key on this web page, over https")
}

func hostTrust(a *app) *cobra.Command {
	var o trustOptions
	command := &cobra.Command{
		Use:   "trust HOST",
		Short: "Compare a host's key with what the host publishes, and store it",
		Long: `Asks the host for the keys by which it proves itself, and stores the one that is right, for the
name and port that ssh uses. It is the host's key, not one of yours.

A described host publishes its keys. For any other, HOST is its name, or NAME:PORT. Its keys are
compared with what the name servers vouch for, with --fingerprint, or with the page of --from. In
a terminal you can also say that it is a host which is trusted already under another name, or
paste the fingerprint: Unicrux compares it, so that no eye has to.`,
		RunE: func(_ *cobra.Command, args []string) error { return runTrust(a, &o, args[0]) },
	}
	o.addFlags(command, "from")
	return command
}

func runTrust(a *app, o *trustOptions, name string) error {
	place, err := a.place()
	if err != nil {
		return err
	}
	batch := a.begin(fmt.Sprintf("Trust %s.", name), name)
	var trusted *trust.Trusted
	if o.given() {
		seen, err := trust.Look(a.ctx, place, name)
		if err != nil {
			return err
		}
		trusted, err = vouchAndStore(a, o, batch, seen)
		if err != nil {
			return err
		}
	} else {
		var unpublished *trust.UnpublishedError
		if trusted, err = trust.Host(a.ctx, place, batch, name); errors.As(err, &unpublished) {
			trusted, err = vouchAndStore(a, o, batch, unpublished.Seen)
		}
		if err != nil {
			return err
		}
	}
	return a.showChange(batch, render.Trusted(a.style(), trusted, name, a.station.Tilde(trusted.File), a.dry),
		render.TrustedDocument(trusted, name, number(batch)))
}

func (o *trustOptions) given() bool { return o.fingerprint != "" || o.page != "" }

func vouchAndStore(a *app, o *trustOptions, batch *workstation.Batch, seen *trust.Seen) (*trust.Trusted, error) {
	voucher, err := vouch(a.ctx, a, o, seen)
	if err != nil {
		return nil, err
	}
	return seen.Store(batch, voucher)
}

// mostPastes is how often a fingerprint may be pasted before it ends there.
const mostPastes = 3

// vouch compares a host's keys with what the options name, or with what the person says.
func vouch(ctx context.Context, a *app, o *trustOptions, seen *trust.Seen) (*trust.Voucher, error) {
	switch {
	case o.page != "":
		return seen.OnPage(ctx, o.page)
	case o.fingerprint != "":
		return seen.Given(ctx, o.fingerprint)
	case !a.mayAsk():
		return nil, unpublished(ctx, a, seen)
	}
	elsewhere := seen.Elsewhere(ctx)
	a.tell("\n" + render.FirstContact(a.errStyle(), seen.Name, seen.Keys(ctx), hostKeyPage(seen)))
	if len(elsewhere) > 0 {
		same, err := sameHost(a, seen, elsewhere[0])
		if same || err != nil {
			return trust.SameAs(elsewhere[0]), err
		}
	}
	for try := 1; ; try++ {
		text, err := a.askText("Paste its fingerprint here (--fingerprint):")
		switch {
		case err != nil:
			return nil, err
		case text == "":
			return nil, &problem{message: "no fingerprint was given, so no key of " + seen.Name + " is stored",
				advice: "Get it from whoever runs the host. Then run the same command again.", exit: exitStopped}
		}
		voucher, err := seen.Given(ctx, text)
		var mismatch *trust.KeyMismatch
		switch {
		case err == nil, try == mostPastes:
			return voucher, err
		case errors.Is(err, sshkey.ErrClaim):
			a.progress(
				"That is no fingerprint: it begins with SHA256: or MD5:, or is the whole public line. Yes compares nothing.",
			)
		case errors.As(err, &mismatch):
			a.progress("None of the host's keys has the fingerprint " + mismatch.Wanted +
				". Copy it once more. If it is whole, do not connect: somebody may be intercepting the connection.")
		default:
			return nil, err
		}
	}
}

func hostKeyPage(seen *trust.Seen) string {
	if seen.Host == nil {
		return ""
	}
	return seen.Host.Pages.HostKeys
}

// sameHost asks whether a host is one that is trusted already under another name: it holds the very same key.
func sameHost(a *app, seen *trust.Seen, e knownhosts.Entry) (bool, error) {
	name := e.Hosts
	if strings.HasPrefix(name, "|") {
		name = "a name that is stored as a hash"
	}
	answer, err := a.askText(
		fmt.Sprintf("This very key is trusted already for %s (%s). Is %s the same host? yes or [no]:",
			untrusted.Clean(name), a.station.Tilde(e.Origin()), untrusted.Clean(seen.Name)),
	)
	return strings.EqualFold(answer, "yes") || strings.EqualFold(answer, "y"), err
}

// unpublished says what keys the host has, and how the right one is named.
func unpublished(ctx context.Context, a *app, seen *trust.Seen) error {
	p := asProblem(&trust.UnpublishedError{Seen: seen, Err: trust.ErrUnpublished})
	var keys []string
	for _, key := range seen.Keys(ctx) {
		keys = append(keys, sshkey.Kind(key)+" "+sshkey.Fingerprint(key))
	}
	p.message += ". It offers " + strings.Join(keys, ", ")
	if len(seen.Elsewhere(ctx)) > 0 {
		p.message += ". The same key is trusted already in " + a.station.Tilde(seen.Elsewhere(ctx)[0].Origin())
	}
	return p
}

// vouchCA asks for the fingerprint of a certificate that vouches for a host over HTTPS.
func vouchCA(a *app, host string, certificate *x509.Certificate) error {
	a.tell("\n" + render.CertificateToCompare(a.errStyle(), host, certificate, trust.CertificateSum(certificate)))
	for try := 1; ; try++ {
		text, err := a.askText("Paste the SHA-256 fingerprint of the certificate that " + host + " should have:")
		switch {
		case err != nil:
			return err
		case trust.IsCertificate(text, certificate):
			return nil
		case text == "" || try == mostPastes:
			return &problem{
				message: "no fingerprint of this certificate was given, so nothing trusts it",
				exit:    exitStopped,
				advice: "Get it, or the certificate itself, from whoever runs the host. With the file:\n" +
					shellwords.Join("unicrux", "host", "set", host, "authority=FILE"),
			}
		}
		a.progress("That is not the fingerprint of this certificate. Copy it once more.")
	}
}
