package webcheck

import (
	"cmp"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/wire"
)

// mostRedirects is how often git follows, at most (http.followRedirects in git-config(1)).
const mostRedirects = 5

// Travelled is what came of going to the host.
type Travelled struct {
	Settled
	Trip    *wire.WebTrip // the last one
	Sent    Sent          // the secret that was shown
	Account string        // that it stands for, as far as it is known

	moved   string // the URL that a redirect led from; empty for none
	crossed bool   // a redirect led to another origin
}

// Travel goes over the network: once, unless the host sends us on, as git lets itself be sent on by the answer to its
// first question. It returns the crux where the way is not open.
func Travel(ctx context.Context, s Settled) (t Travelled, part finding.Part, crux *finding.Crux, err error) {
	t = Travelled{Settled: s}
	if s.Alone {
		return t.greet(ctx)
	}
	for range mostRedirects {
		var failed error
		t, failed = t.once(ctx, t.plan(ctx))
		part.Add(t.passed())
		if failed == nil {
			return t, part, t.lastWord(ctx), nil
		}
		var failure *wire.Failure
		if !errors.As(failed, &failure) {
			return t, part, nil, failed
		}
		next, moved := t.follow()
		if !moved {
			return t, part, t.explain(ctx, failure), nil
		}
		part.Fact(causes.Repository, "the host says", "it is at "+untrusted.Clean(next.Base.Redacted()), "")
		t = next
	}
	return t, part, finding.New(causes.RepositoryMoved, finding.Proved,
		finding.Saw(seen.HostSays, "to look elsewhere, again and again", "")), nil
}

// once goes one trip, and adds what it sent and for whom.
func (t Travelled) once(ctx context.Context, plan wire.WebPlan) (Travelled, error) {
	plan.Credential = func(refused int) (string, origin.Bound, error) {
		sent, bound, err := t.credential(ctx, refused)
		if !sent.Password.Empty() {
			t.Sent = sent
		}
		return sent.User, bound, err
	}
	trip, err := wire.GoWeb(ctx, plan)
	if t.Trip = trip; trip.Answer.Status != 0 && trip.Answer.Status != 401 {
		t.Account = t.accountOf(trip.User)
	}
	return t, err
}

// plan is the plan of a trip, without any secret.
func (t Travelled) plan(ctx context.Context) wire.WebPlan {
	plan := wire.WebPlan{Base: t.Base, Service: t.Service(), At: t.Web.At, Roots: t.roots, More: t.more,
		Pins: t.Web.Pins, KeyPins: keyPins(t.Web.KeyPins),
		Least: t.Web.Least, Blind: t.Web.Blind, Hg: t.Hg != nil, Headers: t.headers(), Own: t.own,
		Timeout: t.Request.Timeout}
	if t.Question.Purpose == finding.Push && t.Hg == nil {
		plan.Instead = "git-upload-pack"
	}
	if t.Web.Proxy != "" {
		plan.Proxy, _ = url.Parse(t.Web.Proxy) // what cannot be read leads nowhere, and is told there
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

// follow is the same way from where a redirect leads, when git would follow it: what is asked for must be at its end as
// it was.
func (t Travelled) follow() (next Travelled, moved bool) {
	answer := t.Trip.Answer
	if answer.Status < 300 || answer.Status >= 400 || answer.Moved == "" || t.Web.Stay {
		return t, false
	}
	from := *t.Base
	query, end := "service="+t.Service(), "/info/refs"
	if t.Hg != nil {
		query, end = "cmd=capabilities", ""
	}
	from.Path = strings.TrimSuffix(from.Path, "/") + end
	to, err := from.Parse(answer.Moved)
	if err != nil || to.Host == "" || (to.Scheme != "https" && to.Scheme != "http") || to.User != nil ||
		to.RawQuery != query {
		return t, false
	}
	path, found := strings.CutSuffix(to.Path, end)
	if !found {
		return t, false
	}
	t.moved = cmp.Or(t.moved, t.Base.String())
	base := &url.URL{Scheme: to.Scheme, Host: to.Host, Path: path}
	if origin.Of(base) != origin.Of(t.Base) { // what was for the one is not for the other: git asks anew
		t.WebUser, t.WebSecret, t.Request.Sent, t.crossed = "", secret.Text{}, nil, true
	}
	t.Base = base
	t.Web = t.webSettings()
	t.trust, _ = t.readTrust() // what it would complain about, the way shows
	return t, true
}

// passed are the stages that the trip passed, with their facts.
func (t Travelled) passed() finding.Part {
	var part finding.Part
	trip := t.Trip
	part.Connected(trip.Silent, trip.Connected, t.Address.Host)
	if trip.Connected != "" {
		part.Open(causes.Reach, trip.Times[wire.AtName]+trip.Times[wire.AtConnect])
	}
	if len(trip.Chain) > 0 {
		part.Fact(causes.Trust, "certificate", certificateText(trip.Chain[0]), "")
	}
	if trip.Answer.Status == 0 {
		return part
	}
	part.Open(causes.Trust, trip.Times[wire.AtTrust])
	if trip.Answer.Status != 401 {
		part.Open(causes.SignIn, trip.Times[wire.AtSignIn])
		part.Fact(causes.SignIn, "token", t.token(), "")
	}
	part.Add(t.served())
	return part
}

// token says what was shown to the host, and where it is from.
func (t Travelled) token() string {
	if t.Trip.User == "" {
		return "none was asked for"
	}
	return "as " + untrusted.Clean(t.Trip.User) + ", from " + t.Sent.Where()
}

// served is what the host opened: the service that was asked for, or the one for reading in its place.
func (t Travelled) served() finding.Part {
	var part finding.Part
	if answer, instead := t.Trip.Answer, t.Trip.Instead; answer.Open || instead.Open {
		part.Served(t.Trip.Times[wire.AtService], t.Program(), max(answer.Refs, instead.Refs))
	}
	purpose, untold := t.Question.Purpose, finding.NewNote(causes.WritingUntried, t.Address.Host)
	switch {
	case !t.Trip.Answer.Open:
	case t.Hg == nil:
		part.Open(causes.Permission, 0)
		part.Fact(causes.Permission, string(purpose), "the host answers "+t.Service(), "")
		if purpose == finding.Push && t.Undescribed() { // the modes of its files, only a push tells
			part.Note(untold)
		}
	case purpose == finding.Push: // hg has no question for it
		part.Skip(causes.Permission)
		part.Note(untold)
	default:
		part.Open(causes.Permission, 0)
		part.Fact(causes.Permission, string(purpose), "Mercurial answers", "")
	}
	return part
}

func certificateText(certificate *x509.Certificate) string {
	names := append(slices.Clone(certificate.DNSNames), certificate.Subject.CommonName)
	return untrusted.Clean(fmt.Sprintf("for %s, by %s, until %s", names[0], certificate.Issuer.CommonName,
		certificate.NotAfter.Format(time.DateOnly)))
}

// greet goes as far as the host's certificate, and shows the host's API what git would
// send: no repository is asked for by which git could sign in.
func (t Travelled) greet(ctx context.Context) (Travelled, finding.Part, *finding.Crux, error) {
	plan := t.plan(ctx)
	plan.Service = ""
	t, failed := t.once(ctx, plan)
	part := t.passed()
	var failure *wire.Failure
	switch {
	case errors.As(failed, &failure):
		return t, part, t.explain(ctx, failure), nil
	case failed != nil:
		return t, part, nil, failed
	}
	part.Open(causes.Trust, t.Trip.Times[wire.AtTrust])
	sent, _, err := t.credential(ctx, 0)
	trip := *t.Trip
	trip.Schemes = []string{"basic"} // the description says that tokens are taken
	trip.User, trip.NoSecret = sent.User, err
	t.Trip, t.Sent = &trip, sent
	if err != nil {
		return t, part, t.explainToken(ctx), nil
	}
	t, more, crux, err := t.show(ctx)
	part.Add(more)
	return t, part, crux, err
}

// show asks the host's API what it thinks of the secret that git would send.
func (t Travelled) show(ctx context.Context) (_ Travelled, part finding.Part, crux *finding.Crux, err error) {
	account, err := t.interfaceOf().Who(ctx)
	var refusal *hostapi.Refusal
	switch {
	case errors.Is(err, hostapi.ErrNoOperation), errors.Is(err, origin.ErrElsewhere):
		part.Skip(causes.SignIn)
		return t, part, nil, nil
	case errors.As(err, &refusal):
		trip := *t.Trip
		trip.Answer.Message = refusal.Message
		t.Trip = &trip
		return t, part, t.explainToken(ctx), nil
	case err != nil:
		return t, part, nil, err
	}
	t.Account = untrusted.Clean(account)
	from := "the API of " + t.Host.Name
	part.Open(causes.SignIn, 0)
	part.Fact(causes.SignIn, "token", t.token(), "")
	part.Fact(causes.SignIn, "account", t.Account, from)
	sent := finding.Saw(seen.SignedInAs, t.Account, from)
	if t.Request.Account != "" && t.Request.Account != t.Account {
		return t, part, finding.New(causes.TokenMisplaced, finding.Proved, sent,
			finding.Saw(seen.Needed, t.Request.Account, "")), nil
	}
	if lacks := t.lacking(ctx); lacks != "" {
		return t, part, finding.New(causes.TokenPurposeMissing, finding.Proved, sent,
			finding.Saw(seen.TheTokenMay, lacks, from)), nil
	}
	return t, part, nil, nil
}
