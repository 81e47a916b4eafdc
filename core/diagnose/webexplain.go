package diagnose

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/wire"
)

// explainWeb names the cause of a break on the way over HTTPS.
func (c *checker) explainWeb(ctx context.Context, failure *wire.Failure, trip *wire.WebTrip) *Crux {
	switch {
	case errors.Is(failure, wire.ErrTrust):
		return c.explainCertificate(ctx, trip)
	case errors.Is(failure, wire.ErrOwn):
		return c.wantsOwn(trip)
	case errors.Is(failure, wire.ErrDenied):
		return c.explainToken(ctx, trip)
	case errors.Is(failure, wire.ErrStatus):
		return c.explainStatus(ctx, trip)
	}
	code := met(failure.Reason, "connection-closed")
	if c.moved != "" { // we came as far as the host that was asked for
		return crux("repository-moved", Proved, Evidence{"the host says", "it is at " + untrusted.Clean(c.base.Redacted()), ""}, Evidence{"there", Summary(code), ""})
	}
	if c.base.Scheme == "http" && c.host != nil {
		code = "url-transport-refused"
	}
	evidence := []Evidence{{"host", c.base.Hostname(), ""}, {"port", portOf(c.base), ""}}
	if c.web.Proxy != "" {
		evidence = append(evidence, Evidence{"through", hideURL(c.web.Proxy), c.station.Tilde(c.web.Origin("proxy"))})
	}
	if code == "tls-version" && c.web.Least != 0 {
		evidence = append(evidence, Evidence{"settings want", tls.VersionName(c.web.Least) + " or newer", c.station.Tilde(c.web.Origin("version"))})
	}
	if words := untrusted.Clean(failure.Words); words != "" {
		evidence = append(evidence, Evidence{"it says", untrusted.Quote(words), ""})
	}
	if likely := c.likelyName(); code == "name-unknown" && likely != "" {
		evidence = append(evidence, Evidence{"looks like", likely, ""})
	}
	return first(crux(code, Proved, evidence...), Reach, c.suspicions)
}

func portOf(u *url.URL) string {
	if u.Port() == "" {
		return "443"
	}
	return u.Port()
}

// explainCertificate tells in words why the host's certificate is not trusted.
func (c *checker) explainCertificate(ctx context.Context, trip *wire.WebTrip) *Crux {
	var evidence []Evidence
	if len(trip.Chain) > 0 {
		evidence = append(evidence, Evidence{"certificate", certificateText(trip.Chain[0]), ""})
	}
	trusted := "this system's certificate authorities"
	if c.web.Authority != "" {
		trusted = "those in " + untrusted.Clean(c.web.Authority)
	}
	evidence = append(evidence, Evidence{c.program() + " trusts", trusted, c.station.Tilde(c.web.Origin("authority"))})
	if errors.Is(trip.Judgement, wire.ErrPinned) {
		return crux("tls-authority-unknown", Proved, append(evidence[:len(evidence)-1], Evidence{"settings name", untrusted.Clean(strings.TrimSpace(strings.Join(c.web.Pins, ", ") + " " + c.web.KeyPins)), c.station.Tilde(c.web.Origin("pin"))})...)
	}
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	switch {
	case errors.As(trip.Judgement, &name):
		return crux("tls-name", Proved, append(evidence, Evidence{"asked for", c.base.Hostname(), ""})...)
	case errors.As(trip.Judgement, &invalid) && invalid.Reason == x509.Expired:
		now := c.station.Now()
		if there := c.timeThere(ctx); there.After(trip.Chain[0].NotBefore) && there.Before(trip.Chain[0].NotAfter) {
			return crux("clock-wrong", Likely, append(evidence, Evidence{"clock here", now.Format(time.DateTime), ""}, Evidence{"clock there", there.Format(time.DateTime), "the host"})...)
		}
		if now.Before(trip.Chain[0].NotBefore) {
			return crux("tls-not-yet", Proved, append(evidence, Evidence{"today", now.Format(time.DateOnly), "this workstation's clock"})...)
		}
		return crux("tls-ended", Proved, append(evidence, Evidence{"today", now.Format(time.DateOnly), "this workstation's clock"})...)
	}
	return crux("tls-authority-unknown", Proved, evidence...)
}

// explainToken names why the host does not take what git would send.
func (c *checker) explainToken(ctx context.Context, trip *wire.WebTrip) *Crux {
	words := trip.Answer.Said()
	var evidence []Evidence
	if words != "" {
		evidence = append(evidence, Evidence{"host says", untrusted.Quote(words), ""})
	}
	if !c.takesPassword(trip) {
		return crux("sign-in-other-way", Proved, append([]Evidence{{"host offers", untrusted.Clean(strings.Join(trip.Schemes, ", ")), ""}}, evidence...)...)
	}
	if errors.Is(trip.NoSecret, origin.ErrUnprotected) {
		return crux("token-unknown", Likely, append(evidence, Evidence{"not tried", "a secret is never sent over plain http by Unicrux; " + c.program() + " would send it", ""})...)
	}
	header := Evidence{"header", "Authorization: " + secret.Mask, c.station.Tilde(c.web.Origin("header"))}
	signsIn := slices.ContainsFunc(c.web.Headers, func(h string) bool { return strings.HasPrefix(strings.ToLower(h), "authorization:") })
	if trip.NoSecret != nil && signsIn { // it went along, and was not enough
		return crux("header-overrides", Proved, append([]Evidence{header}, evidence...)...)
	}
	if trip.NoSecret != nil {
		if silent := c.silentChest(); silent != nil {
			return silent
		}
		return first(crux("secret-missing", Proved, append([]Evidence{{"asked", c.helpers(), ""}}, evidence...)...), SignIn, c.suspicions)
	}
	sent := Evidence{"sent", "as " + untrusted.Clean(trip.User) + ", a secret from " + c.secretFrom(), ""}
	if !c.webSecret.Empty() {
		shown, _ := address.HideSecret(c.given)
		return crux("url-secret", Proved, append([]Evidence{{"url", untrusted.Clean(shown), ""}, sent}, evidence...)...)
	}
	if signsIn {
		return crux("header-overrides", Likely, append([]Evidence{header, sent}, evidence...)...)
	}
	evidence = append([]Evidence{sent}, evidence...)
	if stale := c.staleHelper(); stale != nil {
		return crux("helper-stale", Proved, append(stale, evidence...)...)
	}
	if c.host != nil {
		if code := Code(c.host.Meaning(words)); StageOf(code) != "" {
			return crux(code, Proved, evidence...)
		}
	}
	if told := meaning(words, SignIn, SignIn); told != "" && told != "token-unknown" {
		return crux(told, Likely, evidence...)
	}
	if c.host != nil && c.host.Tokens.Form != "" && !hostapi.FitsForm(c.host, string(c.sent.Password.Reveal())) {
		return crux("token-misplaced", Proved, append(evidence, Evidence{"form", "the tokens of " + c.host.Name + " have another form", "its description"})...)
	}
	if account, known := c.whose(ctx); known {
		return crux("token-misplaced", Proved, append(evidence, Evidence{"the token is", account + "'s", "the interface of " + c.host.Name})...)
	}
	return crux("token-unknown", Likely, evidence...)
}

// whose asks the host's interface whose token it is that git would send.
func (c *checker) whose(ctx context.Context) (string, bool) {
	if c.host == nil || !c.host.Can("who") {
		return "", false
	}
	account, err := c.interfaceOf().Who(ctx)
	return untrusted.Clean(account), err == nil
}

// helpers names whom git asked.
func (c *checker) helpers() string {
	if c.hg != nil {
		return "the groups of [auth] in hg's settings: none that fits holds a password"
	}
	var names []string
	for _, s := range c.config.For("credential", c.asWritten().String()) {
		if s.Name == "credential.helper" && s.Entry.Value != "" {
			names = append(names, untrusted.Clean(s.Entry.Value))
		}
	}
	if len(names) == 0 {
		return "nobody: git is told to ask no helper"
	}
	return strings.Join(names, ", ")
}

// explainStatus names why the host did not open the repository to somebody whom it knows.
func (c *checker) explainStatus(ctx context.Context, trip *wire.WebTrip) *Crux {
	answer, words := trip.Answer, trip.Answer.Said()
	evidence := []Evidence{{"asked for", untrusted.Clean(c.base.Path), ""}, {"status", "HTTP " + strconv.Itoa(answer.Status), ""}}
	if trip.User != "" {
		evidence = append(evidence, Evidence{"signed in as", untrusted.Clean(trip.User), ""})
	}
	isPage := answer.Kind == "text/html"
	if told := meaning(words, Trust, Trust); told != "" {
		return crux(told, Proved, append(evidence, Evidence{"host says", untrusted.Quote(words), ""})...)
	}
	if words != "" && !isPage {
		evidence = append(evidence, Evidence{"host says", untrusted.Quote(words), ""})
	}
	if trip.Instead.Open {
		evidence = append(evidence, Evidence{"reading", "works", ""})
	}
	if answer.Status == 200 && isPage {
		if other := c.otherProgram(ctx); other != "" {
			return crux("repository-not-git", Proved, append(evidence, Evidence{otherThere, other, ""})...)
		}
		return crux("signed-in-page", Proved, append(evidence, Evidence{"answered", "a page for people", ""})...)
	}
	if c.host != nil {
		if code := Code(c.host.Meaning(words)); StageOf(code) != "" {
			return crux(code, Proved, evidence...)
		}
	}
	if lacks := c.lacking(ctx); lacks != "" {
		return crux("token-purpose-missing", Proved, append(evidence, Evidence{"the token may", lacks, "the interface of " + c.host.Name})...)
	}
	switch {
	case answer.Status == 429 || answer.Later != "":
		return crux("host-limits", Proved, append(evidence, Evidence{"again in", untrusted.Clean(answer.Later), ""})...)
	case answer.Status >= 500:
		return crux("host-failing", Proved, evidence...)
	case answer.Status >= 300 && answer.Status < 400 && signInPage(answer.Moved):
		return crux("signed-in-page", Proved, append(evidence, Evidence{"the host says", "to go to " + untrusted.Clean(mask(answer.Moved)), ""})...)
	case answer.Status >= 300 && answer.Status < 400:
		return crux("repository-moved", Proved, append(evidence, Evidence{"the host says", untrusted.Clean(answer.Moved), ""})...)
	case trip.Instead.Open:
		return crux("read-only-account", Proved, evidence...)
	case answer.Status == 403:
		if told := meaning(words, SignIn, Permission); told != "" {
			return crux(told, Likely, evidence...)
		}
		return crux("token-purpose-missing", Likely, evidence...)
	}
	if other := c.otherProgram(ctx); other != "" {
		return crux("repository-not-git", Proved, append(evidence, Evidence{otherThere, other, ""})...)
	}
	if answer.Status == 200 {
		return crux("repository-not-git", Proved, evidence...)
	}
	return crux("repository-missing", Proved, evidence...)
}

// timeThere asks the host what the time is. Its certificate is not believed, so nothing of ours is
// sent, and the answer proves little.
func (c *checker) timeThere(ctx context.Context) time.Time {
	plan := c.webPlan(ctx)
	plan.Blind, plan.Headers, plan.Credential, plan.Instead, plan.Own = true, nil, nil, "", nil
	trip, _ := wire.GoWeb(ctx, plan)
	return trip.Date
}

func (c *checker) wantsOwn(trip *wire.WebTrip) *Crux {
	shown := "none: settings name none"
	if c.own != nil {
		shown = "the one in " + untrusted.Clean(c.web.OwnCert)
	}
	evidence := []Evidence{{"host wants", "a certificate from this workstation", ""}, {"shown", shown, c.station.Tilde(c.web.Origin("own"))}}
	if len(trip.Chain) > 0 {
		evidence = append(evidence, Evidence{"its own", certificateText(trip.Chain[0]), ""})
	}
	return crux("tls-own-certificate", Proved, evidence...)
}

// takesPassword tells whether the host takes a user and a password by a way that git's library
// speaks (http.proxyAuthMethod in git-config(1) lists them).
func (c *checker) takesPassword(trip *wire.WebTrip) bool {
	return slices.ContainsFunc(trip.Schemes, func(s string) bool { return s == "basic" || s == "digest" || s == "ntlm" })
}

// signInPage tells whether an address is one at which people sign in.
func signInPage(address string) bool {
	return says(address, `sign.?in|log.?in|/auth|/sso|session|captive|portal`)
}

// lacking asks the host's interface what the token may do; it returns that in words when it
// does not serve the purpose, and nothing when it does, or when nobody tells.
func (c *checker) lacking(ctx context.Context) string {
	if c.host == nil || c.sent.Password.Empty() || len(c.host.Purposes) == 0 {
		return ""
	}
	shown, err := c.interfaceOf().ShowToken(ctx)
	needed := c.host.Purposes[string(c.way.Question.Purpose)]
	if err != nil || len(shown.Scopes) == 0 || len(needed) == 0 || !slices.ContainsFunc(needed, func(s string) bool { return !slices.Contains(shown.Scopes, s) }) {
		return ""
	}
	return untrusted.Clean(strings.Join(shown.Scopes, ", "))
}

// needsToken are the cruxes that a new token in the chest removes.
var needsToken = []Code{"secret-missing", "token-unknown", "token-ended", "password-refused", "token-misplaced", "token-purpose-missing"}

// webMends are the mends of cruxes on the way over HTTPS.
func (c *checker) webMends(mend Mend, crux *Crux) []Mend {
	if crux.Code == "token-elsewhere" {
		mend.Command = []string{program, "token", "test", crux.token}
		return []Mend{mend}
	}
	if crux.Code == "chest-closed" {
		return []Mend{c.command(mend, Deed{Do: OpenChest}, "", program, "chest", "open")}
	}
	if d := c.registry.ForHost(c.address.Host); c.host == nil && d != nil && crux.Stage == Reach && d.Elsewhere(c.address) {
		url := d.CloneHTTPS(c.address.Path)
		return []Mend{c.useURL(Mend{Summary: "Use the address that the description of " + d.Name + " names: " + url, By: You}, url)}
	}
	if c.host == nil || c.hg != nil { // what we settle there is git's
		return []Mend{mend}
	}
	if crux.Code == "secret-missing" && !c.asksUs() && c.inChest() {
		mend = Mend{Summary: "Let git ask the chest, which has a token for " + c.host.Name + ".", By: You}
		return []Mend{c.command(mend, Deed{Do: SettleWeb}, c.station.Tilde(hosts.OurGitFile(c.station)), program, "ready", c.asked(), "--by", "https")}
	}
	if c.unsettled() && (crux.Stage == Reach || crux.Stage == Trust) {
		mend = Mend{Summary: "Settle how git reaches " + c.host.Name + " over HTTPS, as its description says.", By: You}
		return []Mend{c.command(mend, Deed{Do: SettleWeb}, c.station.Tilde(hosts.OurGitFile(c.station)), program, "ready", c.asked(), "--by", "https")}
	}
	if crux.Code == "helper-stale" {
		return []Mend{c.command(mend, Deed{Do: AskFirst}, c.station.Tilde(hosts.OurGitFile(c.station)), c.again()...)}
	}
	if !slices.Contains(needsToken, crux.Code) {
		return []Mend{mend}
	}
	purpose := c.way.Question.Purpose
	verb := "new"
	if !c.host.Can("issue-token") {
		if verb = "add"; c.host.OAuth.Client != "" {
			verb = "sign-in"
		}
	}
	words := []string{program, "token", verb, c.host.Name, "--for", string(purpose)}
	if verb == "sign-in" { // somebody must be there
		mend.Command = words
		return []Mend{mend}
	}
	return []Mend{c.command(mend, Deed{Do: GetToken, Purpose: purpose}, "a token in the chest, and whom git asks for "+c.host.Name, words...)}
}

// asked is what was asked about, as a command takes it anywhere.
func (c *checker) asked() string {
	if c.alone {
		return c.request.Argument
	}
	return c.base.String()
}

// unsettled tells whether the description says more about the way over HTTPS than git knows.
func (c *checker) unsettled() bool {
	h := c.host.HTTPS
	return (h.Address != "" && c.web.At != h.Address) || (h.Authority != "" && c.web.Authority != hosts.AuthorityFile(c.station, c.host) && c.web.Origin("authority") == "")
}
