package webcheck

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/redact"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/wire"
)

// explain names the cause of a break on the way over HTTPS.
func (t Travelled) explain(ctx context.Context, failure *wire.Failure) *finding.Crux {
	switch {
	case errors.Is(failure, wire.ErrTrust):
		return t.explainCertificate(ctx)
	case errors.Is(failure, wire.ErrOwn):
		return t.wantsOwn()
	case errors.Is(failure, wire.ErrDenied):
		return t.explainToken(ctx)
	case errors.Is(failure, wire.ErrStatus):
		return t.explainStatus(ctx)
	}
	code := finding.Met(failure.Reason, causes.ConnectionClosed)
	if t.moved != "" { // we came as far as the host that was asked for
		return finding.New(causes.RepositoryMoved, finding.Proved,
			finding.Saw(seen.HostSays, "it is at "+untrusted.Clean(t.Base.Redacted()), ""),
			finding.Saw(seen.There, causes.Summary(code), ""))
	}
	if t.Base.Scheme == "http" && !t.Undescribed() {
		code = causes.URLTransportRefused
	}
	evidence := []finding.Evidence{
		finding.Saw(seen.Host, t.Base.Hostname(), ""),
		finding.Saw(seen.Port, portOf(t.Base), ""),
	}
	if t.Web.Proxy != "" {
		evidence = append(evidence, finding.Saw(seen.Through, hideURL(t.Web.Proxy),
			t.Station.Tilde(t.Web.Origin("proxy"))))
	}
	if code == causes.TLSVersion && t.Web.Least != 0 {
		evidence = append(evidence, finding.Saw(seen.SettingsRequire, tls.VersionName(t.Web.Least)+" or newer",
			t.Station.Tilde(t.Web.Origin("version"))))
	}
	if words := untrusted.Clean(failure.Message); words != "" {
		evidence = append(evidence, finding.Saw(seen.ItSays, untrusted.Quote(words), ""))
	}
	if likely := t.LikelyName(nil); code == causes.NameUnknown && likely != "" {
		evidence = append(evidence, finding.Saw(seen.LooksLike, likely, ""))
	}
	return finding.First(finding.New(code, finding.Proved, evidence...), causes.Reach, t.suspicions)
}

func portOf(u *url.URL) string {
	if u.Port() == "" {
		return "443"
	}
	return u.Port()
}

// explainCertificate tells in words why the host's certificate is not trusted.
func (t Travelled) explainCertificate(ctx context.Context) *finding.Crux {
	var evidence []finding.Evidence
	if len(t.Trip.Chain) > 0 {
		evidence = append(evidence, finding.Saw(seen.Certificate, certificateText(t.Trip.Chain[0]), ""))
	}
	trusted := "this system's certificate authorities"
	if t.Web.Authority != "" {
		trusted = "those in " + untrusted.Clean(t.Web.Authority)
	}
	evidence = append(evidence, finding.Saw(seen.Trusts,
		trusted, t.Station.Tilde(t.Web.Origin("authority"))))
	if errors.Is(t.Trip.Judgement, wire.ErrPinned) {
		return finding.New(causes.TLSAuthorityUnknown, finding.Proved,
			append(evidence[:len(evidence)-1],
				finding.Saw(seen.SettingsName,
					untrusted.Clean(strings.TrimSpace(strings.Join(t.Web.Pins, ", ")+" "+t.Web.KeyPins)),
					t.Station.Tilde(t.Web.Origin("pin"))))...)
	}
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	switch {
	case errors.As(t.Trip.Judgement, &name):
		return finding.New(causes.TLSName, finding.Proved,
			append(evidence, finding.Saw(seen.AskedFor, t.Base.Hostname(), ""))...)
	case errors.As(t.Trip.Judgement, &invalid) && invalid.Reason == x509.Expired:
		now := t.Station.Now()
		if there := t.timeThere(ctx); there.After(t.Trip.Chain[0].NotBefore) && there.Before(t.Trip.Chain[0].NotAfter) {
			return finding.New(causes.ClockWrong, finding.Likely,
				append(evidence, finding.Saw(seen.ClockHere, now.Format(time.DateTime), ""),
					finding.Saw(seen.ClockThere, there.Format(time.DateTime), "the host"))...)
		}
		if now.Before(t.Trip.Chain[0].NotBefore) {
			return finding.New(causes.TLSNotYet, finding.Proved,
				append(evidence, finding.Saw(seen.Today, now.Format(time.DateOnly), "this workstation's clock"))...)
		}
		return finding.New(causes.TLSEnded, finding.Proved,
			append(evidence, finding.Saw(seen.Today, now.Format(time.DateOnly), "this workstation's clock"))...)
	}
	if why := weakSignature(t.Trip.Chain); why != "" {
		return finding.New(causes.TLSWeak, finding.Likely, append(evidence, finding.Saw(seen.ItIs, why, ""))...)
	}
	if missing := t.missingLink(); missing != "" {
		return finding.New(causes.TLSAuthorityUnknown, finding.Proved, append(evidence,
			finding.Saw(seen.TheHostLeavesOut, "the certificate of "+missing+", which signed its own", ""))...)
	}
	found := finding.New(causes.TLSAuthorityUnknown, finding.Proved, evidence...)
	if chain := t.Trip.Chain; len(chain) > 0 && t.Web.Authority == "" {
		found.Top = chain[len(chain)-1].Raw
	}
	return found
}

// explainStatus names why the host did not open the repository to somebody whom it knows.
func (t Travelled) explainStatus(ctx context.Context) *finding.Crux {
	answer, words := t.Trip.Answer, t.Trip.Answer.Said()
	evidence := []finding.Evidence{finding.Saw(seen.AskedFor, untrusted.Clean(t.Base.Path), ""),
		finding.Saw(seen.Status, "HTTP "+strconv.Itoa(answer.Status), "")}
	if t.Trip.User != "" {
		evidence = append(evidence, finding.Saw(seen.SignedInAs, untrusted.Clean(t.Trip.User), ""))
	}
	isPage := answer.Kind == "text/html"
	if told := causes.Hear(words, causes.Trust, causes.Trust); !told.IsZero() {
		return finding.New(told, finding.Proved,
			append(evidence, finding.Saw(seen.HostSays, untrusted.Quote(words), ""))...)
	}
	if words != "" && !isPage {
		evidence = append(evidence, finding.Saw(seen.HostSays, untrusted.Quote(words), ""))
	}
	if t.Trip.Instead.Open {
		evidence = append(evidence, finding.Saw(seen.Reading, "works", ""))
	}
	if answer.Status == 200 && isPage {
		if t.otherProgram(ctx) {
			return t.otherRepository(evidence)
		}
		return finding.New(causes.SignedInPage, finding.Proved,
			append(evidence, finding.Saw(seen.Answered, "a web page", ""))...)
	}
	if t.Host != nil {
		if code, known := causes.Find(t.Host.Meaning(words)); known && causes.StageOf(code) != "" {
			return finding.New(code, finding.Proved, evidence...)
		}
	}
	if lacks := t.lacking(ctx); lacks != "" {
		return finding.New(causes.TokenPurposeMissing, finding.Proved,
			append(evidence, finding.Saw(seen.TheTokenMay, lacks, "the API of "+t.Host.Name))...)
	}
	if told := t.hear(); !told.IsZero() && told != causes.RepositoryMissing {
		return finding.New(told, finding.Likely, append(evidence, t.sentFrom(told)...)...)
	}
	if answer.Status == 400 && t.headersTwice() {
		return finding.New(causes.HeaderOverrides, finding.Proved, append([]finding.Evidence{finding.Saw(seen.Header,
			"one of them is set twice, and both are sent", t.Station.Tilde(t.Web.Origin("header")))}, evidence...)...)
	}
	switch {
	case answer.Status == 429 || answer.Later != "" && answer.Status < 500:
		return finding.New(causes.HostLimits, finding.Proved,
			append(evidence, finding.Saw(seen.AgainIn, untrusted.Clean(answer.Later), ""))...)
	case answer.Status == http.StatusUnavailableForLegalReasons:
		return finding.New(causes.RepositoryWithheld, finding.Proved, evidence...)
	case answer.Status >= 500:
		return finding.New(causes.HostFailing, finding.Proved, evidence...)
	case answer.Status >= 300 && answer.Status < 400 && signInPage(answer.Moved):
		return finding.New(causes.SignedInPage, finding.Proved,
			append(evidence, finding.Saw(seen.HostSays,
				"to go to "+untrusted.Clean(redact.Text(answer.Moved)), ""))...)
	case answer.Status >= 300 && answer.Status < 400:
		return finding.New(causes.RepositoryMoved, finding.Proved,
			append(evidence, finding.Saw(seen.HostSays, untrusted.Clean(answer.Moved), ""))...)
	case t.Trip.Instead.Open && t.Undescribed(): // the host does not say whether it is the account or the token
		return finding.New(causes.ReadOnlyAccount, finding.Likely, evidence...)
	case t.Trip.Instead.Open:
		return finding.New(causes.ReadOnlyAccount, finding.Proved, evidence...)
	case answer.Status == 403 && !answer.Listed:
		return finding.New(causes.TokenPurposeMissing, finding.Likely, evidence...)
	case answer.Listed && t.Question.Purpose != finding.Push:
		return finding.New(causes.HostFailing, finding.Proved, append(evidence, finding.Saw(seen.Refused,
			"POST, by which git fetches; the list of refs, by GET, came", ""))...)
	}
	if t.otherProgram(ctx) {
		return t.otherRepository(evidence)
	}
	if answer.Status == 200 {
		return finding.New(causes.RepositoryNotGit, finding.Proved, evidence...)
	}
	return finding.New(causes.RepositoryMissing, finding.Proved, evidence...)
}

// missingLink is the name of the authority that signed the host's certificate, where the host should have shown that
// authority's own beside it and did not: it says where that one is to be had, as those do that another authority signed
// (RFC 5280, section 4.2.2.1; RFC 8446, section 4.4.2).
func (t Travelled) missingLink() string {
	chain := t.Trip.Chain
	if len(chain) == 0 || len(chain[len(chain)-1].IssuingCertificateURL) == 0 {
		return ""
	}
	return untrusted.Clean(chain[len(chain)-1].Issuer.CommonName)
}

// hear is what the host's words mean.
func (t Travelled) hear() causes.Code {
	return causes.Hear(t.Trip.Answer.Said(), causes.Address, causes.Permission)
}

// sentFrom says what was shown to the host, where that is what it does not take.
func (t Travelled) sentFrom(code causes.Code) []finding.Evidence {
	if causes.StageOf(code) != causes.SignIn || t.Sent.Password.Empty() {
		return nil
	}
	return []finding.Evidence{
		finding.Saw(seen.Sent, "as "+untrusted.Clean(t.Trip.User)+", a secret from "+t.Sent.Where(), ""),
	}
}

// headersTwice reports whether settings add a header of the same name more than once.
func (t Travelled) headersTwice() bool {
	names := map[string]bool{}
	for _, text := range t.Web.Headers {
		name, _, _ := strings.Cut(strings.ToLower(text), ":")
		if names[name] {
			return true
		}
		names[name] = true
	}
	return false
}

// timeThere asks the host what the time is. Its certificate is not believed, so nothing of ours is
// sent, and the answer proves little.
func (t Travelled) timeThere(ctx context.Context) time.Time {
	plan := t.plan(ctx)
	plan.Blind, plan.Headers, plan.Instead, plan.Own = true, nil, "", nil
	trip, _ := wire.GoWeb(ctx, plan)
	return trip.Date
}

func (t Travelled) wantsOwn() *finding.Crux {
	shown := "none: settings name none"
	if t.own != nil {
		shown = "the one in " + untrusted.Clean(t.Web.OwnCert)
	}
	evidence := []finding.Evidence{finding.Saw(seen.HostRequires, "a certificate from this workstation", ""),
		finding.Saw(seen.Shown, shown, t.Station.Tilde(t.Web.Origin("own")))}
	if len(t.Trip.Chain) > 0 {
		evidence = append(evidence, finding.Saw(seen.ItsOwn, certificateText(t.Trip.Chain[0]), ""))
	}
	return finding.New(causes.TLSOwnCertificate, finding.Proved, evidence...)
}

// signInPage tells whether an address is one at which people sign in.
func signInPage(address string) bool {
	return causes.Says(address, `sign.?in|log.?in|/auth|/sso|session|captive|portal`)
}

// otherProgram reports whether the other program has a repository there, where that of this one has none: somebody who
// takes git for Mercurial, or the other way round, has the right URL.
func (t Travelled) otherProgram(ctx context.Context) bool {
	plan := t.plan(ctx)
	plan.Hg, plan.Instead, plan.Service = !plan.Hg, "", "git-upload-pack"
	if !t.Sent.Password.Empty() {
		plan.Credential = func(int) (string, origin.Bound, error) {
			sent, bound, err := t.sendHere(t.Sent)
			return sent.User, bound, err
		}
	}
	trip, err := wire.GoWeb(ctx, plan)
	return err == nil && trip.Answer.Open
}

// otherRepository is the crux where the other program has a repository there.
func (t Travelled) otherRepository(evidence []finding.Evidence) *finding.Crux {
	what := "a git repository: use git clone with this URL"
	if t.Hg == nil {
		what = "a Mercurial repository: use hg clone with this URL"
	}
	found := finding.New(causes.RepositoryNotGit, finding.Proved,
		append(evidence, finding.Saw(seen.ThereIs, what, ""))...)
	found.Other = t.OtherProgram()
	return found
}
