package webcheck

import (
	"context"
	"errors"
	"slices"
	"strings"
	"unicode"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/untrusted"
)

// explainToken names why the host does not take what git would send.
func (t Travelled) explainToken(ctx context.Context) *finding.Crux {
	words := t.Trip.Answer.Said()
	var evidence []finding.Evidence
	if words != "" {
		evidence = append(evidence, finding.Saw(seen.HostSays, untrusted.Quote(words), ""))
	}
	if !t.takesPassword() {
		return finding.New(causes.SignInOtherWay, finding.Proved,
			append([]finding.Evidence{finding.Saw(seen.HostOffers, untrusted.Clean(strings.Join(t.Trip.Schemes, ", ")),
				"")}, evidence...)...)
	}
	if errors.Is(t.Trip.NoSecret, origin.ErrUnprotected) {
		return finding.New(causes.TokenUnknown, finding.Likely,
			append(evidence, finding.Saw(seen.NotTried,
				"a secret is never sent over plain http by Unicrux; "+string(t.Program())+" would send it", ""))...)
	}
	header := finding.Saw(seen.Header, "Authorization: "+secret.Mask, t.Station.Tilde(t.Web.Origin("header")))
	signsIn := slices.ContainsFunc(t.Web.Headers,
		func(h string) bool { return strings.HasPrefix(strings.ToLower(h), "authorization:") })
	if t.Trip.NoSecret != nil && signsIn { // it went along, and was not enough
		return finding.New(causes.HeaderOverrides, finding.Proved, append([]finding.Evidence{header}, evidence...)...)
	}
	if t.Trip.NoSecret != nil {
		if silent := t.silentChest(); silent != nil {
			return silent
		}
		if t.userIsToken() {
			return finding.New(causes.TokenMisplaced, finding.Likely, append([]finding.Evidence{finding.Saw(seen.URL,
				"what looks like a token is where the user name belongs", "")}, evidence...)...)
		}
		asked := append([]finding.Evidence{finding.Saw(seen.Asked, t.askedWhom(), "")}, t.forOthers()...)
		return finding.First(finding.New(causes.SecretMissing, finding.Proved, append(asked, evidence...)...),
			causes.SignIn, t.suspicions)
	}
	sent := finding.Saw(seen.Sent, "as "+untrusted.Clean(t.Trip.User)+", a secret from "+t.Sent.Where(), "")
	if !t.WebSecret.Empty() {
		shown, _ := address.HideSecret(t.Given)
		return finding.New(causes.URLSecret, finding.Proved,
			append([]finding.Evidence{finding.Saw(seen.URL, untrusted.Clean(shown), ""), sent}, evidence...)...)
	}
	if signsIn {
		return finding.New(causes.HeaderOverrides, finding.Likely,
			append([]finding.Evidence{header, sent}, evidence...)...)
	}
	evidence = append([]finding.Evidence{sent}, evidence...)
	if stale := t.staleHelper(); stale != nil {
		return finding.New(causes.HelperStale, finding.Proved, append(stale, evidence...)...)
	}
	if t.Host != nil {
		if code, known := causes.Find(t.Host.Meaning(words)); known && causes.StageOf(code) != "" {
			return finding.New(code, finding.Proved, evidence...)
		}
	}
	if told := causes.Hear(words, causes.SignIn, causes.SignIn); !told.IsZero() && told != causes.TokenUnknown {
		return finding.New(told, finding.Likely, evidence...)
	}
	if t.Host != nil && t.Host.Tokens.Form != "" && !hostapi.FitsForm(t.Host, string(t.Sent.Password.Reveal())) {
		return finding.New(causes.TokenMisplaced, finding.Proved,
			append(evidence, finding.Saw(seen.Format, "the tokens of "+t.Host.Name+" have another form",
				"its description"))...)
	}
	if account, known := t.whose(ctx); known {
		return finding.New(causes.TokenMisplaced, finding.Proved,
			append(evidence, finding.Saw(seen.TheTokenIs, account+"'s", "the API of "+t.Host.Name))...)
	}
	return finding.New(causes.TokenUnknown, finding.Likely, evidence...)
}

// userIsToken reports whether the user of the URL looks like a token: of the form of the host's, or letters and
// digits in no order that somebody would choose for a name.
func (t Travelled) userIsToken() bool {
	if t.WebUser == "" {
		return false
	}
	if t.Host != nil && t.Host.Tokens.Form != "" {
		return hostapi.FitsForm(t.Host, t.WebUser)
	}
	changes := 0
	for i := 1; i < len(t.WebUser); i++ {
		a, b := rune(t.WebUser[i-1]), rune(t.WebUser[i])
		if unicode.IsDigit(a) != unicode.IsDigit(b) && (unicode.IsLetter(a) || unicode.IsLetter(b)) {
			changes++
		}
	}
	return len(t.WebUser) >= shortestToken && changes >= mixedLikeToken
}

// From what length on, and with how many changes between letters and digits, a name looks like a token.
const (
	shortestToken  = 8
	mixedLikeToken = 3
)

// whose asks the host's interface whose token it is that git would send.
func (t Travelled) whose(ctx context.Context) (string, bool) {
	if t.Host == nil || !t.Host.Can("who") {
		return "", false
	}
	account, err := t.interfaceOf().Who(ctx)
	return untrusted.Clean(account), err == nil
}

// askedWhom names whom git asked.
func (t Travelled) askedWhom() string {
	if t.Hg != nil {
		return "the groups of [auth] in hg's settings: none that fits holds a password"
	}
	var names []string
	for _, s := range t.helpers() {
		names = append(names, untrusted.Clean(s.Entry.Value))
	}
	if len(names) == 0 {
		return "nobody: git has no credential helper"
	}
	return strings.Join(names, ", ")
}

// takesPassword tells whether the host takes a user and a password by a way that git's library
// speaks (http.proxyAuthMethod in git-config(1) lists them).
func (t Travelled) takesPassword() bool {
	return slices.ContainsFunc(t.Trip.Schemes, func(s string) bool {
		return s == "basic" ||
			s == "digest" || s == "ntlm"
	})
}

// lacking asks the host's interface what the token may do; it returns that in words when it
// does not serve the purpose, and nothing when it does, or when nobody tells.
func (t Travelled) lacking(ctx context.Context) string {
	if t.Host == nil || t.Sent.Password.Empty() || len(t.Host.Purposes) == 0 {
		return ""
	}
	shown, err := t.interfaceOf().ShowToken(ctx)
	needed := t.Host.Purposes[string(t.Question.Purpose)]
	if err != nil || len(shown.Scopes) == 0 || len(needed) == 0 ||
		!slices.ContainsFunc(needed, func(s string) bool { return !slices.Contains(shown.Scopes, s) }) {
		return ""
	}
	return untrusted.Clean(strings.Join(shown.Scopes, ", "))
}
