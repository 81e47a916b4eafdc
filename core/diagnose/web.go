package diagnose

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/wire"
)

// locateWeb passes the stage of the address for a way over HTTPS.
func (c *checker) locateWeb(text string, start time.Time) error {
	base, err := url.Parse(text)
	if err != nil { // its words could hold a secret
		return address.ErrCharacter
	}
	if at := base.User; at != nil {
		c.webUser = at.Username()
		if word, set := at.Password(); set {
			c.webSecret = secret.New([]byte(word))
			c.note("url-secret")
		}
	}
	base.User = nil
	if base.Scheme == "http" {
		c.note("way-unprotected")
	}
	c.base = base
	c.host = c.registry.ForWeb(base.Host)
	c.way.Question.Host, c.way.Question.Repo = c.hostName(), c.address.Repository()
	if c.way.Question.Remote != "" {
		c.way.Question.Purpose = c.purpose(Push)
	}
	c.way.fact(Address, "host", base.Host, "")
	c.way.fact(Address, "path", untrusted.Clean(base.Path), "")
	c.way.open(Address, time.Since(start))
	return nil
}

// settleWeb passes the stage of settings: what would git do for this address over HTTPS?
func (c *checker) settleWeb(ctx context.Context) (*Crux, error) {
	start := time.Now()
	c.web = c.webSettings()
	fact := func(name, value, origin string) {
		if value != "" {
			c.way.fact(Settings, name, untrusted.Clean(value), c.station.Tilde(c.web.Origin(origin)))
		}
	}
	fact("proxy", hideURL(c.web.Proxy), "proxy")
	fact("authority", c.web.Authority, "authority")
	fact("authorities in", c.web.Folder, "folder")
	fact("cookies", c.web.CookieFile, "cookies")
	fact("public key", c.web.KeyPins, "pin")
	fact("address", c.web.At, "at")
	if c.hg != nil {
		fact("program", "hg", "")
		fact("fingerprint", strings.Join(c.web.Pins, ", "), "pin")
	}
	if c.web.Blind {
		fact("certificate", "not looked at", "blind")
	}
	for _, text := range c.web.Headers {
		name, _, _ := strings.Cut(text, ":")
		fact("header", name+": "+secret.Mask, "header")
	}
	for _, s := range c.config.For("credential", c.asWritten().String()) {
		if s.Name == "credential.helper" {
			c.way.fact(Settings, "helper", untrusted.Clean(s.Entry.Value), c.station.Tilde(s.Entry.Origin))
		}
	}
	if name := "git-remote-" + c.base.Scheme; c.hg == nil && !gitlink.HasProgram(ctx, c.station, name) {
		return crux("program-missing", Proved, Evidence{"missing", name + ", by which git goes over HTTP", ""}), nil
	}
	if wrong := c.noNumber(); wrong != nil {
		return wrong, nil
	}
	if wrong, found := c.trusted(); found {
		return wrong, nil
	}
	c.suspectHelpers(ctx)
	c.way.open(Settings, time.Since(start))
	return nil, nil
}

// noNumber names a setting of git's for HTTPS that should be a number and is none: git reads it only
// when it is on its way ("http.*" in git-config(1)).
func (c *checker) noNumber() *Crux {
	numbers := []string{"http.lowspeedlimit", "http.lowspeedtime", "http.postbuffer", "http.maxrequests", "http.minsessions"}
	for _, s := range c.config.For("http", c.asWritten().String()) {
		if slices.Contains(numbers, s.Name) && !says(s.Entry.Value, `^-?\d+[kmg]?$`) {
			return crux("git-config-broken", Proved, Evidence{"setting", s.Name + " = " + untrusted.Clean(s.Entry.Value), c.station.Tilde(s.Entry.Origin)}, Evidence{"why", "a number belongs there", ""})
		}
	}
	return nil
}

// asWritten is the address with the user who stands in it, for whom alone settings may hold.
func (c *checker) asWritten() *url.URL {
	at := *c.base
	if c.webUser != "" {
		at.User = url.User(c.webUser)
	}
	return &at
}

func (c *checker) webSettings() *gitlink.Web {
	if c.hg != nil {
		return c.hg.Web(c.base)
	}
	return c.config.WebOf(c.way.Question.Remote, c.asWritten())
}

// trusted reads the files that settings name for the line to the host; found when one cannot be.
func (c *checker) trusted() (*Crux, bool) {
	wrong := func(file, origin, what string) (*Crux, bool) {
		return crux("file-missing", Proved, Evidence{"file", untrusted.Clean(file), c.station.Tilde(c.web.Origin(origin))}, Evidence{"it is for", what, ""}), true
	}
	c.roots, c.more, c.own = nil, nil, nil
	if c.base.Scheme != "https" {
		return nil, false
	}
	if c.web.Authority != "" && !c.web.Blind { // which git does not look at then
		text, err := regular.Read(gitlink.Pathname(c.station, c.web.Authority), regular.Settings)
		if err != nil || !x509.NewCertPool().AppendCertsFromPEM(text) {
			return wrong(c.web.Authority, "authority", "the certificate authorities that git trusts")
		}
		c.roots = text
	}
	if c.web.Folder != "" {
		c.more = inFolder(gitlink.Pathname(c.station, c.web.Folder))
	}
	if c.web.OwnCert != "" {
		key := c.web.OwnKey
		if key == "" {
			key = c.web.OwnCert
		}
		own, err := tls.LoadX509KeyPair(gitlink.Pathname(c.station, c.web.OwnCert), gitlink.Pathname(c.station, key))
		if err != nil {
			return wrong(c.web.OwnCert, "own", "the certificate with which git proves this workstation")
		}
		c.own = &own
	}
	return nil, false
}

// inFolder reads the certificates in a folder. What is no certificate is passed over, as git's library does.
func inFolder(folder string) []byte {
	entries, _ := os.ReadDir(folder) // none is there: nobody is trusted for it
	var all []byte
	for _, entry := range entries[:min(len(entries), mostAuthorities)] {
		if text, err := regular.Read(filepath.Join(folder, entry.Name()), regular.Settings); err == nil {
			all = append(append(all, text...), '\n')
		}
	}
	return all
}

// mostAuthorities bounds how many files of certificates are read.
const mostAuthorities = 2000

// suspectHelpers notes what would explain that nobody has a secret.
func (c *checker) suspectHelpers(ctx context.Context) {
	if c.hg != nil { // it has none
		return
	}
	var helpers []gitlink.Setting
	for _, s := range c.config.For("credential", c.asWritten().String()) {
		if s.Name == "credential.helper" && s.Entry.Value != "" {
			helpers = append(helpers, s)
		}
	}
	for _, s := range helpers {
		if program, there := gitlink.HelperProgram(ctx, c.station, s.Entry.Value); !there {
			c.addFor("secret-missing", crux("helper-missing", Proved, Evidence{"helper", untrusted.Clean(s.Entry.Value), c.station.Tilde(s.Entry.Origin)},
				Evidence{"missing", untrusted.Clean(program), ""}))
			break
		}
	}
	asks, origin := c.config.AskPass()
	if broken := askingFails(asks, c.station.Tilde(origin)); broken != nil {
		c.addFor("secret-missing", broken)
	}
}

// askingFails tells whether the program that should ask is not there; one that is, is not started:
// it would ask.
func askingFails(program, origin string) *Crux {
	if program == "" {
		return nil
	}
	if _, err := exec.LookPath(program); err == nil {
		return nil
	}
	return crux("asking-failed", Proved, Evidence{"asks by", untrusted.Clean(program), origin}, Evidence{"it", "is not there, or cannot be run", ""})
}

func hideURL(text string) string {
	at, err := url.Parse(text)
	if err != nil || text == "" {
		return text
	}
	return at.Redacted()
}

// mostRedirects is how often git follows, at most (http.followRedirects in git-config(1)).
const mostRedirects = 5

// travelWeb goes over the network: once, unless the host sends us on, as git lets itself be sent
// on by the answer to its first question.
func (c *checker) travelWeb(ctx context.Context) (*Crux, error) {
	if c.alone {
		return c.greetWeb(ctx)
	}
	for range mostRedirects {
		trip, err := wire.GoWeb(ctx, c.webPlan(ctx))
		c.passedWeb(trip)
		c.webHeads = trip.Answer.Heads
		if err == nil {
			return c.beyond(ctx), nil
		}
		var failure *wire.Failure
		if !errors.As(err, &failure) {
			return nil, err
		}
		if !c.follow(trip) {
			return c.explainWeb(ctx, failure, trip), nil
		}
	}
	return crux("repository-moved", Proved, Evidence{"the host says", "to look elsewhere, again and again", ""}), nil
}

func (c *checker) webPlan(ctx context.Context) wire.WebPlan {
	plan := wire.WebPlan{Base: c.base, Service: c.service(), At: c.web.At, Roots: c.roots, More: c.more, Pins: c.web.Pins, KeyPins: keyPins(c.web.KeyPins), Least: c.web.Least, Blind: c.web.Blind, Hg: c.hg != nil, Headers: c.headers(), Own: c.own,
		Timeout: c.request.Timeout, Credential: func(refused int) (string, origin.Bound, error) { return c.credential(ctx, refused) }}
	if c.way.Question.Purpose == Push && c.hg == nil {
		plan.Instead = "git-upload-pack"
	}
	if c.web.Proxy != "" {
		plan.Proxy, _ = url.Parse(c.web.Proxy) // what cannot be read leads nowhere, and is told there
	}
	return plan
}

// keyPins reads the sums of http.pinnedPubkey; the name of a file, which it may hold as well, says
// nothing here.
func keyPins(text string) []string {
	var pins []string
	for _, pin := range strings.Split(text, ";") {
		if sum, found := strings.CutPrefix(pin, "sha256//"); found {
			pins = append(pins, sum)
		}
	}
	return pins
}

// follow takes the repository's address from a redirect, when git would: what is asked for must
// stand at its end as it did.
func (c *checker) follow(trip *wire.WebTrip) bool {
	answer := trip.Answer
	if answer.Status < 300 || answer.Status >= 400 || answer.Moved == "" || c.web.Stay {
		return false
	}
	from := *c.base
	query, end := "service="+c.service(), "/info/refs"
	if c.hg != nil {
		query, end = "cmd=capabilities", ""
	}
	from.Path = strings.TrimSuffix(from.Path, "/") + end
	to, err := from.Parse(answer.Moved)
	if err != nil || to.Host == "" || (to.Scheme != "https" && to.Scheme != "http") || to.User != nil || to.RawQuery != query {
		return false
	}
	path, found := strings.CutSuffix(to.Path, end)
	if !found {
		return false
	}
	if c.moved == "" {
		c.moved = c.base.String()
	}
	c.way.fact(Repository, "the host says", "it is at "+untrusted.Clean(to.Redacted()), "")
	next := &url.URL{Scheme: to.Scheme, Host: to.Host, Path: path}
	if origin.Of(next) != origin.Of(c.base) { // what was for the one is not for the other: git asks anew
		c.webUser, c.webSecret, c.request.Sent, c.crossed = "", secret.Text{}, nil, true
	}
	c.base = next
	c.web = c.webSettings()
	_, _ = c.trusted() // what it would complain about, the way shows
	return true
}

// passedWeb notes the stages that the trip passed, with their facts.
func (c *checker) passedWeb(trip *wire.WebTrip) {
	w := c.way
	if trip.Silent != "" {
		c.note("address-silent")
		w.fact(Reach, "no answer", trip.Silent, "")
	}
	if trip.Connected != "" {
		w.open(Reach, trip.Times[wire.AtName]+trip.Times[wire.AtConnect])
		w.fact(Reach, "connected", trip.Connected, "")
	}
	if len(trip.Chain) > 0 {
		w.fact(Trust, "certificate", certificateText(trip.Chain[0]), "")
	}
	if trip.Answer.Status == 0 {
		return
	}
	w.open(Trust, trip.Times[wire.AtTrust])
	answered := trip.Answer.Status != 401
	if answered {
		w.open(SignIn, trip.Times[wire.AtSignIn])
		c.way.Account = c.accountOf(trip.User)
		if trip.User == "" {
			w.fact(SignIn, "token", "none was asked for", "")
		} else {
			w.fact(SignIn, "token", "as "+untrusted.Clean(trip.User)+", from "+c.secretFrom(), "")
		}
	}
	c.served(trip.Answer.Open, trip.Instead.Open, max(trip.Answer.Refs, trip.Instead.Refs), trip.Times[wire.AtService], wire.Untold)
}

func certificateText(certificate *x509.Certificate) string {
	names := append(slices.Clone(certificate.DNSNames), certificate.Subject.CommonName)
	return untrusted.Clean(fmt.Sprintf("for %s, by %s, until %s", names[0], certificate.Issuer.CommonName, certificate.NotAfter.Format(time.DateOnly)))
}
