package ready

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/diagnose"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/tokens"
)

// BySSH turns the https clone URL of a described host into the one over SSH; ok is false for
// anything else.
func BySSH(p site.Site, text string) (url string, ok bool) {
	a, err := address.Parse(text)
	if err != nil || a.Scheme != "https" {
		return "", false
	}
	host := p.Registry.ForHost(a.Host)
	if host == nil || !host.HasSSH() || strings.Count(a.Repository(), "/") != 1 { // a longer path may be a page's
		return "", false
	}
	return address.Address{Scheme: "ssh", User: host.SSH.User, Host: host.HostName(), Path: a.Path}.String(), true
}

// ByHTTPS turns a clone URL of a described host into the one over HTTPS; ok is false where the
// description names no address for that.
func ByHTTPS(p site.Site, text string) (url string, ok bool) {
	a, err := address.Parse(text)
	if err != nil || a.Repository() == "" {
		return "", false
	}
	host := p.Registry.ForHost(a.Host)
	if host == nil || host.HTTPS.URL == "" {
		return text, a.Scheme == "https"
	}
	if a.Scheme == "https" && !host.Elsewhere(a) {
		return text, true
	}
	return host.CloneHTTPS(a.Repository() + ".git"), true
}

// An Other is a way over HTTPS that serves better than the one over SSH.
type Other struct {
	Request finding.Request
	Way     *finding.Way
	URL     string // of the repository, or of the host
	Kept    bool   // because the chest has a token for it; else because SSH does not work here
}

// withoutSSH are causes for which no SSH runs on this workstation at all, and HTTPS does.
var withoutSSH = []causes.Code{causes.ProgramMissing, causes.UserUnlisted}

// Better looks whether HTTPS serves better where the way over SSH is not open: because SSH does not
// get out of this workstation or through this network and HTTPS gets further, or because the chest
// has a token by which the way is open, so that no key is needed. It returns nil where it does not.
func Better(ctx context.Context, p site.Site, request finding.Request, way *finding.Way) (*Other, error) {
	other, host, ok := overHTTPS(p, request)
	if !ok || way.IsOpen() || way.Question.Transport != "ssh" {
		return nil, nil
	}
	closed := way.Crux.Stage == causes.Reach || slices.Contains(withoutSSH, way.Crux.Code)
	automatic := slices.ContainsFunc(way.Mends, func(m finding.Mend) bool { return m.Automatic })
	other.Kept = !closed
	if closed && automatic || !closed && !hasToken(p, host, request.Account) { // the mend is nearer
		return nil, nil
	}
	found, err := diagnose.Check(ctx, p.Station, p.Registry, other.Request)
	if err != nil {
		return nil, err
	}
	switch other.Way = found; {
	case found.IsOpen(), other.Kept && found.Crux.Code == causes.ChestClosed:
		return &other, nil
	case other.Kept, found.Crux.Code == way.Crux.Code:
		return nil, nil
	case found.Crux.Stage == causes.Reach && len(found.Mends) > 0 && found.Mends[0].Action.Do == "":
		return nil, nil
	}
	return &other, nil
}

// overHTTPS is a question asked over HTTPS; ok is false where nothing says how.
func overHTTPS(p site.Site, request finding.Request) (other Other, host *describe.Description, ok bool) {
	other.Request = request
	if found := p.Registry.Alone(request.Argument); found != nil {
		other.Request.ByHTTPS, other.URL = true, found.HTTPS.URL
		return other, found, other.URL != ""
	}
	other.URL, ok = ByHTTPS(p, request.Argument)
	other.Request.Argument = other.URL
	if a, err := address.Parse(request.Argument); err == nil {
		host = p.Registry.ForHost(a.Host)
	}
	return other, host, ok
}

// hasToken tells whether the chest has a token of an account for a host; an empty account is any.
func hasToken(p site.Site, host *describe.Description, account string) bool {
	if host == nil {
		return false
	}
	_, found := tokens.At(p, host.HTTPSAt(), func(e chest.Entry) bool {
		account := cmp.Or(account, host.ForAccount)
		return account == "" || e.Account == account
	})
	return found
}
